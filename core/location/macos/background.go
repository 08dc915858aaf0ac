package macos

import (
	"fmt"
	"io/fs"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"

	"lockback/core/format/bookmark"
	"lockback/core/format/keyedarchive"
	"lockback/core/format/plist"
	"lockback/core/location"
	"lockback/core/machine/account"
	"lockback/core/machine/files"
)

// macOS 13 and later keep one database of everything that runs in the
// background: login items, and the jobs that apps registered or that lie in the
// folders of launchd. It is a keyed archive; how its records are made up is what
// the system's own tool for printing it shows.
const backgroundFolder = "/private/var/db/com.apple.backgroundtaskmanagement"

// Bits of a record's type.
const (
	typeUser      = 0x1 // put there by the user: a file, or an app without helpers
	typeApp       = 0x2
	typeLoginItem = 0x4
	typeAgent     = 0x8
	typeDaemon    = 0x10
	typeLegacy    = 0x10000 // a file in one of launchd's own folders, which no app registers
)

// Bits of a record's disposition.
const (
	isEnabled = 0x1 // the app has it on
	isAllowed = 0x2 // the person allows it
	isHidden  = 0x4 // it opens without its windows
)

// record is one background item.
type record struct {
	person            string // the id of the account
	name, developer   string
	team, identifier  string
	path              string
	below, container  string // a path that begins with what another record, by its identifier, is about
	kind, disposition int64
	embedded          int // how many items it holds itself
	source            string
}

func (r record) enabled() bool { return r.disposition&isEnabled != 0 }
func (r record) allowed() bool { return r.disposition&isAllowed != 0 }

func (r record) facts() []location.Fact {
	var facts []location.Fact
	for _, row := range []struct{ name, value string }{{"team", r.team}, {"background item", r.identifier}} {
		if row.value != "" {
			facts = append(facts, location.Fact{Name: row.name, Value: row.value, Basis: r.source})
		}
	}
	return facts
}

// background is the database, as far as it could be read.
type background struct {
	file    string
	there   bool
	err     error
	same    func(name string) string // what all names of one file have in common
	records []record
	known   map[string]bool  // the ids of accounts that it has a list for, were it an empty one
	byPath  map[string][]int // by what all names of a path have in common
	byLabel map[string][]int // by the identifier without its number
}

// backgroundItems reads the newest form of the database, once.
func (d *disk) backgroundItems(s *location.Survey) *background {
	d.backgroundOnce.Do(func() {
		b := &d.background
		b.same = s.Machine.SameName
		b.byPath, b.byLabel = map[string][]int{}, map[string][]int{}
		entries, err := s.ReadDir(backgroundFolder)
		if b.file = backgroundFolder; err != nil {
			b.err = err
			return
		}
		newest := -1
		for _, e := range entries {
			// BackgroundItems-v13.btm: each release may leave an older one behind.
			digits, ok := strings.CutPrefix(strings.TrimSuffix(e.Name(), ".btm"), "BackgroundItems-v")
			if n, err := strconv.Atoi(digits); ok && err == nil && n > newest {
				newest, b.file, b.there = n, path.Join(backgroundFolder, e.Name()), true
			}
		}
		if !b.there {
			return
		}
		content, err := s.ReadFile(b.file, files.MaxImageSize)
		if err == nil {
			b.records, b.known, err = parseBackground(content, b.file)
		}
		b.err = err
		for k, r := range b.records {
			path := s.Machine.SameName(r.path)
			b.byPath[path] = append(b.byPath[path], k)
			label := r.identifier // with a number before it since macOS 13.1
			if number, rest, ok := strings.Cut(label, "."); ok && strings.Trim(number, "0123456789") == "" {
				label = rest
			}
			b.byLabel[label] = append(b.byLabel[label], k)
		}
	})
	return &d.background
}

