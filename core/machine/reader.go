package machine

import (
	"io/fs"
	"os"
	"strings"

	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/mac"
	"lockback/core/machine/registry"
)

// Reader is a machine that may be looked at, and not changed: all that locations, and those who
// find out what an entry starts, are given.
type Reader struct {
	ID, Name, OS, Version string
	Live                  bool
	KeepsOwners           bool
	Users                 []account.User

	m    *Machine
	seen func(place string)
}

// Reader returns the machine as it may be looked at. Each file, folder or key that is looked
// at is passed to seen first, which may be nil and must allow many callers at a time.
func (m *Machine) Reader(seen func(place string)) *Reader {
	if seen == nil {
		seen = func(string) {}
	}
	return &Reader{ID: m.ID, Name: m.Name, OS: m.OS, Version: m.Version, Live: m.Live, KeepsOwners: m.KeepsOwners,
		Users: m.Users, m: m, seen: seen}
}

// KernelArguments are what the running kernel was given, proc_cmdline(5); empty on a disk, and where they cannot be
// read.
func (r *Reader) KernelArguments() string {
	if !r.Live || r.OS != "linux" {
		return ""
	}
	content, err := os.ReadFile("/proc/cmdline")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(content))
}

// ReadFile is [Files.ReadFile].
func (r *Reader) ReadFile(name string, max int64) ([]byte, error) {
	r.seen(name)
	return r.m.ReadFile(name, max)
}

// ReadFileInfo is [Files.ReadFileInfo].
func (r *Reader) ReadFileInfo(name string, max int64) ([]byte, fs.FileInfo, error) {
	r.seen(name)
	return r.m.ReadFileInfo(name, max)
}

// ReadDir is [Files.ReadDir].
func (r *Reader) ReadDir(name string) ([]fs.DirEntry, error) {
	r.seen(name)
	return r.m.ReadDir(name)
}

// Lstat is [Files.Lstat].
func (r *Reader) Lstat(name string) (fs.FileInfo, error) {
	r.seen(name)
	return r.m.Lstat(name)
}

// Stat is [Files.Stat].
func (r *Reader) Stat(name string) (fs.FileInfo, error) {
	r.seen(name)
	return r.m.Stat(name)
}

// Readlink is [Files.Readlink].
func (r *Reader) Readlink(name string) (string, error) { return r.m.Readlink(name) }

// Resolve is [Files.Resolve].
func (r *Reader) Resolve(name string) (string, error) {
	r.seen(name)
	return r.m.Resolve(name)
}

// ResolveFolder is [Files.ResolveFolder].
func (r *Reader) ResolveFolder(name string) (string, error) { return r.m.ResolveFolder(name) }

// Reach is [Files.Reach].
func (r *Reader) Reach(name string, last bool) (string, error) { return r.m.Reach(name, last) }

// OpenFile is [Machine.OpenFile].
func (r *Reader) OpenFile(name string) (*os.File, int64, error) {
	r.seen(name)
	return r.m.OpenFile(name)
}

// Attributes is [Files.Attributes].
func (r *Reader) Attributes(name string) (map[string][]byte, error) { return r.m.Attributes(name) }

// Image is [Machine.Image].
func (r *Reader) Image(a artifact.Artifact) (artifact.Image, error) {
	r.seen(a.Name)
	return r.m.Image(a)
}

// Key opens a key of the registry, see [Registry.Key].
func (r *Reader) Key(path string) (*registry.Key, error) {
	r.seen(path)
	return r.m.Registry.Key(path)
}

// LoginItems is [Machine.LoginItems].
func (r *Reader) LoginItems(u account.User) ([]mac.LoginItem, error) { return r.m.LoginItems(u) }

// UserNamed is [Machine.UserNamed].
func (r *Reader) UserNamed(name string) (account.User, bool) { return r.m.UserNamed(name) }

// Release is [Machine.Release].
func (r *Reader) Release() mac.Release { return r.m.Release() }

// Narrow is [Machine.Narrow].
func (r *Reader) Narrow(b []byte) (text string, ok bool) { return r.m.Narrow(b) }

// Windows is [Machine.Windows].
func (r *Reader) Windows() string { return r.m.Windows() }

// OSRelease are the variables of os-release(5); none where the system has no such file.
func (r *Reader) OSRelease() map[string]string { return r.m.OSRelease() }

// SameName is what all names of one file have in common: two paths of a Mac or of Windows may differ in case, and
// be of the same file.
func (r *Reader) SameName(name string) string {
	if local, err := r.m.Naming().Local(r.m.Files, name); err == nil {
		name = local
	}
	return r.m.Naming().Same(name)
}

// Canonical is [Machine.Canonical].
func (r *Reader) Canonical(name string) string { return r.m.Canonical(name) }

// SearchPath is [Machine.SearchPath].
func (r *Reader) SearchPath(u *account.User) []string { return r.m.SearchPath(u) }

// Expand is [Machine.Expand].
func (r *Reader) Expand(text string, u *account.User) string { return r.m.Expand(text, u) }

// Variable is [Machine.Variable].
func (r *Reader) Variable(name string) string { return r.m.Variable(name) }

// Environment is [Machine.Environment].
func (r *Reader) Environment() map[string]string { return r.m.Environment() }

// Explain is [Machine.Explain].
func (r *Reader) Explain(name string, err error) error { return r.m.Explain(name, err) }
