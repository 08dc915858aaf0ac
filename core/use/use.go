// Package use tells when persons last started programs by hand, where a system keeps it: Windows in
// each profile's hive, macOS in the attributes of apps, the desktops of Linux in lists of their own.
// What starts by itself does not count there, so an updater that was last used two years ago can be
// told from one that is used daily.
//
//	uses := use.Read(m)
//	for _, u := range uses.Of("/usr/bin/gedit", "") { ... }
package use

import (
	"encoding/binary"
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/machine"
)

// Uses is what one machine keeps.
type Uses struct {
	machine  *machine.Reader
	programs map[string][]autostart.Use // by path, see fold
}

// Read reads what the machine keeps of all persons. What cannot be read is not known.
func Read(m *machine.Reader) *Uses {
	u := &Uses{machine: m, programs: map[string][]autostart.Use{}}
	switch m.OS {
	case "windows":
		u.windows()
	case "linux":
		u.linux()
	}
	return u
}

func (u *Uses) fold(program string) string {
	if u.machine.OS == "windows" {
		return strings.ToLower(program)
	}
	return program
}

// add notes a use. Of several of the same person, the latest counts.
func (u *Uses) add(program string, use autostart.Use) {
	if program == "" || use.Last.IsZero() {
		return
	}
	key := u.fold(program)
	all := u.programs[key]
	for k := range all {
		if all[k].User == use.User {
			if use.Last.After(all[k].Last) {
				all[k] = use
			}
			return
		}
	}
	u.programs[key] = append(all, use)
}

// Of are the last uses of a program, the latest first: of one person where user is not empty.
func (u *Uses) Of(program, user string) []autostart.Use {
	if program == "" {
		return nil
	}
	all := slices.Clone(u.programs[u.fold(program)])
	if u.machine.OS == "macos" {
		all = u.ofApp(program)
	}
	if user != "" {
		all = slices.DeleteFunc(all, func(use autostart.Use) bool { return use.User != "" && use.User != user })
	}
	slices.SortStableFunc(all, func(a, b autostart.Use) int { return b.Last.Compare(a.Last) })
	return all
}

// lastUsedAttribute is where macOS keeps the day on which an app was last opened by hand: a
// timespec in little-endian order, com.apple.lastuseddate.
const lastUsedAttribute = "com.apple.lastuseddate#PS"

// ofApp looks at the app that a program lies in.
func (u *Uses) ofApp(program string) []autostart.Use {
	k := strings.Index(program, ".app/")
	if k < 0 {
		return nil
	}
	app := program[:k+len(".app")]
	attributes, err := u.machine.Attributes(app)
	if err != nil {
		return nil
	}
	for name, value := range attributes {
		if !strings.HasSuffix(name, lastUsedAttribute) || len(value) < 8 {
			continue
		}
		seconds := int64(binary.LittleEndian.Uint64(value))
		if seconds > 0 && seconds < 1<<40 {
			return []autostart.Use{{Last: time.Unix(seconds, 0).UTC(), Basis: "note on " + app}}
		}
	}
	return nil
}
