// Package program tells what a file that starts is: who made it, what it came with, whether it
// is as it was delivered. It collects [Evidence], each piece with where it was read, and decides
// from all of it in one place, see [File.Known].
//
//	book := program.Open(m, nil)
//	book.Look([]string{"/opt/fogbell/sync"})
//	fmt.Println(book.File("/opt/fogbell/sync").Known().Maker)
//
// A new kind of evidence is one file, with a row in the table of [witnesses].
package program

import (
	"cmp"
	"io/fs"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"lockback/core/autostart"
	"lockback/core/machine"
	"lockback/core/machine/files"
	"lockback/core/parallel"
)

// Evidence is one piece of what is known about a file. What it says nothing of is empty.
type Evidence struct {
	// Basis is how it is known: [autostart.BySignature] and its like. Empty where the evidence
	// could not be read, or proves nothing: then only its notes and problems count.
	Basis string
	// Source is where it was read, for a person.
	Source string

	Maker, Product, Version, Installed, Description string
	// Role is what the program is for, one of [autostart.Roles].
	Role string

	// Package is the package that delivered the file, Bundle the id of the app that it lies in.
	Package, Bundle string
	// System says that the file is a part of the operating system as its maker delivers it.
	System bool
	// Official says that the system's maker delivered it, as a part of the system or to be added to it.
	Official bool
	// Foreign says that somebody else than the system's maker signed or delivered it.
	Foreign bool
	// State says whether the file is as it was delivered.
	State State
	// Problems are words for scripts, see [autostart.Unsigned] and its like.
	Problems []string
	// Notes are what else a person should know, what was not checked for example.
	Notes []Note
}

// Note is a remark for a person, under a name. Name is empty if the kind says enough.
type Note struct {
	Kind       autostart.FactKind
	Name, Text string
}

// State says whether a file is as it was delivered.
type State uint8

// The states.
const (
	NotCompared State = iota
	Unchanged
	Changed
)

// File is a file that something starts, with the evidence on it.
type File struct {
	// Name is the path as an entry has it, Path the same without links.
	Name, Path string
	// Nothing says that it is a link to /dev/null: it starts nothing, whoever made it.
	Nothing bool
	// Kind is what the file is, for a person: "Windows program, 64-bit".
	Kind     string
	Size     int64
	Modified time.Time
	// Evidence is all that was found, in the order of the table of witnesses.
	Evidence []Evidence

	machine *machine.Reader
	number  uint64        // of the file on its disk
	looked  *atomic.Int64 // counts the files that were looked at, see [Memory.Progress]
	counted bool
	known   *autostart.Known
	sums    *digests // shared by all names of the file
}

// witness is one kind of evidence.
type witness struct {
	// systems are the operating systems on whose machines it is asked.
	systems []string
	// look adds evidence to files, which it gets all at once: a database is then read once.
	look func(m *machine.Reader, files []*File)
	// always says that it is cheap to ask, and asked again where a memory has the rest.
	always bool
}

// witnesses are all kinds of evidence. Each has a file of its own.
var witnesses = []witness{
	{[]string{"linux"}, debianPackages, false},
	{[]string{"linux"}, rpmPackages, false},
	{[]string{"linux"}, pacmanPackages, false},
	{[]string{"linux"}, apkPackages, false},
	{[]string{"linux"}, flatpaks, true},
	{[]string{"linux"}, snaps, true},
	{[]string{"windows"}, windowsPrograms, false},
	{[]string{"windows"}, windowsScripts, false},
	{[]string{"windows"}, windowsCatalogues, false},
	{[]string{"windows"}, windowsUnsigned, false},
	{[]string{"windows"}, installerProducts, false},
	{[]string{"macos"}, sealedVolume, false},
	{[]string{"macos"}, macPrograms, false},
	{[]string{"macos"}, receipts, true},
	{[]string{"windows"}, installedProducts, true},
}

// Book holds the files of one machine that were looked at. Looking is for one goroutine at a
// time; what it gives out is not changed any more.
type Book struct {
	// HasPackages says that the machine has a database of packages which tells of every file that
	// the system delivered, so that one which is in none of them is not the system's.
	HasPackages bool
	// Vouches says that one of the files that were looked at is proved to be the system's own: then the
	// machine has what proves that, and a program of the system without a proof does not count as one.
	Vouches bool

	machine *machine.Reader
	memory  *Memory
	files   map[string]*File
}

// Open returns an empty book on a machine, with what was found before.
func Open(m *machine.Reader, memory *Memory) *Book {
	return &Book{HasPackages: hasPackages(m), machine: m, memory: memory, files: map[string]*File{}}
}

