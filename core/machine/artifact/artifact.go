// Package artifact has the words for the state of an operating system: an [Artifact] is an addressable piece of it, an
// [Image] its full content and metadata at one moment; that nothing is there is an image too. A [Medium] keeps
// artifacts.
package artifact

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
)

// ArtifactKind says what sort of thing an artifact's name addresses.
type ArtifactKind string

// The kinds of artifacts. A file artifact addresses a file, a link, a folder, or
// the place where one could be; its name is an absolute path of the machine. The
// others are of a Windows registry, see [Registry].
const (
	FileArtifact  ArtifactKind = "file"
	ValueArtifact ArtifactKind = "value" // a value of a key
	KeyArtifact   ArtifactKind = "key"   // a key for itself, as a folder is
	TreeArtifact  ArtifactKind = "tree"  // a key with everything below it
)

// LoginItemArtifact addresses a program in the list of login items of a person
// who is signed in to a running Mac, see [LoginItemOf].
const LoginItemArtifact ArtifactKind = "login-item"

// Artifact is the address of one piece of operating-system state, as its own
// machine names it.
type Artifact struct {
	Kind ArtifactKind
	Name string
}

// File is the artifact of the file, link or folder at an absolute path.
func File(name string) Artifact { return Artifact{FileArtifact, name} }

func (a Artifact) String() string { return a.Name }

