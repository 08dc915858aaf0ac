package macos

import (
	"bytes"
	"fmt"
	"io/fs"
	"strings"

	"lockback/core/format/sqlitefile"
	"lockback/core/location"
	"lockback/core/machine/files"
	"lockback/core/machine/mac"
)

// readDatabase reads one of SQLite's databases with what stands in its log.
func readDatabase(s *location.Survey, file string) ([]byte, error) {
	log, err := s.ReadFile(file+"-wal", files.MaxImageSize)
	if err != nil && !files.IsMissing(err) {
		return nil, err
	}
	content, err := s.ReadFile(file, files.MaxImageSize)
	if err != nil {
		return nil, err
	}
	if content, err = sqlitefile.WithLog(content, log, files.MaxImageSize); err != nil {
		return nil, &fs.PathError{Op: "read", Path: file, Err: err}
	}
	return content, nil
}

// extensionPolicy is where macOS keeps, since 10.13, which kernel extensions somebody allowed.
const extensionPolicy = "/private/var/db/SystemPolicyConfiguration/KextPolicy"

// The kernel loads the extensions of others from one file since macOS 11, into which macOS copies them.
const extensionCollection = "/Library/KernelCollections/AuxiliaryKernelExtensions.kc"

// maxApprovals bounds how many are read.
const maxApprovals = 10000

// approvals tells by bundle ids whether their extensions are allowed; nil if that is not known.
func approvals(s *location.Survey) (map[string]bool, error) {
	content, err := readDatabase(s, extensionPolicy)
	if err != nil {
		return nil, err
	}
	fail := func(err error) (map[string]bool, error) {
		return nil, &fs.PathError{Op: "read", Path: extensionPolicy, Err: err}
	}
	db, err := sqlitefile.Open(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return fail(err)
	}
	defer db.Close()
	if err := db.Tables("kext_policy"); err != nil {
		return fail(err)
	}
	rows, err := db.Rows("SELECT bundle_id, max(allowed) FROM kext_policy GROUP BY bundle_id LIMIT ?",
		int64(maxApprovals))
	if err != nil {
		return fail(err)
	}
	allowed := map[string]bool{}
	for _, row := range rows {
		if n, ok := row[1].(int64); ok {
			allowed[fmt.Sprint(row[0])] = n != 0
		}
	}
	return allowed, nil
}

// readKernelExtensions is the form of the folders of kernel extensions. Those of others start where somebody
// allowed them; one of which nothing is known is shown as starting.
func readKernelExtensions(s *location.Survey, places []location.Place) {
	release := s.Machine.Release()
	var allowed map[string]bool
	if !release.Before(highSierra) {
		var err error
		allowed, err = approvals(s)
		s.Skip(extensionPolicy, err)
	}
	s.Adjusting(func(item *location.Item) {
		if ofSystem(item.Source.Path) {
			return
		}
		is, known := allowed[item.Source.Key]
		switch {
		case !known || !strings.HasSuffix(item.Mode, kernelExtension):
		case is:
			item.Mode += ", allowed"
		default:
			off(item, kernelExtension+", not allowed in System Settings")
		}
		if !release.Before(bigSur) && release != (mac.Release{}) && exists(s, extensionCollection) {
			item.Effect = location.AfterNewCollection
		}
	}, func(s *location.Survey) { bundles{endings: ".kext", mode: kernelExtension}.Read(s, places) })
}

const kernelExtension = "kernel extension"
