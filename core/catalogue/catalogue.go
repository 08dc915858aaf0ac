// Package catalogue is what is known about programs beforehand: what one does, what is lost without
// it, whether a technician would keep it, and by what it is recognised. The catalogue is data, in
// a form of its own that docs/catalogue.md describes; that of the operating systems and their
// common applications is part of the program.
//
//	for _, e := range catalogue.Of("linux").Find(catalogue.Subject{Location: "linux.systemd.system", Names: []string{"cups"}}) {
//		fmt.Println(e.Does)
//	}
package catalogue

import (
	"embed"
	"encoding/json"
	"slices"
	"strings"
	"sync"
)

// Entry is one program, or several that are the same to a person.
type Entry struct {
	// ID names the entry in its file.
	ID string
	// Does says in one sentence what it does, Without what is lost when it does not start, and
	// Setting where its own setting is that stops it, where it has one.
	Does             string
	Without, Setting string `json:",omitempty"`
	// Note is what a technician wrote down about it, By who and Date when, as 2026-11-26.
	Note, By, Date string `json:",omitempty"`
	Role           string // one of [autostart.Roles]
	Verdict        string // one of [autostart.Verdicts]
	// Protect is a key of [Protections]: what a mistake with it would cost; empty: not much.
	Protect string
	// Caution is a key of [Cautions]: what to think of before it is turned off; empty: nothing.
	Caution string
	// Part says that it is a part of the operating system. Whether this file is that part, the
	// proof tells; without a proof, its place.
	Part bool
	// KnownBy are the ways in which it is recognised: any of them.
	KnownBy []Mark `json:",omitempty"`
	// Program is what else is known of a program that people install; nil for what is not one.
	Program *Program `json:",omitempty"`
	// Line is where it stands in its file, counted from 1; 0 in the built-in catalogues.
	Line int `json:"-"`
}

// Mark is a way of recognising a program. All that a mark has must be true.
type Mark struct {
	// Location is a wildcard for the location's id; empty means any.
	Location string
	// Names are wildcards for the names that an entry has; any of them. What they are compared
	// with depends on the location: a unit without its ending, a service, the file of a library.
	Names []string
	// Package is the package that delivered the program or what starts it, Bundle the id of an
	// app whose signature holds, Maker who signed it, File the name of the program's file,
	// Command a wildcard for the whole command.
	Package, Bundle, Maker, File, Command string
	// Says is the maker that the program itself names, Label the name of the entry as lists show it.
	Says, Label string `json:",omitempty"`
	// Runs are what the entry may run, any of them for each of its programs: the name of the
	// program's file, or that and its arguments where it has some, as wildcards. "{name}" stands for
	// the name that fits, "class" for a class that the system has registered.
	Runs []string `json:",omitempty"`
}

// onName reports whether a mark rests on names alone, which anybody can give.
func (m Mark) onName() bool { return m.Package == "" && m.Bundle == "" && m.Maker == "" }

// onOneName reports whether a mark rests on less than two names that must agree.
func (m Mark) onOneName() bool {
	names := 0
	for _, name := range []string{m.File, m.Says, m.Label} {
		if name != "" {
			names++
		}
	}
	return m.onName() && names < 2 && !Identifier(m.Label)
}

// Identifier reports whether a name, in small letters, is one that its maker gives to nothing else: that of a bundle, a
// job, or an extension of a browser.
func Identifier(name string) bool {
	other := func(r rune) bool { return r < 'a' || r > 'p' }
	at, domain, ok := strings.Cut(name, "@")
	return !strings.ContainsAny(name, ` \/`) && (strings.Count(strings.Trim(name, "."), ".") >= 2 || ok && at != "" &&
		strings.Contains(domain, ".") || len(name) == 32 && !strings.ContainsFunc(name, other))
}

// leadingOff are the verdicts that lead to switching off.
var leadingOff = []string{"spare", "hostile"}

// Protections are what a mistake would cost, by the words of the catalogue.
var Protections = map[string]string{
	"start":         "the machine needs it to start",
	"sign-in":       "needed to sign in",
	"screen":        "needed to show a screen",
	"input":         "needed for keyboard, mouse and other input",
	"network":       "needed to reach the network",
	"disks":         "needed to reach its disks",
	"session":       "the desktop session needs it",
	"security":      "it protects the machine",
	"sound":         "needed for sound",
	"elevate":       "without it nobody can work as administrator, or undo this",
	"remote":        "somebody may work on the machine from afar",
	"accessibility": "some users cannot use the machine without it",
}

