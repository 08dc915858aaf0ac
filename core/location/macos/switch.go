package macos

import (
	"fmt"
	"io/fs"
	"path"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/plist"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/mac"
)

// The switches of macOS. Each only says which image an artifact should have.

// Where launchd keeps which jobs are disabled: a file for the system and one for
// each user; before 10.10 a folder for each.
const (
	launchdState    = "/private/var/db/com.apple.xpc.launchd"
	oldLaunchdState = "/private/var/db/launchd.db"
)

// database is one of launchd's databases of what is disabled.
type database struct {
	file  string
	older bool // the form before 10.10
	off   map[string]bool
	err   error
}

// databaseOf reads the database of the system (nil) or of a person, once.
func (d *disk) databaseOf(s *location.Survey, u *account.User) *database {
	d.databases.Lock()
	defer d.databases.Unlock()
	name := owner(u)
	if db := d.database[name]; db != nil {
		s.Skip(db.file, db.err)
		return db
	}
	db := &database{file: launchdState + "/disabled.plist", off: map[string]bool{}}
	if u != nil {
		db.file = fmt.Sprintf("%s/disabled.%d.plist", launchdState, u.UID)
	}
	if r := s.Machine.Release(); r.Before(yosemite) || r == (mac.Release{}) && !exists(s, launchdState) &&
		exists(s, oldLaunchdState) {
		folder := "com.apple.launchd"
		if u != nil {
			folder = fmt.Sprintf("com.apple.launchd.peruser.%d", u.UID)
		}
		db.file, db.older = path.Join(oldLaunchdState, folder, "overrides.plist"), true
	}
	d.database[name] = db
	// A running launchd is asked, see artifact.Image.
	image, err := s.Machine.Image(artifact.File(db.file))
	if err == nil && image.Kind == artifact.Regular {
		var doc *plist.Document
		if doc, err = plist.Parse(image.Content); err == nil {
			for label := range doc.Dict() {
				if isOff, ok := db.entry(doc.Dict(), label); ok {
					db.off[label] = isOff
				}
			}
		} else {
			err = &fs.PathError{Op: "read", Path: db.file, Err: err}
		}
	}
	db.err = err
	s.Skip(db.file, err)
	return db
}

// entry is what a database says about a label.
func (db *database) entry(root plist.Dict, label string) (off, ok bool) {
	v := root[label]
	if db.older {
		v = root.Dict(label)["Disabled"]
	}
	off, ok = v.(bool)
	return off, ok
}

func exists(s *location.Survey, file string) bool {
	_, err := s.Lstat(file)
	return err == nil
}

// override is the switch of a job: launchd's own word whether it is disabled.
type override struct {
	*database
	label string
	// refused says why it cannot be turned on; empty: it can.
	refused string
}

func (override) Word() autostart.Switch { return autostart.Override }

// Stop is launchctl's, launchctl(1): it ends the job in its domain, which the database's name tells.
func (o override) Stop() []string {
	domain := "system"
	if uid, ok := strings.CutPrefix(strings.TrimSuffix(path.Base(o.file), ".plist"), "disabled."); ok {
		domain = "gui/" + uid
	}
	return []string{"launchctl", "bootout", domain + "/" + o.label}
}

// Holds is launchd's own word: it stays when the job's file is written again.
func (o override) Holds() string {
	return "launchd's own database has it off, and keeps it off when its file is rewritten; launchctl enable " +
		"turns it on again"
}

// Part is what the database says about the label.
func (o override) Part() part.Part {
	return part.Property{File: o.file, Path: []string{o.label}, States: true}
}

func (o override) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	switch {
	case o.err != nil:
		return nil, fmt.Errorf("%w: %s cannot be read: %s", location.ErrNoSwitch, o.file, machine.Reason(o.err))
	case want.State == autostart.Enabled && o.refused != "":
		return nil, fmt.Errorf("%w: %s", location.ErrNoSwitch, o.refused)
	}
	a := artifact.File(o.file)
	image, err := images.Image(a)
	if err != nil {
		return nil, err
	}
	doc := plist.New(map[string]any{})
	if image.Kind == artifact.Absent {
		image = artifact.NewFile(nil, 0o644, 0, 0, want.Now)
	} else if doc, err = parseImage(o.file, image); err != nil {
		return nil, err
	}
	at := []string{o.label}
	if o.older {
		at = append(at, "Disabled")
	}
	if err := doc.Set(want.State == autostart.Disabled, at...); err != nil {
		return nil, fmt.Errorf("%s: %w", o.file, err)
	}
	content, err := doc.Bytes()
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", location.ErrNoSwitch, o.file, err)
	}
	return []location.Edit{{Artifact: a, Image: image.WithContent(content, want.Now)}}, nil
}

// parseImage reads the property list to edit. A link is not: what it
// leads to may serve others.
func parseImage(file string, i artifact.Image) (*plist.Document, error) {
	switch i.Kind {
	case artifact.Regular:
	case artifact.Symlink:
		return nil, fmt.Errorf("%w: %s is a link to %s", location.ErrNoSwitch, file, i.Target)
	default:
		return nil, fmt.Errorf("%w: %s is no longer a file", location.ErrNoSwitch, file)
	}
	doc, err := plist.Parse(i.Content)
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", location.ErrNoSwitch, file, err)
	}
	return doc, nil
}

// plistPart is the switch of what stands in a property list with other things: a
// key is taken away, or the one item of an array that is like it.
type plistPart struct{ part.Property }

// Word tells an item that is taken out of a list from a key that is taken away.
func (p plistPart) Word() autostart.Switch {
	if p.Element != nil {
		return autostart.Trim
	}
	return autostart.Park
}

func (plistPart) Removes() bool { return true }

// Part is the key or the item.
func (p plistPart) Part() part.Part { return p.Property }

func (p plistPart) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	switch {
	case want.State == autostart.Enabled:
		return nil, fmt.Errorf("%w: the record brings back what was removed", location.ErrNoSwitch)
	}
	image, err := images.Image(p.In())
	if err != nil {
		return nil, err
	}
	if _, err := parseImage(p.File, image); err != nil {
		return nil, err
	}
	without, ok, err := p.Without(image, want.Now)
	switch {
	case err != nil:
		return nil, fmt.Errorf("%w: %s: %w", location.ErrNoSwitch, p.File, err)
	case !ok:
		return nil, fmt.Errorf("%w: it is no longer in %s", location.ErrNoSwitch, p.File)
	}
	return []location.Edit{{Artifact: p.In(), Image: without}}, nil
}
