package identify

import (
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/mac"
	"lockback/core/program"
)

// costs says what a mistake with an entry would cost by the role that its place gives it.
var costs = map[location.Role]string{
	location.Driver:     "a driver: without it the machine may not start, or a device not work",
	location.Module:     "a driver: a device may not work without it",
	location.Device:     "the device that it drives stops working",
	location.Session:    "needed to start or to sign in",
	location.SignInStep: "no user may be able to sign in without it",
	location.Sound:      "needed for sound",
	location.Camera:     "needed for a camera",
	location.InputMode:  "needed to type",
}

// judge decides whether an entry is a part of the operating system, and whether it is guarded.
// No other code decides either.
//
// Where the machine has a database that tells what the system is made of, all that decides the
// entry, and its program, must be as the system's packages delivered it; the catalogue says what it
// is for, and of packages that are not the base of every desktop, whether they count as parts.
// Without one, name and place decide, and the basis says so. What the catalogue says about the cost
// is more exact than the role, and counts for what was delivered only: nothing protects an impostor.
//
// It returns what catalogues are asked about the entry.
func judge(m *machine.Reader, book *program.Book, item *location.Item, decided []string) catalogue.Subject {
	role, roleBasis := provenRole(item)
	item.OSPart = item.Shipped
	protect(item, costs[item.Role], byPlace)
	if book.File(item.Target.Path).Delivered() {
		// What an entry says about itself protects it only where somebody vouches for its program.
		protect(item, guardOf(role), roleBasis)
	}
	defer func() { item.Known = withRole(item.Known, role, roleBasis) }() // behind what the catalogue says
	subject := subjectOf(m, book, item)
	row := catalogue.Of(m.OS).Find(subject)
	ok := row != nil
	part := ok && row.Part
	trusted := true // with nothing to prove it by, its name protects it
	if book.HasPackages {
		proof := prove(book, item, decided, catalogue.Of(m.OS))
		needed := item.Kind() == location.InitService && needOf(item) != ""
		item.OSPart = proof.base || proof.delivered && proof.official && (part || needed || proof.nothing)
		if part && (!proof.owned || proof.foreign) {
			item.Problems = appendNew(item.Problems, autostart.Impostor)
		}
		if item.OSPart {
			item.OSBasis = autostart.ByPackage
		}
		ok = ok && proof.delivered && (proof.official || !part)
		trusted = proof.delivered && proof.official
	} else if m.OS == "macos" && item.ProgramDecides {
		item.OSPart = book.File(item.Target.Path).Vouched() != ""
	} else if part {
		item.OSPart = true
		if m.OS == "windows" {
			switch whose(book, item) {
			case others: // the name of one of the system's parts, and somebody else's program
				item.OSPart, ok = false, false
				item.Problems = appendNew(item.Problems, autostart.Impostor)
			case nobodys:
				item.OSPart, ok = false, false
			}
		}
	}
	if item.OSPart && item.Kind() == location.PeriodicScript && newerThanSystem(m, item.Source.Path) {
		item.OSPart = false
		item.Problems = appendNew(item.Problems, autostart.NotDefault)
	}
	if item.OSPart && item.OSBasis == "" {
		item.OSBasis = autostart.ByName
		if basis := book.File(item.Target.Path).Vouched(); basis != "" {
			item.OSBasis = basis
		} else if program.Sealed(m, item.Source.Path) {
			item.OSBasis = autostart.BySealedVolume
		}
	}
	if m.OS == "linux" && trusted {
		defer func() { protect(item, catalogue.Protections[needOf(item)], byService) }() // behind the catalogue
	}
	if row == nil {
		installed(book, item, catalogue.Of(m.OS), subject)
	}
	if !ok {
		return subject
	}
	if item.OSPart && row.Protect == "security" && turnedOff(m, item, row) {
		// what protects the machine and is off always shows
		item.Problems = appendNew(item.Problems, autostart.NotDefault)
	}
	basis := "catalogue, entry " + row.ID
	if why := catalogue.Protections[row.Protect]; why != "" {
		item.Guarded, item.GuardBasis = why, basis
	}
	if item.Guarded == "" {
		item.Caution, item.CautionBasis = catalogue.Cautions[row.Caution], basis
	}
	item.Known = withCatalogue(item.Known, row)
	item.AddFacts(func() []location.Fact { return factsOf(row, basis) })
	return subject
}

