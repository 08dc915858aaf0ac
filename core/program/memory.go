package program

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"sync/atomic"
	"time"

	"lockback/core/machine"
)

// Memory keeps what was found of files, so that it need not be found again while they are the
// same: by path, size, time and number of the file, and by the state of the databases that were
// asked. A nil Memory keeps nothing. It is for one machine and one goroutine.
type Memory struct {
	// Only says that no file is looked at which the memory does not have: such files stay unknown, see [Memory.Lacks].
	Only  bool
	lacks map[string]bool

	rows  map[string]Row
	fresh map[string]Row

	looked, unknown atomic.Int64
}

// Progress is how many of the files that the memory does not have were looked at so far, for one
// who waits: another goroutine may ask.
func (m *Memory) Progress() (looked, total int) { return int(m.looked.Load()), int(m.unknown.Load()) }

// begin begins to count how many of some files were looked at.
func (m *Memory) begin(files []*File) {
	if m == nil {
		return
	}
	m.looked.Store(0)
	m.unknown.Store(int64(len(files)))
	for _, f := range files {
		f.looked = &m.looked
	}
}

// Row is what a memory keeps of one file.
type Row struct {
	Name string
	// Key is what the file and the databases were like.
	Key string
	// Evidence is what was found, encoded.
	Evidence []byte
}

// NewMemory returns a memory with the rows that were kept before.
func NewMemory(rows []Row) *Memory {
	m := &Memory{rows: make(map[string]Row, len(rows)), fresh: map[string]Row{}}
	for _, r := range rows {
		m.rows[r.Name] = r
	}
	return m
}

// Lacks reports whether a file was asked for that the memory does not have, while it was asked alone.
func (m *Memory) Lacks(name string) bool { return m.lacks[name] }

// Fresh are the rows that are not as they were when the memory was made.
func (m *Memory) Fresh() []Row {
	if m == nil {
		return nil
	}
	all := make([]Row, 0, len(m.fresh))
	for _, r := range m.fresh {
		all = append(all, r)
	}
	return all
}

// recall fills in what the memory holds about a file, and reports whether it held any.
func (m *Memory) recall(f *File, state string) bool {
	if m == nil {
		return false
	}
	r, ok := m.rows[f.Name]
	if !ok || r.Key != f.key(state) {
		return false
	}
	var was remembered
	if !was.decode(r.Evidence) || was.Path != f.Path {
		return false
	}
	f.Kind, f.Evidence = was.Kind, was.Evidence
	return true
}

func (m *Memory) lack(files []*File) {
	if m.lacks == nil {
		m.lacks = map[string]bool{}
	}
	for _, f := range files {
		m.lacks[f.Name] = true
	}
}

func (m *Memory) keep(f *File, state string) {
	if m == nil {
		return
	}
	r := Row{f.Name, f.key(state), (&remembered{f.Path, f.Kind, f.Evidence}).encode()}
	m.rows[f.Name], m.fresh[f.Name] = r, r
}

func (f *File) key(state string) string {
	b := strconv.AppendInt(make([]byte, 0, 80), f.Size, 10)
	b = strconv.AppendInt(append(b, ' '), f.Modified.UnixNano(), 10)
	b = strconv.AppendUint(append(b, ' '), f.number, 10)
	return string(append(append(b, ' '), state...))
}

// version is raised when what the witnesses find means something else than before.
const version = 5

// stateOf tells databases from others that say something else: what they are was written then.
// Certificates end, so nothing is kept for longer than a month.
func stateOf(m *machine.Reader) string {
	state := fmt.Sprintf("%d %s", version, time.Now().UTC().Format("2006-01"))
	if m.OS == "windows" {
		state += " " + storeState(m) + " " + componentsState(m)
		if info, err := m.Stat(m.Windows() + catalogueFolder); err == nil {
			state += fmt.Sprintf(" %d", info.ModTime().UnixNano())
		}
	}
	for _, name := range databases[m.OS] {
		if info, err := m.Stat(name); err == nil {
			state += fmt.Sprintf(" %d.%d", info.Size(), info.ModTime().UnixNano())
		} else {
			state += " -"
		}
	}
	// It stands in every row: a short form of it tells as well whether anything changed.
	sum := sha256.Sum256([]byte(state))
	return hex.EncodeToString(sum[:12])
}

// databases are the files whose change may change what is known about others.
var databases = map[string][]string{
	"linux": slices.Concat([]string{dpkgStatus, dpkgFolder + "/diversions", dpkgInfo, pacmanFolder}, rpmDatabases,
		apkInstalled),
	"macos": {trustSettings},
}
