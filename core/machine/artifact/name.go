package artifact

import (
	"path"
	"strings"
)

// Within reports whether a slash path is a folder or lies in it.
func Within(name, dir string) bool {
	return dir == "/" || name == dir || strings.HasPrefix(name, dir+"/")
}

// OnDrive reports whether a path is absolute as Windows defines it, C:\x.
func OnDrive(name string) bool {
	return len(name) >= 3 && name[1] == ':' && name[2] == '\\' && UpperLetter(name[0]) >= 'A' &&
		UpperLetter(name[0]) <= 'Z'
}

// UpperLetter is a letter of the alphabet as a capital.
func UpperLetter(c byte) byte {
	if c >= 'a' && c <= 'z' {
		return c - 'a' + 'A'
	}
	return c
}

// Child is the artifact of a file in a folder.
func (a Artifact) Child(base string) Artifact {
	switch {
	case !OnDrive(a.Name):
		return File(path.Join(a.Name, base))
	case len(a.Name) > 0 && a.Name[len(a.Name)-1] == '\\':
		return File(a.Name + base)
	}
	return File(a.Name + `\` + base)
}
