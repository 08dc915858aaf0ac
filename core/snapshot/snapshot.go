// Package snapshot captures the exact state of all entries of a machine and
// compares two such states, see the example.
//
// A snapshot is kept as lines of text in sections, one section for each location
// and user. Two snapshots are compared line by line, and a section that did not
// change is neither stored nor looked into again.
package snapshot

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
	"unsafe"

	"lockback/core/autostart"
	"lockback/core/figures"
	"lockback/core/inventory"
	"lockback/core/location/part"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
)

// Digest is the SHA-256 of some content, by which the record finds it.
type Digest [sha256.Size]byte

// Snapshot is the state of all entries at one moment.
type Snapshot struct {
	ID       int // 0 until it is recorded
	Machine  string
	Time     time.Time
	Message  string
	Enabled  int
	Disabled int
	Sections []Section // in the order of their keys
	Unread   []autostart.Unread
	Missed   int // of a capture: artifacts that could not be read and are not in it
	Figures  []figures.Figure
	System   string // what the system called itself, with its version; empty if the record does not tell
	Boot     string // in which start of the system it was taken, as [machine.Machine.Boot] has it
	// Load finds a content by its digest. A capture itself keeps none.
	Load func(Digest) ([]byte, error)
}

// errNoContents says that a capture was asked for a content that it handed on.
var errNoContents = errors.New("a capture keeps no contents")

// A Keeper takes the contents of a capture as they are read, so that never more than one of
// them is in memory. One content may come several times.
type Keeper struct {
	Keep func(Digest, []byte) error // the bytes are its own until it returns
	// Sections hands on the texts of the sections, too: the capture keeps their digests
	// only, and finds the texts with [Snapshot.Load].
	Sections bool
}

// Section is the text of the entries of one location and user, and of the images
// that they were the first to name. A line is either
//
//	E handle artifact␟artifact... field field ...
//	A kind artifact {image}
//
// its parts separated by tabs, artifacts as [artifact.Artifact.ID] has them, fields
// as entryFields has them.
type Section struct {
	Key    string
	Digest Digest
	Text   []byte // nil where [Snapshot.Load] finds it by the digest
}

// Name is how people write the number of a snapshot: S1.
func (s *Snapshot) Name() string { return "S" + strconv.Itoa(s.ID) }

// image is how an image stands in a section and in the journal. Content is kept
// apart, by its digest.
type image struct {
	Kind  artifact.ImageKind `json:"kind"`
	Type  uint32             `json:"type,omitempty"`  // of a registry value
	Place int                `json:"place,omitempty"` // of a registry value
	Mode  uint32             `json:"mode,omitempty"`
	UID   int                `json:"uid"`
	GID   int                `json:"gid"`
	Time  *[2]int64          `json:"time,omitempty"` // seconds since 1970 and nanoseconds; none: unknown
	// of early records: nanoseconds since 1970, 0 where they were unknown or 0
	ModTime int64             `json:"mtime,omitempty"`
	Content string            `json:"content,omitempty"`
	Target  string            `json:"target,omitempty"` // quoted as a Go string
	Xattrs  map[string][]byte `json:"xattrs,omitempty"` // a name that is no UTF-8 is quoted as a Go string
	Known   bool              `json:"attrs,omitempty"`  // the extended attributes are known, even if there are none
	Names   string            `json:"names,omitempty"`
}

// EncodeImage turns an image into text; keep is called with its content.
func EncodeImage(i artifact.Image, keep func(Digest, []byte)) string {
	e := image{Kind: i.Kind, Mode: uint32(i.Mode), UID: i.UID, GID: i.GID, Xattrs: encodeNames(i.Xattrs),
		Known: i.Xattrs != nil, Names: i.Names, Type: i.Type, Place: i.Place}
	if !i.ModTime.IsZero() {
		e.Time = &[2]int64{i.ModTime.Unix(), int64(i.ModTime.Nanosecond())}
	}
	if hasContent(i.Kind) {
		d := Digest(sha256.Sum256(i.Content))
		e.Content = fmt.Sprintf("%x", d)
		keep(d, i.Content)
	}
	if i.Target != "" {
		e.Target = strconv.Quote(i.Target)
	}
	text, err := json.Marshal(e)
	if err != nil {
		panic(err) // strings, numbers and byte slices always encode
	}
	return string(text)
}

