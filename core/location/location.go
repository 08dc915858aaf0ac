// Package location says what a location of autostart entries is: where the
// operating system starts things from, how that place is read into entries, and
// how one entry is switched.
//
// A location is declared in a table (see the packages linux, windows and macos beside
// this one): its places, and the form in which these are read, which reports what it
// finds to a [Survey]. Locations never write. A switch only says which new images which
// artifacts should have:
//
//	for _, edit := range must(item.Plan(images, want)) {
//		// the change engine plans a step to edit.Image
//	}
package location

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/location/part"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/parallel"
)

// View is what a location may do to a machine: look.
type View interface {
	ReadFile(name string, max int64) ([]byte, error)
	ReadFileInfo(name string, max int64) ([]byte, fs.FileInfo, error)
	ReadDir(name string) ([]fs.DirEntry, error)
	Lstat(name string) (fs.FileInfo, error)
	Stat(name string) (fs.FileInfo, error)
	Readlink(name string) (string, error)
	Resolve(name string) (string, error)
	// Reach is Resolve for what may become an artifact, see [files.Files.Reach].
	Reach(name string, last bool) (string, error)
}

// Images gives the image of an artifact as a plan has it so far: edits planned
// before are seen by those planned after.
type Images = part.Images

// Location is one kind of place that the system starts things from: a row of a table. All that
// people and programs ask of a row is derived from it: where it looks, what its switch is called,
// how it is read.
type Location struct {
	ID    string
	Stage autostart.Stage
	// Title is what people call the kind of place; Common is added to it where an entry is not
	// one user's: "Run keys", "of the system".
	Title, Common string
	// Kind is what its entries are to the program that starts them.
	Kind Kind
	// Effect says when a switched entry is seen to be off or on.
	Effect Effect
	Places []Place
	Form   Form
	// Also are further places, which are read in another form.
	Also   []Reading
	Runner Runner
	Role   Role // of entries that have none of their own
	// Adjust says more of each entry; nil if there is no more to say.
	Adjust func(*Survey, *Item)
	Notify Notify
	// Purpose is what its entries are for, whoever made them: one of [autostart.Roles]; empty if that differs.
	Purpose string
	// FixedNames says that its files have one name on every machine: the name tells where a file is, not what.
	FixedNames bool
	// HandedOver says that the program gets arguments which its entry does not show.
	HandedOver bool
	// Fleeting reports whether an entry's state ends with the next restart; nil: no entry's does.
	Fleeting func(*autostart.Entry) bool
	// Plain reports whether the mode of an entry says no more than its state and when it starts; nil where each may.
	Plain func(mode string) bool
}

// Kind is what the entries of a location are to the program that starts them. What depends on that asks for the kind,
// never for the id of a location.
type Kind uint8

// The kinds that something depends on.
const (
	OtherKind      Kind = iota
	SystemUnit          // a unit of systemd's manager of the system
	UserUnit            // a unit of the managers of users
	ManagerHook         // a program that systemd runs, which is no unit
	InitService         // a service of another init system: OpenRC, runit, sysvinit
	BusService          // a service that D-Bus starts
	DesktopFile         // a file of the XDG autostart folders
	CronLine            // a line of a crontab
	CronFolder          // a file of a folder that cron runs
	PeriodicScript      // a script of periodic(8)
	LaunchJob           // a job of launchd
	Service             // a service of Windows
	DriverService       // a driver of Windows
	SafeModeName        // a service or driver that starts in safe mode
	Task                // a task of Windows' scheduler
	ScreenSaver
	ClassExtension // a class that Explorer loads, and can be told not to
)

// IsUnit reports whether entries are units of systemd.
func (k Kind) IsUnit() bool { return k == SystemUnit || k == UserUnit }

// IsService reports whether entries are services or drivers of Windows.
func (k Kind) IsService() bool { return k == Service || k == DriverService }

// Notify is the daemon of a running system that keeps in memory what it read from a location, and is told to read it
// again: a person's own for what lies in a home, else the system's. The zero Notify names no daemon.
type Notify struct {
	Daemon machine.DaemonKind
	// Everyone says that what is for everyone is read by a daemon of each user's.
	Everyone bool
}

// Reading is places, and the form that they are read in.
type Reading struct {
	Places []Place
	Form   Form
	Runner Runner // the location's where it is zero
}

// Place is what people call the place of an entry: of a user, or of the whole machine.
func (l Location) Place(user string) string {
	switch {
	case user != "":
		return l.Title + " of " + user
	case l.Common != "":
		return l.Title + " " + l.Common
	}
	return l.Title
}

