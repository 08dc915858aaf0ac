package work

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/machine"
	"lockback/core/machine/files"
	"lockback/core/store"
)

// OnDisk is what [Options.Record] says for the record that lies on the mounted disk.
const OnDisk = "disk"

// RecordOnDisk is where a system's own record lies on its disk, as the system names it.
var RecordOnDisk = map[string]string{"linux": "/var/lib/lockback/record.db",
	"windows": `C:\ProgramData\lockback\record.db`, "macos": "/Library/Application Support/lockback/record.db"}

// HasRecord tells where the record on a mounted disk lies, and whether there is one.
func HasRecord(m *machine.Machine) (string, bool) {
	if m.Live {
		return "", false
	}
	full, err := m.Reach(RecordOnDisk[m.OS], true)
	if err != nil {
		return "", false
	}
	info, err := m.Lstat(full)
	return filepath.Join(m.Root, filepath.FromSlash(full)), err == nil && info.Mode().IsRegular()
}

// LookInto opens the record alone, to look into it for a machine that is open already, and gives that the id by which
// the record knows it.
func (d *Desk) LookInto(m *machine.Machine) (*store.Store, error) {
	record, err := d.openRecord(m, store.Read)
	if err != nil {
		return nil, err
	}
	if err := d.recognise(m, record, store.Read, true); err != nil {
		record.Close()
		return nil, err
	}
	return record, nil
}

// openRecord opens the record of a machine. Anybody who had the mounted disk could have written the one on it, so it
// is used only on request.
func (d *Desk) openRecord(m *machine.Machine, access store.Access) (*store.Store, error) {
	disk, has := HasRecord(m)
	if d.Record == OnDisk {
		return d.openOnDisk(m, access, disk, has)
	}
	path, err := d.RecordPath()
	if err != nil {
		return nil, err
	}
	if has && d.Record == "" && !d.warnedOfDisk {
		d.warnedOfDisk = true
		d.warn("note: the disk has a record of its own, which is not used; --store disk uses it. Whoever had " +
			"the disk could have written it")
	}
	d.warnOfOthers(m.ID, path)
	return store.Open(path, access)
}

// placeOnDisk is where the record of a mounted disk is to be made: folders that are not there yet are left as they are
// named, and all others are followed within the disk.
func placeOnDisk(m *machine.Machine) (string, error) {
	name, err := m.Naming().Local(m.Files, RecordOnDisk[m.OS])
	if err != nil {
		return "", err
	}
	full, below := "", ""
	for {
		full, err = m.Reach(name, true)
		if !errors.Is(err, fs.ErrNotExist) || name == "/" {
			break
		}
		name, below = path.Dir(name), path.Join(path.Base(name), below)
	}
	if next, _, _ := strings.Cut(below, "/"); err == nil && next != "" {
		if _, lerr := m.Lstat(path.Join(full, next)); lerr == nil {
			err = fmt.Errorf("%s is a link to nowhere", path.Join(full, next))
		}
	}
	return filepath.Join(m.Root, filepath.FromSlash(path.Join(full, below))), err
}

func (d *Desk) openOnDisk(m *machine.Machine, access store.Access, disk string, has bool) (*store.Store, error) {
	if m.Live {
		return nil, Wrong("--store disk is the record on a mounted disk; name one with --root")
	}
	if !has {
		var err error
		if disk, err = placeOnDisk(m); err != nil {
			return nil, fmt.Errorf("no record can be made on the disk: %w; name a file with --store", err)
		}
		if access == store.Read {
			return nil, fmt.Errorf("%s: %w", disk, store.ErrNone)
		}
	}
	record, err := store.OpenClaim(disk, access)
	if err == nil && has && !d.warnedOfDisk {
		d.warnedOfDisk = true
		d.warn("note: this is the record on the disk; whoever had the disk could have written it")
	}
	return record, err
}

