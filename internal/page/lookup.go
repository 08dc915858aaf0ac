package page

import (
	"crypto/sha256"
	"fmt"
	"io"
	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/note"
	"lockback/core/store"
	"lockback/core/work"
	"lockback/internal/view"
	"slices"
	"strings"
	"time"
)

// Sighting is a program on another machine, for scripts.
type Sighting struct {
	Machine  string `json:"machine"`
	Name     string `json:"name"`
	Enabled  int    `json:"enabled"`
	Disabled int    `json:"disabled"`
	Time     string `json:"time"`
}

// Spread is where a program was seen.
type Spread struct {
	Machines int        `json:"machines"`
	Kept     int        `json:"kept"`
	Off      int        `json:"off"`
	Seen     []Sighting `json:"seen"`
}

// LookedUp is what sources beyond the machine know about one program.
type LookedUp struct {
	Entry     autostart.Entry `json:"entry"`
	KnownBy   string          `json:"known_by"`
	Others    Spread          `json:"other_machines"`
	Signature []Fact          `json:"signature"`
	Hash      string          `json:"sha256"`
	noHash    string          // why there is none
	Search    string          `json:"search"`
	Facts     []Fact          `json:"facts"`
}

// ofSignature are the facts of who made a file, and ofCatalogue those of a catalogue.
var (
	ofSignature = []autostart.FactKind{autostart.FactMadeBy, autostart.FactUnchanged, autostart.FactSignature,
		autostart.FactSignedBy,
		autostart.FactSignedAs, autostart.FactSignedAt}
	ofCatalogue = []autostart.FactKind{autostart.FactWithoutIt, autostart.FactOwnSetting, autostart.FactKnownFrom,
		autostart.FactLooksLike, autostart.FactUnproven, autostart.FactReturns, autostart.FactUpdates,
		autostart.FactMayWait, autostart.FactBusiness}
)

// maxHashed is how large a program may be to be hashed, in bytes.
const maxHashed = 4 << 30

// hashOf is the SHA-256 of a program, or the reason why it has no hash.
func hashOf(m *machine.Machine, t autostart.Target) (sum, why string) {
	if t.Path == "" || t.Exists == nil || !*t.Exists {
		return "", "the program is not there"
	}
	f, size, err := m.OpenFile(t.Path)
	if err != nil {
		return "", machine.Reason(err)
	}
	defer f.Close()
	if size > maxHashed {
		return "", fmt.Sprintf("the program has more than %d GB", maxHashed>>30)
	}
	h := sha256.New()
	if _, err := io.Copy(h, io.LimitReader(f, size)); err != nil {
		return "", machine.Reason(err)
	}
	return fmt.Sprintf("%x", h.Sum(nil)), ""
}

// LookUp gathers what other sources know about an entry's program.
func (w Writer) LookUp(s *work.Session, item *location.Item, withHash bool) (LookedUp, error) {
	m := s.Machine
	l := LookedUp{Entry: item.Entry, Signature: []Fact{}, Facts: []Fact{}}
	if p, ok := note.ProgramOf(m.OS, &item.Entry); ok {
		l.KnownBy = p.String()
		if s.Record != nil {
			seen, err := s.Record.Seen(p.Key(), m.ID)
			if err != nil {
				return l, work.Advise(err)
			}
			l.Others = spreadOf(seen)
		}
	}
	l.Others.Seen = list(l.Others.Seen)
	if item.Facts != nil {
		for _, f := range item.Facts() {
			fact := factOf(f)
			switch {
			case fact.Value == "":
			case slices.Contains(ofSignature, f.Kind):
				l.Signature = append(l.Signature, fact)
			case slices.Contains(ofCatalogue, f.Kind):
				l.Facts = append(l.Facts, fact)
			}
		}
	}
	l.Hash, l.noHash = hashOf(m, item.Target)
	var more []string
	if withHash && l.Hash != "" {
		more = []string{l.Hash}
	}
	l.Search = w.address(&item.Entry, m, more...)
	return l, nil
}

func spreadOf(seen []store.Sighting) Spread {
	s := Spread{Machines: len(seen)}
	for _, g := range seen {
		if g.On > 0 {
			s.Kept++
		} else {
			s.Off++
		}
		s.Seen = append(s.Seen, Sighting{g.Machine.ID, autostart.Text(g.Machine.Name), g.On, g.Off,
			g.Time.UTC().Format(time.RFC3339)})
	}
	return s
}

