package cli

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/program"
	"lockback/core/snapshot"
	"lockback/core/store"
	"lockback/internal/view"
)

// diskRecord is where a system's own record lies on its disk.
var diskRecord = map[string]string{"linux": "/var/lib/lockback/record.db", "windows": `C:\ProgramData\lockback\record.db`, "macos": "/Library/Application Support/lockback/record.db"}

// machine opens the machine that the run is about.
func (a *app) machine() (*machine.Machine, error) {
	if a.Open != nil {
		return a.Open(a.root)
	}
	return machine.Open(a.root)
}

// onDisk is what --store says for the record that lies on the mounted disk.
const onDisk = "disk"

// recordOnDisk tells where the record on a mounted disk lies, if there is one.
func recordOnDisk(m *machine.Machine) (string, bool) {
	if m.Live {
		return "", false
	}
	full, err := m.Reach(diskRecord[m.OS], true)
	if err != nil {
		return "", false
	}
	info, err := m.Lstat(full)
	return filepath.Join(m.Root, filepath.FromSlash(full)), err == nil && info.Mode().IsRegular()
}

// openStore opens the record of the machine. One on the mounted disk is whoever's who had
// that disk, so it is used only when it is asked for.
func (a *app) openStore(m *machine.Machine, access store.Access) (*store.Store, error) {
	disk, has := recordOnDisk(m)
	if a.store == onDisk {
		switch {
		case m.Live:
			return nil, usage("--store disk is the record on a mounted disk; name one with --root")
		case !has && access == store.Read:
			return nil, fmt.Errorf("%s: %w", filepath.Join(m.Root, filepath.FromSlash(diskRecord[m.OS])), store.ErrNone)
		case !has:
			full, err := m.Reach(diskRecord[m.OS], true)
			if err != nil {
				full = diskRecord[m.OS]
			}
			if m.OS == "windows" && err != nil {
				return nil, usage("the disk has no folder for a record; name a file with --store")
			}
			disk = filepath.Join(m.Root, filepath.FromSlash(full))
		}
		st, err := store.OpenClaim(disk, access)
		if err == nil && has && !a.toldDisk {
			a.toldDisk = true
			a.note("note: this is the record on the disk; what it says is the word of whoever had the disk")
		}
		return st, err
	}
	path, err := a.storePath()
	if err != nil {
		return nil, err
	}
	if has && a.store == "" && !a.toldDisk {
		a.toldDisk = true
		a.note("note: the disk has a record of its own, which is not used; --store disk uses it. It says what whoever had the disk put into it")
	}
	a.noteOtherRecords(m.ID, path)
	return store.Open(path, access)
}

// storePath tells where the record lives: where the person says, else in the state folder
// of this system or of this person.
func (a *app) storePath() (string, error) {
	if a.store != "" {
		return a.store, nil
	}
	if machine.Privileged() {
		if path := systemRecord(); path != "" {
			return path, nil
		}
	}
	return userRecord()
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
	machine   *machine.Machine
	store     *store.Store
	engine    *change.Engine
	memory    *program.Memory
	knowledge *knowledge // of the record, read when it is first asked for
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
		return nil, fmt.Errorf("the system has no id of its own, and without one its record could be any machine's: %s", noID[m.OS])
	}
	if s.store, err = a.openStore(m, access); err != nil {
		m.Close()
		return nil, adviseStore(err)
	}
	s.memory = memoryOf(m, s.store)
	s.engine = &change.Engine{Machine: m, Record: recordOf(s.store), Memory: s.memory, At: a.At}
	return s, nil
}