// File returns what is known about a file that was looked at; nil where it was not, or is not there.
func (b *Book) File(name string) *File { return b.files[name] }

// Look looks at the files with these names, those that it has not seen yet.
func (b *Book) Look(names []string) {
	var fresh []*File
	for _, name := range names {
		if _, seen := b.files[name]; seen || name == "" {
			continue
		}
		b.files[name] = nil
		fresh = append(fresh, &File{Name: name, machine: b.machine})
	}
	state := ""
	if b.memory != nil {
		state = stateOf(b.machine)
	}
	there, recalled := make([]bool, len(fresh)), make([]bool, len(fresh))
	parallel.Each(len(fresh), func(k int) {
		there[k] = fresh[k].find()
		recalled[k] = there[k] && b.memory.recall(fresh[k], state)
	})
	var unknown, found []*File
	for k, f := range fresh {
		if there[k] {
			found = append(found, f)
			if !recalled[k] {
				unknown = append(unknown, f)
			}
		}
	}
	fresh = found
	byPath := map[string]*digests{}
	for _, f := range fresh {
		if byPath[f.Path] == nil {
			byPath[f.Path] = &digests{}
		}
		f.sums = byPath[f.Path]
	}
	if b.memory != nil && b.memory.Only {
		b.memory.lack(unknown)
	} else {
		b.memory.begin(unknown)
		b.ask(false, unknown)
		for _, f := range unknown {
			b.memory.keep(f, state)
		}
	}
	b.ask(true, fresh)
	// A file with several names has one identification.
	same := map[string]*autostart.Known{}
	for _, f := range fresh {
		if f.known = same[f.Path]; f.known == nil {
			f.known = f.decide()
			same[f.Path] = f.known
		}
		b.files[f.Name] = f
		b.Vouches = b.Vouches || !b.HasPackages && f.Vouched() != ""
	}
}

// ask asks the witnesses of one kind.
func (b *Book) ask(always bool, files []*File) {
	for _, w := range witnesses {
		if w.always == always && slices.Contains(w.systems, b.machine.OS) && len(files) > 0 {
			w.look(b.machine, files)
		}
	}
}

// find looks where the file really is; ok is false if there is no regular file, and no link to
// /dev/null, which stands for one that is not to be there.
func (f *File) find() (ok bool) {
	info, err := f.machine.Lstat(f.Name)
	link := err == nil && info.Mode()&fs.ModeSymlink != 0
	if link {
		if target, err := f.machine.Readlink(f.Name); err == nil && target == "/dev/null" && f.machine.OS != "windows" {
			f.Path, f.Nothing = f.Name, true
			return true
		}
		info, err = f.machine.Stat(f.Name)
	}
	if err != nil || !info.Mode().IsRegular() {
		return false
	}
	f.Size, f.Modified, f.number = info.Size(), info.ModTime().UTC(), files.FileNumber(info)
	f.Path = f.Name
	if f.machine.OS == "windows" {
		return true
	}
	resolve := f.machine.ResolveFolder // what is no link need not be looked at once more
	if link {
		resolve = f.machine.Resolve
	}
	if full, err := resolve(f.Name); err == nil {
		f.Path = full
	}
	return true
}

// Known is what is known about the file, nil if nothing is. Nobody changes it.
func (f *File) Known() *autostart.Known {
	if f == nil {
		return nil
	}
	return f.known
}

// rank is the place of a basis among all, the strongest first.
func rank(basis string) int {
	if k := slices.Index(autostart.Bases, basis); k >= 0 {
		return k
	}
	return len(autostart.Bases)
}

// ranked is the evidence that proves or states something, the strongest first.
func (f *File) ranked() []*Evidence {
	var all []*Evidence
	for k := range f.Evidence {
		if f.Evidence[k].Basis != "" {
			all = append(all, &f.Evidence[k])
		}
	}
	slices.SortStableFunc(all, func(a, b *Evidence) int { return cmp.Compare(rank(a.Basis), rank(b.Basis)) })
	return all
}

// decide makes one answer of all evidence: for each question, the strongest piece counts that
// says anything of it, in the order of [autostart.Bases]. Who made a file is not told by what
// delivered it once and finds it changed since. A version counts only beside its product.
func (f *File) decide() *autostart.Known {
	var k autostart.Known
	for _, e := range f.ranked() {
		if k.Maker.Name == "" && e.Maker != "" && e.State != Changed {
			k.Maker = autostart.Maker{Name: autostart.Text(e.Maker), Basis: e.Basis}
		}
		if k.Product.Name == "" && e.Product != "" {
			k.Product = autostart.Product{Name: autostart.Text(e.Product), Version: autostart.Text(e.Version),
				Installed: e.Installed}
		}
		if k.Product.Installed == "" && strings.EqualFold(k.Product.Name, autostart.Text(e.Product)) {
			k.Product.Installed = e.Installed // what proves a product seldom knows when it came
		}
		if k.Role == "" && e.Role != "" && e.State != Changed {
			k.Role, k.RoleBasis = e.Role, e.Basis
		}
		if k.Description == "" && e.Description != "" && e.State != Changed {
			k.Description, k.DescriptionBasis = autostart.Text(e.Description), e.Basis
		}
	}
	if k == (autostart.Known{}) {
		return nil
	}
	return &k
}