// newerThanSystem reports whether a file of macOS that no signature proves was written after its release was made, as
// the file with the release's name tells: then somebody else wrote it. Times that were set back are believed.
func newerThanSystem(m *machine.Reader, file string) bool {
	system, err := m.Stat(mac.VersionFile)
	if err != nil {
		return false
	}
	info, err := m.Stat(file)
	return err == nil && info.ModTime().After(system.ModTime().Add(24*time.Hour))
}

// turnedOff reports whether somebody turned an entry off that protects the machine. Of a unit that is merely not
// enabled, of tasks, and of what no Windows has to have on, that is not known: some systems are delivered so.
func turnedOff(m *machine.Reader, item *location.Item, row *catalogue.Entry) bool {
	switch {
	case item.State != autostart.Disabled:
		return false
	case m.OS == "linux":
		return strings.HasPrefix(item.Mode, "masked")
	case m.OS == "windows":
		return item.Kind() != location.Task && row.Verdict == "essential"
	}
	return true
}

// protect protects an entry, unless something protects it already.
func protect(item *location.Item, why, basis string) {
	if item.Guarded == "" && why != "" {
		item.Guarded, item.GuardBasis = why, basis
	}
}

// How far the programs of an item of a Windows machine are the system's.
type ownership int

const (
	systems ownership = iota
	nobodys           // nothing vouches for one of them, on a machine that vouches for its own
	others            // somebody else signed or changed one of them
)

func whose(book *program.Book, item *location.Item) ownership {
	all := systems
	for t := range programsOf(item) {
		file := book.File(t.Path)
		switch {
		case file.Foreign():
			return others
		case book.Vouches && file != nil && file.Kind != "" && file.Vouched() == "":
			all = nobodys
		}
	}
	return all
}

// withCatalogue adds what the catalogue says about a program to what is known about it. What it does,
// the catalogue says in a technician's words, so that comes first.
func withCatalogue(known *autostart.Known, row *catalogue.Entry) *autostart.Known {
	var k autostart.Known
	if known != nil {
		k = *known
	}
	k.Description, k.DescriptionBasis = row.Does, autostart.ByCatalogue
	k.Role, k.RoleBasis = row.Role, autostart.ByCatalogue
	k.Verdict, k.VerdictBasis = row.Verdict, autostart.ByCatalogue
	return &k
}

// proof is what the system's packages say about an entry.
type proof struct {
	owned     bool // a package delivered its source
	delivered bool // all of it is as a package delivered it
	base      bool // of packages that are the system's own
	official  bool // of packages that the system's maker makes, or that the catalogue names
	foreign   bool // one of them is another maker's
	nothing   bool // its source is a link to nothing, by which a package keeps a unit from starting
}

// prove asks for the entry's source, all other files that decide it, and its programs.
func prove(book *program.Book, item *location.Item, decided []string, known *catalogue.Catalogue) proof {
	source := book.File(item.Source.Path)
	switch {
	case item.ProgramDecides:
		source, decided = book.File(item.Target.Path), nil
	case item.CopyOf != "":
		source = book.File(item.CopyOf)
		return proof{owned: true, delivered: source.Delivered(), base: source.Vouched() != "",
			official: official(source, known)}
	case item.Scope != autostart.ForSystem:
		return proof{}
	}
	p := proof{owned: source != nil && len(source.Evidence) > 0, delivered: source.Delivered(),
		base: source.Vouched() != "", official: official(source, known), foreign: source.FromOthers(),
		nothing: source != nil && source.Nothing}
	files := slices.Clone(decided)
	for t := range programsOf(item) {
		if t.Exists != nil && *t.Exists {
			files = append(files, t.Path)
		}
	}
	for _, name := range files {
		file := book.File(name)
		p.delivered = p.delivered && file.Delivered()
		p.base = p.base && file.Vouched() != ""
		p.official = p.official && official(file, known)
		p.foreign = p.foreign || file.FromOthers()
	}
	return p
}

// official reports whether the system's maker made a file's package, or the catalogue names it as a part of the system.
func official(file *program.File, known *catalogue.Catalogue) bool {
	return file.Official() || slices.ContainsFunc(file.Packages(), known.PartPackage)
}
