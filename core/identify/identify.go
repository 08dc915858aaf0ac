// Package identify tells what an entry really starts, whether the program is
// still there, and whether the entry is a part of the operating system that a
// mistake with would hurt.
//
// It guesses nothing: where a command could only be understood by running a
// shell, the target stays unknown.
//
//	identify.Annotate(m, nil, items)
package identify

import (
	"path"
	"runtime"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/parallel"
	"lockback/core/program"
)

// Prepare begins what [Annotate] needs of an operating system's catalogue, so that it is decoded while
// the disk is waited for.
func Prepare(system string) { go catalogue.Of(system) }

// Annotate fills in what is known about the items' programs: target, maker, product, problems, os_part,
// guarded. What was found of a program before is taken from the memory, which may be nil. The catalogues are the
// technician's own, the first that knows an entry counts.
func Annotate(m *machine.Reader, memory *program.Memory, items []*location.Item, own ...*catalogue.Catalogue) {
	// Most of it is looking whether programs are there, so the entries are
	// shared out; each worker remembers the programs that it has looked up.
	workers := runtime.GOMAXPROCS(0)
	mac := &macFinder{machine: m}
	part := func(k int) []*location.Item { return items[k*len(items)/workers : (k+1)*len(items)/workers] }
	parallel.Each(workers, func(k int) { findTargets(m, mac, part(k)) })
	book := program.Open(m, memory)
	var decided map[*location.Item][]string
	if book.HasPackages {
		decided = decidingAll(m, items)
	}
	book.Look(namesOf(items, book.HasPackages, decided))
	parallel.Each(workers, func(k int) {
		for _, item := range part(k) {
			tell(m, item, book)
			consult(book, item, own, judge(m, book, item, decided[item]))
		}
	})
	lookForTrouble(m, book, items)
}

// namesOf are the files that the items start, and those that decide what of the system's may be
// a part of it.
func namesOf(items []*location.Item, packages bool, decided map[*location.Item][]string) []string {
	var names []string
	for _, item := range items {
		for t := range programsOf(item) {
			if t.Exists != nil && *t.Exists {
				names = append(names, t.Path)
			}
		}
		if item.CopyOf != "" {
			names = append(names, item.CopyOf)
		}
		if packages && item.Scope == autostart.ForSystem {
			names = append(append(names, item.Source.Path), decided[item]...)
		}
	}
	return names
}

// decidingAll are the files that decide each entry of the system's.
func decidingAll(m *machine.Reader, items []*location.Item) map[*location.Item][]string {
	files := make([][]string, len(items))
	parallel.Each(len(items), func(k int) {
		if items[k].Scope == autostart.ForSystem {
			files[k] = deciding(m, items[k])
		}
	})
	all := make(map[*location.Item][]string, len(items))
	for k, item := range items {
		if len(files[k]) > 0 {
			all[item] = files[k]
		}
	}
	return all
}

// deciding are the regular files outside of homes, beside its source, that decide an item now.
func deciding(m *machine.Reader, item *location.Item) []string {
	var files []string
	for _, a := range item.Artifacts() {
		if a.Kind != artifact.FileArtifact || a.Name == item.Source.Path || inHome(m, a.Name) {
			continue
		}
		if info, err := m.Lstat(a.Name); err == nil && info.Mode().IsRegular() {
			files = append(files, a.Name)
		}
	}
	return files
}

func inHome(m *machine.Reader, file string) bool {
	return slices.ContainsFunc(m.Users, func(u account.User) bool {
		return strings.HasPrefix(file, u.Home+"/") &&
			u.Home != "/" && u.Home != ""
	})
}

// tell gives an item what is known about its programs, behind what its location knows of it. Of several programs the
// one that is least trusted decides.
func tell(m *machine.Reader, item *location.Item, book *program.Book) {
	least, trust := leastTrusted(m, book, item)
	source := book.File(item.Source.Path)
	item.Behind = behind(m, book, item, least, trust)
	if least != nil && (least.Via || least.Key == "" && book.File(item.Target.Path).Vouched() != "") {
		item.Target = least.Program // what only prepares, mkdir for example, is not what the entry is about
	}
	item.Commands = commandsOf(m, book, item)
	file := book.File(item.Target.Path)
	if least != nil {
		file = book.File(least.Program.Path)
	}
	known := file.Known()
	if source.Foreign() && source.Delivered() && file.Vouched() != "" {
		file, known = source, source.Known() // the system's program, and somebody else has it started
	}
	if item.Unsure {
		switch { // whoever delivered the whole line answers for what it expands to; else nobody knows what runs
		case !source.Delivered() || trust <= nothingKnown:
			known = nil
		case known == nil:
			known = source.Known()
		}
	}
	if claim := item.Known; claim != nil {
		known = program.Merge(known, claim)
	}
	item.Known = known
	for t := range programsOf(item) {
		for _, problem := range book.File(t.Path).Problems() {
			item.Problems = appendNew(item.Problems, problem)
		}
	}
	if file != nil && len(file.Evidence) > 0 {
		item.AddFacts(func() []location.Fact { return evidenceFacts(file) })
	}
}