// Where are the places as a person would name them.
func (l Location) Where() []string {
	var where []string
	for _, r := range l.readings() {
		for _, p := range r.Places {
			if name := p.String(); !slices.Contains(where, name) {
				where = append(where, name)
			}
		}
	}
	return where
}

// Switch is what the switch of the location's entries is called.
func (l Location) Switch() autostart.Switch { return l.Form.Word() }

// Read reports the location's items to the survey.
func (l Location) Read(s *Survey) {
	for _, r := range l.readings() {
		s.idle, s.fixed = r.Runner.idle(s), r.Runner.Fixed
		r.Form.Read(s, r.Places)
	}
}

// Idle tells, of each reading of the locations of a table, why nothing acts on what is read there; empty where
// something does.
func Idle(view View, m *machine.Reader, table []Location) [][]string {
	idle, shared := make([][]string, len(table)), &sync.Map{}
	for k := range table {
		s := &Survey{View: view, Machine: m, at: &table[k], shared: shared}
		for _, r := range s.at.readings() {
			idle[k] = append(idle[k], r.Runner.idle(s))
		}
	}
	return idle
}

// Shared returns what several locations ask for of one machine: the first that does works it out, and the others
// wait for that. Each has a key of its own.
func (s *Survey) Shared(key string, work func() any) any {
	if s.shared == nil {
		return work() // nobody shares it
	}
	once, _ := s.shared.LoadOrStore(key, sync.OnceValue(work))
	return once.(func() any)()
}

func (l Location) readings() []Reading {
	readings := append([]Reading{{l.Places, l.Form, l.Runner}}, l.Also...)
	for k := range readings {
		if readings[k].Runner.Off == nil {
			readings[k].Runner = l.Runner
		}
	}
	return readings
}

// Runner is the program that acts on a location's entries. Where it does not, they are
// disabled. The zero Runner is the system itself.
type Runner struct {
	// Off tells why it does not run; empty where it does.
	Off func(*Survey) string
	// Fixed says that this cannot be changed by turning something on or installing it: then the
	// entries have no switch.
	Fixed bool
}

// idle is why it does not run; empty where it does.
func (r Runner) idle(s *Survey) string {
	if r.Off == nil {
		return ""
	}
	return r.Off(s)
}

// Item is an entry with what its location knows of it.
type Item struct {
	autostart.Entry
	// Artifacts lists what decides the entry, things included that do not exist
	// yet: the override that would switch it off. Most runs need no such list,
	// so it is only made when it is asked for.
	Artifacts func() []artifact.Artifact
	// Argv is the command split as its location's syntax wants it; nil where
	// only a shell could tell. It is let go of once the program is looked up.
	Argv []string
	// Lines are what it runs besides Argv, each under the name that its source has for it: the further commands of a
	// unit.
	Lines []Line
	// Starts are all programs that it starts, once they were looked up; nil if that is Target alone.
	Starts []Started
	// Unsure says that it runs more than lockback can tell without running it.
	Unsure bool
	// Behind is what it runs beside a program of the system's, though nobody knows who made it, in words; empty if that
	// is nothing.
	Behind string
	// CommandLine is the command as a Windows machine gets it, which splits commands by
	// rules of its own; For is the person whose variables it is read with, and
	// Narrow says that a 32-bit program loads it, which finds the system's
	// folder elsewhere.
	CommandLine string
	For         *account.User
	Narrow      bool
	// Program and Rest part CommandLine for whoever starts the same in another way, a [Delayer]: the program itself, in
	// whole, and the rest of the line as it stands. They are empty for all others, and where that is not sure.
	Program, Rest string
	// Actions are all that it runs, where that is more than CommandLine, or not told by it alone.
	Actions []Action
	// Facts tells what else is known, for a person to read; nil if nothing
	// is.
	Facts func() []Fact
	// Effect overrides the location's word on when a change is seen.
	Effect Effect
	// Ignored says why the system skips the entry; empty where it does not. The mode says so too.
	Ignored string
	// Blocked says that a setting keeps the system from loading its class.
	Blocked bool
	// GuardBasis and CautionBasis say how it is known that the entry is protected, and that it needs a second thought.
	GuardBasis, CautionBasis string
	// Row is the location that the entry was read from.
	Row *Location
	// Can is what its switch can do besides.
	Can Can
	// Shipped says that the system itself has the entry like this: it lies where only the
	// system's own files are, or reads as the system came with it. Whether it takes effect as a part
	// of the system is decided in core/identify, and by nobody else.
	Shipped bool
	// Foreign says that the entry is no part of the system, whatever it is called and runs.
	Foreign bool
	// Everyones says that the entry is what everyone has, as its user gets it.
	Everyones bool
	// Packaged says that the entry is read from where only the system's own packages put files.
	Packaged bool
	// ProgramDecides says that the entry is a part of the system where its program is: what it was read
	// from only names that.
	ProgramDecides bool
	// CopyOf is the file of a package that its source reads like, byte for byte: it is as much a part
	// of the system as that.
	CopyOf string
	// Loses says what of the entry is gone for good once it was turned off, since the system does not take
	// it back; empty: nothing.
	Loses string
	// Role is what the machine needs the entry for; [NoRole] takes the location's.
	Role Role
	// Group is the group that Windows loads a service or driver in.
	Group string
	// DeviceClass is the setup class of a device that a driver is for, as the id that Windows has for
	// it, in small letters.
	DeviceClass string
	Switcher
}

