package registry

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"strings"
	"sync"
	"time"

	"lockback/core/format/regf"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// hiveFile is a part of the registry that lies in a hive file. The file is
// opened when it is first asked for, with its transaction logs. Edits are made
// in memory; commit writes the whole hive beside its place and renames it there.
type hiveFile struct {
	files *files.Files
	name  string // of the file, as the machine names it
	// alias turns a path's first part into another: CurrentControlSet.
	alias func(string) string

	mu     sync.Mutex
	tried  bool
	hive   *regf.Hive
	err    error
	opened []*os.File
	asRead fs.FileInfo
}

// logNames are what the names of transaction logs end in.
var logNames = []string{".LOG1", ".LOG2", ".LOG"}

// open opens the hive once.
func (h *hiveFile) open() (*regf.Hive, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.tried {
		return h.hive, h.err
	}
	h.tried = true
	source, err := h.source(h.name)
	if err != nil {
		if !files.IsMissing(err) {
			err = &hiveError{h.name, err}
		}
		h.err = err
		return nil, err
	}
	h.asRead, _ = h.opened[0].Stat()
	var logs []regf.Source
	for _, suffix := range logNames {
		if log, err := h.source(h.name + suffix); err == nil {
			logs = append(logs, log)
		}
	}
	h.hive, h.err = regf.OpenWithLogs(source, source.Size, logs...)
	if h.err != nil {
		h.err = &hiveError{h.name, h.err}
	}
	return h.hive, h.err
}

// hiveError says that a hive file as a whole cannot be read.
type hiveError struct {
	hive string
	err  error
}

func (e *hiveError) Error() string { return e.err.Error() }
func (e *hiveError) Unwrap() error { return e.err }

// HiveOf returns the hive file that as a whole is the cause of an error.
func HiveOf(err error) (string, bool) {
	var e *hiveError
	if errors.As(err, &e) {
		return e.hive, true
	}
	return "", false
}

// ErrChanged says that a hive file was written by something else since it was
// read: writing it whole would undo that.
var ErrChanged = errors.New("the hive was changed by something else meanwhile")

func (h *hiveFile) source(name string) (regf.Source, error) {
	file, err := h.files.OpenRegular(name)
	if err != nil {
		return regf.Source{}, err
	}
	info, err := file.Stat()
	if err != nil {
		file.Close()
		return regf.Source{}, err
	}
	h.opened = append(h.opened, file)
	return regf.Source{ReaderAt: file, Size: info.Size()}, nil
}

// abandon forgets the edits that were not written.
func (h *hiveFile) abandon() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, f := range h.opened {
		f.Close()
	}
	h.tried, h.hive, h.err, h.opened = false, nil, nil, nil
}

func (h *hiveFile) close() { h.abandon() }

// hiveNode is a key of a hive file.
type hiveNode struct{ *regf.Key }

func (n hiveNode) subkeys() ([]keyNode, error) {
	keys, err := n.Subkeys()
	nodes := make([]keyNode, len(keys))
	for k, key := range keys {
		nodes[k] = hiveNode{key}
	}
	return nodes, err
}

func (n hiveNode) subkey(name string) (keyNode, error) {
	k, err := n.Subkey(name)
	if err != nil {
		return nil, err
	}
	return hiveNode{k}, nil
}

func (h *hiveFile) key(path string) (keyNode, error) {
	k, err := h.find(path)
	if err != nil {
		return nil, err
	}
	return hiveNode{k}, nil
}

func (h *hiveFile) find(path string) (*regf.Key, error) {
	hive, err := h.open()
	if err != nil {
		return nil, err
	}
	if h.alias != nil {
		path = h.alias(path)
	}
	return hive.Key(path)
}

// writable: the hive must be whole, and a file beside it be possible.
func (h *hiveFile) writable(string) error {
	hive, err := h.open()
	if err != nil {
		return err
	}
	if err := hive.Unfinished(); err != nil {
		return fmt.Errorf("%s: %w; start the machine and shut it down once, so that it finishes the hive itself",
			h.name, err)
	}
	return h.files.Writable(artifact.File(h.name), artifact.Image{Kind: artifact.Absent},
		artifact.Image{Kind: artifact.Absent})
}

func (h *hiveFile) edit(path string, change func(keyEditor) error) error {
	hive, err := h.open()
	if err != nil {
		return err
	}
	k, err := h.find(path)
	if err != nil && !errors.Is(err, regf.ErrNotFound) {
		return err
	}
	return change(&hiveEditor{hive, k})
}

// hiveEditor changes one key in memory.
type hiveEditor struct {
	hive *regf.Hive
	key  *regf.Key
}

func (e *hiveEditor) exists() bool { return e.key != nil }

// touch gives the changed key the time of now, as the system itself would.
func (e *hiveEditor) touch() error { return e.hive.SetTime(e.key, time.Now()) }