// encodeNames makes the names of attributes fit for JSON, which knows Unicode only.
func encodeNames(attrs map[string][]byte) map[string][]byte {
	return renamed(attrs, func(name string) bool { return !utf8.ValidString(name) || name != "" && name[0] == '"' },
		func(name string) (string, error) { return strconv.Quote(name), nil })
}

// decodeNames is the reverse of encodeNames.
func decodeNames(attrs map[string][]byte) (map[string][]byte, error) {
	var failed error
	all := renamed(attrs, func(name string) bool { return name != "" && name[0] == '"' }, func(name string) (string,
		error) {
		plain, err := strconv.Unquote(name)
		failed = errors.Join(failed, err)
		return plain, err
	})
	return all, failed
}

// renamed is a map whose keys are other ones where that is needed, itself where it is not.
func renamed(attrs map[string][]byte, needed func(string) bool, rename func(string) (string, error)) map[string][]byte {
	any := false
	for name := range attrs {
		any = any || needed(name)
	}
	if !any {
		return attrs
	}
	all := make(map[string][]byte, len(attrs))
	for name, value := range attrs {
		if needed(name) {
			if other, err := rename(name); err == nil {
				name = other
			}
		}
		all[name] = value
	}
	return all
}

// hasContent reports whether images of a kind have content, kept by its digest.
func hasContent(kind artifact.ImageKind) bool {
	return kind == artifact.Regular || kind == artifact.Value || kind == artifact.Tree || kind == artifact.LoginItemKind
}

// DecodeImage is the reverse of [EncodeImage]; load finds the content.
func DecodeImage(text string, load func(Digest) ([]byte, error)) (artifact.Image, error) {
	var e image
	if err := json.Unmarshal([]byte(text), &e); err != nil {
		return artifact.Image{}, fmt.Errorf("an image in the record cannot be read: %w", err)
	}
	i := artifact.Image{Kind: e.Kind, Mode: fs.FileMode(e.Mode), UID: e.UID, GID: e.GID, Xattrs: e.Xattrs,
		Names: e.Names, Type: e.Type, Place: e.Place}
	switch {
	case e.Time != nil:
		i.ModTime = time.Unix(e.Time[0], e.Time[1]).UTC()
	case e.ModTime != 0:
		i.ModTime = time.Unix(0, e.ModTime).UTC()
	}
	var err error
	if i.Xattrs, err = decodeNames(e.Xattrs); err != nil {
		return i, fmt.Errorf("an image in the record cannot be read: %w", err)
	}
	if e.Known && i.Xattrs == nil {
		i.Xattrs = map[string][]byte{}
	}
	if e.Target != "" {
		target, err := strconv.Unquote(e.Target)
		if err != nil {
			return i, fmt.Errorf("a link in the record cannot be read: %w", err)
		}
		i.Target = target
	}
	if hasContent(e.Kind) {
		var d Digest
		if n, err := fmt.Sscanf(e.Content, "%x", (*hexDigest)(&d)); n != 1 || err != nil {
			return i, fmt.Errorf("a content's name in the record cannot be read: %q", e.Content)
		}
		content, err := load(d)
		if err != nil {
			return i, err
		}
		i.Content = content
	}
	return i, nil
}

// hexDigest scans the hexadecimal form of a digest.
type hexDigest Digest

