// Package registry is the registry of a Windows machine, under one naming for a running and a mounted one.
package registry

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"time"

	"lockback/core/format/regf"
	"lockback/core/format/windata"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// Registry is the registry of a Windows machine, under one naming for a running
// and a mounted one:
//
//	HKLM\SOFTWARE\..., HKLM\SYSTEM\CurrentControlSet\..., HKU\<SID>\..., HKU\<SID>_Classes\...
//
// CurrentControlSet is the control set that the machine starts with. The 32-bit
// view stands where it is stored, under WOW6432Node. Names are compared without
// regard to case.
//
// On a mounted machine, and for people who are not signed in, keys are read from
// the hive files. Edits of those are held in memory until [Registry.Commit].
type Registry struct {
	mounts []*mount // the longest prefixes first

	mu    sync.Mutex
	links map[string]string // a key's path in small letters, to where it leads; empty if it is no link
}

// mount is a part of the registry that comes from one place.
type mount struct {
	prefix string // as the machine names it: HKLM\SOFTWARE
	source source
}

// source is where a part of the registry comes from: a hive file, or
// the running system. Paths are below the mount; ControlSets are resolved.
type source interface {
	key(path string) (keyNode, error)
	// edit makes one change; container says what a new value or key needs.
	edit(path string, change func(keyEditor) error) error
	// writable tells beforehand why edits would be refused.
	writable(path string) error
	commit(token string, at func(string)) error
	// discard removes what an interrupted commit left behind.
	discard(token string) error
	abandon()
	close()
	// file is the hive file, as the machine names it; empty if the running system keeps
	// the keys. stale says why such a file can be read and not be written.
	file() string
	stale() error
}

// keyNode is an opened key.
type keyNode interface {
	Name() string
	Modified() time.Time
	subkeys() ([]keyNode, error)
	subkey(name string) (keyNode, error)
	Values() ([]regf.Value, error)
	Value(name string) (regf.Value, error)
	Class() ([]byte, error)
	Security() ([]byte, error)
}

// keyEditor changes one key, or makes and removes what is in it. A name is
// that of a value or of a key directly below.
type keyEditor interface {
	setValue(v regf.Value, place int) error
	deleteValue(name string) error
	createKey(name string, image artifact.Image) (keyEditor, error)
	deleteKey(name string) error
	dress(image artifact.Image) error // security, class, time
	exists() bool
}

// Key is an opened key of the registry.
type Key struct {
	Path string // as the machine names it
	node keyNode
}

// Name is the last part of the key's path.
func (k *Key) Name() string { return k.Path[strings.LastIndexByte(k.Path, '\\')+1:] }

// Modified is when the key was last written.
func (k *Key) Modified() time.Time { return k.node.Modified() }

// Values reads the key's values. What is damaged is left out and named by the
// error.
func (k *Key) Values() ([]regf.Value, error) {
	v, err := k.node.Values()
	return v, registryError(k.Path, err)
}

// Value reads one value; the error is [fs.ErrNotExist] where there is none.
func (k *Key) Value(name string) (regf.Value, error) {
	v, err := k.node.Value(name)
	return v, registryError(k.Path, err)
}

// Text returns a text value, empty if there is none.
func (k *Key) Text(name string) string {
	v, err := k.node.Value(name)
	if err != nil {
		return ""
	}
	return v.Text()
}

// Number returns a number value.
func (k *Key) Number(name string) (uint64, bool) {
	v, err := k.node.Value(name)
	if err != nil {
		return 0, false
	}
	return v.Number()
}

