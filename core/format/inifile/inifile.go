// Package inifile reads the sections and keys of Windows' initialisation files,
// in whatever encoding they come: UTF-16 with its mark, or bytes.
//
//	for _, s := range inifile.Parse(content) {
//		fmt.Println(s.Name, s.Keys)
//	}
package inifile

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"lockback/core/format/windata"
)

// Section is one part of a file, with its keys in their order.
type Section struct {
	Name string
	Keys []Key
}

// Key is one line of a section.
type Key struct {
	Name, Value string
	Line        int // counted from 1
}

// Get returns the value of a key, compared without regard to case.
func (s Section) Get(name string) string {
	for _, k := range s.Keys {
		if strings.EqualFold(k.Name, name) {
			return k.Value
		}
	}
	return ""
}

// Parse reads a file. Lines that are neither a section nor a key are passed
// over, as GetPrivateProfileString does.
func Parse(content []byte) []Section {
	var sections []Section
	n := 0
	for line := range strings.Lines(decode(content)) {
		n++
		line = strings.TrimSpace(line)
		if name, ok := strings.CutPrefix(line, "["); ok {
			name, _, _ = strings.Cut(name, "]")
			sections = append(sections, Section{Name: name})
			continue
		}
		name, value, ok := strings.Cut(line, "=")
		if !ok || strings.HasPrefix(line, ";") || len(sections) == 0 {
			continue
		}
		value = strings.TrimSpace(value)
		if len(value) > 1 && (value[0] == '"' || value[0] == '\'') && value[len(value)-1] == value[0] {
			value = value[1 : len(value)-1]
		}
		s := &sections[len(sections)-1]
		s.Keys = append(s.Keys, Key{strings.TrimSpace(name), value, n})
	}
	return sections
}

func decode(b []byte) string {
	switch {
	case bytes.HasPrefix(b, []byte{0xff, 0xfe}):
		return windata.Decode(b[2:])
	case utf8.Valid(b):
		return strings.TrimPrefix(string(b), "\ufeff")
	}
	r := make([]rune, len(b))
	for k, c := range b {
		r[k] = rune(c)
	}
	return string(r)
}
