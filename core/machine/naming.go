package machine

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/text/unicode/norm"
)

// naming is how a machine names its files, and which of two names it takes for the same. It is
// all that [Files] knows of the operating system.
type naming interface {
	// local turns a path as the machine names it into one below the root, see [Files]. It fails
	// with [ErrOtherDrive] where the path lies on a disk that is not here.
	local(f *Files, name string) (string, error)
	// named is the reverse.
	named(full string) string
	// folds reports whether different names may mean the same file.
	folds() bool
	// same is what all names of one file have in common; the name itself where nothing folds.
	same(name string) string
	// bundles reports whether a path lies where people install programs that they own.
	bundles(name string) bool
	// refusal names what stands behind a running machine's refusal to let a file be read, or written.
	refusal(name string, err error, write bool) error
}

// plainNames are those of Linux: each name is its own.
type plainNames struct{}

func (plainNames) local(_ *Files, name string) (string, error) { return name, nil }
func (plainNames) named(full string) string                    { return full }
func (plainNames) folds() bool                                 { return false }
func (plainNames) same(name string) string                     { return name }
func (plainNames) bundles(string) bool                         { return false }
func (plainNames) refusal(_ string, err error, _ bool) error   { return err }

// driveNames are those of Windows: C:\Users, of one drive, without regard to case. Paths below the
// root are taken too.
type driveNames struct {
	plainNames
	drive byte // the letter, in capitals
}