// behind is what an item runs beside a program of the system's, though nobody knows who made it; empty if it is nothing
// such.
func behind(m *machine.Reader, book *program.Book, item *location.Item, least *location.Started, trusted trust) string {
	stranger := least != nil && trusted <= nothingKnown
	if !stranger && (!item.Unsure || book.File(item.Source.Path).Delivered()) {
		return ""
	}
	in, ok := trustIn(m, book, item.Target)
	if !ok || item.Target.Path == "" || in != placed && in != vouched && !book.File(item.Target.Path).Official() {
		return ""
	}
	if !stranger {
		return "more than lockback can tell"
	}
	return least.Program.Path
}

// evidenceFacts are the pieces of evidence on a file, for a person to read.
func evidenceFacts(file *program.File) []location.Fact {
	var facts []location.Fact
	add := func(kind autostart.FactKind, name, value, basis string) {
		if value != "" {
			facts = append(facts, location.Fact{Kind: kind, Name: name, Value: value, Basis: basis})
		}
	}
	add(autostart.OtherFact, "kind", file.Kind, "its first bytes")
	for _, e := range file.Evidence {
		product := e.Product
		if e.Version != "" {
			product = strings.TrimSpace(product + " " + e.Version)
		}
		add(autostart.FactProduct, "", product, e.Source)
		add(autostart.OtherFact, "installed", e.Installed, e.Source)
		add(autostart.FactMadeBy, "", e.Maker, e.Source)
		add(autostart.FactDescribedAs, "", e.Description, e.Source)
		switch e.State {
		case program.Unchanged:
			add(autostart.FactUnchanged, "", "yes, as it was delivered", e.Source)
		case program.Changed:
			add(autostart.FactUnchanged, "", "no, it is not as it was delivered", e.Source)
		}
		for _, n := range e.Notes {
			add(n.Kind, n.Name, n.Text, e.Source)
		}
	}
	return facts
}

func findTargets(m *machine.Reader, mac *macFinder, items []*location.Item) {
	programs := map[string]autostart.Target{}
	find := func(item *location.Item) {
		runAll(item, nil, func(word string, argv []string) autostart.Target {
			return target(m, programs, inHomeOf(m, item, word), argv)
		})
	}
	switch m.OS {
	case "windows":
		finder := newWindowsFinder(m)
		find = finder.findAll
	case "macos":
		find = mac.findAll
	}
	for _, item := range items {
		find(item)
		if item.Target.Exists != nil && !*item.Target.Exists {
			item.Problems = appendNew(item.Problems, autostart.TargetMissing)
		}
		item.Argv, item.Lines = nil, nil // nobody else asks, and of a large machine it is much
	}
}

// runAll looks up all programs that an item's commands start, and puts the first that does more than start others into
// Target.
func runAll(item *location.Item, open func([]string) ([]string, bool),
	look func(word string, argv []string) autostart.Target) {
	alone := len(item.Lines) == 0
	if alone && len(item.Argv) == 0 {
		return
	}
	own := startedBy(item.Argv, open)
	item.Unsure = own.unsure
	if alone && len(own.programs) == 1 && !(own.programs[0].via && own.unsure) {
		item.Target = look(own.programs[0].word, item.Argv)
		return
	}
	found := false
	add := func(key, line string, argv []string, s started) {
		for _, p := range s.programs {
			run := location.Started{Key: key, Line: line, Program: look(p.word, argv), Via: p.via}
			if key == "" && !p.via && !found {
				found, item.Target = true, run.Program
			}
			item.Starts = append(item.Starts, run)
		}
	}
	add("", item.Command, item.Argv, own)
	for _, l := range item.Lines {
		s := startedBy(l.Argv, open)
		item.Unsure = item.Unsure || s.unsure
		add(l.Key, l.Text, l.Argv, s)
	}
}