// parseBackground reads the records of the database, and whose lists it has.
func parseBackground(content []byte, source string) (records []record, known map[string]bool, err error) {
	archive, err := openArchive(content, source)
	if err != nil {
		return nil, nil, err
	}
	people := archive.Top("store").Field("itemsByUserIdentifier").Pairs()
	if len(people) == 0 {
		return nil, nil, &fs.PathError{Op: "read", Path: source, Err: fmt.Errorf("%w: it holds no store of items",
			keyedarchive.ErrFormat)}
	}
	known = map[string]bool{}
	for _, p := range people {
		known[p.Key.UUID()] = true
		for _, o := range p.Value.List() {
			r := record{person: p.Key.UUID(), name: o.Field("name").Text(), developer: o.Field("developerName").Text(),
				team:       o.Field("teamIdentifier").Text(),
				identifier: o.Field("identifier").Text(), embedded: len(o.Field("items").List()), source: source}
			r.kind, _ = o.Field("type").Int()
			r.disposition, _ = o.Field("disposition").Int()
			r.path = fileOf(o.Field("url").Text())
			if url := o.Field("url").Text(); r.path == "" && url != "" && !strings.Contains(url, ":") {
				r.below, r.container = url, o.Field("container").Text()
			}
			if r.path == "" && r.below == "" {
				if place, err := bookmark.Parse(o.Field("bookmark").Data()); err == nil {
					r.path = place.Path
				}
			}
			records = append(records, r)
		}
	}
	resolveBelow(records)
	return records, known, nil
}

// resolveBelow finds the paths of records that are written as seen from an app's.
func resolveBelow(records []record) {
	apps := map[[2]string]string{}
	for _, r := range records {
		if r.path != "" {
			apps[[2]string{r.person, r.identifier}] = r.path
		}
	}
	for k, r := range records {
		if app := apps[[2]string{r.person, r.container}]; r.below != "" && app != "" {
			if below, err := url.PathUnescape(r.below); err == nil {
				records[k].path = path.Join(app, below)
			}
		}
	}
}

// starts reports whether what a record is about starts: its app has it on, where one registers it, and the
// person allows it.
func (r record) starts() bool { return r.allowed() && (r.enabled() || r.kind&typeLegacy != 0) }

func openArchive(content []byte, source string) (*keyedarchive.Archive, error) {
	doc, err := plist.Parse(content)
	var archive *keyedarchive.Archive
	if err == nil {
		archive, err = keyedarchive.Decode(doc.Root)
	}
	if err != nil {
		return nil, &fs.PathError{Op: "read", Path: source, Err: err}
	}
	return archive, nil
}

// fileOf is the path of a file URL, or the path itself.
func fileOf(text string) string {
	if strings.HasPrefix(text, "/") {
		return path.Clean(text)
	}
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "file" || u.Path == "" {
		return ""
	}
	return path.Clean(u.Path)
}

// idsOf are the ids under which the database keeps what is a user's, or the
// system's. An account of the system has one that is made of its number.
func idsOf(u *account.User) []string {
	made := func(uid int64) string { return fmt.Sprintf("FFFFEEEE-DDDD-CCCC-BBBB-AAAA%08X", uint32(uid)) }
	if u == nil {
		return []string{made(-2), made(0)}
	}
	return []string{u.UUID, made(int64(u.UID))}
}

// find returns the record of a person among some. Of the system, any person's
// will do: a daemon runs for all.
func (b *background) find(among []int, u *account.User, fits func(record) bool) (record, bool) {
	if len(among) == 0 {
		return record{}, false
	}
	ids := idsOf(u)
	for _, anyone := range []bool{false, true} {
		for _, k := range among {
			r := b.records[k]
			if (slices.Contains(ids, r.person) || anyone && u == nil) && r.person != "" && fits(r) {
				return r, true
			}
		}
	}
	return record{}, false
}

// forFile is the record of a job's property list.
func (b *background) forFile(file string, u *account.User) (record, bool) {
	return b.find(b.byPath[b.same(file)], u, func(r record) bool { return r.kind&(typeAgent|typeDaemon) != 0 })
}

// forHelper is the record of a helper inside an app, by its place or its label.
func (b *background) forHelper(file, label string, u *account.User) (record, bool) {
	fits := func(r record) bool { return r.kind&(typeAgent|typeDaemon|typeLoginItem) != 0 }
	if r, ok := b.find(b.byPath[b.same(file)], u, fits); ok || label == "" {
		return r, ok
	}
	return b.find(b.byLabel[label], u, fits)
}
