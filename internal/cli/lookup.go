package cli

import (
	"crypto/sha256"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/note"
	"lockback/core/store"
	"lockback/internal/view"
)

// sightingJSON is a program on another machine, for scripts.
type sightingJSON struct {
	Machine  string `json:"machine"`
	Name     string `json:"name"`
	Enabled  int    `json:"enabled"`
	Disabled int    `json:"disabled"`
	Time     string `json:"time"`
}

// spreadJSON is where a program was seen.
type spreadJSON struct {
	Machines int            `json:"machines"`
	Kept     int            `json:"kept"`
	Off      int            `json:"off"`
	Seen     []sightingJSON `json:"seen"`
}

// lookedUp is what is known of one program from elsewhere than the machine.
type lookedUp struct {
	Entry     autostart.Entry `json:"entry"`
	KnownBy   string          `json:"known_by"`
	Others    spreadJSON      `json:"other_machines"`
	Signature []factJSON      `json:"signature"`
	Hash      string          `json:"sha256"`
	noHash    string          // why there is none
	Search    string          `json:"search"`
	Facts     []factJSON      `json:"facts"`
}

func (a *app) lookupCommand() *cobra.Command {
	var open, withHash, all bool
	c := &cobra.Command{
		Use:   "lookup SELECTOR...",
		Short: "Show what is known of a program beyond this machine, and where to look it up",
		Long: `Show what is known of a program beyond this machine: what the catalogue and your
notes say, on which other machines of the record it was seen and on how many it was
kept, its signature and its SHA-256, and a web address to look it up at.

The address is made from the setting search of the configuration, with the maker, the
product and the name of the file, and with --hash the SHA-256. No path and no user's
name goes into it, and nothing is sent unless --open is given, which opens the address
in the browser of this computer.`,
		Example: "  lockback lookup k7f3qa2\n  lockback lookup \"Fogbell Sync\" --open\n  LOCKBACK_SEARCH=\"https://search.example/?q={}\" lockback lookup k7f3qa2 --hash",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, words []string) error {
			return a.look(func(m *machine.Machine, inv inventory.Inventory, st *store.Store) error {
				c, err := a.choose(m, inv, st, words, scope{all: true, anywhere: true})
				if err != nil {
					return err
				}
				if !all {
					c.items = onePerProgram(m, c.items)
				}
				list := make([]lookedUp, len(c.items))
				for k, item := range c.items {
					if list[k], err = a.lookUp(m, st, item, withHash); err != nil {
						return err
					}
				}
				if err := a.printLookups(m, list); err != nil || !open {
					return err
				}
				return a.openSearch(list)
			})
		},
	}
	c.Flags().BoolVar(&open, "open", false, "open the address in the browser of this computer")
	c.Flags().BoolVar(&withHash, "hash", false, "put the program's SHA-256 into the address")
	c.Flags().BoolVar(&all, "every-entry", false, "each entry of a program by itself")
	return c
}

// onePerProgram keeps of entries that start the same program the first.
func onePerProgram(m *machine.Machine, items []*location.Item) []*location.Item {
	seen := map[string]bool{}
	return slices.DeleteFunc(slices.Clone(items), func(item *location.Item) bool {
		p, ok := note.ProgramOf(m.OS, &item.Entry)
		again := ok && seen[p.Key()]
		seen[p.Key()] = true
		return again
	})
}

// ofSignature are the facts of who made a file, and ofCatalogue those of a catalogue.
var (
	ofSignature = []autostart.FactKind{autostart.FactMadeBy, autostart.FactUnchanged, autostart.FactSignature, autostart.FactSignedBy,
		autostart.FactSignedAs, autostart.FactSignedAt}
	ofCatalogue = []autostart.FactKind{autostart.FactWithoutIt, autostart.FactOwnSetting, autostart.FactKnownFrom}
)

// maxHashed is how large a program may be to be hashed, in bytes.
const maxHashed = 4 << 30