func (h *hexDigest) Scan(state fmt.ScanState, _ rune) error {
	word, err := state.Token(true, nil)
	if err != nil {
		return err
	}
	if len(word) != 2*len(h) {
		return fmt.Errorf("%d digits, want %d", len(word), 2*len(h))
	}
	for k := range h {
		b, err := strconv.ParseUint(string(word[2*k:2*k+2]), 16, 8)
		if err != nil {
			return err
		}
		h[k] = byte(b)
	}
	return nil
}

// Capture reads the image of every artifact that decides an entry and hands their
// contents on; the zero Keeper drops them. Artifacts
// that cannot be read are reported with the unread places. It fails where keep does.
func Capture(inv inventory.Inventory, now time.Time, message string, keep Keeper) (*Snapshot, error) {
	return CaptureFrom(inv, inv.Machine.Image, now, message, keep)
}

// FiguresOf measures the machine of an inventory, and counts the entries that are enabled.
func FiguresOf(inv inventory.Inventory) []figures.Figure {
	enabled := int64(0)
	for _, item := range inv.Items {
		if item.State == autostart.Enabled {
			enabled++
		}
	}
	return figures.Sorted(append(figures.Read(inv.Machine), figures.Figure{Name: "entries-enabled", Value: enabled,
		Unit: figures.Count, Basis: "the inventory"}))
}

// CaptureFrom is [Capture] with the images taken from another source than the
// machine.
func CaptureFrom(inv inventory.Inventory, read func(artifact.Artifact) (artifact.Image, error), now time.Time,
	message string, keeper Keeper) (*Snapshot, error) {
	s := &Snapshot{Machine: inv.Machine.ID, Time: now.UTC().Truncate(time.Second), Message: message,
		System: inv.Machine.Version, Boot: inv.Machine.Boot(),
		Unread: slices.Clone(inv.Unread), Load: func(Digest) ([]byte, error) { return nil, errNoContents }}
	var failed error
	keep := func(d Digest, content []byte) {
		if keeper.Keep != nil && failed == nil {
			failed = keeper.Keep(d, content)
		}
	}
	claimed := map[artifact.Artifact]artifact.ImageKind{}
	withFolder := map[artifact.Artifact]bool{} // those whose folder is recorded too
	texts := map[string][]byte{}
	// done ends a stretch of a section: it is kept, or handed on.
	parts := map[string]int{}
	done := func(key string) {
		text := texts[key]
		name := key
		if parts[key]++; parts[key] > 1 {
			name = fmt.Sprintf("%s#%d", key, parts[key])
		}
		section := Section{Key: name, Digest: sha256.Sum256(text), Text: text}
		if keeper.Sections {
			keep(section.Digest, text)
			section.Text = nil
			texts[key] = text[:0]
		} else {
			texts[key] = nil
		}
		s.Sections = append(s.Sections, section)
	}
	for _, item := range inv.Items {
		if item.State == autostart.Enabled {
			s.Enabled++
		} else {
			s.Disabled++
		}
		key := item.Location + "/" + item.User
		if len(texts[key]) > maxSection {
			done(key)
		}
		text := texts[key]
		// What is gone with the next start is no state to come back to, and
		// must not be written onto a disk.
		artifacts := slices.DeleteFunc(item.Artifacts(), artifact.Artifact.Volatile)
		text = append(append(append(text, "E\t"...), item.Handle...), '\t')
		for k, a := range artifacts {
			if k > 0 {
				text = append(text, '\x1f')
			}
			text = append(text, a.ID()...)
		}
		text = appendEntry(append(text, '\t'), &Recorded{Entry: item.Entry, Part: item.Can.Part,
			Removes: item.Can.Removes})
		text = append(text, '\n')
		// The folder of each is known for its time: where a restore brings the
		// same names back, it brings the folder's time back too. Of what is not
		// there, all missing folders are known, because a switch may make them.
		var record func(a artifact.Artifact, named bool)
		record = func(a artifact.Artifact, named bool) {
			kind, known := claimed[a]
			if !known {
				i, err := read(a)
				if kind = i.Kind; err != nil {
					s.Missed++
					s.Unread = append(s.Unread, autostart.Unread{Location: item.Location, Path: autostart.Text(a.Name),
						Reason: machine.Reason(err)})
				} else {
					text = fmt.Appendf(text, "A\t%s\t%s\t%s\n", a.Kind, a.ID(), EncodeImage(i, keep))
				}
				claimed[a] = kind
			}
			if folder, ok := a.Parent(); ok && (named || kind == artifact.Absent) && !withFolder[a] {
				withFolder[a] = true
				record(folder, false)
			}
			// Of what lies in a hive file, writing shows in that file's folder.
			if folder, ok := inv.Machine.Beside(a); ok && named && claimed[folder] == "" {
				record(folder, false)
			}
		}
		for _, a := range artifacts {
			record(a, true)
		}
		texts[key] = text
		if failed != nil {
			return nil, failed
		}
	}
	for _, key := range slices.Sorted(maps.Keys(texts)) {
		done(key)
	}
	slices.SortFunc(s.Sections, func(a, b Section) int { return strings.Compare(a.Key, b.Key) })
	if failed != nil {
		return nil, failed
	}
	return s, nil
}