// Carry copies what the session's record has of its machine onto the machine's disk, and returns where. The disk must
// have no record.
func (d *Desk) Carry(s *Session) (path string, err error) {
	onto := Desk{Options: d.Options, warnedOfDisk: true, warnedOfOthers: true}
	onto.Record = OnDisk
	to, err := onto.openRecord(s.Machine, store.Write)
	if err != nil {
		return "", Advise(err)
	}
	err = s.Record.Carry(to, s.Machine.ID)
	path = to.Path
	if cerr := to.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		os.Remove(path) // it was made for this, and holds nothing
	}
	return path, Advise(err)
}

// RecordPath tells where the record lives: where the person says, else in the state folder of this system or of this
// person.
func (d *Desk) RecordPath() (string, error) {
	if d.Record != "" {
		return d.Record, nil
	}
	if files.Privileged() {
		if path := systemRecord(); path != "" {
			return path, nil
		}
	}
	return userRecord()
}

// otherRecords lists the places where another run of lockback would keep its record of this
// machine: as root, as this user, or as the user who became root.
func otherRecords(used string) []string {
	var all []string
	add := func(path string) {
		if path == "" || path == used || slices.Contains(all, path) {
			return
		}
		if info, err := os.Lstat(path); err == nil && info.Mode().IsRegular() || errors.Is(err, fs.ErrPermission) {
			all = append(all, path)
		}
	}
	add(systemRecord())
	if own, err := userRecord(); err == nil {
		add(own)
	}
	if name := os.Getenv("SUDO_USER"); name != "" && files.Privileged() {
		if u, err := user.Lookup(name); err == nil && filepath.IsAbs(u.HomeDir) {
			add(filepath.Join(u.HomeDir, ".local", "state", "lockback", "record.db"))
		}
	}
	return all
}

// systemRecord is the place of the record of whoever runs as root; empty if this system tells none.
func systemRecord() string {
	switch runtime.GOOS {
	case "windows":
		if dir := os.Getenv("ProgramData"); dir != "" {
			return filepath.Join(dir, "lockback", "record.db")
		}
		return ""
	case "darwin":
		return RecordOnDisk["macos"]
	}
	return RecordOnDisk["linux"]
}

// userRecord is the place of this user's own record.
func userRecord() (string, error) {
	if dir := os.Getenv("LocalAppData"); runtime.GOOS == "windows" && filepath.IsAbs(dir) {
		return filepath.Join(dir, "lockback", "record.db"), nil
	}
	if dir := os.Getenv("XDG_STATE_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, "lockback", "record.db"), nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", fmt.Errorf("no place for the record: %w; name one with --store", err)
	}
	return filepath.Join(home, ".local", "state", "lockback", "record.db"), nil
}

// warnOfOthers warns once of another record that knows this machine, or cannot be looked into: it is not read here,
// and its numbers begin with S1 too.
func (d *Desk) warnOfOthers(id, used string) {
	if d.warnedOfOthers || d.Record != "" {
		return
	}
	d.warnedOfOthers = true
	for _, path := range otherRecords(used) {
		other, err := store.Open(path, store.Read)
		if err != nil {
			is := "there is"
			if errors.Is(err, change.ErrRights) {
				is = "there may be"
			}
			d.warn("note: %s another record on this computer, %s, which cannot be looked into from here; its owner "+
				"can (%v)", is, path, err)
			continue
		}
		snaps, err := other.Snapshots(id)
		other.Close()
		if err == nil && len(snaps) > 0 {
			d.warn("note: another record has %s of this machine: %s (--store uses it); its S and C numbers are "+
				"unrelated to these",
				autostart.Count(len(snaps), "snapshot", "snapshots"), path)
		}
	}
}

// InOtherRecords are the snapshots and changes of a machine in other records that can be read, by their files, for the
// history.
func (d *Desk) InOtherRecords(id, used string) map[string]Events {
	all := map[string]Events{}
	if d.Record != "" {
		return all
	}
	for _, path := range otherRecords(used) {
		other, err := store.Open(path, store.Read)
		if err != nil {
			continue // which was said already
		}
		if events, err := EventsOf(other, id); err == nil && len(events) > 0 {
			all[path] = events
		}
		other.Close()
	}
	return all
}