func appendNew(problems []string, problem string) []string {
	for _, p := range problems {
		if p == problem {
			return problems
		}
	}
	return append(problems, problem)
}

// maxKnown is how many programs are remembered: entries that start the same one mostly stand
// together.
const maxKnown = 4096

// homePath are the folders of programs in a home, which the profiles of Debian, Ubuntu, Fedora and their kin put before
// the system's: file-hierarchy(7) for the first.
var homePath = []string{".local/bin", "bin"}

// inHomeOf is a word as a path in the home of the user whose entry it is, where a program of that name is there.
func inHomeOf(m *machine.Reader, item *location.Item, word string) string {
	if item.User == "" || word == "" || strings.Contains(word, "/") {
		return word
	}
	u, ok := m.UserNamed(item.User)
	if !ok {
		return word
	}
	for _, dir := range homePath {
		file := path.Join(u.Home, dir, word)
		if info, err := m.Stat(file); err == nil && !info.IsDir() {
			return file
		}
	}
	return word
}

// target resolves a program that a command names and looks whether it is there.
func target(view *machine.Reader, known map[string]autostart.Target, word string, argv []string) autostart.Target {
	word = contained(view, word, argv)
	if t, ok := known[word]; ok {
		return t
	}
	var t autostart.Target
	file, info, err := location.FindProgram(view, word)
	t.Path = autostart.Text(file)
	switch {
	case err == nil:
		there := !info.IsDir()
		t.Exists = &there
		if there {
			t.Size, t.Modified = info.Size(), info.ModTime().UTC()
		}
	case files.IsMissing(err) && !view.Elsewhere(file):
		there := false
		t.Exists = &there
	}
	if len(known) >= maxKnown {
		clear(known)
	}
	known[word] = t
	return t
}

// contained looks into what Flatpak and snap start: of an app of Flatpak, the command that its
// metadata names, of a snap, the file that it is. Where it is not found, the word stays.
func contained(view location.View, word string, argv []string) string {
	base := path.Base(word)
	if base != "flatpak" && base != "snap" {
		return word
	}
	at := slices.IndexFunc(argv, func(a string) bool { return path.Base(a) == base })
	if at < 0 || at+1 >= len(argv) || argv[at+1] != "run" {
		return word
	}
	for _, name := range argv[at+2:] {
		if strings.HasPrefix(name, "-") {
			continue
		}
		if strings.Contains(name, "/") {
			return word
		}
		if base == "snap" {
			name, _, _ = strings.Cut(name, ".")
			if revision, err := view.Readlink("/snap/" + name + "/current"); err == nil &&
				!strings.Contains(revision, "/") {
				return "/var/lib/snapd/snaps/" + name + "_" + revision + ".snap"
			}
			return word
		}
		active := "/var/lib/flatpak/app/" + name + "/current/active/"
		metadata, err := view.ReadFile(active+"metadata", files.MaxFileSize)
		if err != nil {
			return word
		}
		for line := range strings.Lines(string(metadata)) {
			if command, ok := strings.CutPrefix(strings.TrimSpace(line), "command="); ok &&
				!strings.Contains(command, "/") && command != "" {
				return active + "files/bin/" + command
			}
		}
		return word
	}
	return word
}

// passing are commands that only test or prepare something.
var passing = map[string]bool{"test": true, "[": true, "cd": true, "true": true, ":": true, "sleep": true,
	"umask": true, "set": true, "ulimit": true, "exit": true,
	"trap": true, "unset": true, "return": true,
	// The other builtins that start no program, POSIX.1-2017 2.14 and bash(1): no file has their names.
	"alias": true, "bg": true, "bind": true, "break": true, "caller": true, "compgen": true,
	"complete": true, "compopt": true, "continue": true, "declare": true,
	"dirs": true, "disown": true, "enable": true, "export": true, "fc": true, "fg": true, "getopts": true, "hash": true,
	"help": true, "history": true, "jobs": true, "kill": true, "let": true,
	"local": true, "logout": true, "mapfile": true, "popd": true, "pushd": true, "pwd": true, "read": true,
	"readarray": true, "readonly": true, "shift": true, "shopt": true, "suspend": true,
	"times": true, "type": true, "typeset": true, "unalias": true, "wait": true}