// adviseStore ends an error of the record with what to do.
func adviseStore(err error) error {
	for _, row := range []struct {
		is   error
		todo string
	}{
		{change.ErrInUse, "wait until it has ended and try again"},
		{change.ErrNewer, "use that version, or name another record with --store"},
		{change.ErrDamaged, "it was left as it is; copy it away and name another one with --store"},
		{store.ErrForeign, "name another file with --store"},
		{change.ErrFull, "nothing was changed; make room, or name a record on another disk with --store"},
		{change.ErrReadOnly, "nothing was changed; name a record on another disk with --store"},
		{store.ErrNotOurs, "make the file and its folder your own (chown, chmod 600 for the file, chmod 700 for the folder; a removable disk needs mount options such as umask=077), or name another record with --store"},
		{change.ErrRights, "run as its owner, or name another record with --store"},
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
	c, ok, err := s.engine.Interrupted()
	if err != nil {
		return adviseStore(err)
	}
	if ok {
		return fmt.Errorf("%s of %s was interrupted%s: %w; run lockback recover", c.Name(), local(c.Time), s.madeElsewhere(c), change.ErrInterrupted)
	}
	return nil
}

// madeElsewhere words where a change was made, where that is not the machine at hand; else
// it is empty.
func (s *session) madeElsewhere(c change.Change) string {
	if s.engine.Elsewhere(c) == change.Here {
		return ""
	}
	where := "the running machine"
	if c.Root != "" {
		where = "the disk mounted at " + c.Root
	}
	return fmt.Sprintf(", begun on %s, called %q", where, c.Host)
}

// record opens the machine's record for a command that only looks; nil where
// there is none, or none that can be read.
func (a *app) record(m *machine.Machine) *store.Store {
	st, err := a.openStore(m, store.Read)
	switch {
	case err == nil:
		return st
	case errors.Is(err, store.ErrNone), errors.Is(err, change.ErrInUse):
	default:
		a.note("note: the record is not used: %v", adviseStore(err))
	}
	return nil
}

// warnInterrupted says so where an interrupted change waits, for commands that
// only look.
func (a *app) warnInterrupted(m *machine.Machine, st *store.Store) {
	s := &session{app: a, machine: m, store: st, engine: &change.Engine{Machine: m, Record: recordOf(st)}}
	claim := ""
	if a.store == onDisk {
		claim = "the record on the disk says that "
	}
	c, ok, err := s.engine.Interrupted()
	if err == nil && !ok {
		if c, ok, err := s.toRecover(); err == nil && ok {
			a.note("note: %s%s of %s was interrupted%s, which has the same id; nothing waits for it here", claim, c.Name(), local(c.Time), s.madeElsewhere(c))
		}
	}
	if err == nil && ok {
		a.note("lockback: %s%s of %s was interrupted%s; the machine is between two states: run lockback recover", claim, c.Name(), local(c.Time), s.madeElsewhere(c))
	}
}

// look opens the machine, reads its inventory and shows something of it: what
// every command does that only looks.
func (a *app) look(show func(m *machine.Machine, inv inventory.Inventory, st *store.Store) error) error {
	m, err := a.machine()
	if err != nil {
		return err
	}
	defer m.Close()
	st := a.record(m)
	memory := memoryOf(m, st)
	known := a.knowledgeOf(st)
	known.ahead()
	done := a.reading(memory)
	inv := inventory.Take(m, memory, known.own...)
	inv.Measure()
	notes := known.notes()
	done()
	if st != nil {
		defer st.Close()
		a.warnInterrupted(m, st)
	}
	inv = a.withTaken(inv, st)
	notes.Apply(m.OS, m.ID, inv.Entries())
	if err := show(m, inv, st); err != nil {
		return err
	}
	return machine.RanOut()
}

// inventory reads the machine, with what changes took away.
func (s *session) inventory() inventory.Inventory {
	defer s.reading(s.memory)()
	if s.knowledge == nil {
		s.knowledge = s.knowledgeOf(s.store)
	}
	s.knowledge.ahead()
	inv := inventory.Take(s.machine, s.memory, s.knowledge.own...)
	notes := s.knowledge.notes()
	if s.store != nil {
		s.store.KeepPrograms(s.machine.ID, s.memory.Fresh())
	}
	inv = s.withTaken(inv, s.store)
	if s.store != nil {
		s.store.Saw(s.machine.ID, time.Now(), sightings(inv))
	}
	notes.Apply(s.machine.OS, s.machine.ID, inv.Entries())
	return inv
}

// memoryOf is what the record has of a machine's programs. A record that cannot tell has nothing.
func memoryOf(m *machine.Machine, st *store.Store) *program.Memory {
	var rows []program.Row
	if st != nil && m.ID != "" {
		rows, _ = st.Programs(m.ID)
	}
	return program.NewMemory(rows)
}

// withTaken adds what changes took away. Where the record cannot tell, that is
// said, and the rest is shown.
func (a *app) withTaken(inv inventory.Inventory, st *store.Store) inventory.Inventory {
	all, err := change.WithTaken(inv, recordOf(st))
	if err != nil {
		a.note("lockback: what was removed earlier is not shown: %v", err)
		return inv
	}
	return all
}

// choice is what a selector chooses from an inventory.
type choice struct {
	items  []*location.Item
	hidden int // parts of the operating system that it would choose, and that are not shown
	sel    autostart.Selector
}

// scope is what a selector may choose from, and how it is read.
type scope struct {
	all bool // parts of the operating system too
	// anywhere says that the command only looks: bare words are searched.
	anywhere bool
}

// choose applies selector words to an inventory. Parts of the operating system are only chosen
// with all, or by their handle.
func (a *app) choose(m *machine.Machine, inv inventory.Inventory, st *store.Store, words []string, in scope) (choice, error) {
	var c choice
	words, newer, err := a.since(m, st, words)
	if err != nil {
		return c, err
	}
	c.sel, err = autostart.ParseSelector(words)
	if err == nil && !c.sel.Empty() { // nothing is looked up for a list of everything
		c.sel, err = resolve(c.sel, inv, inv.Entries())
	}
	if err != nil {
		return c, usageError{err}
	}
	if in.anywhere {
		c.sel = c.sel.Anywhere()
	}
	for _, item := range inv.Items {
		if newer != nil && !newer(item.Handle) || !c.sel.Empty() && !c.sel.Matches(item.Entry) {
			continue
		}
		if item.Hidden() && !in.all && !c.sel.ByHandle(item.Entry) {
			c.hidden++
		} else {
			c.items = append(c.items, item)
		}
	}
	if c.sel.Empty() && newer == nil {
		return c, nil
	}
	if word, ok := c.sel.Unmatched(inv.Entries()); ok {
		return c, nothingFound{unknownWord(word, inv.Entries(), in)}
	}
	if len(c.items) == 0 {
		if c.hidden > 0 {
			return c, nothingFound{usage("%q matches hidden parts of the operating system only; add --all to choose among them", strings.Join(words, " "))}
		}
		if newer != nil && c.sel.Empty() {
			return c, nothingFound{usage("nothing was added since then")}
		}
		return c, nothingFound{usage("no entry matches %q", strings.Join(words, " "))}
	}
	return c, nil
}

// resolve completes handles, and checks the words of a machine's own sets.
func resolve(sel autostart.Selector, inv inventory.Inventory, entries []*autostart.Entry) (autostart.Selector, error) {
	sel, err := sel.Resolve(entries)
	if err == nil {
		err = sel.Check("location", locationsOf(inv))
	}
	for _, field := range []string{"user", "for"} {
		if err == nil {
			err = sel.Check(field, usersOf(inv))
		}
	}
	return sel, err
}

// maxMeant is how many entries are named that a word may have meant.
const maxMeant = 8

// unknownWord says that a naming word chooses nothing, and what it may have meant.
func unknownWord(word string, entries []*autostart.Entry, in scope) error {
	if in.anywhere {
		return usage("nothing has %q in its name, maker, command, program or place%s", word, autostart.SuggestEntry(word, entries))
	}
	var meant []string
	more := 0
	for _, e := range entries {
		if what := autostart.Occurs(word, e); what == "" || e.Hidden() && !in.all {
			continue
		} else if len(meant) == maxMeant {
			more++
		} else {
			meant = append(meant, fmt.Sprintf("%s %s (%s)", e.Handle, e.Name, what))
		}
	}
	if len(meant) == 0 {
		return usage("no entry has the handle or name %q%s (lockback list --all shows all)", word, autostart.SuggestEntry(word, entries))
	}
	if more > 0 {
		meant = append(meant, fmt.Sprintf("and %d more", more))
	}
	return usage("no entry has the handle or name %q; it occurs in %s. Give the handles of those you mean", word, strings.Join(meant, ", "))
}

// since takes since=S3 and since=2026-11-01 out of selector words: what is in the snapshot, or in
// the last one from before that day, does not count. The function is nil where there is no such
// word.
func (a *app) since(m *machine.Machine, st *store.Store, words []string) ([]string, func(handle string) bool, error) {
	at := slices.IndexFunc(words, func(w string) bool { return strings.HasPrefix(strings.ToLower(w), "since=") })
	if at < 0 {
		return words, nil, nil
	}
	from := words[at][len("since="):]
	words = slices.Delete(slices.Clone(words), at, at+1)
	if st == nil {
		return nil, nil, usage("since=%s needs a record, and there is none yet; take a snapshot first", from)
	}
	s := &session{app: a, machine: m, store: st}
	day, err := time.ParseInLocation(time.DateOnly, from, time.Local)
	if err != nil {
		if len(from) == 0 || !strings.EqualFold(from[:1], "s") {
			return nil, nil, usage("since=%s is neither a snapshot (since=S3) nor a day (since=2026-11-01)", from)
		}
	} else {
		snaps, err := st.Snapshots(m.ID)
		if err != nil {
			return nil, nil, adviseStore(err)
		}
		before := slices.DeleteFunc(slices.Clone(snaps), func(s *snapshot.Snapshot) bool { return !s.Time.Before(day) })
		switch {
		case len(snaps) == 0:
			return nil, nil, usage("since=%s: the record has no snapshot of this machine", from)
		case len(before) == 0:
			return nil, nil, usage("since=%s: the record has no snapshot from before that day; the first is %s of %s", from, snaps[0].Name(), local(snaps[0].Time))
		}
		from = before[len(before)-1].Name()
	}
	snap, err := s.snapshot(from)
	if err == nil && snap.Machine != m.ID {
		err = usage("%s is of another machine, %s", snap.Name(), s.nameOf(snap.Machine))
	}
	if err != nil {
		return nil, nil, err
	}
	had, err := handlesOf(snap)
	if err != nil {
		return nil, nil, adviseStore(err)
	}
	return words, func(handle string) bool { return !had[handle] }, nil
}

// handlesOf are the handles of a snapshot's entries.
func handlesOf(snap *snapshot.Snapshot) (map[string]bool, error) {
	entries, err := snap.Entries()
	handles := make(map[string]bool, len(entries))
	for _, r := range entries {
		handles[r.Handle] = true
	}
	return handles, err
}

// local is a moment as a person reads it: in the time of the place where the program runs.
func local(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

// nothingFound says that a selector chooses nothing, or one of its words: an answer where one
// looks, a mistake where something is to be done.
type nothingFound struct{ error }

func (n nothingFound) Unwrap() error { return n.error }

// locationsOf are the ids of the machine's locations.
func locationsOf(inv inventory.Inventory) []string {
	ids := make([]string, len(inv.Locations))
	for k, l := range inv.Locations {
		ids[k] = l.ID
	}
	return ids
}

// usersOf are the names that may stand in an entry's user field: none for what is the whole
// machine's, the people who have accounts, and whoever else has an entry.
func usersOf(inv inventory.Inventory) []string {
	users := []string{""}
	known := map[string]bool{"": true}
	add := func(name string) {
		if !known[name] {
			known[name] = true
			users = append(users, name)
		}
	}
	for _, u := range inv.Machine.Users {
		add(autostart.Text(u.Name))
	}
	for _, item := range inv.Items {
		add(item.User)
	}
	return users
}

// chooseExactly chooses entries for a command that writes: a name that several have is refused.
func (s *session) chooseExactly(inv inventory.Inventory, words []string, in scope) (choice, error) {
	c, err := s.choose(s.machine, inv, s.store, words, in)
	if err == nil {
		err = exact(c)
	}
	return c, err
}

// exact refuses a name that several entries have.
func exact(c choice) error {
	word, among := c.sel.Ambiguous(entriesOf(c.items))
	if word == "" {
		return nil
	}
	var names []string
	for _, e := range among {
		names = append(names, fmt.Sprintf("%s (%s, for %s)", e.Handle, cmp.Or(e.Place, e.Location), view.Whose(e)))
	}
	return usage("%q is the name of %d entries: %s; use handles, or user=NAME beside it", word, len(among), strings.Join(names, ", "))
}

// confirm asks before something is done. Without a terminal it stops, unless
// --yes was given.
func (a *app) confirm(question string) error {
	if a.yes {
		return nil
	}
	if !a.Ask {
		return usage("nothing was done: confirmation needed, and there is no terminal to ask at; add --yes, or --dry-run to look first")
	}
	fmt.Fprintf(a.Err, "%s [y/N] ", view.Safe(question))
	answer, _ := bufio.NewReader(a.In).ReadString('\n')
	switch strings.ToLower(strings.TrimSpace(answer)) {
	case "y", "yes":
		return nil
	}
	a.note("nothing was done")
	return exitError(exitFailed)
}

// confirmNumber asks before something large is done: the number of entries is to be typed.
func (a *app) confirmNumber(question string, n int) error {
	if a.yes || !a.Ask {
		return a.confirm(question)
	}
	fmt.Fprintf(a.Err, "%s Type the number of entries to go on: ", view.Safe(question))
	answer, _ := bufio.NewReader(a.In).ReadString('\n')
	if strings.TrimSpace(answer) == strconv.Itoa(n) {
		return nil
	}
	a.note("nothing was done")
	return exitError(exitFailed)
}

// recordOf is a store as a record; none where there is no store.
func recordOf(st *store.Store) change.Record {
	if st == nil {
		return nil
	}
	return st
}