// Parent is what an artifact lies in: the folder of a file, the key of a value
// or key. The top of a file system or of a hive lies in nothing.
func (a Artifact) Parent() (Artifact, bool) {
	switch a.Kind {
	case LoginItemArtifact:
		return Artifact{}, false
	case ValueArtifact:
		key, _ := a.Value()
		return RegistryKeyOnly(key), true
	case KeyArtifact, TreeArtifact:
		k := strings.LastIndexByte(a.Name, '\\')
		if k < 0 || !strings.Contains(a.Name[:k], `\`) {
			return Artifact{}, false
		}
		return RegistryKeyOnly(a.Name[:k]), true
	}
	if OnDrive(a.Name) {
		k := strings.LastIndexByte(a.Name, '\\')
		switch {
		case len(a.Name) <= len(`C:\`):
			return Artifact{}, false
		case k <= len(`C:`):
			return File(a.Name[:len(`C:\`)]), true
		}
		return File(a.Name[:k]), true
	}
	if a.Name == "/" {
		return Artifact{}, false
	}
	return File(path.Dir(a.Name)), true
}

// ID names the artifact among those of all kinds.
func (a Artifact) ID() string {
	if a.Kind == FileArtifact {
		return strconv.Quote(a.Name)
	}
	return string(a.Kind) + ":" + strconv.Quote(a.Name)
}

// ParseID is the reverse of [Artifact.ID].
func ParseID(id string) (Artifact, error) {
	kind, quoted, ok := strings.Cut(id, `:"`)
	if !ok || strings.HasPrefix(id, `"`) {
		name, err := strconv.Unquote(id)
		return File(name), err
	}
	name, err := strconv.Unquote(`"` + quoted)
	return Artifact{ArtifactKind(kind), name}, err
}

// Volatile reports whether the artifact is gone with the next start of the
// machine: file-hierarchy(7), /run.
func (a Artifact) Volatile() bool {
	return a.Kind == FileArtifact && strings.HasPrefix(a.Name, "/run/")
}

// ImageKind says what is at an artifact's address.
type ImageKind string

// What can be found at the address of a file artifact. Special is a device, a
// pipe or a socket: its existence is known, its content never read.
const (
	Absent  ImageKind = "absent"
	Regular ImageKind = "file"
	Symlink ImageKind = "link"
	Folder  ImageKind = "folder"
	Special ImageKind = "special"
)

// What can be found at the address of an artifact of the registry.
const (
	Value ImageKind = "value"
	Key   ImageKind = "key"  // for itself: its rights, class and time
	Tree  ImageKind = "tree" // with everything below it
)

// LoginItemKind is what can be found at the address of a login item: its content
// is a [LoginItem] in JSON.
const LoginItemKind ImageKind = "login-item"

// Image is the full content and metadata of an artifact at one moment. The zero
// ModTime is unknown: it is neither compared nor set. The zero
// Xattrs (nil) and a negative UID mean "as the system gives them", which only an
// image that was planned, not read, may say.
type Image struct {
	Kind     ImageKind
	Mode     fs.FileMode // permission, set-id and sticky bits
	UID, GID int
	ModTime  time.Time
	Content  []byte            // of a regular file, a value or a tree
	Target   string            // of a link, as it is written
	Xattrs   map[string][]byte // extended attributes, access lists among them
	Names    string            // of a folder: a digest of the names in it; of a key: of its values and subkeys
	Type     uint32            // of a registry value
	Place    int               // of a registry value: how many stand before it
}

// NewFile is an image of a regular file to make.
func NewFile(content []byte, mode fs.FileMode, uid, gid int, now time.Time) Image {
	return Image{Kind: Regular, Mode: mode, UID: uid, GID: gid, ModTime: stamp(now), Content: content}
}

// NewLink is an image of a link to make.
func NewLink(target string, uid, gid int, now time.Time) Image {
	return Image{Kind: Symlink, Mode: 0o777, UID: uid, GID: gid, ModTime: stamp(now), Target: target}
}

// NewFolder is an image of a folder to make.
func NewFolder(mode fs.FileMode, uid, gid int) Image {
	return Image{Kind: Folder, Mode: mode, UID: uid, GID: gid}
}

// NewKey is an image of a registry key to make, with the rights that
// the key above it gives.
func NewKey() Image { return Image{Kind: Key, UID: -1, GID: -1} }

// WithContent is the same file with other content: mode, owner and extended
// attributes stay.
func (i Image) WithContent(content []byte, now time.Time) Image {
	i.Content, i.ModTime = content, stamp(now)
	return i
}

// stamp rounds a time that we choose to an even second, which every file system
// can hold.
func stamp(t time.Time) time.Time { return t.UTC().Truncate(2 * time.Second) }

// Same reports whether two images are of the same state. Of folders, neither the
// times nor the names in them count: others may put files there meanwhile.
func (i Image) Same(j Image) bool {
	if i.Kind != j.Kind {
		return false
	}
	switch i.Kind {
	case Absent:
		return true
	case Folder:
		return i.Mode == j.Mode && sameOwner(i, j)
	case Value, Key, Tree:
		return i.sameRegistry(j)
	}
	return i.Mode == j.Mode && sameOwner(i, j) && sameTime(i.ModTime, j.ModTime) &&
		i.Target == j.Target && bytes.Equal(i.Content, j.Content) &&
		(i.Xattrs == nil || j.Xattrs == nil || sameXattrs(i.Xattrs, j.Xattrs))
}

// sameTime compares two times, of which the zero one is unknown.
func sameTime(a, b time.Time) bool { return a.IsZero() || b.IsZero() || a.Equal(b) }

func sameOwner(i, j Image) bool {
	return i.UID < 0 || j.UID < 0 || i.UID == j.UID && i.GID == j.GID
}

// Container reports whether other artifacts lie in what the image is of.
func (i Image) Container() bool { return i.Kind == Folder || i.Kind == Key }

// String describes the image in a few words, for plans and comparisons.
func (i Image) String() string {
	switch i.Kind {
	case Absent:
		return "absent"
	case Symlink:
		return "link to " + i.Target
	case Folder:
		return "folder " + i.Mode.Perm().String()[1:]
	case Regular:
		sum := sha256.Sum256(i.Content)
		return fmt.Sprintf("file %s, %d bytes, %s", modeString(i.Mode), len(i.Content), hex.EncodeToString(sum[:4]))
	case Value:
		return i.Value().String()
	case LoginItemKind:
		return "in the list, " + string(i.Content)
	case Tree:
		sum := sha256.Sum256(i.Content)
		return fmt.Sprintf("key with all below it, %s", hex.EncodeToString(sum[:4]))
	}
	return string(i.Kind)
}

// modeString words permission bits as ls does, without the type letter.
func modeString(m fs.FileMode) string {
	s := []byte(m.Perm().String()[1:])
	for _, b := range []struct {
		bit  fs.FileMode
		at   int
		x, n byte
	}{{fs.ModeSetuid, 2, 's', 'S'}, {fs.ModeSetgid, 5, 's', 'S'}, {fs.ModeSticky, 8, 't', 'T'}} {
		if m&b.bit != 0 {
			if s[b.at] == 'x' {
				s[b.at] = b.x
			} else {
				s[b.at] = b.n
			}
		}
	}
	return string(s)
}

// DigestNames makes [Image.Names] of a folder.
func DigestNames(names []string) string {
	slices.Sort(names)
	h := sha256.New()
	for _, n := range names {
		fmt.Fprintf(h, "%s\x00", n)
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// The names that attributes of one system have among an image's [Image.Xattrs], wherever they are read.
const (
	ofWindows = "windows."
	ofMac     = "macos."

	SecurityAttribute = ofWindows + "security" // a self-relative security descriptor
	ClassAttribute    = ofWindows + "class"    // the class of a registry key
	StreamAttribute   = ofWindows + "stream:"  // and the stream's name
	ACLAttribute      = ofMac + "acl"          // an access control list, acl(3), as text
	// FlagsAttribute are the flags of a file on a Mac, chflags(2): four bytes, the highest first.
	FlagsAttribute = ofMac + "flags"
)
