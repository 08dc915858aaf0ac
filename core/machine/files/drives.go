package files

import (
	"sync"

	"lockback/core/machine/artifact"
)

// drives are the drives of a running Windows beside its own. Programs on them are looked at; nothing on
// them is written, and what lies there is no artifact.
type drives struct {
	// open opens a drive by its letter; nil if the drive is not built in: what is plugged in, or on
	// the network, may take its time and is gone tomorrow.
	open func(letter byte) *Files

	mu     sync.Mutex
	opened map[byte]*Files
}

// elsewhere returns the files of the drive that a path lies on, where that is another one than these files', and
// can be looked at; else it returns nil.
func (f *Files) elsewhere(name string) *Files {
	own, ok := f.names.(DriveNames)
	if f.drives == nil || !ok || !artifact.OnDrive(name) || artifact.UpperLetter(name[0]) == own.Drive {
		return nil
	}
	return f.drives.files(artifact.UpperLetter(name[0]))
}

func (d *drives) files(letter byte) *Files {
	d.mu.Lock()
	defer d.mu.Unlock()
	f, known := d.opened[letter]
	if !known {
		if f = d.open(letter); f != nil {
			f.names = DriveNames{Drive: letter}
		}
		if d.opened == nil {
			d.opened = map[byte]*Files{}
		}
		d.opened[letter] = f
	}
	return f
}

func (d *drives) close() {
	if d == nil {
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, f := range d.opened {
		if f != nil {
			f.Close()
		}
	}
	d.opened = nil
}
