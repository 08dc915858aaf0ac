package regf

import (
	"encoding/binary"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"lockback/core/format/windata"
)

// Type is the type of a value, as winnt.h names them.
type Type uint32

// The types of values.
const (
	None         Type = 0
	String       Type = 1 // UTF-16, with a zero at the end
	ExpandString Type = 2 // with %variables%
	Binary       Type = 3
	DWord        Type = 4
	DWordBig     Type = 5
	Link         Type = 6
	MultiString  Type = 7 // strings with a zero behind each, and one more
	QWord        Type = 11
)

var typeNames = map[Type]string{None: "REG_NONE", String: "REG_SZ", ExpandString: "REG_EXPAND_SZ", Binary: "REG_BINARY",
	DWord: "REG_DWORD", DWordBig: "REG_DWORD_BIG_ENDIAN", Link: "REG_LINK", MultiString: "REG_MULTI_SZ",
	8: "REG_RESOURCE_LIST", 9: "REG_FULL_RESOURCE_DESCRIPTOR", 10: "REG_RESOURCE_REQUIREMENTS_LIST", QWord: "REG_QWORD"}

func (t Type) String() string {
	if name, ok := typeNames[t]; ok {
		return name
	}
	return fmt.Sprintf("type %d", uint32(t))
}

// Value is a named value of a key. The name is UTF-8; a lone surrogate of UTF-16
// becomes its three bytes, as if it were a character, and is written back so.
type Value struct {
	Name string
	Type Type
	Data []byte
}

// NewText is a value of type REG_SZ.
func NewText(name, text string) Value { return Value{name, String, TextData(text)} }

// NewExpand is a value of type REG_EXPAND_SZ.
func NewExpand(name, text string) Value { return Value{name, ExpandString, TextData(text)} }

// NewNumber is a value of type REG_DWORD.
func NewNumber(name string, n uint32) Value {
	return Value{name, DWord, binary.LittleEndian.AppendUint32(nil, n)}
}

// NewList is a value of type REG_MULTI_SZ.
func NewList(name string, items ...string) Value {
	return Value{name, MultiString, ListData(items)}
}

// TextData is the data of a text value.
func TextData(text string) []byte { return append(windata.Encode(text), 0, 0) }

// ListData is the data of a list value.
func ListData(items []string) []byte {
	var data []byte
	for _, s := range items {
		data = append(data, TextData(s)...)
	}
	return append(data, 0, 0)
}

// IsText reports whether the value is a text or a list of texts.
func (v Value) IsText() bool {
	return v.Type == String || v.Type == ExpandString || v.Type == MultiString
}

// Text returns the value as text: up to the first zero, as the system reads it.
// Of a list it is the first item, of a number or of bytes nothing.
func (v Value) Text() string {
	if !v.IsText() {
		return ""
	}
	s := windata.Decode(v.Data)
	if k := strings.IndexByte(s, 0); k >= 0 {
		s = s[:k]
	}
	return s
}

// Strings returns the items of a list: up to the first empty one, as the system
// reads it. A plain text counts as a list of one.
func (v Value) Strings() []string {
	if !v.IsText() {
		return nil
	}
	if v.Type != MultiString {
		if s := v.Text(); s != "" {
			return []string{s}
		}
		return nil
	}
	var items []string
	for s := range strings.SplitSeq(windata.Decode(v.Data), "\x00") {
		if s == "" {
			break
		}
		items = append(items, s)
	}
	return items
}

// Number returns a REG_DWORD, either way round, or a REG_QWORD.
func (v Value) Number() (uint64, bool) {
	switch {
	case v.Type == DWord && len(v.Data) >= 4:
		return uint64(binary.LittleEndian.Uint32(v.Data)), true
	case v.Type == DWordBig && len(v.Data) >= 4:
		return uint64(binary.BigEndian.Uint32(v.Data)), true
	case v.Type == QWord && len(v.Data) >= 8:
		return binary.LittleEndian.Uint64(v.Data), true
	}
	return 0, false
}

// String words the value for a person: what it is, without its name.
func (v Value) String() string {
	if n, ok := v.Number(); ok {
		return fmt.Sprintf("%s %d", v.Type, n)
	}
	if v.IsText() {
		return fmt.Sprintf("%s %q", v.Type, strings.Join(v.Strings(), "\x00"))
	}
	if len(v.Data) > 24 {
		return fmt.Sprintf("%s %x… (%d bytes)", v.Type, v.Data[:24], len(v.Data))
	}
	return fmt.Sprintf("%s %x", v.Type, v.Data)
}

// nameText decodes the name of a key or value.
func nameText(raw []byte, compressed bool) string {
	if !compressed {
		return windata.Decode(raw)
	}
	for k, c := range raw {
		if c >= utf8.RuneSelf {
			out := append(make([]byte, 0, len(raw)+8), raw[:k]...)
			for _, c := range raw[k:] {
				out = utf8.AppendRune(out, rune(c))
			}
			return string(out)
		}
	}
	return string(raw)
}

// nameBytes is the reverse: one byte a character where all fit.
func nameBytes(name string) (raw []byte, compressed bool) {
	wide := windata.Encode(name)
	for k := 1; k < len(wide); k += 2 {
		if wide[k] != 0 {
			return wide, false
		}
	}
	raw = make([]byte, len(wide)/2)
	for k := range raw {
		raw[k] = wide[2*k]
	}
	return raw, true
}

// fold makes names comparable without regard to case, character by character as
// the registry does.
func fold(name string) string {
	for k := range len(name) {
		if c := name[k]; c >= 'a' && c <= 'z' || c >= utf8.RuneSelf {
			if !utf8.ValidString(name) {
				wide := windata.Encode(name)
				for k := 0; k < len(wide); k += 2 {
					binary.LittleEndian.PutUint16(wide[k:], uint16(upcase(rune(le16(wide, k)))))
				}
				return windata.Decode(wide)
			}
			return strings.Map(upcase, name)
		}
	}
	return name
}

// upcase maps a character to upper case where that is one character of the
// basic plane, as the registry's table does.
func upcase(r rune) rune {
	if up := unicode.ToUpper(r); r <= 0xffff && up <= 0xffff && r != 'ı' && r != 'ſ' {
		return up
	}
	return r
}

// nameHash is the hash of an lh list; ascii reports that no character needs the
// system's own table of cases.
func nameHash(name string) (hash uint32, ascii bool) {
	ascii = true
	wide := windata.Encode(name)
	for k := 0; k < len(wide); k += 2 {
		u := rune(binary.LittleEndian.Uint16(wide[k:]))
		if u >= utf8.RuneSelf {
			ascii = false
		}
		hash = hash*37 + uint32(upcase(u))
	}
	return hash, ascii
}
