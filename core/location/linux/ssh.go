package linux

import (
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
)

// sshServer says where no server of ssh is installed.
func sshServer(s *location.Survey) string {
	if _, _, err := location.FindProgram(s, "sshd"); err != nil {
		return "no ssh server is installed"
	}
	return ""
}

// describeRC says when sshd(8) skips a user's rc, and who have one of their own
// instead of the system's.
func describeRC(s *location.Survey, f location.Found, item *location.Item) {
	item.Name = strings.TrimPrefix(f.Key, "/etc/ssh/")
	item.When = "when somebody connects over ssh"
	if f.User != nil && !permitsUserRC(s) {
		item.State, item.Mode, item.Ignored = autostart.Disabled, "", "PermitUserRC is no"
		item.Problems = append(item.Problems, autostart.Ignored)
	}
	if f.User != nil {
		return
	}
	var own []string
	for _, u := range s.Machine.Users {
		if _, err := s.Stat(u.Home + "/.ssh/rc"); err == nil {
			own = append(own, u.Name)
		}
	}
	if len(own) > 0 {
		item.AddFacts(func() []location.Fact {
			return []location.Fact{{Name: "own file instead", Value: strings.Join(own, ", "), Basis: "~/.ssh/rc"}}
		})
	}
}

// permitsUserRC is what sshd_config(5) says: the first value counts, and yes without one.
func permitsUserRC(s *location.Survey) bool {
	content, err := s.ReadFile("/etc/ssh/sshd_config", 1<<20)
	if err != nil {
		return true
	}
	for line := range strings.Lines(string(content)) {
		words := strings.FieldsFunc(line, func(r rune) bool { return strings.ContainsRune(" \t\r\n=\"", r) })
		switch {
		case len(words) > 0 && strings.EqualFold(words[0], "Match"):
			return true // what follows is for some only
		case len(words) > 1 && strings.EqualFold(words[0], "PermitUserRC"):
			return !strings.EqualFold(words[1], "no")
		}
	}
	return true
}
