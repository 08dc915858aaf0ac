package identify

import (
	"cmp"
	"strings"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/location"
	"lockback/core/program"
)

// installed adds what the catalogue knows about a program that somebody installed. A verdict, a role and a protection
// count only where the signer and the file fit, or the package does: whatever else has such a name is named for what it
// looks like, with what is missing for a proof.
func installed(book *program.Book, item *location.Item, known *catalogue.Catalogue, s catalogue.Subject) {
	row, fit := known.FindProgram(asProgram(book, item, s))
	if row == nil {
		return
	}
	basis := basisOf(row)
	p := row.Program
	switch fit {
	case catalogue.Proven:
		item.Known = withCatalogue(item.Known, row)
		if item.Known.Product.Name == "" {
			item.Known.Product.Name = p.Product
		}
		if why := catalogue.Protections[row.Protect]; why != "" {
			item.Guarded, item.GuardBasis = why, basis
		}
		if item.Guarded == "" {
			item.Caution, item.CautionBasis = catalogue.Cautions[row.Caution], basis
		}
		item.AddFacts(func() []location.Fact { return factsOf(row, basis) })
		return
	case catalogue.Impostors:
		item.Problems = appendNew(item.Problems, autostart.Impostor)
	}
	if fit != catalogue.SameMaker || item.Entry.Facts().Description == "" {
		var k autostart.Known
		if item.Known != nil {
			k = *item.Known
		}
		k.Description, k.DescriptionBasis = "Looks like "+cmp.Or(p.Product, row.ID)+", unproven.", autostart.ByCatalogue
		item.Known = &k
	}
	why := unproven(book, item, fit, p)
	item.AddFacts(func() []location.Fact {
		return []location.Fact{{Kind: autostart.FactLooksLike, Value: cmp.Or(p.Product, row.ID) + ": " +
			strings.TrimSuffix(row.Does, "."), Basis: basis}, {Kind: autostart.FactUnproven, Value: why, Basis: basis}}
	})
}

// basisOf names an entry of the built-in catalogue, with how its facts are known.
func basisOf(row *catalogue.Entry) string {
	basis := "catalogue, entry " + row.ID
	if how := row.Program.Basis.String(); how != "" {
		basis += " (" + how + ")"
	}
	return basis
}

// asProgram adds to what a catalogue is asked about an entry what programs are found and proved by.
func asProgram(book *program.Book, item *location.Item, s catalogue.Subject) catalogue.Subject {
	s.Maker, s.Own = signerOf(item), ownNames(item)
	s.Delivered = book.HasPackages && deliveredWhole(book, item)
	return s
}

// factsOf are what the catalogue knows of a program beside what it does.
func factsOf(row *catalogue.Entry, basis string) []location.Fact {
	var facts []location.Fact
	add := func(kind autostart.FactKind, value string) {
		if value != "" {
			facts = append(facts, location.Fact{Kind: kind, Value: value, Basis: basis})
		}
	}
	p := row.Program
	if p == nil {
		p = &catalogue.Program{}
	}
	add(autostart.FactWithoutIt, strings.TrimSpace(row.Without+" "+catalogue.Noticings[p.Noticed]))
	add(autostart.FactOwnSetting, row.Setting)
	add(autostart.FactReturns, catalogue.Returnings[p.Returns])
	if p.Security {
		add(autostart.FactUpdates, "security fixes come through it: without it, update by hand")
	}
	if p.Delay {
		add(autostart.FactMayWait, "yes, nothing waits for it")
	}
	add(autostart.FactBusiness, p.Business)
	return facts
}

// signerOf is who signed all that an entry starts, the least trusted of its programs included; empty where that is not
// proved.
func signerOf(item *location.Item) string {
	if maker := item.Maker(); maker.Basis == autostart.BySignature && !item.Unsure && item.Behind == "" {
		return maker.Name
	}
	return ""
}

// deliveredWhole says that packages delivered all that an entry starts; of one that starts no program, what it is
// read from.
func deliveredWhole(book *program.Book, item *location.Item) bool {
	if item.Unsure || item.Behind != "" {
		return false
	}
	found := false
	for t := range programsOf(item) {
		if t.Path == "" {
			continue
		}
		if found = true; !book.File(t.Path).Delivered() {
			return false
		}
	}
	return found || book.File(item.Source.Path).Delivered()
}

// unproven says what is missing for a proof that an entry is the program that it looks like.
func unproven(book *program.Book, item *location.Item, fit catalogue.Fit, p *catalogue.Program) string {
	file := book.File(item.Target.Path)
	real := ""
	if len(p.Signs) > 0 {
		real = "; " + p.Signs[0].Name + " signs the real one"
	}
	switch exists := item.Target.Exists; {
	case fit == catalogue.OthersFile || fit == catalogue.Impostors:
		return "somebody else signed it: " + item.Maker().Name + real
	case fit == catalogue.SameMaker:
		return "it is another program of the same maker"
	case item.Unsure || item.Behind != "":
		return "what it starts besides is not known"
	case exists != nil && !*exists:
		return "the program is missing, so nothing can be checked"
	case exists == nil || file == nil:
		return "the program cannot be reached here, so its signature cannot be checked"
	case file.Altered():
		return "the program was changed after it was signed or delivered"
	case fit == catalogue.NamedLike:
		return "it has only the name: the program that it starts is " + lastElement(item.Target.Path)
	case len(p.Packages) > 0 && len(p.Signs) == 0:
		return "no package on this computer delivered its program as it is now"
	case item.Maker().Basis == autostart.ByUnanchored:
		return "its signature names " + item.Maker().Name + ", but this computer knows nobody who vouches for that name"
	}
	return "its program is not signed" + real
}

// ownNames are the names that an entry has wherever it lies: of a value, a service, a task, a job, a unit.
func ownNames(item *location.Item) []string {
	e := &item.Entry
	var names []string
	for _, name := range []string{lastElement(e.Source.Path), lastElement(e.Source.Key), e.Name, lastElement(e.Name)} {
		if name != "" {
			names = appendNew(names, name)
		}
	}
	for _, suffix := range nameSuffixes {
		if len(names) == 0 {
			break
		}
		if name, ok := strings.CutSuffix(names[0], suffix); ok {
			names = appendNew(names, name)
		}
	}
	if item.Kind() == location.Task {
		if _, path, ok := cutAnywhere(e.Source.Path, `\System32\Tasks`); ok {
			names = appendNew(names, path)
		}
	}
	return names
}

// nameSuffixes are the endings of files that entries are read from, which are no part of a name.
var nameSuffixes = []string{".service", ".socket", ".timer", ".path", ".desktop", ".plist", ".lnk", ".json"}
