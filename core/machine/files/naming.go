package files

import (
	"errors"
	"io/fs"
	"strings"

	"lockback/core/machine/artifact"
)

// Naming is how a machine names its files, and which of two names it takes for the same. It is
// all that [Files] knows of the operating system.
type Naming interface {
	// Local turns a path as the machine names it into one below the root, see [Files]. It fails
	// with [ErrOtherDrive] where the path lies on a disk that is not here.
	Local(f *Files, name string) (string, error)
	// Named is the reverse.
	Named(full string) string
	// Folds reports whether different names may mean the same file.
	Folds() bool
	// Same is what all names of one file have in common; the name itself where nothing folds.
	Same(name string) string
	// Bundles reports whether a path lies where people install programs that they own.
	Bundles(name string) bool
	// Refusal names what stands behind a running machine's refusal to let a file be read, or written.
	Refusal(name string, err error, write bool) error
	// Locked says why nobody may write at a path, whoever they are; nil if that is not so.
	Locked(name string, live bool) error
}

// PlainNames are those of Linux: each name is its own, and nothing is refused for another reason than the one given.
type PlainNames struct{}

func (PlainNames) Local(_ *Files, name string) (string, error) { return name, nil }
func (PlainNames) Named(full string) string                    { return full }
func (PlainNames) Folds() bool                                 { return false }
func (PlainNames) Same(name string) string                     { return name }
func (PlainNames) Bundles(string) bool                         { return false }
func (PlainNames) Refusal(_ string, err error, _ bool) error   { return err }
func (PlainNames) Locked(string, bool) error                   { return nil }

// DriveNames are those of Windows: C:\Users, of one drive, without regard to case. Paths below the
// root are taken too.
type DriveNames struct {
	PlainNames
	Drive byte // the letter, in capitals
}

func (n DriveNames) Local(_ *Files, name string) (string, error) {
	if !artifact.OnDrive(name) {
		return name, nil
	}
	if artifact.UpperLetter(name[0]) != n.Drive {
		return "", &fs.PathError{Op: "open", Path: name, Err: ErrOtherDrive}
	}
	return "/" + strings.ReplaceAll(strings.Trim(name[3:], `\`), `\`, "/"), nil
}

func (n DriveNames) Named(full string) string {
	return string(n.Drive) + ":" + strings.ReplaceAll(full, "/", `\`)
}

func (DriveNames) Folds() bool             { return true }
func (DriveNames) Same(name string) string { return strings.ToUpper(name) }

// ErrOtherDrive says that a path is on a drive that is not the mounted disk.
var ErrOtherDrive = errors.New("on a drive that is not reachable here")
