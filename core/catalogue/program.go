package catalogue

import (
	"fmt"
	"slices"
	"strings"
)

// Program is what the catalogue knows of a program that people install, beside what every [Entry] has.
type Program struct {
	// Product is what people call it, Maker who makes it.
	Product, Maker string
	// Signs are the names in the certificates that the maker signs with. SignsOnly says that these are all that it
	// ever had: the same program under another name is somebody else's.
	Signs     []Signature `json:",omitempty"`
	SignsOnly bool        `json:",omitempty"`
	// Files are the names of its programs and libraries, as wildcards. Shared are such names that programs of other
	// makers have too: they count only where the maker signed the file.
	Files, Shared []string `json:",omitempty"`
	// Packages are the packages that deliver it, by the names of all distributions, Flatpak and snap included.
	// Bundles are the ids of its apps and extensions on a Mac.
	Packages, Bundles []string `json:",omitempty"`
	// Starts are the entries that it makes.
	Starts []Start `json:",omitempty"`

	// Noticed is when its loss shows, one of [Noticings], Returns when it puts its entries back, one of [Returnings].
	// Security says that updates which matter come through it, Delay that it may start later.
	Noticed, Returns string `json:",omitempty"`
	Security, Delay  bool   `json:",omitempty"`
	// Business is what differs where a company manages the program.
	Business string `json:",omitempty"`
	Basis    Basis
}

// Signature is a name that a maker signs with. Since and Until are years, 0 where they are not known. Seen is the
// package of a registry with a file in it that has this signature, empty where none was seen.
type Signature struct {
	Name         string
	Since, Until int    `json:",omitempty"`
	Seen         string `json:",omitempty"`
}

// Start is a kind of entries that a program makes: Location is a wildcard for the location's id, and Names are
// wildcards for the names that the entries usually have.
type Start struct {
	Location string
	Names    []string
}

// Basis is how the facts of a program are known.
type Basis struct {
	// Seen is the package of a registry and the file in it that shows them, Documented the title of the maker's own
	// document. Known says how sure common knowledge is, from 1 to 3; it counts where the others are empty.
	Seen, Documented string `json:",omitempty"`
	Known            int    `json:",omitempty"`
}

// String says it for a person; empty where nothing does.
func (b Basis) String() string {
	switch {
	case b.Seen != "":
		return "seen in " + b.Seen
	case b.Documented != "":
		return "documented: " + b.Documented
	case b.Known > 0:
		return fmt.Sprintf("common knowledge, sure %d of 3", b.Known)
	}
	return ""
}

// Noticings say when a person misses a program, by the words of the catalogue.
var Noticings = map[string]string{
	"at once":    "You notice at once.",
	"next start": "You notice at the next start.",
	"when used":  "You notice when you next need it.",
	"late":       "You may notice only after weeks.",
	"never":      "",
}

// Returnings say whether a program turns its entries on again, by the words of the catalogue.
var Returnings = map[string]string{
	"no":     "it stays off",
	"update": "its updates put it back",
	"start":  "it puts itself back each time it runs",
	"daily":  "another part of it puts it back within a day",
}

// Fit says how an entry fits a program of the catalogue.
type Fit uint8

// The fits, the weakest first.
const (
	NoFit Fit = iota
	// NamedLike is an entry with one of the program's names that starts some other file.
	NamedLike
	// LooksLike is an entry whose file has the program's name, and nothing proves who made it.
	LooksLike
	// OthersFile is a file with the program's name that somebody signed who is not known to sign for its maker.
	OthersFile
	// Impostors is the same where all names are known that its maker signs with.
	Impostors
	// SameMaker is an entry with one of the program's names that starts another file of the same maker.
	SameMaker
	// Proven is the program: the maker signed the file, or the package delivered it.
	Proven
)

// programIndex finds programs by what they are known by, in small letters. Its numbers are those of
// [Catalogue.program].
type programIndex struct {
	files, names, packages, bundles nameMap
	wildFiles, wildNames            wildMap
}

// nameMap has the programs of each name; nearly every name has one.
type nameMap struct {
	first map[string]int
	more  map[string][]int
}

