package check

import (
	"cmp"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/cost"
	"lockback/core/format/journal"
	"lockback/core/location"
	"lockback/core/machine"
)

// Author is an entry that may have put another one back, and why it is named.
type Author struct {
	Entry *autostart.Entry
	Why   string
	// Sure says that it was seen: it was started just before, or what it runs names the other one.
	Sure bool
}

// start is when a unit was started, as the log of a Linux machine has it.
type start struct {
	unit string
	at   time.Time
}

// How long before something was written a program must have been started to have written it, and how much the clocks
// of the two records may differ.
const (
	longestWork = 3 * time.Minute
	clockSlack  = 2 * time.Second
)

// maxAuthors is how many are named for one entry.
const maxAuthors = 3

// maxScript is how much of a program is looked through for names, in bytes: a script is never longer.
const maxScript = 256 << 10

// findAuthors looks who put entries back, or added them.
func (f *finder) findAuthors(all []Finding) {
	scripts := map[string]string{}
	read := false
	for k := range all {
		g := &all[k]
		if g.Kind != PutBack && g.Kind != Added && g.Kind != TurnedOn || !g.Wants {
			continue
		}
		g.At, g.Looked = f.written(f.items[g.Entry.Handle]), true
		if !read && f.Machine.OS == "linux" {
			read = true
			f.readStarts()
		}
		g.By = f.authors(g, scripts)
	}
}

// written is when the newest of the artifacts that decide an entry was written.
func (f *finder) written(item *location.Item) time.Time {
	var last time.Time
	if item == nil || item.Artifacts == nil {
		return last
	}
	for _, a := range item.Artifacts() {
		if a.Kind == machine.ValueArtifact {
			a, _ = a.Parent() // a value has no time of its own
		}
		image, err := f.Machine.Image(a)
		if err != nil || image.Kind == machine.Folder || image.Kind == machine.Absent {
			continue
		}
		if image.ModTime.After(last) {
			last = image.ModTime
		}
	}
	return last
}

// readStarts reads which units the log says were started.
func (f *finder) readStarts() {
	cost.ReadJournal(f.Machine.Reader(nil), []string{journal.UnitStarting, journal.UnitStarted}, []string{"UNIT", "USER_UNIT"}, func(e journal.Entry) {
		if unit := cmp.Or(e.Fields["UNIT"], e.Fields["USER_UNIT"]); unit != "" {
			f.started = append(f.started, start{unit, e.Time})
		}
	})
}

// authors are the entries that may have written another one, the surest first.
func (f *finder) authors(g *Finding, scripts map[string]string) []Author {
	type guess struct {
		Author
		rank int
	}
	var all []guess
	names := namesIn(g.Entry)
	for _, item := range f.Items {
		e := &item.Entry
		if e.Handle == g.Entry.Handle || e.State != autostart.Enabled || e.OSPart || e.Stage == autostart.Attach {
			continue
		}
		if g.Instead != nil && e.Handle == g.Instead.Handle {
			continue
		}
		before, ran := f.ranBefore(e, g.At)
		started := "it was started " + seconds(before) + " before that"
		named := mentions(e.Command, names) || mentions(f.script(e.Target.Path, scripts), names)
		switch {
		case named && ran:
			all = append(all, guess{Author{e, started + ", and what it runs names it", true}, 0})
		case named:
			all = append(all, guess{Author{e, "what it runs names it", true}, 1})
		case f.updates(e, g.Entry) && ran:
			all = append(all, guess{Author{e, started + ", and is of the same " + akin(e, g.Entry), true}, 1})
		case f.updates(e, g.Entry):
			all = append(all, guess{Author{e, "it is of the same " + akin(e, g.Entry) + ", and runs " + when(e), false}, 2})
		case ran:
			all = append(all, guess{Author{e, started, false}, 3}) // at a start of the machine, everything was
		}
	}
	slices.SortStableFunc(all, func(a, b guess) int {
		return cmp.Or(cmp.Compare(a.rank, b.rank), autostart.Compare(a.Entry, b.Entry))
	})
	var authors []Author
	for _, one := range all {
		if one.rank > all[0].rank {
			break // the surest alone
		}
		authors = append(authors, one.Author)
	}
	if len(authors) > maxAuthors {
		if all[0].rank == 3 {
			return nil // of so many, each is as likely as chance
		}
		authors = authors[:maxAuthors]
	}
	return authors
}