// spreadWords say where a program was seen.
func SpreadWords(machines, kept, off int, last time.Time) string {
	if machines == 0 {
		return "not on any other machine in the record"
	}
	return fmt.Sprintf("on %s: kept on %d, off on %d; last seen on %s", autostart.Count(machines, "other machine",
		"other machines"), kept, off, last.Local().Format(time.DateOnly))
}

// maxSeen is how many other machines are named.
const maxSeen = 8

// rows are what was looked up, in the words of a screen.
func (l LookedUp) rows(configured bool) []row {
	var rows []row
	add := func(name, value, basis string) {
		again := slices.ContainsFunc(rows, func(r row) bool { return r.name == name && r.value == value })
		if value != "" && !again {
			rows = append(rows, row{name: name, value: value, basis: basis})
		}
	}
	known := l.Entry.Facts()
	for _, n := range l.Entry.Notes {
		what, who := view.NoteWords(n)
		add("note", what, who)
	}
	if len(l.Entry.Notes) == 0 {
		add("note", "none", "")
	}
	add("what it is", known.Description, known.DescriptionBasis)
	for _, f := range l.Facts {
		add(f.Name, f.Value, f.Basis)
	}
	add("verdict", known.VerdictWord(), known.VerdictBasis)
	add("role", known.Role, known.RoleBasis)
	maker, basis := known.Maker.Name, known.Maker.Basis
	if maker == "" {
		maker = "not known"
	}
	add("maker", maker, basis)
	add("product", strings.TrimSpace(known.Product.Name+" "+known.Product.Version), "")
	add("found again by", l.KnownBy, "")
	last := time.Time{}
	if len(l.Others.Seen) > 0 {
		last, _ = time.Parse(time.RFC3339, l.Others.Seen[0].Time)
	}
	add("other machines", SpreadWords(l.Others.Machines, l.Others.Kept, l.Others.Off, last), "")
	for k, s := range l.Others.Seen {
		if k == maxSeen {
			add("", fmt.Sprintf("and %d more (--format json names all)", len(l.Others.Seen)-maxSeen), "")
			break
		}
		state := "kept"
		if s.Enabled == 0 {
			state = "off"
		}
		at, _ := time.Parse(time.RFC3339, s.Time)
		add("", fmt.Sprintf("%s: %s", s.Name, state), autostart.Minute(at))
	}
	for _, f := range l.Signature {
		add(f.Name, f.Value, f.Basis)
	}
	path, _ := ProgramWords(&l.Entry)
	add("program", path, "")
	if l.Hash != "" {
		add("SHA-256", l.Hash, "")
	} else {
		add("SHA-256", "none: "+l.noHash, "")
	}
	switch {
	case l.Search != "":
		add("look it up at", l.Search, "nothing was sent; --open opens it")
	case configured:
		add("look it up at", "only names and paths of this machine are known, and those are not sent", "")
	default:
		add("look it up at", "no address is set: put search: https://...{}... into the configuration, or set "+
			"LOCKBACK_SEARCH", "")
	}
	return rows
}

// LookupDocument is what is known about programs beyond a machine, in JSON.
type LookupDocument struct {
	Machine  Machine    `json:"machine"`
	Programs []LookedUp `json:"programs"`
}

// Lookups tells what is known about programs beyond a machine.
func (w Writer) Lookups(m *machine.Machine, list []LookedUp) error {
	switch w.Format {
	case "json":
		return w.JSON(LookupDocument{MachineOf(m), list})
	case "csv":
		var sheet [][]string
		for _, l := range list {
			for _, r := range l.rows(w.Search != "") {
				sheet = append(sheet, []string{l.Entry.Handle, r.name, r.value, r.basis})
			}
		}
		return w.CSV([]string{"handle", "fact", "value", "basis"}, sheet)
	}
	for k, l := range list {
		if k > 0 {
			w.Line("")
		}
		w.Bold(l.Entry.Name + "  " + l.Entry.Handle)
		w.rows(l.rows(w.Search != ""))
	}
	return nil
}

// Lookup tells what is known about a program beyond a machine.
func (w Writer) Lookup(l LookedUp) { w.rows(l.rows(w.Search != "")) }