// add notes a name in small letters.
func (m *nameMap) add(name string, wild wildMap, program int) {
	if wild != nil && strings.ContainsAny(name, "*?") {
		wild.add(name, program)
		return
	}
	switch first, ok := m.first[name]; {
	case !ok:
		m.first[name] = program
	case first != program && !slices.Contains(m.more[name], program):
		m.more[name] = append(m.more[name], program)
	}
}

// wildMap has names with wildcards, by the letters that they begin with.
type wildMap map[string][]wildcard

type wildcard struct {
	pattern string
	program int
}

// headLength is how many letters sort wildcards.
const headLength = 2

func (m wildMap) add(pattern string, program int) {
	head := ""
	if len(pattern) >= headLength && !strings.ContainsAny(pattern[:headLength], "*?") {
		head = pattern[:headLength]
	}
	m[head] = append(m[head], wildcard{pattern, program})
}

func (c *Catalogue) indexPrograms() {
	if len(c.lazies) > 0 {
		return // the built-in ones are noted as they are scanned
	}
	c.programs = newProgramIndex(64)
	x := &c.programs
	for k := range c.Entries {
		p := c.Entries[k].Program
		if p == nil {
			continue
		}
		for _, name := range slices.Concat(p.Files, p.Shared) {
			x.files.add(lowered(name), x.wildFiles, k)
		}
		for _, name := range p.Packages {
			x.packages.add(lowered(name), nil, k)
		}
		for _, name := range p.Bundles {
			x.bundles.add(lowered(name), nil, k)
		}
		for _, start := range p.Starts {
			for _, name := range start.Names {
				x.names.add(lowered(name), x.wildNames, k)
			}
		}
	}
}

func newProgramIndex(size int) programIndex {
	names := func(n int) nameMap { return nameMap{make(map[string]int, n), map[string][]int{}} }
	return programIndex{names(size), names(size), names(size / 4), names(size / 8), wildMap{}, wildMap{}}
}

// program is the entry of a program by its number in the index.
func (c *Catalogue) program(number int) *Entry {
	if len(c.lazies) > 0 {
		return c.lazies[number].read()
	}
	return &c.Entries[number]
}

// All are all entries, those of the programs behind the others.
func (c *Catalogue) All() []Entry {
	all := slices.Clone(c.Entries)
	for _, l := range c.lazies {
		all = append(all, *l.read())
	}
	return all
}

// FindProgram returns the program that an entry starts, and how far that is proved; nil and [NoFit] if there is none.
// Of several, the one counts that fits best, and of equals the first.
func (c *Catalogue) FindProgram(s Subject) (*Entry, Fit) {
	x := &c.programs
	var tried []int
	best, fit := -1, rated{}
	try := func(k int) {
		if slices.Contains(tried, k) {
			return
		}
		tried = append(tried, k)
		if r := c.program(k).Program.rate(s); r.fit != NoFit && (best < 0 || fit.less(r) || fit == r && k < best) {
			best, fit = k, r
		}
	}
	by := func(plain *nameMap, wild wildMap, name string) {
		name = lowered(name)
		if k, ok := plain.first[name]; ok {
			try(k)
			for _, k := range plain.more[name] {
				try(k)
			}
		}
		heads := []string{""}
		if len(name) >= headLength {
			heads = append(heads, name[:headLength])
		}
		for _, head := range heads {
			for _, w := range wild[head] {
				if matches(w.pattern, name) {
					try(w.program)
				}
			}
		}
	}
	if s.File != "" {
		by(&x.files, x.wildFiles, s.File)
	}
	for _, name := range s.Own {
		by(&x.names, x.wildNames, name)
	}
	for _, name := range s.Packages {
		by(&x.packages, nil, name)
	}
	if s.Bundle != "" {
		by(&x.bundles, nil, s.Bundle)
	}
	if best < 0 {
		return nil, NoFit
	}
	return c.program(best), fit.fit
}

// Knows returns the entry that counts for a subject: one known by its marks, else a program that is proved; nil if
// there is none.
func (c *Catalogue) Knows(s Subject) *Entry {
	if e := c.Find(s); e != nil {
		return e
	}
	if e, fit := c.FindProgram(s); fit == Proven {
		return e
	}
	return nil
}