// maxSection is the size in bytes from which a section is divided, so that no content of
// the record grows with the machine.
const maxSection = 4 << 20

// InMemory is the snapshot with its texts: for those who need both its entries and its images,
// which then share them.
func (s *Snapshot) InMemory() (*Snapshot, error) {
	all := *s
	all.Sections = slices.Clone(s.Sections)
	for k, section := range all.Sections {
		if section.Text == nil {
			var err error
			if all.Sections[k].Text, err = s.Load(section.Digest); err != nil {
				return nil, err
			}
		}
	}
	return &all, nil
}

// line is one line of a section, its JSON not yet looked at.
type line struct {
	raw           string
	second, third uint32 // where the tabs behind these words stand
}

// id is the handle of an entry, or the id of an artifact.
func (l line) id() string {
	if l.raw[0] == 'E' {
		return l.raw[2:l.second]
	}
	return l.raw[l.second+1 : l.third]
}

// artifacts are the ids of those of an entry.
func (l line) artifacts() string { return l.raw[l.second+1 : l.third] }

// body is the fields of an entry, or the JSON of an image.
func (l line) body() string { return l.raw[l.third+1:] }

// linesOf splits sections into lines and returns those of one kind, E of entries or A of
// images, ordered by id. Sections whose digests are in without are left out.
func (s *Snapshot) linesOf(kind byte, without map[Digest]bool) ([]line, error) {
	count := 0
	texts := make([][]byte, len(s.Sections))
	for k, section := range s.Sections {
		if without[section.Digest] {
			continue
		}
		texts[k] = section.Text
		if texts[k] == nil {
			var err error
			if texts[k], err = s.Load(section.Digest); err != nil {
				return nil, err
			}
		}
		count += 1 + bytes.Count(texts[k], []byte{'\n', kind, '\t'})
	}
	all := make([]line, 0, count)
	for k, content := range texts {
		// The text is never written to again, and copying it would take as much memory again.
		text := unsafe.String(unsafe.SliceData(content), len(content))
		for text != "" {
			var raw string
			raw, text, _ = strings.Cut(text, "\n")
			is, rest, ok1 := strings.Cut(raw, "\t")
			second, rest, ok2 := strings.Cut(rest, "\t")
			third, _, ok3 := strings.Cut(rest, "\t")
			switch {
			case !ok1 || !ok2 || !ok3 || is != "E" && is != "A":
				return nil, fmt.Errorf("the section %s of the snapshot cannot be read", s.Sections[k].Key)
			case is[0] == kind:
				at := len(is) + 1 + len(second)
				all = append(all, line{raw, uint32(at), uint32(at + 1 + len(third))})
			}
		}
	}
	slices.SortFunc(all, func(a, b line) int { return strings.Compare(a.id(), b.id()) })
	return all, nil
}