// Subkeys opens the keys directly below. What is damaged is left out and named
// by the error.
func (k *Key) Subkeys() ([]*Key, error) {
	nodes, err := k.node.subkeys()
	keys := make([]*Key, len(nodes))
	for n, node := range nodes {
		keys[n] = &Key{k.Path + `\` + node.Name(), node}
	}
	return keys, registryError(k.Path, err)
}

// Subkey opens a key directly below.
func (k *Key) Subkey(name string) (*Key, error) {
	node, err := k.node.subkey(name)
	if err != nil {
		return nil, registryError(k.Path+`\`+name, err)
	}
	return &Key{k.Path + `\` + node.Name(), node}, nil
}

// registryError gives an error of a hive the shape of a file's.
func registryError(path string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, regf.ErrNotFound), files.IsMissing(err):
		err = fs.ErrNotExist
	}
	return &fs.PathError{Op: "read", Path: path, Err: err}
}

// add mounts a source at a prefix.
func (r *Registry) add(prefix string, s source) {
	r.mounts = append(r.mounts, &mount{prefix, s})
	slices.SortStableFunc(r.mounts, func(a, b *mount) int { return cmp.Compare(len(b.prefix), len(a.prefix)) })
}

// find returns the mount that a path lies in, and the path below it.
func (r *Registry) find(path string) (*mount, string, error) {
	for _, m := range r.mounts {
		if len(path) >= len(m.prefix) && strings.EqualFold(path[:len(m.prefix)], m.prefix) {
			if rest := path[len(m.prefix):]; rest == "" || rest[0] == '\\' {
				return m, strings.TrimPrefix(rest, `\`), nil
			}
		}
	}
	return nil, "", &fs.PathError{Op: "open", Path: path, Err: fs.ErrNotExist}
}

// Key opens a key by its full path. The error is [fs.ErrNotExist] where there is
// none.
func (r *Registry) Key(path string) (*Key, error) {
	for range maxKeyLinks {
		m, rest, err := r.find(path)
		if err != nil {
			return nil, err
		}
		node, err := m.source.key(rest)
		if m.source.file() != "" && (errors.Is(err, regf.ErrNotFound) || err == nil && linkOf(node) != "") {
			// The running system follows its links itself.
			if to := r.follow(m, rest); to != "" {
				path = to
				continue
			}
		}
		if err != nil {
			return nil, registryError(path, err)
		}
		return &Key{path, node}, nil
	}
	return nil, &fs.PathError{Op: "open", Path: path, Err: errors.New("too many links between keys")}
}

// maxKeyLinks is how many links between keys are followed, one after the other.
const maxKeyLinks = 8

// symbolicLink is the value of a key that only leads to another one, of the type REG_LINK.
const symbolicLink = "SymbolicLinkValue"

// kernelRoots are the kernel's names of the roots, which links are written with.
var kernelRoots = []struct{ kernel, root string }{{`\Registry\Machine\`, `HKLM\`}, {`\Registry\User\`, `HKU\`}}

// follow returns where a path below a mount leads when a key on it is a link; empty where none is.
func (r *Registry) follow(m *mount, rest string) string {
	for end := 0; end < len(rest); {
		if k := strings.IndexByte(rest[end:], '\\'); k >= 0 {
			end += k
		} else {
			end = len(rest)
		}
		if to := r.linkAt(m, rest[:end]); to != "" {
			return to + rest[end:]
		}
		end++
	}
	return ""
}

func (r *Registry) linkAt(m *mount, path string) string {
	name := strings.ToLower(m.prefix + `\` + path)
	r.mu.Lock()
	to, known := r.links[name]
	r.mu.Unlock()
	if known {
		return to
	}
	if node, err := m.source.key(path); err == nil {
		to = linkOf(node)
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.links == nil {
		r.links = map[string]string{}
	}
	if len(r.links) < maxLinksKept {
		r.links[name] = to
	}
	return to
}

// linkOf is where a key leads that is a link; empty for any other.
func linkOf(node keyNode) string {
	v, err := node.Value(symbolicLink)
	if err != nil || v.Type != regf.Link {
		return ""
	}
	for _, row := range kernelRoots {
		// The text has no zero at its end, as other texts have.
		if t := windata.Decode(v.Data); len(t) > len(row.kernel) && strings.EqualFold(t[:len(row.kernel)], row.kernel) {
			return row.root + strings.TrimRight(t[len(row.kernel):], "\x00")
		}
	}
	return ""
}

// maxLinksKept bounds what is remembered of keys.
const maxLinksKept = 20_000

// Image reads the image of an artifact of the registry.
func (r *Registry) Image(a artifact.Artifact) (artifact.Image, error) {
	path, name := a.Name, ""
	if a.Kind == artifact.ValueArtifact {
		path, name = a.Value()
	}
	k, err := r.Key(path)
	if errors.Is(err, fs.ErrNotExist) {
		return artifact.Image{Kind: artifact.Absent}, nil
	}
	if err != nil {
		return artifact.Image{}, err
	}
	switch a.Kind {
	case artifact.ValueArtifact:
		return valueImage(k, name)
	case artifact.KeyArtifact:
		return keyImage(k)
	}
	i, err := dressOf(k)
	if err != nil {
		return i, err
	}
	i.Kind = artifact.Tree
	left := maxTreeKeys
	i.Content, err = appendTree(nil, k, 0, &left)
	return i, err
}

func valueImage(k *Key, name string) (artifact.Image, error) {
	values, err := k.Values()
	for place, v := range values {
		if strings.EqualFold(v.Name, name) {
			i := artifact.NewValue(v)
			i.Place = place
			return i, nil
		}
	}
	return artifact.Image{Kind: artifact.Absent}, err
}

// dressOf reads what belongs to a key itself.
func dressOf(k *Key) (artifact.Image, error) {
	i := artifact.Image{Kind: artifact.Key, UID: -1, GID: -1, ModTime: k.Modified(), Xattrs: map[string][]byte{}}
	security, err := k.node.Security()
	if err != nil {
		return i, registryError(k.Path, err)
	}
	if security != nil {
		i.Xattrs[artifact.SecurityAttribute] = security
	}
	class, err := k.node.Class()
	if len(class) > 0 {
		i.Xattrs[artifact.ClassAttribute] = class
	}
	return i, registryError(k.Path, err)
}

// keyImage reads a key for itself. Its digest covers its values and the names of
// its subkeys, for with those its time is put back.
func keyImage(k *Key) (artifact.Image, error) {
	i, err := dressOf(k)
	if err != nil {
		return i, err
	}
	values, err := k.Values()
	if err != nil {
		return i, err
	}
	subs, err := k.Subkeys()
	if err != nil {
		return i, err
	}
	h := sha256.New()
	for _, v := range values {
		fmt.Fprintf(h, "%q %d %x\n", v.Name, v.Type, v.Data)
	}
	for _, s := range subs {
		fmt.Fprintf(h, "%q\n", s.Name())
	}
	i.Names = hex.EncodeToString(h.Sum(nil)[:8])
	return i, nil
}

// The bounds of a key that is recorded with everything below it.
const (
	maxTreeKeys = 20000
)

// volatileValues are values of the task cache that the scheduler writes again and
// again, and that no state is: its notes of a task's last runs.
var volatileValues = map[string]bool{"dynamicinfo": true, "lasttaskruntime": true}

// appendTree writes a key and everything below it: its rights, class and time,
// its values in their order, its subkeys.
func appendTree(b []byte, k *Key, depth int, left *int) ([]byte, error) {
	if *left--; *left < 0 || depth > artifact.MaxTreeDepth {
		return nil, &fs.PathError{Op: "read", Path: k.Path,
			Err: fmt.Errorf("%w: more than %d keys, or nested deeper than %d", files.ErrTooLarge, maxTreeKeys,
				artifact.MaxTreeDepth)}
	}
	i, err := dressOf(k)
	if err != nil {
		return nil, err
	}
	values, err := k.Values()
	if err != nil {
		return nil, err
	}
	if InTaskCache(k.Path) {
		values = slices.DeleteFunc(values, func(v regf.Value) bool { return volatileValues[strings.ToLower(v.Name)] })
	}
	subs, err := k.Subkeys()
	if err != nil {
		return nil, err
	}
	name := ""
	if depth > 0 {
		name = k.Name()
	}
	b = artifact.AppendKey(b, name, i, values, len(subs))
	for _, s := range subs {
		if b, err = appendTree(b, s, depth+1, left); err != nil {
			return nil, err
		}
		if len(b) > files.MaxImageSize {
			return nil, &fs.PathError{Op: "read", Path: k.Path, Err: files.ErrTooLarge}
		}
	}
	return b, nil
}

// makeBelow creates everything below a key that was made.
func makeBelow(t artifact.RecordedKey, e keyEditor) error {
	for _, v := range t.Values {
		if err := e.setValue(v, -1); err != nil {
			return err
		}
	}
	for _, sub := range t.Keys {
		child, err := e.createKey(sub.Name, sub.Image)
		if err != nil {
			return err
		}
		if err := makeBelow(sub, child); err != nil {
			return err
		}
	}
	return e.dress(t.Image)
}

// Set brings an artifact of the registry to an image.
func (r *Registry) Set(a artifact.Artifact, want artifact.Image) error {
	path, name := a.Name, ""
	if a.Kind == artifact.ValueArtifact {
		path, name = a.Value()
	} else {
		k := strings.LastIndexByte(path, '\\')
		if k < 0 {
			return &fs.PathError{Op: "write", Path: a.Name, Err: fs.ErrInvalid}
		}
		path, name = path[:k], path[k+1:]
	}
	m, rest, err := r.find(path)
	if err != nil {
		if want.Kind == artifact.Absent {
			return nil
		}
		return err
	}
	current, err := r.Image(a)
	if err != nil {
		return err
	}
	if want.Kind == artifact.Absent && current.Kind == artifact.Absent {
		return nil
	}
	err = m.source.edit(rest, func(e keyEditor) error {
		switch {
		case !e.exists():
			return fmt.Errorf("its key is not there: %w", fs.ErrNotExist)
		case want.Kind == artifact.Value:
			place := -1
			if current.Kind == artifact.Absent {
				place = want.Place
			}
			return e.setValue(regf.Value{Name: name, Type: regf.Type(want.Type), Data: want.Content}, place)
		case want.Kind == artifact.Absent && a.Kind == artifact.ValueArtifact:
			return e.deleteValue(name)
		case want.Kind == artifact.Absent && a.Kind == artifact.KeyArtifact:
			if empty, err := r.emptyKey(a.Name); err != nil || !empty {
				return cmp.Or(err, errors.New("the key is not empty"))
			}
			return e.deleteKey(name)
		case want.Kind == artifact.Absent:
			return e.deleteKey(name)
		case want.Kind == artifact.Key && current.Kind == artifact.Absent:
			_, err := e.createKey(name, want)
			return err
		case want.Kind == artifact.Key:
			return m.source.edit(strings.TrimPrefix(rest+`\`+name, `\`),
				func(e keyEditor) error { return e.dress(want) })
		case want.Kind == artifact.Tree:
			t, err := want.Recorded()
			if err != nil {
				return err
			}
			if current.Kind != artifact.Absent {
				if err := e.deleteKey(name); err != nil {
					return err
				}
			}
			child, err := e.createKey(name, t.Image)
			if err != nil {
				return err
			}
			return makeBelow(t, child)
		}
		return fmt.Errorf("an image of kind %q cannot be made in the registry", want.Kind)
	})
	if err != nil {
		return &fs.PathError{Op: "write", Path: a.Name, Err: err}
	}
	return nil
}

func (r *Registry) emptyKey(path string) (bool, error) {
	children, err := r.Children(path)
	return len(children) == 0, err
}

// Children lists the values and keys directly in a key.
func (r *Registry) Children(path string) ([]artifact.Artifact, error) {
	k, err := r.Key(path)
	if err != nil {
		return nil, err
	}
	values, err := k.Values()
	if err != nil {
		return nil, err
	}
	subs, err := k.Subkeys()
	var all []artifact.Artifact
	for _, v := range values {
		all = append(all, artifact.RegistryValue(path, v.Name))
	}
	for _, s := range subs {
		all = append(all, artifact.RegistryKeyOnly(s.Path))
	}
	return all, err
}

// RestoreTime gives a key the time of an earlier image, when what is in it is
// the same again.
func (r *Registry) RestoreTime(a artifact.Artifact, earlier artifact.Image) error {
	current, err := r.Image(a)
	if err != nil || current.Kind != artifact.Key || earlier.Kind != artifact.Key || current.Names != earlier.Names ||
		earlier.ModTime.IsZero() || current.ModTime.Equal(earlier.ModTime) {
		return err
	}
	m, rest, err := r.find(a.Name)
	if err != nil {
		return err
	}
	return m.source.edit(rest, func(e keyEditor) error {
		return e.dress(artifact.Image{Kind: artifact.Key, ModTime: earlier.ModTime})
	})
}

// InTaskCache reports whether a key is one that the scheduler keeps of its tasks.
func InTaskCache(path string) bool {
	rest, ok := CutFold(path, KeyTaskCache)
	return ok && (rest == "" || rest[0] == '\\')
}

// CutFold cuts a prefix off without regard to case.
func CutFold(s, prefix string) (string, bool) {
	if len(s) < len(prefix) || !strings.EqualFold(s[:len(prefix)], prefix) {
		return s, false
	}
	return s[len(prefix):], true
}

// Places of the registry that tell what the machine is.
const (
	KeyNT = `HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion`
	// KeyTaskCache is what the scheduler keeps of its tasks.
	KeyTaskCache = KeyNT + `\Schedule\TaskCache`
	KeyCV        = `HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion`
	KeyCCS       = `HKLM\SYSTEM\CurrentControlSet`
)

// Commit writes the hive files that were edited, see the machine's call of the same name.
func (r *Registry) Commit(token string, at func(string)) error {
	var failed []error
	for _, mount := range r.mounts {
		if err := mount.source.commit(token, at); err != nil {
			failed = append(failed, err) // the others may be possible
		}
	}
	return errors.Join(failed...)
}

// Abandon forgets the edits that were not committed.
func (r *Registry) Abandon() {
	for _, mount := range r.mounts {
		mount.source.abandon()
	}
}

// Close releases the hive files that are held open.
func (r *Registry) Close() {
	for _, mount := range r.mounts {
		mount.source.close()
	}
}
