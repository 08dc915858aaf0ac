package machine

import (
	"bytes"
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
// the hive files. Edits of those are held in memory until [Machine.Commit].
type Registry struct {
	mounts []*mount // the longest prefixes first

	mu    sync.Mutex
	links map[string]string // a key's path in small letters, to where it leads; empty where it is no link
}

// mount is a part of the registry that comes from one place.
type mount struct {
	prefix string // as the machine names it: HKLM\SOFTWARE
	source registrySource
}

// registrySource is where a part of the registry comes from: a hive file, or
// the running system. Paths are below the mount; ControlSets are resolved.
type registrySource interface {
	key(path string) (registryNode, error)
	// edit makes one change; container says what a new value or key needs.
	edit(path string, change func(registryEditor) error) error
	// writable tells beforehand why edits would be refused.
	writable(path string) error
	commit(token string, at func(string)) error
	// discard removes what an interrupted commit left behind.
	discard(token string) error
	abandon()
	close()
	// file is the hive file, as the machine names it; empty where the running system keeps
	// the keys. stale says why such a file can be read and not be written.
	file() string
	stale() error
}

// registryNode is an opened key.
type registryNode interface {
	Name() string
	Modified() time.Time
	subkeys() ([]registryNode, error)
	subkey(name string) (registryNode, error)
	Values() ([]regf.Value, error)
	Value(name string) (regf.Value, error)
	Class() ([]byte, error)
	Security() ([]byte, error)
}

// registryEditor changes one key, or makes and removes what is in it. A name is
// that of a value or of a key directly below.
type registryEditor interface {
	setValue(v regf.Value, place int) error
	deleteValue(name string) error
	createKey(name string, image Image) (registryEditor, error)
	deleteKey(name string) error
	dress(image Image) error // security, class, time
	exists() bool
}

// RegistryKey is an opened key of the registry.
type RegistryKey struct {
	Path string // as the machine names it
	node registryNode
}

// Name is the last part of the key's path.
func (k *RegistryKey) Name() string { return k.Path[strings.LastIndexByte(k.Path, '\\')+1:] }

// Modified is when the key was last written.
func (k *RegistryKey) Modified() time.Time { return k.node.Modified() }

// Values reads the key's values. What is damaged is left out and named by the
// error.
func (k *RegistryKey) Values() ([]regf.Value, error) {
	v, err := k.node.Values()
	return v, registryError(k.Path, err)
}

// Value reads one value; the error is [fs.ErrNotExist] where there is none.
func (k *RegistryKey) Value(name string) (regf.Value, error) {
	v, err := k.node.Value(name)
	return v, registryError(k.Path, err)
}

// Text returns a text value, empty where there is none.
func (k *RegistryKey) Text(name string) string {
	v, err := k.node.Value(name)
	if err != nil {
		return ""
	}
	return v.Text()
}

// Number returns a number value.
func (k *RegistryKey) Number(name string) (uint64, bool) {
	v, err := k.node.Value(name)
	if err != nil {
		return 0, false
	}
	return v.Number()
}

// Subkeys opens the keys directly below. What is damaged is left out and named
// by the error.
func (k *RegistryKey) Subkeys() ([]*RegistryKey, error) {
	nodes, err := k.node.subkeys()
	keys := make([]*RegistryKey, len(nodes))
	for n, node := range nodes {
		keys[n] = &RegistryKey{k.Path + `\` + node.Name(), node}
	}
	return keys, registryError(k.Path, err)
}

// Subkey opens a key directly below.
func (k *RegistryKey) Subkey(name string) (*RegistryKey, error) {
	node, err := k.node.subkey(name)
	if err != nil {
		return nil, registryError(k.Path+`\`+name, err)
	}
	return &RegistryKey{k.Path + `\` + node.Name(), node}, nil
}

// registryError gives an error of a hive the shape of a file's.
func registryError(path string, err error) error {
	switch {
	case err == nil:
		return nil
	case errors.Is(err, regf.ErrNotFound), missing(err):
		err = fs.ErrNotExist
	}
	return &fs.PathError{Op: "read", Path: path, Err: err}
}

// add mounts a source at a prefix.
func (r *Registry) add(prefix string, s registrySource) {
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
func (r *Registry) Key(path string) (*RegistryKey, error) {
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
		return &RegistryKey{path, node}, nil
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
func linkOf(node registryNode) string {
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

// valueSeparator stands between a key's path and a value's name: no key's path
// holds it.
const valueSeparator = `\\`

// RegistryValue is the artifact of a value. The empty name is the default value.
func RegistryValue(key, name string) Artifact {
	return Artifact{ValueArtifact, key + valueSeparator + name}
}

// RegistryTree is the artifact of a key with everything below it.
func RegistryTree(key string) Artifact { return Artifact{TreeArtifact, key} }

// RegistryKeyOnly is the artifact of a key for itself: that it is there, its
// rights, its class and its time.
func RegistryKeyOnly(key string) Artifact { return Artifact{KeyArtifact, key} }

// Value splits the name of a value artifact.
func (a Artifact) Value() (key, name string) {
	key, name, _ = strings.Cut(a.Name, valueSeparator)
	return key, name
}

// NewValue is an image of a registry value.
func NewValue(v regf.Value) Image {
	return Image{Kind: Value, UID: -1, GID: -1, Type: uint32(v.Type), Content: v.Data, Place: -1}
}

// Value is the registry value that an image holds, without its name.
func (i Image) Value() regf.Value { return regf.Value{Type: regf.Type(i.Type), Data: i.Content} }

// image reads the image of an artifact of the registry.
func (r *Registry) image(a Artifact) (Image, error) {
	path, name := a.Name, ""
	if a.Kind == ValueArtifact {
		path, name = a.Value()
	}
	k, err := r.Key(path)
	if errors.Is(err, fs.ErrNotExist) {
		return Image{Kind: Absent}, nil
	}
	if err != nil {
		return Image{}, err
	}
	switch a.Kind {
	case ValueArtifact:
		return valueImage(k, name)
	case KeyArtifact:
		return keyImage(k)
	}
	i, err := dressOf(k)
	if err != nil {
		return i, err
	}
	i.Kind = Tree
	left := maxTreeKeys
	i.Content, err = appendTree(nil, k, 0, &left)
	return i, err
}

func valueImage(k *RegistryKey, name string) (Image, error) {
	values, err := k.Values()
	for place, v := range values {
		if strings.EqualFold(v.Name, name) {
			i := NewValue(v)
			i.Place = place
			return i, nil
		}
	}
	return Image{Kind: Absent}, err
}

// dressOf reads what belongs to a key itself.
func dressOf(k *RegistryKey) (Image, error) {
	i := Image{Kind: Key, UID: -1, GID: -1, ModTime: k.Modified(), Xattrs: map[string][]byte{}}
	security, err := k.node.Security()
	if err != nil {
		return i, registryError(k.Path, err)
	}
	if security != nil {
		i.Xattrs[securityAttr] = security
	}
	class, err := k.node.Class()
	if len(class) > 0 {
		i.Xattrs[classAttr] = class
	}
	return i, registryError(k.Path, err)
}

// keyImage reads a key for itself. Its digest covers its values and the names of
// its subkeys, for with those its time is put back.
func keyImage(k *RegistryKey) (Image, error) {
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
	maxTreeKeys  = 20000
	maxTreeDepth = 64
)

// volatileValues are values of the task cache that the scheduler writes again and
// again, and that no state is: its notes of a task's last runs.
var volatileValues = map[string]bool{"dynamicinfo": true, "lasttaskruntime": true}

// appendTree writes a key and everything below it: its rights, class and time,
// its values in their order, its subkeys.
func appendTree(b []byte, k *RegistryKey, depth int, left *int) ([]byte, error) {
	if *left--; *left < 0 || depth > maxTreeDepth {
		return nil, &fs.PathError{Op: "read", Path: k.Path, Err: fmt.Errorf("%w: more than %d keys, or nested deeper than %d", ErrTooLarge, maxTreeKeys, maxTreeDepth)}
	}
	i, err := dressOf(k)
	if err != nil {
		return nil, err
	}
	values, err := k.Values()
	if err != nil {
		return nil, err
	}
	if inTaskCache(k.Path) {
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
	b = appendText(b, name)
	b = appendNumber(b, windata.FileTime(i.ModTime))
	b = appendText(b, string(i.Xattrs[securityAttr]))
	b = appendText(b, string(i.Xattrs[classAttr]))
	b = appendNumber(b, uint64(len(values)))
	for _, v := range values {
		b = appendText(b, v.Name)
		b = appendNumber(b, uint64(v.Type))
		b = appendText(b, string(v.Data))
	}
	b = appendNumber(b, uint64(len(subs)))
	for _, s := range subs {
		if b, err = appendTree(b, s, depth+1, left); err != nil {
			return nil, err
		}
		if len(b) > MaxImageSize {
			return nil, &fs.PathError{Op: "read", Path: k.Path, Err: ErrTooLarge}
		}
	}
	return b, nil
}

// treeNode is a key of a recorded tree.
type treeNode struct {
	name   string
	image  Image
	values []regf.Value
	keys   []treeNode
}

// errTree says that a recorded tree cannot be right.
var errTree = errors.New("a recorded registry key cannot be read")

func parseTree(b []byte, depth int) (t treeNode, rest []byte, err error) {
	r := treeReader{b: b}
	t.name = r.text()
	t.image = Image{Kind: Key, UID: -1, GID: -1, ModTime: windata.Time(r.number()), Xattrs: map[string][]byte{}}
	if s := r.text(); s != "" {
		t.image.Xattrs[securityAttr] = []byte(s)
	}
	if s := r.text(); s != "" {
		t.image.Xattrs[classAttr] = []byte(s)
	}
	for n := r.count(); n > 0; n-- {
		t.values = append(t.values, regf.Value{Name: r.text(), Type: regf.Type(r.number()), Data: []byte(r.text())})
	}
	for n := r.count(); n > 0 && !r.bad; n-- {
		var sub treeNode
		if depth > maxTreeDepth {
			return t, nil, errTree
		}
		if sub, r.b, err = parseTree(r.b, depth+1); err != nil {
			return t, nil, err
		}
		t.keys = append(t.keys, sub)
	}
	if r.bad {
		return t, nil, errTree
	}
	return t, r.b, nil
}

// make creates everything below a key.
func (t treeNode) make(e registryEditor) error {
	for _, v := range t.values {
		if err := e.setValue(v, -1); err != nil {
			return err
		}
	}
	for _, sub := range t.keys {
		child, err := e.createKey(sub.name, sub.image)
		if err != nil {
			return err
		}
		if err := sub.make(child); err != nil {
			return err
		}
	}
	return e.dress(t.image)
}

// set brings an artifact of the registry to an image.
func (r *Registry) set(a Artifact, want Image) error {
	path, name := a.Name, ""
	if a.Kind == ValueArtifact {
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
		if want.Kind == Absent {
			return nil
		}
		return err
	}
	current, err := r.image(a)
	if err != nil {
		return err
	}
	if want.Kind == Absent && current.Kind == Absent {
		return nil
	}
	err = m.source.edit(rest, func(e registryEditor) error {
		switch {
		case !e.exists():
			return fmt.Errorf("its key is not there: %w", fs.ErrNotExist)
		case want.Kind == Value:
			place := -1
			if current.Kind == Absent {
				place = want.Place
			}
			return e.setValue(regf.Value{Name: name, Type: regf.Type(want.Type), Data: want.Content}, place)
		case want.Kind == Absent && a.Kind == ValueArtifact:
			return e.deleteValue(name)
		case want.Kind == Absent && a.Kind == KeyArtifact:
			if empty, err := r.emptyKey(a.Name); err != nil || !empty {
				return cmp.Or(err, errors.New("the key is not empty"))
			}
			return e.deleteKey(name)
		case want.Kind == Absent:
			return e.deleteKey(name)
		case want.Kind == Key && current.Kind == Absent:
			_, err := e.createKey(name, want)
			return err
		case want.Kind == Key:
			return m.source.edit(strings.TrimPrefix(rest+`\`+name, `\`), func(e registryEditor) error { return e.dress(want) })
		case want.Kind == Tree:
			t, _, err := parseTree(want.Content, 0)
			if err != nil {
				return err
			}
			if current.Kind != Absent {
				if err := e.deleteKey(name); err != nil {
					return err
				}
			}
			child, err := e.createKey(name, t.image)
			if err != nil {
				return err
			}
			return t.make(child)
		}
		return fmt.Errorf("an image of kind %q cannot be made in the registry", want.Kind)
	})
	if err != nil {
		return &fs.PathError{Op: "write", Path: a.Name, Err: err}
	}
	return nil
}

func (r *Registry) emptyKey(path string) (bool, error) {
	children, err := r.children(path)
	return len(children) == 0, err
}

// children lists the values and keys directly in a key.
func (r *Registry) children(path string) ([]Artifact, error) {
	k, err := r.Key(path)
	if err != nil {
		return nil, err
	}
	values, err := k.Values()
	if err != nil {
		return nil, err
	}
	subs, err := k.Subkeys()
	var all []Artifact
	for _, v := range values {
		all = append(all, RegistryValue(path, v.Name))
	}
	for _, s := range subs {
		all = append(all, RegistryKeyOnly(s.Path))
	}
	return all, err
}

// restoreTime gives a key the time of an earlier image, when what is in it is
// the same again.
func (r *Registry) restoreTime(a Artifact, earlier Image) error {
	current, err := r.image(a)
	if err != nil || current.Kind != Key || earlier.Kind != Key || current.Names != earlier.Names ||
		earlier.ModTime.IsZero() || current.ModTime.Equal(earlier.ModTime) {
		return err
	}
	m, rest, err := r.find(a.Name)
	if err != nil {
		return err
	}
	return m.source.edit(rest, func(e registryEditor) error {
		return e.dress(Image{Kind: Key, ModTime: earlier.ModTime})
	})
}

// sameRegistry compares images of the registry. Of a key for itself, only its
// rights count: others may put values there meanwhile.
func (i Image) sameRegistry(j Image) bool {
	switch i.Kind {
	case Value:
		return i.Type == j.Type && bytes.Equal(i.Content, j.Content)
	case Key:
		return i.Xattrs == nil || j.Xattrs == nil || sameXattrs(i.Xattrs, j.Xattrs)
	}
	if bytes.Equal(i.Content, j.Content) {
		return true
	}
	// A running system does not let the time of a key be set.
	a, _, err1 := parseTree(i.Content, 0)
	b, _, err2 := parseTree(j.Content, 0)
	return err1 == nil && err2 == nil && a.same(b)
}

func (t treeNode) same(u treeNode) bool {
	return t.name == u.name && t.image.sameRegistry(u.image) &&
		slices.EqualFunc(t.values, u.values, func(a, b regf.Value) bool {
			return a.Name == b.Name && a.Type == b.Type && bytes.Equal(a.Data, b.Data)
		}) && slices.EqualFunc(t.keys, u.keys, treeNode.same)
}
