package macos

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"reflect"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/crontab"
	"lockback/core/format/plist"
	"lockback/core/location"
	"lockback/core/machine"
)

// The switches of macOS. Each only says which image an artifact should have.

// Where launchd keeps which jobs are disabled: a file for the system and one for
// each person; before 10.10 a folder for each.
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
func (d *disk) databaseOf(s *location.Survey, u *machine.User) *database {
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
	if r := s.Machine.Release(); r.Before(yosemite) || r == (machine.Release{}) && !exists(s, launchdState) && exists(s, oldLaunchdState) {
		folder := "com.apple.launchd"
		if u != nil {
			folder = fmt.Sprintf("com.apple.launchd.peruser.%d", u.UID)
		}
		db.file, db.older = path.Join(oldLaunchdState, folder, "overrides.plist"), true
	}
	d.database[name] = db
	// A running launchd is asked, see machine.Image.
	image, err := s.Machine.Image(machine.File(db.file))
	if err == nil && image.Kind == machine.Regular {
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

// entry is what a database says of a label.
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
	// refused says why it cannot be switched on; empty: it can.
	refused string
}

func (o override) Set(images location.Images, want location.Want) ([]location.Edit, error) {
	switch {
	case want.User != nil:
		return nil, location.ErrNotPerUser
	case o.err != nil:
		return nil, fmt.Errorf("%w: %s cannot be read: %s", location.ErrNoSwitch, o.file, machine.Reason(o.err))
	case want.State == autostart.Enabled && o.refused != "":
		return nil, fmt.Errorf("%w: %s", location.ErrNoSwitch, o.refused)
	}
	a := machine.File(o.file)
	image, err := images.Image(a)
	if err != nil {
		return nil, err
	}
	edits, err := makeFolders(images, path.Dir(o.file))
	if err != nil {
		return nil, err
	}
	doc := plist.New(map[string]any{})
	if image.Kind == machine.Absent {
		image = machine.NewFile(nil, 0o644, 0, 0, want.Now)
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
	return append(edits, location.Edit{Artifact: a, Image: image.WithContent(content, want.Now)}), nil
}

// Shared is the database.
func (o override) Shared() machine.Artifact { return machine.File(o.file) }

// Merge brings what one image of the database says of the job into another.
func (o override) Merge(into, from machine.Image, now time.Time) (machine.Image, error) {
	read := func(i machine.Image) (*plist.Document, error) {
		if i.Kind != machine.Regular {
			return plist.New(map[string]any{}), nil
		}
		return plist.Parse(i.Content)
	}
	target, err := read(into)
	if err != nil {
		return into, fmt.Errorf("%s: %w", o.file, err)
	}
	source, err := read(from)
	if err != nil {
		return into, fmt.Errorf("%s, as it was: %w", o.file, err)
	}
	value, has := source.Dict()[o.label]
	if have, had := target.Dict()[o.label]; has == had && reflect.DeepEqual(have, value) {
		return into, nil
	}
	if has {
		err = target.Set(value, o.label)
	} else {
		target.Delete(o.label)
	}
	switch {
	case err != nil:
		return into, err
	case reflect.DeepEqual(target.Root, source.Root):
		return from, nil // to the byte
	case into.Kind != machine.Regular:
		into = from
	}
	content, err := target.Bytes()
	return into.WithContent(content, now), err
}

// parseImage reads the property list that is to be edited. A link is not: what it
// leads to may serve others.
func parseImage(file string, i machine.Image) (*plist.Document, error) {
	switch i.Kind {
	case machine.Regular:
	case machine.Symlink:
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

// makeFolders plans the folders that are missing on the way to one.
func makeFolders(images location.Images, dir string) ([]location.Edit, error) {
	i, err := images.Image(machine.File(dir))
	if err != nil || i.Kind != machine.Absent || dir == "/" {
		return nil, err
	}
	edits, err := makeFolders(images, path.Dir(dir))
	return append(edits, location.Edit{Artifact: machine.File(dir), Image: machine.NewFolder(0o755, 0, 0)}), err
}

// plistPart is the switch of what stands in a property list with other things: a
// key is taken away, or the one item of an array that is like it.
type plistPart struct {
	file string
	path []string // of the key, or of the array
	item any      // of the array; nil where the key itself goes
}

func (p plistPart) Set(images location.Images, want location.Want) ([]location.Edit, error) {
	switch {
	case want.User != nil:
		return nil, location.ErrNotPerUser
	case want.State == autostart.Enabled:
		return nil, fmt.Errorf("%w: what was taken out comes back from the record", location.ErrNoSwitch)
	}
	a := machine.File(p.file)
	image, err := images.Image(a)
	if err != nil {
		return nil, err
	}
	doc, err := parseImage(p.file, image)
	if err != nil {
		return nil, err
	}
	if p.item == nil {
		doc.Delete(p.path...)
	} else {
		at := doc.Dict()
		for _, k := range p.path[:len(p.path)-1] {
			at = at.Dict(k)
		}
		var kept []any
		found := false
		for _, v := range at.Array(p.path[len(p.path)-1]) {
			if !found && reflect.DeepEqual(v, p.item) {
				found = true
				continue
			}
			kept = append(kept, v)
		}
		if !found {
			return nil, fmt.Errorf("%w: it is no longer in %s", location.ErrNoSwitch, p.file)
		}
		if kept == nil {
			kept = []any{}
		}
		if err := doc.Set(kept, p.path...); err != nil {
			return nil, err
		}
	}
	content, err := doc.Bytes()
	if err != nil {
		return nil, fmt.Errorf("%w: %s: %w", location.ErrNoSwitch, p.file, err)
	}
	return []location.Edit{{Artifact: a, Image: image.WithContent(content, want.Now)}}, nil
}

// textLine is the switch of one line of a file of lines: a comment before it.
type textLine struct {
	file   string
	number int
	line   string // without the mark
}

func (l textLine) Set(images location.Images, want location.Want) ([]location.Edit, error) {
	if want.User != nil {
		return nil, location.ErrNotPerUser
	}
	a := machine.File(l.file)
	image, err := images.Image(a)
	if err != nil {
		return nil, err
	}
	var lines [][]byte
	at := -1
	for line := range bytes.Lines(image.Content) {
		text := strings.TrimPrefix(strings.TrimRight(string(line), "\r\n"), crontab.OffMark)
		if text == l.line && (at < 0 || len(lines) == l.number-1) {
			at = len(lines)
		}
		lines = append(lines, line)
	}
	if at < 0 {
		return nil, fmt.Errorf("the line is no longer in %s; list again", l.file)
	}
	bare := bytes.TrimPrefix(lines[at], []byte(crontab.OffMark))
	if want.State == autostart.Disabled {
		bare = append([]byte(crontab.OffMark), bare...)
	}
	lines[at] = bare
	return []location.Edit{{Artifact: a, Image: image.WithContent(bytes.Join(lines, nil), want.Now)}}, nil
}