// maxPairs is how many pairs of a signer and a file [Entry.Marks] returns.
const maxPairs = 200

// Marks are all ways in which an entry is recognised: those that it is known by, and of a program each package, and
// each signer with each file.
func (e *Entry) Marks() []Mark {
	marks := e.KnownBy
	if e.Program == nil {
		return marks
	}
	marks = slices.Clone(marks)
	for _, name := range e.Program.Packages {
		marks = append(marks, Mark{Package: name})
	}
	files := slices.Concat(e.Program.Files, e.Program.Shared)
	for _, s := range e.Program.Signs {
		for _, file := range files {
			if len(marks) < maxPairs {
				marks = append(marks, Mark{Maker: s.Name, File: file})
			}
		}
	}
	return marks
}

// rated is how well an entry fits, with whether its own name does too, and whether its file's does.
type rated struct {
	fit         Fit
	named, file bool
}

func (r rated) less(o rated) bool {
	if r.fit != o.fit {
		return r.fit < o.fit
	}
	if r.named != o.named {
		return o.named
	}
	return o.file && !r.file
}

// rate says how a subject fits the program.
func (p *Program) rate(s Subject) rated {
	r := rated{named: p.named(s)}
	own := anyMatches(p.Files, s.File)
	r.file = own || anyMatches(p.Shared, s.File)
	signed := s.Maker != "" && p.signs(s.Maker)
	bundle := s.Bundle != "" && hasFold(p.Bundles, s.Bundle)
	packaged := s.Delivered && slices.ContainsFunc(s.Packages, func(name string) bool {
		return hasFold(p.Packages, name)
	})
	switch {
	case packaged, signed && (r.file || bundle):
		r.fit = Proven
	case signed && r.named:
		r.fit = SameMaker
	case s.Maker != "" && own && len(p.Signs) > 0:
		r.fit = OthersFile
		if p.SignsOnly && !p.akin(s.Maker) {
			r.fit = Impostors
		}
	case own:
		r.fit = LooksLike
	case r.named:
		r.fit = NamedLike
	}
	return r
}

// named reports whether the entry has one of the names that the program's entries have.
func (p *Program) named(s Subject) bool {
	return slices.ContainsFunc(p.Starts, func(start Start) bool {
		return matches(start.Location, s.Location) && slices.ContainsFunc(s.Own, func(name string) bool {
			return anyMatches(start.Names, name)
		})
	})
}

// signs reports whether the maker signs with a name.
func (p *Program) signs(name string) bool {
	return slices.ContainsFunc(p.Signs, func(s Signature) bool { return strings.EqualFold(s.Name, name) })
}

// usual are words that the names of many companies have.
var usual = []string{"inc", "llc", "ltd", "limited", "corp", "corporation", "company", "gmbh", "software",
	"technologies",
	"technology", "systems", "international", "group", "labs", "solutions", "the", "and", "for", "digital", "studio",
	"studios", "computer", "computers", "electronics", "research", "development", "europe", "america", "global",
	"services", "entertainment", "media", "networks", "security", "data", "association", "foundation", "open", "source"}

// akin reports whether a name has a word in common with what the maker and the product are called: companies change
// their names, and a sound program must not be accused for it.
func (p *Program) akin(signer string) bool {
	words := func(text string) []string {
		return strings.FieldsFunc(strings.ToLower(text), func(r rune) bool {
			return (r < 'a' || r > 'z') && (r < '0' || r > '9') && r < 0x80
		})
	}
	known := words(p.Maker + " " + p.Product)
	for _, s := range p.Signs {
		known = append(known, words(s.Name)...)
	}
	return slices.ContainsFunc(words(signer), func(w string) bool {
		return len(w) > 2 && !slices.Contains(usual, w) && slices.Contains(known, w)
	})
}

func anyMatches(patterns []string, name string) bool {
	return name != "" && slices.ContainsFunc(patterns, func(p string) bool {
		return strings.EqualFold(p, name) || strings.ContainsAny(p, "*?") &&
			matches(strings.ToLower(p), strings.ToLower(name))
	})
}

func hasFold(names []string, name string) bool {
	return slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, name) })
}