// Cautions are what to think of before something is turned off, by the words of the catalogue: a mistake costs
// less than with a protected entry, and shows late.
var Cautions = map[string]string{
	"upkeep":    "it keeps disks and files in order, which is missed only after months",
	"modem":     "mobile network sticks need it",
	"shares":    "folders of other computers need it",
	"passwords": "the passwords of encrypted disks may be asked for by it",
	"keys":      "programs ask it for keys and passwords",
	"accounts":  "accounts that are kept elsewhere need it",
	"printers":  "printers on the network come and go with it",
	"devices":   "devices are found or served by it",
	"updates":   "security fixes come through it, or it is all that protects some of the computer",
	"backup":    "backups may stop without a word",
	"sync":      "files may no longer follow to other devices",
	"calls":     "calls and messages may arrive only while it runs",
	"input":     "special keys, buttons or gestures may stop",
	"sound":     "headphones or sound effects may fail",
	"vpn":       "another network may be reached only through it",
	"remote":    "somebody may reach this computer through it",
	"cooling":   "fans, pumps or a tuning may go back to their defaults",
	"licences":  "paid programs may check their licence through it",
	"phone":     "a phone or player may not be noticed",
	"company":   "a company may manage this computer through it",
	"data":      "other programs may keep their data in it",
	"access":    "some users may need it to use the computer",
}

// Subject is what a catalogue is asked about: an entry and its program, as far as they are proved.
type Subject struct {
	Location string
	// Names are those that the entry goes by, see [Mark.Names]; without one where its place is not
	// one of the system's.
	Names    []string
	Packages []string
	Bundle   string
	Maker    string
	Says     string
	File     string
	// Own are the names of the entry itself, wherever it lies: of a value, a service, a task, a job, a unit.
	Own []string
	// Delivered says that all that the entry starts is as the packages delivered it.
	Delivered bool
	Label     string
	Command   string
	// Runs are all programs that the entry runs, each in the ways in which [Mark.Runs] may have it.
	Runs [][]string
}

// Catalogue is a list of entries, of which the first that fits counts.
type Catalogue struct {
	Entries []Entry

	// Name is what a catalogue is called that did not come with the program.
	Name string

	plain    map[string][]mark // marks with plain names, by the name in small letters
	wild     []mark            // marks with wildcards in a name
	packages map[string][]mark
	files    map[string][]mark // marks without either, by the file in small letters
	other    []mark            // marks without any of these
	programs programIndex
	lazies   []*lazy // the programs of the built-in files
}

// mark is a mark of an entry, by their numbers.
type mark struct {
	entry, mark int
	pattern     string // the name, in small letters
}

// data are the built-in files: a folder for each operating system, a file for each kind of programs.
//
//go:embed data
var data embed.FS

// Systems are the operating systems that have a built-in catalogue.
var Systems = []string{"linux", "windows", "macos"}

var shipped = func() map[string]func() *Catalogue {
	all := map[string]func() *Catalogue{}
	for _, system := range Systems {
		all[system] = sync.OnceValue(func() *Catalogue { return load(system) })
	}
	return all
}()

// load reads the built-in files of a system: what belongs to the system itself at once, programs when something looks
// like them.
func load(system string) *Catalogue {
	folder, err := data.ReadDir("data/" + system)
	if err != nil {
		panic(err) // it is embedded
	}
	c := &Catalogue{Name: system, programs: newProgramIndex(4000)}
	for _, file := range folder {
		text, err := data.ReadFile("data/" + system + "/" + file.Name())
		if err != nil {
			panic(err)
		}
		if file.Name() != systemFile {
			c.scan(string(text))
			continue
		}
		tree, err := quick(string(text))
		if err != nil {
			panic(err) // a test reads it
		}
		(&reader{}).document(tree, c)
	}
	c.index()
	return c
}

// systemFile has what belongs to the system itself.
const systemFile = "system.yaml"

// Encode is a catalogue in the form in which the record keeps it.
func (c *Catalogue) Encode() []byte {
	text, err := json.Marshal(c.Entries)
	if err != nil {
		panic(err) // strings always encode
	}
	return text
}

// Decode reads what [Catalogue.Encode] made.
func Decode(text []byte) (*Catalogue, error) {
	c := &Catalogue{}
	if err := json.Unmarshal(text, &c.Entries); err != nil {
		return nil, err
	}
	c.index()
	return c, nil
}

// Of is the catalogue that comes with the program for an operating system; an empty one for others.
func Of(system string) *Catalogue {
	if c, ok := shipped[system]; ok {
		return c()
	}
	return &Catalogue{}
}