// Vouched says that the file is a part of the operating system as its maker delivers it, and how
// that is known; the basis is empty if it is not.
func (f *File) Vouched() (basis string) {
	if f == nil {
		return ""
	}
	for _, e := range f.ranked() {
		switch {
		case e.State == Changed:
			return ""
		case basis == "" && e.System:
			basis = e.Basis
		}
	}
	return basis
}

// Packages are the packages that delivered the file as it is.
func (f *File) Packages() []string {
	if f == nil {
		return nil
	}
	var all []string
	for _, e := range f.Evidence {
		if e.Package != "" && e.State != Changed {
			all = append(all, e.Package)
		}
	}
	return all
}

// Bundle is the id of the app that a file lies in which is as it was signed; empty otherwise.
func (f *File) Bundle() string {
	if f == nil || !f.Delivered() {
		return ""
	}
	for _, e := range f.Evidence {
		if e.Bundle != "" {
			return e.Bundle
		}
	}
	return ""
}

// Signer is who signed the file as it is, where that was traced; empty otherwise.
func (f *File) Signer() string {
	if k := f.Known(); k != nil && k.Maker.Basis == autostart.BySignature {
		return k.Maker.Name
	}
	return ""
}

// Foreign says that somebody else than the system's maker made the file as it is: signed it, or
// changed it since it was signed.
func (f *File) Foreign() bool {
	return f != nil && slices.ContainsFunc(f.Evidence, func(e Evidence) bool { return e.Foreign || e.State == Changed })
}

// FromOthers says that somebody else than the system's maker signed or delivered the file, whatever became of it since.
func (f *File) FromOthers() bool {
	return f != nil && slices.ContainsFunc(f.Evidence, func(e Evidence) bool { return e.Foreign })
}

// Delivered says that something delivered the file, and that it is as it was delivered.
func (f *File) Delivered() bool {
	return f != nil && slices.ContainsFunc(f.Evidence, func(e Evidence) bool { return e.State == Unchanged }) &&
		!slices.ContainsFunc(f.Evidence, func(e Evidence) bool { return e.State == Changed })
}

// Official says that the system's maker delivered the file, and that it is as it was delivered.
func (f *File) Official() bool {
	return f.Delivered() && slices.ContainsFunc(f.Evidence, func(e Evidence) bool { return e.Official })
}

// Altered says that the file is not as it was delivered or signed.
func (f *File) Altered() bool {
	return f != nil && slices.ContainsFunc(f.Evidence, func(e Evidence) bool {
		return e.State == Changed || slices.Contains(e.Problems, autostart.SignatureInvalid)
	})
}

// Problems are the words for what is wrong with the file, each once.
func (f *File) Problems() []string {
	if f == nil {
		return nil
	}
	var all []string
	for _, e := range f.Evidence {
		for _, p := range e.Problems {
			if !slices.Contains(all, p) {
				all = append(all, p)
			}
		}
	}
	return all
}

// sharedOut does a piece of work for each file, on all processors: the large ones first, so that
// none of them is left to one processor at the end.
func sharedOut(files []*File, do func(f *File)) {
	order := slices.Clone(files)
	slices.SortStableFunc(order, func(a, b *File) int { return cmp.Compare(b.Size, a.Size) })
	parallel.Each(len(order), func(k int) {
		f := order[k]
		do(f)
		if f.looked != nil && !f.counted {
			f.counted = true
			f.looked.Add(1)
		}
	})
}

func hasPackages(m *machine.Reader) bool {
	if m.OS != "linux" {
		return false
	}
	for _, name := range slices.Concat([]string{dpkgStatus, pacmanFolder + "/ALPM_DB_VERSION"}, rpmDatabases,
		apkInstalled) {
		if _, err := m.Stat(name); err == nil {
			return true
		}
	}
	return false
}

// Merge adds what a location knows of a program to what is known about it otherwise, which counts
// more.
func Merge(known, claim *autostart.Known) *autostart.Known {
	if known == nil {
		return claim
	}
	if known.Maker.Name != "" || claim.Maker.Name == "" {
		return known
	}
	both := *known
	both.Maker = claim.Maker
	return &both
}