// Kind is what the entry is to the program that starts it.
func (i *Item) Kind() Kind { return i.row().Kind }

// Purpose is what all entries of its location are for, one of [autostart.Roles]; empty if that differs.
func (i *Item) Purpose() string { return i.row().Purpose }

// HandedOver reports whether its program gets arguments which the entry does not show.
func (i *Item) HandedOver() bool { return i.row().HandedOver }

func (i *Item) row() *Location {
	if i.Row == nil {
		return &Location{} // it was read from nowhere
	}
	return i.Row
}

// passedOver stands in a mode before the reason for which the system skips an entry.
const passedOver = "ignored: "

// Because says why an entry is off, in words: its mode, or why the system skips it, where the mode says nothing
// else.
func (i *Item) Because() string {
	if i.Ignored != "" && i.Mode == passedOver+i.Ignored {
		return i.Ignored
	}
	return i.Mode
}

// Line is one of several commands that an entry runs.
type Line struct {
	// Key is what the source calls it, "ExecStartPre".
	Key string
	// Text is the command as it is written, Argv the same split as the source's syntax wants it.
	Text string
	Argv []string
}

// Started is a program that an entry starts.
type Started struct {
	// Key and Line are the command that names it, see [Line]; the key is empty for the entry's own command.
	Key, Line string
	Program   autostart.Target
	// Via says that it only starts programs that follow: a shell, for example.
	Via bool
}

// Action is one of several things that an entry of a Windows machine runs.
type Action struct {
	// Line is the command; empty where it cannot be known what runs.
	Line string
	// Class says that it is the library of a class which the system has registered.
	Class bool
	// Host says that it only loads the library of the next action.
	Host bool
	// Program is what it starts, once that was looked up.
	Program autostart.Target
}

// Role is what a machine needs an entry for, as far as its place tells. What a mistake with it
// would cost is said in core/identify.
type Role uint8

// The roles.
const (
	NoRole     Role = iota
	Driver          // of a device, or of what the machine starts with
	Module          // of a kernel that starts without it
	Device          // makes one device work
	Session         // a session does not start without it
	SignInStep      // people are let in by it
	Sound           // sound comes through it
	Camera          // pictures come through it
	InputMode       // text is typed with it
)

// AddFacts adds to what is known about an item, behind what is known already.
func (i *Item) AddFacts(more func() []Fact) {
	before := i.Facts
	i.Facts = func() []Fact {
		if before == nil {
			return more()
		}
		return append(before(), more()...)
	}
}

// Fact is something known about an entry, and where it comes from. Name is empty if the kind says enough.
type Fact struct {
	Kind               autostart.FactKind
	Name, Value, Basis string
}

// Effect is when the system looks at an entry again, so that a change of it counts.
type Effect uint8

// The effects; their words are the view's.
const (
	UnknownEffect Effect = iota
	AtNextStart
	AtNextSignIn
	WithinMinute
	AtNextRun
	AtOnce
	AtNextUse
	// AfterNewAliases is when mail servers see a change that keep aliases in a database, newaliases(1).
	AfterNewAliases
	// AfterNewCollection is when macOS has built its collection of kernel extensions again, and restarted.
	AfterNewCollection
)

// Status is the outcome of reading a location.
type Status string

// What can come of reading a location.
const (
	Read         Status = "read"
	Empty        Status = "empty"
	Absent       Status = "absent"
	StatusUnread Status = "unread"
	// Unlooked says that nothing reads such locations yet.
	Unlooked Status = "not-looked-at"
)