// hashOf is the SHA-256 of a program, or why there is none.
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

// lookUp gathers what is known of an entry's program from elsewhere.
func (a *app) lookUp(m *machine.Machine, st *store.Store, item *location.Item, withHash bool) (lookedUp, error) {
	l := lookedUp{Entry: item.Entry, Signature: []factJSON{}, Facts: []factJSON{}}
	if p, ok := note.ProgramOf(m.OS, &item.Entry); ok {
		l.KnownBy = p.String()
		if st != nil {
			seen, err := st.Seen(p.Key(), m.ID)
			if err != nil {
				return l, adviseStore(err)
			}
			l.Others = spreadOf(seen)
		}
	}
	l.Others.Seen = notNil(l.Others.Seen)
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
	l.Search = a.searchFor(&item.Entry, m, more...)
	return l, nil
}

func spreadOf(seen []store.Sighting) spreadJSON {
	s := spreadJSON{Machines: len(seen)}
	for _, g := range seen {
		if g.On > 0 {
			s.Kept++
		} else {
			s.Off++
		}
		s.Seen = append(s.Seen, sightingJSON{g.Machine.ID, autostart.Text(g.Machine.Name), g.On, g.Off, g.Time.UTC().Format(time.RFC3339)})
	}
	return s
}

// spreadWords say where a program was seen.
func spreadWords(machines, kept, off int, last time.Time) string {
	if machines == 0 {
		return "not seen on another machine of the record"
	}
	return fmt.Sprintf("seen on %s, kept on %d, off on %d; last seen on %s", view.Number(machines, "other machine", "other machines"), kept, off, last.Local().Format(time.DateOnly))
}

// maxSeen is how many other machines are named.
const maxSeen = 8

// rows are what was looked up, in the words of a screen.
func (l lookedUp) rows(configured bool) []row {
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
	add("other machines", spreadWords(l.Others.Machines, l.Others.Kept, l.Others.Off, last), "")
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
		add("", fmt.Sprintf("%s: %s", s.Name, state), local(at))
	}
	for _, f := range l.Signature {
		add(f.Name, f.Value, f.Basis)
	}
	path, _ := programWords(&l.Entry)
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
		add("look it up at", "nothing but names and paths of this machine is known of it", "")
	default:
		add("look it up at", "no address is set: put search: https://...{}... into the configuration, or set LOCKBACK_SEARCH", "")
	}
	return rows
}

func (a *app) printLookups(m *machine.Machine, list []lookedUp) error {
	p := a.printer()
	switch a.format {
	case "json":
		return p.JSON(struct {
			Machine  machineJSON `json:"machine"`
			Programs []lookedUp  `json:"programs"`
		}{describe(m), list})
	case "csv":
		var sheet [][]string
		for _, l := range list {
			for _, r := range l.rows(a.search != "") {
				sheet = append(sheet, []string{l.Entry.Handle, r.name, r.value, r.basis})
			}
		}
		return p.CSV([]string{"handle", "fact", "value", "basis"}, sheet)
	}
	for k, l := range list {
		if k > 0 {
			p.Line("")
		}
		p.Bold(l.Entry.Name + "  " + l.Entry.Handle)
		printRows(p, l.rows(a.search != ""))
	}
	return nil
}

// openSearch opens the address of one program.
func (a *app) openSearch(list []lookedUp) error {
	if len(list) > 1 {
		return usage("--open opens one address, and these are %d programs; name one", len(list))
	}
	if list[0].Search == "" {
		return usage("there is no address to open")
	}
	if machine.Privileged() {
		return usage("no browser is opened as root or administrator, because it would have the same rights; open the address above as yourself")
	}
	if err := openAddress(list[0].Search); err != nil {
		return fmt.Errorf("the browser could not be started: %w; open the address above yourself", err)
	}
	a.note("opened in the browser")
	return nil
}