func (e *hiveEditor) setValue(v regf.Value, place int) error {
	if err := e.hive.SetValue(e.key, v); err != nil {
		return err
	}
	if place >= 0 {
		if err := e.hive.MoveValue(e.key, v.Name, place); err != nil {
			return err
		}
	}
	return e.touch()
}

func (e *hiveEditor) deleteValue(name string) error {
	if err := e.hive.DeleteValue(e.key, name); err != nil {
		return err
	}
	return e.touch()
}

func (e *hiveEditor) createKey(name string, image artifact.Image) (keyEditor, error) {
	when := image.ModTime
	if when.IsZero() {
		when = time.Now()
	}
	k, err := e.hive.CreateKey(e.key, name, image.Xattrs[artifact.SecurityAttribute], when)
	if err != nil {
		return nil, err
	}
	if class := image.Xattrs[artifact.ClassAttribute]; len(class) > 0 {
		if err := e.hive.SetClass(k, class); err != nil {
			return nil, err
		}
	}
	return &hiveEditor{e.hive, k}, e.touch()
}

func (e *hiveEditor) deleteKey(name string) error {
	k, err := e.key.Subkey(name)
	if err != nil {
		return err
	}
	if err := e.hive.DeleteKey(k); err != nil {
		return err
	}
	return e.touch()
}

func (e *hiveEditor) dress(image artifact.Image) error {
	if security := image.Xattrs[artifact.SecurityAttribute]; security != nil {
		if err := e.hive.SetSecurity(e.key, security); err != nil {
			return err
		}
	}
	if class, known := image.Xattrs[artifact.ClassAttribute]; known {
		if err := e.hive.SetClass(e.key, class); err != nil {
			return err
		}
	}
	if image.ModTime.IsZero() {
		return nil
	}
	return e.hive.SetTime(e.key, image.ModTime)
}

// commit writes the hive where it was edited: whole, flushed, and then renamed
// over the old one, whose rights it gets. What follows is read from the new file.
func (h *hiveFile) commit(token string, at func(string)) error {
	h.mu.Lock()
	hive := h.hive
	h.mu.Unlock()
	if hive == nil || !hive.Edited() || hive.Unfinished() != nil {
		return nil
	}
	if now, err := h.files.Stat(h.name); err != nil || h.asRead == nil || now.Size() != h.asRead.Size() ||
		!now.ModTime().Equal(h.asRead.ModTime()) {
		return fmt.Errorf("%s: %w", h.name, ErrChanged)
	}
	at("hive " + h.name + ": write")
	hive.Seal(time.Now())
	err := h.files.ReplaceWhole(h.name, token, func(w io.Writer) error {
		_, err := hive.WriteTo(w)
		return err
	}, func() {
		h.abandon() // Windows replaces no file that is open
		at("hive " + h.name + ": replace")
	})
	if err != nil {
		return fmt.Errorf("writing %s: %w", h.name, err)
	}
	return nil
}

// controlSet resolves CurrentControlSet as the boot loader does: by the number
// at Select\Current of the SYSTEM hive.
func (h *hiveFile) controlSet(path string) string {
	const current = "CurrentControlSet"
	if len(path) < len(current) || !strings.EqualFold(path[:len(current)], current) || len(path) > len(current) &&
		path[len(current)] != '\\' {
		return path
	}
	number := uint64(1)
	if hive, err := h.open(); err == nil {
		if k, err := hive.Key("Select"); err == nil {
			if v, err := k.Value("Current"); err == nil {
				if n, ok := v.Number(); ok && n < 1000 {
					number = n
				}
			}
		}
	}
	return fmt.Sprintf("ControlSet%03d%s", number, path[len(current):])
}

// discard removes what an interrupted commit left beside the hive.
func (h *hiveFile) discard(token string) error { return h.files.DiscardWhole(h.name, token) }

func (h *hiveFile) file() string { return h.name }

// stale says that the hive was not closed cleanly and could not be finished.
func (h *hiveFile) stale() error {
	hive, err := h.open()
	if err != nil {
		return nil // the reader of its keys says so
	}
	return hive.Unfinished()
}

// Stale yields the hives, by their files, that were not closed cleanly and could
// not be finished: they can be read, and not be written.
func (r *Registry) Stale() iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		seen := map[string]bool{}
		for _, m := range r.mounts {
			name := m.source.file()
			if name == "" || seen[name] {
				continue
			}
			seen[name] = true
			if err := m.source.stale(); err != nil && !yield(name, err) {
				return
			}
		}
	}
}

// MountHive makes a hive file readable at prefixes, which [Registry.Key] knows it by. Of the SYSTEM hive the control
// set that the machine starts with is CurrentControlSet.
func (r *Registry) MountHive(f *files.Files, name string, system bool, prefixes ...string) {
	h := &hiveFile{files: f, name: name}
	if system {
		h.alias = h.controlSet
	}
	for _, prefix := range prefixes {
		r.add(prefix, h)
	}
}
