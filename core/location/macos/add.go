package macos

import (
	"path"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/plist"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
)

// Add says how an entry is made where launchd finds it: an agent for what starts at sign-in, and for what runs by the
// clock for one user; a daemon for all else.
func Add(m *machine.Reader, n location.New) (location.Made, error) {
	if err := n.Check(m, nil); err != nil {
		return location.Made{}, err
	}
	form := "daemon"
	if n.Stage == autostart.SignIn || n.Stage == autostart.Schedule && n.User != nil {
		form = "agent"
	}
	if _, err := n.Choose(form); err != nil {
		return location.Made{}, err
	}
	label := "local." + n.FileName()
	made := location.Made{Location: "macos.launch-daemons", Effect: location.AtNextStart}
	dir, owner := "/Library/LaunchDaemons", (*account.User)(nil)
	if form == "agent" {
		made.Location, made.Effect, dir = "macos.launch-agents", location.AtNextSignIn, "/Library/LaunchAgents"
		if owner = n.User; owner != nil {
			made.User, dir = owner.Name, path.Join(owner.Home, "Library/LaunchAgents")
		}
	}
	file := path.Join(dir, label+".plist")
	if err := location.Free(m, file); err != nil {
		return made, err
	}
	job := map[string]any{"Label": label, "ProgramArguments": texts(location.Waiting(n.Argv, n.Delay))}
	switch {
	case n.Daily:
		at := uint64(n.At / time.Minute)
		job["StartCalendarInterval"] = map[string]any{"Hour": at / 60, "Minute": at % 60}
	case n.Stage == autostart.Schedule:
		made.Note = n.IntervalNote()
		job["StartInterval"] = uint64(n.Every / time.Second)
	default:
		job["RunAtLoad"] = true
	}
	if form == "daemon" && n.User != nil {
		job["UserName"] = n.User.Name
	}
	content, err := plist.New(job).Bytes()
	if err != nil {
		return made, err
	}
	image := n.Owned(content)
	if owner == nil {
		image.UID, image.GID = 0, 0 // launchd takes a job for everyone from root only
	}
	made.Key = key(owner, file)
	made.Edits = []location.Edit{{Artifact: artifact.File(file), Image: image}}
	return made, nil
}

func texts(all []string) []any {
	list := make([]any, len(all))
	for k, s := range all {
		list[k] = s
	}
	return list
}