// NotLookedAt is a location that nothing reads yet: it is only named.
func NotLookedAt(id string, stage autostart.Stage, title string, where ...string) Location {
	l := Location{ID: id, Stage: stage, Title: title, Form: Code{Shows: autostart.Report,
		Reader: func(*Survey, []Place) {}}}
	for _, w := range where {
		l.Places = append(l.Places, InWords(w)...)
	}
	return l
}

// Report is the outcome of reading one location.
type Report struct {
	Location
	Status  Status
	Entries int
	Reason  string
}

// Survey collects what one location reads from one machine.
type Survey struct {
	View
	Machine *machine.Reader
	Unread  []autostart.Unread

	items    []*Item
	at       *Location
	seen     map[string]int    // keys already used, to number those that repeat
	idle     string            // why nothing acts on what is read
	fixed    bool              // and that this cannot be changed, see [Runner]
	titles   map[string]string // the place's title for each user, kept once
	packaged []string          // the paths of its places where only packages put files
	adjust   []func(*Item)     // what is done with an item before it is added, the innermost last
	shared   *sync.Map         // what several locations ask for, worked out once

	mu      sync.Mutex // of what is reported while places are read side by side
	present bool
}

// Run reads all the locations of a table, side by side, and returns what they
// found in the order of the table.
func Run(m *machine.Reader, table []Location) ([]*Item, []autostart.Unread, []Report) {
	items, unread, reports := RunOn(m, m, table)
	return items, onceForHome(m, unread), reports
}

