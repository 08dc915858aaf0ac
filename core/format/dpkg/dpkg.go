// Package dpkg reads the database of dpkg, the package manager of Debian and its family: which
// packages are installed, which files they delivered, and what those files were.
//
//	for p := range dpkg.Packages(status) {
//		fmt.Println(p.Name, p.Version, p.Get("Maintainer"))
//	}
//
// The files lie in /var/lib/dpkg, as deb-control(5), dpkg-query(1), dpkg-divert(1) and
// deb-md5sums(5) describe them. Lines that say nothing known are skipped.
package dpkg

import (
	"bytes"
	"iter"
	"strings"
)

// usualFields is how many fields a paragraph has room for at first: most have fewer.
const usualFields = 24

// Package is a paragraph of the file status.
type Package struct {
	// Name is the package, Version and Architecture what stands in the fields of those names.
	Name, Version, Architecture string
	// Installed says that the package's files are there: "install ok installed".
	Installed bool
	text      []byte
	fields    []field
}

// field is the first line of one.
type field struct{ name, value []byte }

// Get returns the first line of a field, whose name is compared without regard to case; empty
// where there is no such field.
func (p Package) Get(field string) string {
	for _, f := range p.fields {
		if len(f.name) == len(field) && strings.EqualFold(string(f.name), field) {
			return string(bytes.TrimSpace(f.value))
		}
	}
	return ""
}

// Lines returns the further lines of a field, each without the blank that it begins with.
func (p Package) Lines(field string) iter.Seq[string] {
	return func(yield func(string) bool) {
		in := false
		for line := range bytes.Lines(p.text) {
			line = bytes.TrimRight(line, "\r\n")
			if len(line) > 0 && (line[0] == ' ' || line[0] == '\t') {
				if in && !yield(string(line[1:])) {
					return
				}
				continue
			}
			name, _, _ := bytes.Cut(line, []byte(":"))
			in = strings.EqualFold(string(name), field)
		}
	}
}

// Conffiles are the configuration files of the package and their MD5 sums as it delivered them,
// in hexadecimal. Those that the package has no more are left out.
func (p Package) Conffiles() iter.Seq2[string, string] {
	return func(yield func(file, sum string) bool) {
		for line := range p.Lines("Conffiles") {
			line = strings.TrimSuffix(line, " remove-on-upgrade")
			if strings.HasSuffix(line, " obsolete") {
				continue
			}
			k := strings.LastIndexByte(line, ' ')
			if k > 0 && len(line)-k-1 == 32 && !yield(strings.TrimSpace(line[:k]), line[k+1:]) {
				return
			}
		}
	}
}

// Packages are the paragraphs of a file status, or of any file in its form.
func Packages(status []byte) iter.Seq[Package] {
	return func(yield func(Package) bool) {
		for len(status) > 0 {
			paragraph := status
			if k := bytes.Index(status, []byte("\n\n")); k >= 0 {
				paragraph, status = status[:k+1], status[k+2:]
			} else {
				status = nil
			}
			p := Package{text: paragraph, fields: make([]field, 0, usualFields)}
			for line := range Lines(paragraph) {
				if len(line) == 0 || line[0] == ' ' || line[0] == '\t' {
					continue
				}
				if k := bytes.IndexByte(line, ':'); k > 0 {
					p.fields = append(p.fields, field{line[:k], line[k+1:]})
				}
			}
			if p.Name = p.Get("Package"); p.Name == "" {
				continue
			}
			p.Version, p.Architecture = p.Get("Version"), p.Get("Architecture")
			// The third word is the state; a package whose triggers wait is there too.
			words := strings.Fields(p.Get("Status"))
			p.Installed = len(words) == 3 && (words[2] == "installed" || strings.HasPrefix(words[2], "triggers-"))
			if !yield(p) {
				return
			}
		}
	}
}

// Names are the packages that a field such as Depends names, each alternative for itself.
// Versions and architectures are left out.
func Names(field string) iter.Seq[string] {
	return func(yield func(string) bool) {
		for len(field) > 0 {
			name := field
			if k := strings.IndexAny(field, ",|"); k >= 0 {
				name, field = field[:k], field[k+1:]
			} else {
				field = ""
			}
			name = strings.TrimSpace(name)
			if k := strings.IndexAny(name, " (:[<"); k >= 0 {
				name = name[:k]
			}
			if name != "" && !yield(name) {
				return
			}
		}
	}
}

// Lines are the lines of a list, without their ends: of the file PACKAGE.list each is a path.
func Lines(list []byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for len(list) > 0 {
			line := list
			if k := bytes.IndexByte(list, '\n'); k >= 0 {
				line, list = list[:k], list[k+1:]
			} else {
				list = nil
			}
			if !yield(line) {
				return
			}
		}
	}
}

// Sums are the files of a list of MD5 sums, by their paths below the root without a slash before
// them, and their sums in hexadecimal.
func Sums(list []byte) iter.Seq2[[]byte, []byte] {
	return func(yield func(file, sum []byte) bool) {
		for line := range Lines(list) {
			line = bytes.TrimSuffix(line, []byte("\r"))
			if len(line) < 35 || line[32] != ' ' {
				continue
			}
			if !yield(bytes.TrimPrefix(line[34:], []byte("./")), line[:32]) {
				return
			}
		}
	}
}

// Diversion says that the files of other packages that would lie at From lie at To.
type Diversion struct {
	From, To string
	By       string // the package that has From for itself; ":" for the administrator
}

// Diversions reads the file diversions: three lines for each.
func Diversions(list []byte) []Diversion {
	var all []Diversion
	lines := strings.Split(strings.TrimRight(string(list), "\n"), "\n")
	for ; len(lines) >= 3; lines = lines[3:] {
		all = append(all, Diversion{lines[0], lines[1], lines[2]})
	}
	return all
}

// Owner is the package that a list of files belongs to, by the name of the list: "libc6:amd64.list"
// is libc6's.
func Owner(list, suffix string) (pkg string, ok bool) {
	name, ok := strings.CutSuffix(list, suffix)
	name, _, _ = strings.Cut(name, ":")
	return name, ok && name != ""
}
