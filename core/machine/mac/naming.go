package mac

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/text/unicode/norm"

	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// Names are those of a Mac of which nothing is known yet.
var Names files.Naming = names{}

// names are those of a Mac, whose system lies on two volumes that show as one.
type names struct {
	files.PlainNames
	release  Release
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
		if artifact.Within(name, l) {
			return "/private" + name
		}
	}
	return name
}

// ownVolumes are where a running Mac has volumes of its own, beside those of the system and the data; the
// system's links into cryptexes lead there.
var ownVolumes = []string{"/System/Volumes/Preboot", "/System/Volumes/VM", "/System/Volumes/Update",
	"/System/Volumes/Recovery", "/System/Volumes/Hardware", "/System/Volumes/iSCPreboot", "/System/Volumes/xarts"}

// ErrNotFollowed is given for names that only the kernel of macOS makes something of: a file by its number,
// /.vol/16777220/2, and the second fork of one, FILE/..namedfork/rsrc.
var ErrNotFollowed = errors.New("only a running macOS knows what this name leads to")

// sealed are the folders of the system volume, which the data volume lacks; some
// folders in them lie on the data volume all the same, firmlinks(5).
var (
	sealed    = []string{"/System", "/usr", "/bin", "/sbin"}
	firmlinks = []string{"/usr/local", "/usr/libexec/cups", "/usr/share/snmp", "/System/Library/Caches",
		"/System/Library/Assets", "/System/Library/AssetsV2", "/System/Library/Speech",
		"/System/Library/PreinstalledAssets",
		"/System/Library/PreinstalledAssetsV2", "/System/Library/CoreServices/CoreTypes.bundle/Contents/Library"}
)

// Local leaves out what lies on another volume: it may be there or not.
func (n names) Local(f *files.Files, name string) (string, error) {
	name = macPath(name)
	other := func(what string) error {
		return &fs.PathError{Op: "open", Path: name, Err: fmt.Errorf("%w: %s", files.ErrOtherDrive, what)}
	}
	if artifact.Within(name, "/.vol") || strings.Contains(strings.ToLower(name)+"/", "/..namedfork/") {
		return "", &fs.PathError{Op: "open", Path: name, Err: ErrNotFollowed}
	}
	for _, dir := range ownVolumes {
		if !f.Live() && artifact.Within(name, dir) && name != dir {
			return "", other("the volume " + dir)
		}
	}
	if rest, ok := strings.CutPrefix(name, "/Volumes/"); ok && rest != "" {
		volume, _, _ := strings.Cut(rest, "/")
		// The system's own volume stands there as a link.
		kind, err := f.TypeIn("/Volumes", volume)
		if err != nil || kind&fs.ModeSymlink == 0 && !f.Live() {
			return "", other("the volume " + volume)
		}
	}
	if artifact.Within(name, "/Network") && name != "/Network" {
		return "", other("the network")
	}
	if n.dataOnly {
		inside := func(dir string) bool { return artifact.Within(name, dir) }
		if slices.ContainsFunc(sealed, inside) && !slices.ContainsFunc(firmlinks, inside) {
			return "", other("the system volume, of which only the data volume is here")
		}
	}
	return name, nil
}

func (names) Folds() bool { return true }

// Same is how a Mac's file systems compare names: without regard to case and to how accents are
// put together.
func (names) Same(name string) string { return strings.ToUpper(norm.NFC.String(name)) }

// Bundles are where an administrator of a Mac drags programs to, which stay theirs.
func (names) Bundles(name string) bool {
	return artifact.Within(name, "/Library") || artifact.Within(name, "/Applications")
}

// Refusal knows that a running Mac says "operation not permitted" where the rights of the file are
// not the reason. System Integrity Protection lets everyone read; who may not lacks Full Disk Access.
func (names) Refusal(name string, err error, write bool) error {
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
	return slices.ContainsFunc(firmlinks, func(dir string) bool { return artifact.Within(name, dir) })
}

// Locked knows what System Integrity Protection holds while the Mac runs, and the sealed volume on a disk.
func (n names) Locked(name string, live bool) error {
	switch {
	case !ProtectedPlace(name):
		return nil
	case live:
		return ErrProtected
	case n.sealed(name):
		return ErrSealed
	}
	return nil
}

// sealed reports whether a path lies on the volume of macOS that is sealed, since 11. Of a release that cannot
// be told it is taken to be.
func (n names) sealed(name string) bool {
	return !n.release.Before(Release{11, 0}) &&
		slices.ContainsFunc(sealed, func(dir string) bool { return artifact.Within(name, dir) }) &&
		!Firmlinked(name)
}

// ProtectedPlace reports whether a path lies where System Integrity Protection
// lets nobody write while the system runs, rootless(8).
func ProtectedPlace(name string) bool {
	for _, dir := range sealed {
		if artifact.Within(name, dir) {
			return !slices.ContainsFunc(exempt, func(open string) bool { return artifact.Within(name, open) })
		}
	}
	return artifact.Within(name, backgroundItems) || slices.ContainsFunc(guarded,
		func(dir string) bool { return artifact.Within(name, dir) })
}

// What rootless.conf exempts of those folders, and what it protects elsewhere.
var (
	exempt = []string{"/usr/local", "/usr/libexec/cups", "/usr/share/man", "/usr/share/snmp", "/System/Library/Caches",
		"/System/Library/User Template"}
	guarded = []string{"/Library/Apple", "/Library/SystemExtensions", "/Library/StagedExtensions",
		"/Library/Application Support/com.apple.TCC",
		"/private/var/db/ConfigurationProfiles/Settings", "/private/var/db/SystemPolicyConfiguration"}
)