func (n driveNames) local(_ *Files, name string) (string, error) {
	if !onDrive(name) {
		return name, nil
	}
	if upperLetter(name[0]) != n.drive {
		return "", &fs.PathError{Op: "open", Path: name, Err: ErrOtherDrive}
	}
	return "/" + strings.ReplaceAll(strings.Trim(name[3:], `\`), `\`, "/"), nil
}

func (n driveNames) named(full string) string {
	return string(n.drive) + ":" + strings.ReplaceAll(full, "/", `\`)
}

func (driveNames) folds() bool             { return true }
func (driveNames) same(name string) string { return strings.ToUpper(name) }

// onDrive reports whether a path begins with a drive letter.
func onDrive(name string) bool {
	return len(name) >= 3 && name[1] == ':' && name[2] == '\\' && upperLetter(name[0]) >= 'A' && upperLetter(name[0]) <= 'Z'
}

// OnDrive reports whether a path is absolute as Windows has it, C:\x.
func OnDrive(name string) bool { return onDrive(name) }

func upperLetter(c byte) byte {
	if c >= 'a' && c <= 'z' {
		return c - 'a' + 'A'
	}
	return c
}

// macNames are those of a Mac, whose system lies on two volumes that show as one.
type macNames struct {
	plainNames
	dataOnly bool // the system volume, which is another one, is not here
}

// The volume that macOS keeps its data on, as the running system shows it.
const dataVolume = "/System/Volumes/Data"

// macLinks are the links at the top of a Mac's system volume.
var macLinks = []string{"/etc", "/var", "/tmp"}

// macPath names a path where it really lies.
func macPath(name string) string {
	if rest, ok := strings.CutPrefix(name, dataVolume); ok && (rest == "" || rest[0] == '/') {
		name = "/" + strings.TrimPrefix(rest, "/")
	}
	for _, l := range macLinks {
		if within(name, l) {
			return "/private" + name
		}
	}
	return name
}

// ownVolumes are where a running Mac has volumes of its own, beside those of the system and the data; the
// system's links into cryptexes lead there.
var ownVolumes = []string{"/System/Volumes/Preboot", "/System/Volumes/VM", "/System/Volumes/Update", "/System/Volumes/Recovery", "/System/Volumes/Hardware", "/System/Volumes/iSCPreboot", "/System/Volumes/xarts"}

// ErrNotFollowed is given for names that only the kernel of macOS makes something of: a file by its number,
// /.vol/16777220/2, and the second fork of one, FILE/..namedfork/rsrc.
var ErrNotFollowed = errors.New("only a running macOS knows what this name leads to")

// sealed are the folders of the system volume, which the data volume lacks; some
// folders in them lie on the data volume all the same, firmlinks(5).
var (
	sealed    = []string{"/System", "/usr", "/bin", "/sbin"}
	firmlinks = []string{"/usr/local", "/usr/libexec/cups", "/usr/share/snmp", "/System/Library/Caches", "/System/Library/Assets", "/System/Library/AssetsV2", "/System/Library/Speech", "/System/Library/PreinstalledAssets",
		"/System/Library/PreinstalledAssetsV2", "/System/Library/CoreServices/CoreTypes.bundle/Contents/Library"}
)

// local leaves out what lies on another volume: it may be there or not.
func (n macNames) local(f *Files, name string) (string, error) {
	name = macPath(name)
	other := func(what string) error {
		return &fs.PathError{Op: "open", Path: name, Err: fmt.Errorf("%w: %s", ErrOtherDrive, what)}
	}
	if within(name, "/.vol") || strings.Contains(strings.ToLower(name)+"/", "/..namedfork/") {
		return "", &fs.PathError{Op: "open", Path: name, Err: ErrNotFollowed}
	}
	for _, dir := range ownVolumes {
		if !f.live && within(name, dir) && name != dir {
			return "", other("the volume " + dir)
		}
	}
	if rest, ok := strings.CutPrefix(name, "/Volumes/"); ok && rest != "" {
		volume, _, _ := strings.Cut(rest, "/")
		// The system's own volume stands there as a link.
		kind, err := f.typeIn("/Volumes", volume)
		if err != nil || kind&fs.ModeSymlink == 0 && !f.live {
			return "", other("the volume " + volume)
		}
	}
	if within(name, "/Network") && name != "/Network" {
		return "", other("the network")
	}
	if n.dataOnly {
		inside := func(dir string) bool { return within(name, dir) }
		if slices.ContainsFunc(sealed, inside) && !slices.ContainsFunc(firmlinks, inside) {
			return "", other("the system volume, of which only the data volume is here")
		}
	}
	return name, nil
}

func (macNames) folds() bool { return true }

// same is how a Mac's file systems compare names: without regard to case and to how accents are
// put together.
func (macNames) same(name string) string { return strings.ToUpper(norm.NFC.String(name)) }

// bundles are where an administrator of a Mac drags programs to, which stay theirs.
func (macNames) bundles(name string) bool {
	return within(name, "/Library") || within(name, "/Applications")
}

// refusal knows that a running Mac says "operation not permitted" where the rights of the file are
// not the reason. System Integrity Protection lets everyone read; who may not lacks Full Disk Access.
func (macNames) refusal(name string, err error, write bool) error {
	if !errors.Is(err, syscall.EPERM) {
		return err
	}
	cause := ErrFullAccess
	if write && ProtectedPlace(name) {
		cause = ErrProtected
	}
	return &fs.PathError{Op: "open", Path: name, Err: cause}
}

// Firmlinked reports whether a path of a Mac lies among the system's and on the data volume all the same.
func Firmlinked(name string) bool {
	return slices.ContainsFunc(firmlinks, func(dir string) bool { return within(name, dir) })
}

// sealed reports whether a path lies on the volume of macOS that is sealed, since 11. Of a release that cannot
// be told it is taken to be.
func (m *Machine) sealed(name string) bool {
	return !m.release.Before(Release{11, 0}) && slices.ContainsFunc(sealed, func(dir string) bool { return within(name, dir) }) &&
		!Firmlinked(name)
}

// ProtectedPlace reports whether a path lies where System Integrity Protection
// lets nobody write while the system runs, rootless(8).
func ProtectedPlace(name string) bool {
	for _, dir := range sealed {
		if within(name, dir) {
			return !slices.ContainsFunc(exempt, func(open string) bool { return within(name, open) })
		}
	}
	return within(name, backgroundItems) || slices.ContainsFunc(guarded, func(dir string) bool { return within(name, dir) })
}

// What rootless.conf exempts of those folders, and what it protects elsewhere.
var (
	exempt  = []string{"/usr/local", "/usr/libexec/cups", "/usr/share/man", "/usr/share/snmp", "/System/Library/Caches", "/System/Library/User Template"}
	guarded = []string{"/Library/Apple", "/Library/SystemExtensions", "/Library/StagedExtensions", "/Library/Application Support/com.apple.TCC",
		"/private/var/db/ConfigurationProfiles/Settings", "/private/var/db/SystemPolicyConfiguration"}
)