// search finds the number of a line by its id.
func search(lines []line, id string) (int, bool) {
	return slices.BinarySearchFunc(lines, id, func(l line, id string) int { return strings.Compare(l.id(), id) })
}

// find finds a line by its id.
func find(lines []line, id string) (*line, bool) {
	k, found := search(lines, id)
	if !found {
		return nil, false
	}
	return &lines[k], true
}

// Recorded is an entry as a snapshot holds it, with the artifacts that decide it.
type Recorded struct {
	autostart.Entry
	Artifacts []artifact.Artifact
	// Part is its part of an artifact that others share; nil if the artifacts are its own.
	Part part.Part
	// Removes says that nothing on the machine shows the entry once it is turned off.
	Removes bool

	partText string // of which Part is made
}

// recorded decodes the entry of a line.
func (l *line) recorded() (Recorded, error) {
	var r Recorded
	fields, err := decodeEntry(l.body(), &r)
	if err != nil {
		return r, fmt.Errorf("the entry %s of the snapshot cannot be read: %w", l.id(), err)
	}
	if r.Artifacts, err = l.decides(); err != nil {
		return r, err
	}
	if fields <= beforeParts {
		r.assumeParts()
		return r, nil
	}
	r.Part, err = part.Decode(r.partText)
	return r, err
}

// decides decodes the artifacts of an entry's line.
func (l *line) decides() ([]artifact.Artifact, error) {
	var all []artifact.Artifact
	for id := range strings.SplitSeq(l.artifacts(), "\x1f") {
		if id == "" {
			continue // all that decides it is volatile
		}
		a, err := artifact.ParseID(id)
		if err != nil {
			return nil, fmt.Errorf("an artifact of the entry %s cannot be read: %w", l.id(), err)
		}
		all = append(all, a)
	}
	return all, nil
}

// Entries decodes all entries, in the order of all outputs.
func (s *Snapshot) Entries() ([]*Recorded, error) { return s.EntriesOf(nil) }

// EntriesOf is [Snapshot.Entries] of some handles only; nil means all.
func (s *Snapshot) EntriesOf(handles map[string]bool) ([]*Recorded, error) {
	entries, err := s.linesOf('E', nil)
	if err != nil {
		return nil, err
	}
	if handles != nil {
		entries = slices.DeleteFunc(entries, func(l line) bool { return !handles[l.id()] })
	}
	decoded := make([]*Recorded, len(entries))
	for k := range entries {
		rec, err := entries[k].recorded()
		if err != nil {
			return nil, err
		}
		decoded[k] = &rec
	}
	slices.SortFunc(decoded, func(a, b *Recorded) int { return autostart.Compare(&a.Entry, &b.Entry) })
	return decoded, nil
}

// Index finds the entries of a snapshot by their handles and decodes them when they are asked
// for: of a large machine, all of them decoded take much memory.
type Index struct {
	entries []line
	numbers map[string]uint32 // of the entries, by handle; of several with the same one, the first counts
	scratch Recorded
}

// Index lists the entries.
func (s *Snapshot) Index() (*Index, error) {
	entries, err := s.linesOf('E', nil)
	x := &Index{entries: entries, numbers: make(map[string]uint32, len(entries))}
	for k, l := range slices.Backward(entries) {
		x.numbers[l.id()] = uint32(k)
	}
	return x, err
}

// find finds the line of an entry.
func (x *Index) find(handle string) (*line, bool) {
	k, ok := x.numbers[handle]
	if !ok {
		return nil, false
	}
	return &x.entries[k], true
}

// Entry decodes an entry; ok is false if there is none of that handle, or none that can
// be read. It takes no memory of its own, and is not for several goroutines at a time.
func (x *Index) Entry(handle string) (e autostart.Entry, ok bool) {
	l, found := x.find(handle)
	if !found {
		return e, false
	}
	x.scratch = Recorded{}
	_, err := decodeEntry(l.body(), &x.scratch)
	return x.scratch.Entry, err == nil
}

