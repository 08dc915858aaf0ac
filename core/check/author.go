package check

import (
	"cmp"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine/artifact"
)

// Author is an entry that may have put another one back, or a policy that sets it, and why it is named.
type Author struct {
	Entry  *autostart.Entry // nil: a policy
	Policy string           // the file in which it is set
	Why    string
	// Sure says that it was seen: it was started just before, or what it runs names the other one.
	Sure bool
}

// maxAuthors is how many are named for one entry.
const maxAuthors = 3

// maxSought is for how many entries it is looked who made them: those that came back are the first.
const maxSought = 100

// findAuthors looks who put entries back, or added them.
func (f *finder) findAuthors(all []Finding) {
	var sought []*Finding
	for k := range all {
		g := &all[k]
		if g.Kind != PutBack && g.Kind != Added && g.Kind != TurnedOn || !g.Wants {
			continue
		}
		g.At = f.written(f.items[g.Entry.Handle])
		if len(sought) < maxSought {
			sought = append(sought, g)
		}
	}
	if len(sought) == 0 {
		return
	}
	f.starts = f.readStarts()
	f.candidates = f.mayHaveDone()
	shared := sharedFiles(f.Items)
	var signs []signs
	for _, g := range sought {
		s := signsOf(g.Entry, shared[g.Entry.Source.Path])
		signs = append(signs, s)
		f.sought = append(f.sought, s.names...)
	}
	policies := f.readPolicies()
	for k, g := range sought {
		g.By, g.Looked = f.authors(g, signs[k]), true
		for _, p := range policies {
			if p.sets(signs[k]) {
				sure := slices.DeleteFunc(g.By, func(by Author) bool { return !by.Sure })
				g.By = append([]Author{{Policy: p.file, Why: "a policy of the machine sets it, and does so again",
					Sure: true}}, sure...)
				break
			}
		}
	}
}

// sharedFiles are those in which several entries stand, each in a line of its own.
func sharedFiles(items []*location.Item) map[string]bool {
	first, shared := map[string]int{}, map[string]bool{}
	for _, item := range items {
		path, line := item.Source.Path, item.Source.Line
		if of, known := first[path]; known && of != line { // not of several users the same
			shared[path] = true
		}
		first[path] = line
	}
	return shared
}

// candidate is an entry that may have put others back.
type candidate struct {
	*autostart.Entry
	kin  kin
	ran  []time.Time // when it was started, as far as the machine tells
	runs []*script   // its command, and the scripts that it runs
}

// mayHaveDone are the entries that may have put others back: what is enabled, and starts by itself.
func (f *finder) mayHaveDone() (all []candidate) {
	for _, item := range f.Items {
		if e := &item.Entry; e.State == autostart.Enabled && !e.OSPart && e.Stage != autostart.Attach {
			all = append(all, candidate{e, kinOf(e), f.starts.times(e, f.Machine), f.runs(e)})
		}
	}
	return all
}

// written is when the newest of the artifacts that decide an entry was written.
func (f *finder) written(item *location.Item) time.Time {
	var last time.Time
	if item == nil || item.Artifacts == nil {
		return last
	}
	for _, a := range item.Artifacts() {
		if a.Kind == artifact.ValueArtifact {
			a, _ = a.Parent() // a value has no time of its own
		}
		image, err := f.Machine.Image(a)
		if err != nil || image.Kind == artifact.Folder || image.Kind == artifact.Absent {
			continue
		}
		if image.ModTime.After(last) {
			last = image.ModTime
		}
	}
	return last
}

// How sure it is that an entry did it.
const (
	ranAndNames = iota // it was started just before, and what it runs names the other one
	ranOrNames         // one of the two; what was only started has something in common with it, too
	hints              // it has something in common, and something of the other one in it
	isAkin             // it has something in common, and updates or runs with the system
	ran                // it was started just before: at a start of the machine, everything was
)

// authors are the entries that may have written another one: the surest alone.
func (f *finder) authors(g *Finding, signs signs) []Author {
	type guess struct {
		Author
		rank int
	}
	var all []guess
	its, read := kinOf(g.Entry), map[*script]mention{}
	for _, c := range f.candidates {
		e := c.Entry
		if e.Handle == g.Entry.Handle || g.Instead != nil && e.Handle == g.Instead.Handle {
			continue
		}
		add := func(rank int, why string) {
			all = append(all, guess{Author{Entry: e, Why: why, Sure: rank <= ranOrNames}, rank})
		}
		before, started := c.ranBefore(g.At)
		when := "it was started " + seconds(before) + " before that"
		common := c.kin.common(its)
		says := signs.in(c.runs, read)
		switch {
		case says.named && started:
			add(ranAndNames, when+", and what it runs names it")
		case says.named:
			add(ranOrNames, "what it runs names it")
		case common != "" && started:
			add(ranOrNames, when+", and is of the same "+common)
		case common != "" && says.folder:
			add(hints, "what it runs names its folder, and it is of the same "+common)
		case common != "" && f.holds(e.Target.Path, signs):
			add(hints, "its program has the name in it, and is of the same "+common)
		case common != "" && updates(e):
			add(isAkin, "it is of the same "+common+", and runs "+whenOf(e))
		case started:
			add(ran, when)
		}
	}
	slices.SortStableFunc(all, func(a, b guess) int {
		return cmp.Or(cmp.Compare(a.rank, b.rank), autostart.Compare(a.Entry, b.Entry))
	})
	var authors []Author
	for _, one := range all {
		if one.rank == all[0].rank {
			authors = append(authors, one.Author)
		}
	}
	if len(authors) > maxAuthors && all[0].rank == ran {
		return nil // of so many, each is as likely as chance
	}
	return authors[:min(len(authors), maxAuthors)]
}

func seconds(d time.Duration) string { return d.Round(time.Second).String() }

// updates reports whether an entry is one that could put others of its product or maker back: an updater, or what runs
// by the clock or with the system.
func updates(e *autostart.Entry) bool {
	return e.Facts().Role == "updater" || e.Stage == autostart.Schedule || e.Stage == autostart.System
}

// kin is what an entry may have in common with others.
type kin struct{ product, maker, folder string }

func kinOf(e *autostart.Entry) kin {
	known := e.Facts()
	return kin{known.Product.Name, known.Maker.Name, folderOf(e.Target.Path)}
}

// common says what two entries have in common; empty if that is nothing.
func (k kin) common(other kin) string {
	switch {
	case k.product != "" && k.product == other.product:
		return "product"
	case k.maker != "" && k.maker == other.maker:
		return "maker"
	case k.folder != "" && k.folder == other.folder:
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
	if sharedFolders().MatchString(dir) && !strings.HasPrefix(dir, "/opt/") {
		return ""
	}
	return dir
}

// sharedFolders are those in which programs of many makers lie, in small letters.
var sharedFolders = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`/s?bin$|^/etc(/|$)|^/usr/lib(exec)?$|^/usr/lib/systemd(/|$)|^/system/|^/library/(launch(agents|daemons)|privilegedhelpertools)$|^[a-z]:\\windows(\\|$)|^[a-z]:\\(program files( \(x86\))?|programdata)?$`)
})

// whenOf says when an entry runs.
func whenOf(e *autostart.Entry) string { return cmp.Or(e.When, e.Stage.When(), "by itself") }
