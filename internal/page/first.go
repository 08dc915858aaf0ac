package page

import "runtime"

// FirstDay says what to do first on this computer.
func (w Writer) FirstDay(privileged bool) {
	w.Line("What starts on this computer, and what can go. To begin with:")
	w.Commands([][2]string{
		{"lockback list --brief", "what needs a look first, and what costs most"},
		{"lockback snapshot", "record the exact state, before anything is touched"},
		{"lockback suggest", "what could be turned off, with reasons; nothing is turned off yet"},
		{"lockback undo", "take the last change back"},
		{"lockback check", "after the restart: what came back, what is on trial"},
		{"lockback --root DIR list", "the same on the disk of a computer that does not start"},
	})
	more := "lockback --help has all commands; lockback demo walks through a made-up machine."
	switch {
	case privileged:
	case runtime.GOOS == "windows":
		more += " From an elevated prompt it sees and turns off what starts for everyone."
	default:
		more += " With sudo it sees and turns off what starts for everyone."
	}
	w.Line("%s", more)
}
