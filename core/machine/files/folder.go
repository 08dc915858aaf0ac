package files

import (
	"errors"
	"path/filepath"
	"strings"

	"lockback/core/machine/artifact"
)

// errExchanged says that a name leads to something else than a moment ago.
var errExchanged = errors.New("it was exchanged for something else meanwhile")

// walk opens the folder at a path without links, name by name, relative to this one. Each
// folder on the way must be allowed; nil allows all.
func (d *folder) walk(rel string, allowed func(at *folder, rel string) error) (*folder, error) {
	at, way := d, ""
	for base := range strings.SplitSeq(filepath.ToSlash(rel), "/") {
		next, err := at.step(base)
		if at != d {
			at.close()
		}
		if err != nil {
			return nil, err
		}
		at, way = next, way+"/"+base
		if allowed == nil {
			continue
		}
		if err := allowed(at, way); err != nil {
			at.close()
			return nil, err
		}
	}
	return at, nil
}

// image reads the full image of what is in the folder under a name.
func (d *folder) image(base string, max int64) (artifact.Image, error) {
	return d.read(base, max, true)
}

// likeness is the image of what is in the folder under a name, without its content.
func (d *folder) likeness(base string) (artifact.Image, error) { return d.read(base, 0, false) }
