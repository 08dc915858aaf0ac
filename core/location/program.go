package location

import (
	"io/fs"
	"path"
	"strings"
)

// SearchPath is where programs without a folder are looked for, as the systems'
// own defaults have it for root and for people.
var SearchPath = []string{"/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin"}

// FindProgram returns the path of the program that a word names, and what is
// there. A word without a folder is looked for in the search path; where it is
// not found, the error says that nothing exists.
func FindProgram(v View, word string) (string, fs.FileInfo, error) {
	if path.IsAbs(word) {
		info, err := v.Stat(word)
		return path.Clean(word), info, err
	}
	if strings.Contains(word, "/") || word == "" {
		return "", nil, fs.ErrInvalid
	}
	for _, dir := range SearchPath {
		file := path.Join(dir, word)
		if info, err := v.Stat(file); err == nil && !info.IsDir() {
			return file, info, nil
		}
	}
	return word, nil, fs.ErrNotExist
}
