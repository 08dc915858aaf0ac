package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/store"
)

func fieldList() string { return strings.Join(autostart.Fields(), ", ") }

// diskRecord is where a system's own record lies on its disk.
var diskRecord = map[string]string{"linux": "/var/lib/lockback/record.db", "windows": `C:\ProgramData\lockback\record.db`, "macos": "/Library/Application Support/lockback/record.db"}

// machine opens the machine that the run is about.
func (a *app) machine() (*machine.Machine, error) {
	if a.Open != nil {
		return a.Open(a.root)
	}
	return machine.Open(a.root)
}

// storePath tells where the record of the machine lives: where the person says,
// on the mounted disk if it has one, else in the state folder of this system or
// of this person.
func (a *app) storePath(m *machine.Machine) (string, error) {
	if a.store != "" {
		return a.store, nil
	}
	if !m.Live {
		if full, err := m.Resolve(diskRecord[m.OS]); err == nil {
			if info, err := m.Lstat(full); err == nil && info.Mode().IsRegular() {
				return filepath.Join(m.Root, filepath.FromSlash(full)), nil
			}
		}
	}
	if machine.Privileged() {
		switch runtime.GOOS {
		case "windows":
			if dir := os.Getenv("ProgramData"); dir != "" {
				return filepath.Join(dir, "lockback", "record.db"), nil
			}
		case "darwin":
			return diskRecord["macos"], nil
		default:
			return diskRecord["linux"], nil
		}
	}
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

// noID says what gives a system its id.
var noID = map[string]string{
	"linux":   "/etc/machine-id is empty or absent; run systemd-machine-id-setup, with --root for a mounted disk",
	"macos":   "no file in a ByHost folder of preferences bears the hardware's UUID; sign in once on the Mac, or work on it while it runs",
	"windows": `the value MachineGuid of HKLM\SOFTWARE\Microsoft\Cryptography is absent, or its hive cannot be read; see lockback locations`,
}

// session is a machine with its record, opened for a command.
type session struct {
	*app
	machine *machine.Machine
	store   *store.Store
	engine  *change.Engine
}

// open opens the machine and its record. For writing, the machine must have an
// id, and no interrupted change may be waiting.
func (a *app) open(access store.Access) (*session, error) {
	m, err := a.machine()
	if err != nil {
		return nil, err
	}
	s := &session{app: a, machine: m}
	if m.ID == "" && access == store.Write {
		m.Close()
		return nil, fmt.Errorf("the system has no id of its own, and without one its record would be anybody's: %s", noID[m.OS])
	}
	path, err := a.storePath(m)
	if err == nil {
		s.store, err = store.Open(path, access)
	}
	if err != nil {
		m.Close()
		return nil, adviseStore(err)
	}
	s.engine = &change.Engine{Machine: m, Store: s.store, At: a.At}
	return s, nil
}

// adviseStore ends an error of the record with what to do.
func adviseStore(err error) error {
	for _, row := range []struct {
		is   error
		todo string
	}{
		{store.ErrInUse, "wait until it has ended and try again"},
		{store.ErrNewer, "use that version, or name another record with --store"},
		{store.ErrDamaged, "it was left as it is; copy it away and name another one with --store"},
		{store.ErrForeign, "name another file with --store"},
		{store.ErrFull, "nothing was changed; make room, or name a record on another disk with --store"},
		{store.ErrReadOnly, "nothing was changed; name a record on another disk with --store"},
		{store.ErrRights, "run as its owner, or name another record with --store"},
		{store.ErrNone, "take one with lockback snapshot, or name another record with --store"},
	} {
		if errors.Is(err, row.is) {
			return fmt.Errorf("%w; %s", err, row.todo)
		}
	}
	return err
}

func (s *session) close() {
	if s.store != nil {
		s.store.Close()
	}
	s.machine.Close()
}

// settled refuses to go on while an interrupted change waits.
func (s *session) settled() error {
	c, ok, err := s.store.Interrupted(s.machine.ID)
	if err != nil {
		return adviseStore(err)
	}
	if ok {
		return fmt.Errorf("%s of %s was interrupted: %w; run lockback recover", c.Name(), c.Time.Format("2006-01-02 15:04"), change.ErrInterrupted)
	}
	return nil
}

// record opens the machine's record for a command that only looks; nil where
// there is none, or none that can be read.
func (a *app) record(m *machine.Machine) *store.Store {
	path, err := a.storePath(m)
	if err != nil {
		return nil
	}
	if _, err := os.Stat(path); err != nil {
		return nil
	}
	st, err := store.Open(path, store.Read)
	if err != nil {
		return nil
	}
	return st
}

// warnInterrupted says so where an interrupted change waits, for commands that
// only look.
func (a *app) warnInterrupted(m *machine.Machine, st *store.Store) {
	if c, ok, err := st.Interrupted(m.ID); err == nil && ok {
		a.note("lockback: %s of %s was interrupted; the machine is between two states: run lockback recover", c.Name(), c.Time.Format("2006-01-02 15:04"))
	}
}

// look opens the machine, reads its inventory and shows something of it: what
// every command does that only looks.
func (a *app) look(show func(m *machine.Machine, inv inventory.Inventory) error) error {
	m, err := a.machine()
	if err != nil {
		return err
	}
	defer m.Close()
	inv := inventory.Take(m)
	st := a.record(m)
	if st != nil {
		defer st.Close()
		a.warnInterrupted(m, st)
	}
	return show(m, a.withTaken(inv, st))
}

// inventory reads the machine, with what changes took away.
func (s *session) inventory() inventory.Inventory {
	return s.withTaken(inventory.Take(s.machine), s.store)
}

// withTaken adds what changes took away. Where the record cannot tell, that is
// said, and the rest is shown.
func (a *app) withTaken(inv inventory.Inventory, st *store.Store) inventory.Inventory {
	all, err := change.WithTaken(inv, st)
	if err != nil {
		a.note("lockback: what was taken away earlier is not shown: %v", err)
		return inv
	}
	return all
}

// choice is what a selector chooses from an inventory.
type choice struct {
	items   []*location.Item
	leftOut int // parts of the operating system that were not shown
}

// choose applies selector words to an inventory. Parts of the operating system
// are only chosen with all, or by their handle.
func choose(inv inventory.Inventory, words []string, all bool) (choice, autostart.Selector, error) {
	var c choice
	sel, err := autostart.ParseSelector(words)
	if err != nil {
		return c, sel, usageError{err}
	}
	hidden := 0
	for _, item := range inv.Items {
		matches := sel.Empty() || sel.Matches(item.Entry)
		switch {
		case matches && (!item.OSPart || all || sel.ByHandle(item.Entry)):
			c.items = append(c.items, item)
		case item.OSPart && !all:
			c.leftOut++
			if matches {
				hidden++
			}
		}
	}
	if sel.Empty() {
		return c, sel, nil
	}
	if word, ok := sel.Unmatched(inv.Entries()); ok {
		return c, sel, usage("no entry has the handle or name %q; lockback list --all shows all", word)
	}
	if len(c.items) == 0 && !sel.Empty() {
		if hidden > 0 {
			return c, sel, usage("%q matches parts of the operating system only; add --all to choose among them", strings.Join(words, " "))
		}
		return c, sel, usage("no entry matches %q", strings.Join(words, " "))
	}
	return c, sel, nil
}

// exact refuses a name that several entries bear.
func exact(c choice, sel autostart.Selector) error {
	var entries []autostart.Entry
	for _, item := range c.items {
		entries = append(entries, item.Entry)
	}
	word, among := sel.Ambiguous(entries)
	if word == "" {
		return nil
	}
	var names []string
	for _, e := range among {
		names = append(names, fmt.Sprintf("%s (%s, for %s)", e.Handle, e.Location, forWhom(e)))
	}
	return usage("%q is the name of %d entries: %s; use a handle, or user=NAME beside it, or %q for all", word, len(among), strings.Join(names, ", "), word+"*")
}

func forWhom(e autostart.Entry) string {
	if e.User == "" {
		return "all"
	}
	return e.User
}

// confirm asks before something is done. Without a terminal it stops, unless
// --yes was given.
func (a *app) confirm(question string) error {
	if a.yes {
		return nil
	}
	if !a.Ask {
		return usage("nothing was done: this needs a yes, and there is no terminal to ask at; add --yes, or --dry-run to look first")
	}
	fmt.Fprintf(a.Err, "%s [y/N] ", question)
	answer, _ := bufio.NewReader(a.In).ReadString('\n')
	switch strings.ToLower(strings.TrimSpace(answer)) {
	case "y", "yes":
		return nil
	}
	a.note("nothing was done")
	return exitError(exitFailed)
}
