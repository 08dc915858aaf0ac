package program

import (
	"crypto"
	"errors"
	"io"
	"slices"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/format/authenticode"
	"lockback/core/format/peimage"
	"lockback/core/machine"
	"lockback/core/parallel"
)

// catalogueFolder is where Windows keeps the catalogues of its own files and of drivers: below the
// system's folder, in one whose name is the id of the driver subsystem.
const catalogueFolder = `\System32\CatRoot\{F750E6C3-38EE-11D1-85E5-00C04FC295EE}`

// maxCatalogue is the largest catalogue that is read, in bytes; those of Windows' updates have 5 MB.
const maxCatalogue = 16 << 20

// catalogueSums are the digests by which catalogues list files.
var catalogueSums = []crypto.Hash{crypto.SHA1, crypto.SHA256}

// windowsCatalogues tells who signed files that have no signature of their own: most parts of
// Windows, and drivers, are listed in catalogues that are signed. Each catalogue is read once for
// all the files.
func windowsCatalogues(m *machine.Reader, files []*File) {
	folder := m.Windows() + catalogueFolder
	entries, err := m.ReadDir(folder)
	if err != nil {
		return
	}
	wanted := map[string][]*File{}
	var mu sync.Mutex
	sharedOut(files, func(f *File) {
		if slices.ContainsFunc(f.Evidence, func(e Evidence) bool { return e.State != NotCompared }) {
			return // it is signed itself
		}
		for _, sum := range f.catalogueSums() {
			mu.Lock()
			wanted[string(sum)] = append(wanted[string(sum)], f)
			mu.Unlock()
		}
	})
	if len(wanted) == 0 {
		return
	}
	sums := map[string]bool{}
	for sum := range wanted {
		sums[sum] = true
	}
	var names []string
	for _, e := range entries {
		if strings.HasSuffix(strings.ToLower(e.Name()), ".cat") {
			names = append(names, e.Name())
		}
	}
	trust := windowsTrust(m)
	found := make([][]listing, len(names))
	parallel.Each(len(names), func(k int) { found[k] = listings(m, folder+`\`+names[k], names[k], sums, trust) })
	for _, all := range found { // in the order of their names, whoever was read first
		for _, l := range all {
			for _, f := range wanted[l.sum] {
				f.addListing(l.evidence)
			}
		}
	}
}

// addListing adds what a catalogue proves, where it proves more than one before.
func (f *File) addListing(e Evidence) {
	for k := range f.Evidence {
		if f.Evidence[k].Source != "" && strings.HasPrefix(f.Evidence[k].Source, catalogueWord) {
			if rank(e.Basis) < rank(f.Evidence[k].Basis) {
				f.Evidence[k] = e
			}
			return
		}
	}
	f.Evidence = append([]Evidence{e}, f.Evidence...)
}

// catalogueWord begins the source of evidence from a catalogue.
const catalogueWord = "signed catalogue "

// listing is one file that a catalogue lists.
type listing struct {
	sum      string
	evidence Evidence
}

// listings are those of the wanted files that a catalogue lists. One that does not hold lists
// nothing.
func listings(m *machine.Reader, file, name string, wanted map[string]bool, trust *trust) []listing {
	content, err := m.ReadFile(file, maxCatalogue)
	if err != nil || !authenticode.MayList(content, wanted) {
		return nil
	}
	signatures, err := authenticode.Parse(content)
	if err != nil || signatures[0].Err != nil {
		return nil
	}
	s := &signatures[0]
	e := signedBy(s, trust)
	e.State, e.Source = Unchanged, catalogueWord+name
	var all []listing
	if err := s.Members(func(m authenticode.Member) bool {
		if wanted[string(m.Sum)] {
			all = append(all, listing{string(m.Sum), e})
		}
		return len(all) < 10_000
	}); err != nil {
		return nil
	}
	return all
}

// catalogueSums are the digests by which catalogues would list the file: of a program its image,
// of anything else all of it.
func (f *File) catalogueSums() [][]byte {
	file, size, err := f.machine.OpenFile(f.Path)
	if err != nil || size > maxHashed {
		if err == nil {
			file.Close()
		}
		return nil
	}
	defer file.Close()
	image, err := peimage.Open(file, size)
	if err != nil && !errors.Is(err, peimage.ErrNotPE) {
		return nil
	}
	var sums [][]byte
	for _, kind := range catalogueSums {
		h := kind.New()
		if image != nil {
			err = image.Digest(h)
		} else {
			_, err = io.Copy(h, io.NewSectionReader(file, 0, size))
		}
		if err != nil {
			return nil
		}
		sums = append(sums, h.Sum(nil))
	}
	return sums
}

// ownUnsigned is a part of every Windows whose signature tells whether this one's parts are signed:
// in other systems that run its programs they are not.
const ownUnsigned = `\System32\ntdll.dll`

// windowsUnsigned says about drivers that nobody signed them, where the system's own parts are signed:
// Windows does not load such a driver.
func windowsUnsigned(m *machine.Reader, files []*File) {
	proven := func(f *File) bool {
		return slices.ContainsFunc(f.Evidence, func(e Evidence) bool {
			return e.State != NotCompared || slices.Contains(e.Problems, autostart.SignatureInvalid)
		})
	}
	var drivers []*File
	for _, f := range files {
		if strings.HasPrefix(f.Kind, "Windows driver") && !proven(f) {
			drivers = append(drivers, f)
		}
	}
	if len(drivers) == 0 {
		return
	}
	own := &File{Name: m.Windows() + ownUnsigned, machine: m}
	if !own.find() {
		return
	}
	windowsPrograms(m, []*File{own})
	windowsCatalogues(m, []*File{own})
	if !proven(own) {
		return
	}
	for _, f := range drivers {
		f.Evidence = append(f.Evidence, Evidence{Source: "its signature", Problems: []string{autostart.Unsigned},
			Notes: []Note{{Kind: autostart.FactSignature, Text: "none, and no catalogue lists it"}}})
	}
}