// index prepares the entries for searching.
func (c *Catalogue) index() {
	c.plain, c.packages, c.files = map[string][]mark{}, map[string][]mark{}, map[string][]mark{}
	for e := range c.Entries {
		for k, m := range c.Entries[e].KnownBy {
			switch {
			case m.Package != "":
				c.packages[m.Package] = append(c.packages[m.Package], mark{e, k, ""})
			case len(m.Names) == 0 && m.File != "":
				name := strings.ToLower(m.File)
				c.files[name] = append(c.files[name], mark{e, k, ""})
			case len(m.Names) == 0:
				c.other = append(c.other, mark{e, k, ""})
			}
			if m.Package != "" {
				continue
			}
			for _, name := range m.Names {
				name = strings.ToLower(name)
				if strings.ContainsAny(name, "*?") {
					c.wild = append(c.wild, mark{e, k, name})
				} else {
					c.plain[name] = append(c.plain[name], mark{e, k, name})
				}
			}
		}
	}
	c.indexPrograms()
}

// Find returns the entry for a subject; nil if there is none. A part of the system that is known
// by the names of its entries comes before what is known about the whole package, and of several
// entries the first counts.
func (c *Catalogue) Find(s Subject) *Entry {
	best := len(c.Entries)
	take := func(m mark) {
		if m.entry < best && c.fits(m, s) {
			best = m.entry
		}
	}
	names := s.Names
	if len(c.plain)+len(c.wild) == 0 {
		names = nil // one of the technician's own has none, mostly
	}
	for _, name := range names {
		name = strings.ToLower(name)
		for _, m := range c.plain[name] {
			take(m)
		}
		for _, m := range c.wild {
			if m.entry < best && matches(m.pattern, name) {
				take(m)
			}
		}
	}
	if best < len(c.Entries) {
		return &c.Entries[best]
	}
	for _, name := range s.Packages {
		for _, m := range c.packages[name] {
			take(m)
		}
	}
	for _, m := range c.files[strings.ToLower(s.File)] {
		take(m)
	}
	for _, m := range c.other {
		take(m)
	}
	if best < len(c.Entries) {
		return &c.Entries[best]
	}
	return nil
}

// PartPackage reports whether an entry of the catalogue that is a part of the system names a package.
func (c *Catalogue) PartPackage(name string) bool {
	return slices.ContainsFunc(c.packages[name], func(m mark) bool { return c.Entries[m.entry].Part })
}

// fits reports whether all that a mark has beside its names and its package is true.
func (c *Catalogue) fits(m mark, s Subject) bool {
	k := c.Entries[m.entry].KnownBy[m.mark]
	if k.Location != "" && !matches(k.Location, s.Location) {
		return false
	}
	if k.Package != "" && len(k.Names) > 0 && !slices.ContainsFunc(s.Names, func(name string) bool {
		return slices.ContainsFunc(k.Names, func(p string) bool {
			return matches(strings.ToLower(p),
				strings.ToLower(name))
		})
	}) {
		return false
	}
	for _, pair := range [][2]string{{k.Bundle, s.Bundle}, {k.Maker, s.Maker}, {k.Says, s.Says}, {k.File, s.File},
		{k.Label, s.Label}} {
		if pair[0] != "" && !strings.EqualFold(pair[0], pair[1]) {
			return false
		}
	}
	if len(k.Runs) > 0 && !k.allRun(s, m.pattern) {
		return false
	}
	return k.Command == "" || matches(strings.ToLower(k.Command), strings.ToLower(s.Command))
}

// allRun reports whether all that the subject runs is what the mark says.
func (m Mark) allRun(s Subject, pattern string) bool {
	one := func(ways []string, name string) bool {
		return slices.ContainsFunc(m.Runs, func(may string) bool {
			may = strings.ReplaceAll(strings.ToLower(may), "{name}", strings.ToLower(name))
			return slices.ContainsFunc(ways, func(way string) bool { return matches(may, strings.ToLower(way)) })
		})
	}
	return len(s.Runs) > 0 && !slices.ContainsFunc(s.Runs, func(ways []string) bool {
		return !slices.ContainsFunc(append(s.Names, ""), func(name string) bool {
			return (name == "" || pattern == "" || matches(pattern, strings.ToLower(name))) && one(ways, name)
		})
	})
}

// matches compares with a wildcard: a star stands for any characters, a question mark for one.
func matches(pattern, text string) bool {
	star, mark := -1, 0
	p := 0
	for t := 0; t < len(text); {
		switch {
		case p < len(pattern) && pattern[p] == '*':
			star, mark = p, t
			p++
		case p < len(pattern) && (pattern[p] == '?' || pattern[p] == text[t]):
			p++
			t++
		case star >= 0: // the last star takes one more
			mark++
			p, t = star+1, mark
		default:
			return false
		}
	}
	return strings.Trim(pattern[p:], "*") == ""
}