// Part decodes the part of an artifact that an entry was; nil if there is none, or it
// cannot be known.
func (x *Index) Part(handle string) part.Part {
	l, found := x.find(handle)
	if !found {
		return nil
	}
	rec, _ := l.recorded()
	return rec.Part
}

// Has reports whether the snapshot has an entry of that handle.
func (x *Index) Has(handle string) bool {
	_, found := x.find(handle)
	return found
}

// Owners are the entries of artifacts.
type Owners struct {
	images  []line
	entries []line
	first   []uint32            // of each image: the number of its first entry, counted from 1; 0: none
	more    map[string][]uint32 // by the artifact's id: the others, and all of an artifact that has no image
}

// Owners finds, for each artifact, the entries that it decides. Most artifacts have an image and
// one entry, which takes a number.
func (x *Index) Owners(images *Images) *Owners {
	o := &Owners{images: images.images, entries: x.entries, first: make([]uint32, len(images.images)),
		more: map[string][]uint32{}}
	type place struct {
		id string
		k  int
		ok bool
	}
	var before, now []place // of the entry before, which often has the same in the same order
	for n, l := range x.entries {
		before, now = now, before[:0]
		for id := range strings.SplitSeq(l.artifacts(), "\x1f") {
			at := place{id: id}
			if k := len(now); k < len(before) && before[k].id == id {
				at = before[k]
			} else {
				at.k, at.ok = search(o.images, id)
			}
			now = append(now, at)
			if at.ok && o.first[at.k] == 0 {
				o.first[at.k] = uint32(n + 1)
			} else {
				o.more[id] = append(o.more[id], uint32(n+1))
			}
		}
	}
	return o
}

// Of lists the handles of the entries that an artifact decides.
func (o *Owners) Of(a artifact.Artifact) []string {
	id := a.ID()
	var handles []string
	if k, ok := search(o.images, id); ok && o.first[k] > 0 {
		handles = append(handles, o.entries[o.first[k]-1].id())
	}
	for _, n := range o.more[id] {
		handles = append(handles, o.entries[n-1].id())
	}
	return handles
}

// Images holds the images of a snapshot, decoded when they are asked for.
type Images struct {
	snapshot *Snapshot
	images   []line
}

// Images gives access to the images of all artifacts.
func (s *Snapshot) Images() (*Images, error) {
	images, err := s.linesOf('A', nil)
	return &Images{s, images}, err
}

// ImagesUnlike is [Snapshot.Images] without those that another snapshot has in the same section:
// they are the same in both.
func (s *Snapshot) ImagesUnlike(other *Snapshot) (*Images, error) {
	images, err := s.linesOf('A', alike(s, other))
	return &Images{s, images}, err
}

// alike are the sections that two snapshots have in common.
func alike(a, b *Snapshot) map[Digest]bool {
	same := map[Digest]bool{}
	for _, section := range a.Sections {
		same[section.Digest] = true
	}
	both := map[Digest]bool{}
	for _, section := range b.Sections {
		if same[section.Digest] {
			both[section.Digest] = true
		}
	}
	return both
}

// Artifacts visits what the snapshot holds images of, by name.
func (i *Images) Artifacts() iter.Seq[artifact.Artifact] {
	return func(yield func(artifact.Artifact) bool) {
		for k := range i.images {
			if a, err := artifact.ParseID(i.images[k].id()); err == nil && !yield(a) {
				return
			}
		}
	}
}

// Image returns the recorded image; ok is false if the snapshot has none.
func (i *Images) Image(a artifact.Artifact) (img artifact.Image, ok bool, err error) {
	l, ok := find(i.images, a.ID())
	if !ok {
		return artifact.Image{}, false, nil
	}
	img, err = DecodeImage(l.body(), i.snapshot.Load)
	return img, true, err
}