// onceForHome tells once that a home cannot be read, in place of once for each place in it.
func onceForHome(m *machine.Reader, unread []autostart.Unread) []autostart.Unread {
	if len(unread) == 0 {
		return unread
	}
	for _, u := range m.Users {
		named := false
		inside := func(line autostart.Unread) bool {
			below, ok := strings.CutPrefix(line.Path, autostart.Text(u.Home))
			return ok && below != "" && strings.ContainsAny(below[:1], `/\`)
		}
		if u.Home == "" || !slices.ContainsFunc(unread, inside) {
			continue
		}
		_, err := m.ReadDir(u.Home)
		if err == nil || errors.Is(err, fs.ErrNotExist) {
			continue
		}
		reason := machine.Reason(m.Explain(u.Home, err))
		unread = slices.DeleteFunc(unread, func(line autostart.Unread) bool {
			same := inside(line) && line.Reason == reason
			named = named || same
			return same
		})
		if named {
			unread = append(unread, autostart.Unread{Path: autostart.Text(u.Home), Reason: reason})
		}
	}
	return unread
}

// RunOn is [Run] with another view of the machine's files: as they would be.
func RunOn(view View, m *machine.Reader, table []Location) ([]*Item, []autostart.Unread, []Report) {
	surveys, shared := make([]*Survey, len(table)), &sync.Map{}
	parallel.Each(len(table), func(k int) {
		s := &Survey{View: view, Machine: m, at: &table[k], packaged: table[k].packaged(), seen: map[string]int{},
			titles: map[string]string{}, shared: shared}
		s.at.Read(s)
		surveys[k] = s
	})
	for _, s := range surveys {
		slices.SortStableFunc(s.Unread, func(a, b autostart.Unread) int { return strings.Compare(a.Path, b.Path) })
	}
	var (
		items   []*Item
		unread  []autostart.Unread
		reports []Report
	)
	for _, s := range surveys {
		items, unread = append(items, s.items...), append(unread, s.Unread...)
		reports = append(reports, s.report())
	}
	return items, unread, reports
}

func (s *Survey) report() Report {
	r := Report{Location: *s.at, Entries: len(s.items), Status: Absent}
	switch {
	case r.Entries > 0:
		r.Status = Read
	case len(s.Unread) > 0:
		r.Status = StatusUnread
	case s.present:
		r.Status = Empty
	}
	if len(s.Unread) > 0 {
		r.Reason = s.Unread[0].Path + ": " + s.Unread[0].Reason
		if more := len(s.Unread) - 1; more > 0 {
			r.Reason += fmt.Sprintf(" (and %d more)", more)
		}
	}
	return r
}

// Handle makes the handle that [Survey.Add] gives the first entry of a key, for
// readers that describe many entries side by side.
func (s *Survey) Handle(user, key string) string {
	return autostart.Handle(s.at.ID, autostart.Text(user), key)
}

// Adjusting reads items each of which is adjusted before it is added: nothing touches one
// afterwards.
func (s *Survey) Adjusting(adjust func(*Item), read func(*Survey)) {
	s.adjust = append(s.adjust, adjust)
	read(s)
	s.adjust = s.adjust[:len(s.adjust)-1]
}

// Add reports an item, which nothing may touch any more. Location and stage come from the
// table unless the item has its own stage, and the word of its switch from that; key identifies
// the entry within its location and user, and stays the same while the entry does.
func (s *Survey) Add(key string, item *Item) {
	for _, adjust := range slices.Backward(s.adjust) {
		adjust(item)
	}
	if s.at.Adjust != nil {
		s.at.Adjust(s, item)
	}
	e := &item.Entry
	e.Location = s.at.ID
	owner := e.User
	if item.Everyones {
		owner = ""
	}
	if e.Place = s.titles[owner]; e.Place == "" {
		e.Place = s.at.Place(owner)
		s.titles[owner] = e.Place
	}
	if e.Stage == "" {
		e.Stage = s.at.Stage
	}
	e.Switch = item.Word()
	unwait(item)
	if e.When == "" {
		e.When = e.Stage.When()
	}
	if s.idle != "" && e.State == autostart.Enabled {
		e.State, item.Ignored = autostart.Disabled, s.idle
		e.Problems = append(e.Problems, autostart.Ignored)
	}
	if item.Ignored != "" {
		e.Mode = strings.TrimSpace(e.Mode + " " + passedOver + item.Ignored)
	}
	if s.idle != "" && s.fixed {
		item.Switcher = NoSwitch{Why: s.idle}
		e.Switch = item.Word()
	}
	item.Row, item.Can = s.at, Capabilities(item.Switcher)
	if item.Effect == UnknownEffect {
		item.Effect = s.at.Effect
	}
	item.Packaged = item.Packaged || heldBy(s.packaged, e.Source.Path)
	if item.Role == NoRole {
		item.Role = s.at.Role
	}
	if !s.Machine.Live && item.Effect == WithinMinute {
		item.Effect = AtNextStart
	}
	if e.Scope == "" {
		e.Scope = autostart.ForSystem
		if e.User != "" {
			e.Scope = autostart.ForUser
		}
	}
	if e.Problems == nil {
		e.Problems = []string{}
	}
	id := e.User + "\x00" + key
	if s.seen[id]++; s.seen[id] > 1 {
		key = fmt.Sprintf("%s\x00%d", key, s.seen[id])
	}
	if e.Handle == "" || s.seen[id] > 1 {
		e.Handle = autostart.Handle(e.Location, e.User, key)
	}
	if item.Everyones {
		e.Shared = autostart.Handle(e.Location, "", key)
	}
	e.Name, e.Command, e.Mode, e.When = autostart.Text(e.Name), autostart.Text(e.Command), autostart.Text(e.Mode),
		autostart.Text(e.When)
	e.Source.Path, e.Source.Key = autostart.Text(e.Source.Path), autostart.Text(e.Source.Key)
	if e.SystemName == "" {
		e.SystemName = systemName(e.Source)
	}
	e.SystemName = autostart.Text(e.SystemName)
	s.items = append(s.items, item)
	s.present = true
}

// systemName is what a system calls an entry where its location says nothing else: the key or
// value that it stands in, else its file.
func systemName(at autostart.Source) string {
	if at.Key != "" {
		return at.Key
	}
	return at.Path[strings.LastIndexAny(at.Path, `/\`)+1:]
}

// Skip reports a place that could not be read. That nothing is there is no
// failure.
func (s *Survey) Skip(path string, err error) {
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.present = true
	u := autostart.Unread{Location: s.at.ID, Path: autostart.Text(path), Reason: machine.Reason(s.Machine.Explain(path,
		err))}
	if !slices.Contains(s.Unread, u) {
		s.Unread = append(s.Unread, u)
	}
}

// Found notes that a place of the location exists, even if nothing is in it.
func (s *Survey) Found() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.present = true
}

// Dir lists a folder. That it is absent is no failure; that it cannot be read is
// reported.
func (s *Survey) Dir(path string) []fs.DirEntry {
	entries, err := s.ReadDir(path)
	if err != nil {
		s.Skip(path, err)
		return nil
	}
	s.Found()
	return entries
}

// File reads a configuration file. That it is absent is no failure; that it
// cannot be read is reported.
func (s *Survey) File(path string) ([]byte, bool) {
	b, err := s.ReadFile(path, files.MaxFileSize)
	if err != nil {
		s.Skip(path, err)
		return nil, false
	}
	s.Found()
	return b, true
}