// ranBefore reports whether the log says that an entry was started shortly before a moment.
func (f *finder) ranBefore(e *autostart.Entry, at time.Time) (before time.Duration, ok bool) {
	if at.IsZero() || !strings.HasPrefix(e.Location, "linux.systemd.") {
		return 0, false
	}
	unit := e.SystemName
	if ending := path.Ext(unit); ending == ".timer" || ending == ".path" || ending == ".socket" {
		unit = strings.TrimSuffix(unit, ending) + ".service"
	}
	for _, s := range f.started {
		if d := at.Sub(s.at); s.unit == unit && d > -clockSlack && d < longestWork {
			return max(d, 0), true
		}
	}
	return 0, false
}

func seconds(d time.Duration) string { return d.Round(time.Second).String() }

// namesIn are what a script would call an entry that it makes: its file, its place, or the value.
func namesIn(e *autostart.Entry) []string {
	var names []string
	for _, name := range []string{e.Source.Path[strings.LastIndexAny(e.Source.Path, `/\`)+1:], e.SystemName, e.Source.Key} {
		if len(name) >= 5 && strings.ContainsAny(name, ".-_ ") { // a plain word says nothing
			names = append(names, strings.ToLower(name))
		}
	}
	return names
}

// mentions reports whether a text has one of the names.
func mentions(text string, names []string) bool {
	text = strings.ToLower(text)
	return slices.ContainsFunc(names, func(name string) bool { return strings.Contains(text, name) })
}

// script is the text of a program that is one; each is read once.
func (f *finder) script(name string, known map[string]string) string {
	if name == "" {
		return ""
	}
	text, ok := known[name]
	if !ok {
		if b, err := f.Machine.ReadFile(name, maxScript); err == nil && !slices.Contains(b[:min(len(b), 4096)], 0) {
			text = string(b)
		}
		known[name] = text
	}
	return text
}

// updates reports whether an entry is one that could put another of its product or maker back: an updater, or what runs
// by the clock or with the system.
func (f *finder) updates(e, other *autostart.Entry) bool {
	if akin(e, other) == "" {
		return false
	}
	return e.Facts().Role == "updater" || e.Stage == autostart.Schedule || e.Stage == autostart.System
}

// akin says what two entries have in common; empty where that is nothing.
func akin(a, b *autostart.Entry) string {
	one, other := a.Facts(), b.Facts()
	switch {
	case one.Product.Name != "" && one.Product.Name == other.Product.Name:
		return "product"
	case one.Maker.Name != "" && one.Maker.Name == other.Maker.Name:
		return "maker"
	case folderOf(a.Target.Path) != "" && folderOf(a.Target.Path) == folderOf(b.Target.Path):
		return "folder"
	}
	return ""
}

// folderOf is the folder of a program that has one of its own: not one that many programs lie in.
func folderOf(program string) string {
	k := strings.LastIndexAny(program, `/\`)
	if k <= 0 {
		return ""
	}
	dir := strings.ToLower(program[:k])
	if sharedFolders.MatchString(dir) && !strings.HasPrefix(dir, "/opt/") {
		return ""
	}
	return dir
}

// sharedFolders are those in which programs of many makers lie, in small letters.
var sharedFolders = regexp.MustCompile(`/s?bin$|^/etc(/|$)|^/usr/lib(exec)?$|^/usr/lib/systemd(/|$)|^/system/|^/library/(launch(agents|daemons)|privilegedhelpertools)$|^[a-z]:\\windows(\\|$)|^[a-z]:\\(program files( \(x86\))?|programdata)?$`)

// when says when an entry runs.
func when(e *autostart.Entry) string { return cmp.Or(e.When, e.Stage.When(), "by itself") }
