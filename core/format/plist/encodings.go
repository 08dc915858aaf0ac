package plist

import (
	"bytes"
	"regexp"
	"strings"
	"sync"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
)

// declaration is the beginning of a document that names its encoding.
var declaration = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^\s*<\?xml[^>]*\bencoding\s*=\s*["']([A-Za-z0-9._:-]+)["'][^>]*\?>`)
})

// encodings are those that Core Foundation knows and documents were seen in, by their names in small letters.
var encodings = map[string]encoding.Encoding{
	"iso-8859-1": charmap.ISO8859_1, "latin1": charmap.ISO8859_1, "iso-8859-15": charmap.ISO8859_15,
	"windows-1252": charmap.Windows1252, "us-ascii": charmap.Windows1252, "ascii": charmap.Windows1252,
	"macintosh": charmap.Macintosh, "x-mac-roman": charmap.Macintosh,
}

// asUTF8 is a document in XML as UTF-8, which it is nearly always; any other content as it is.
func asUTF8(content []byte) []byte {
	switch {
	case bytes.HasPrefix(content, []byte{0xff, 0xfe}), bytes.HasPrefix(content, []byte{'<', 0}):
		content = decoded(content, unicode.UTF16(unicode.LittleEndian, unicode.UseBOM))
	case bytes.HasPrefix(content, []byte{0xfe, 0xff}), bytes.HasPrefix(content, []byte{0, '<'}):
		content = decoded(content, unicode.UTF16(unicode.BigEndian, unicode.UseBOM))
	}
	m := declaration().FindSubmatchIndex(content)
	if m == nil {
		return content
	}
	name := strings.ToLower(string(content[m[2]:m[3]]))
	if name == "utf-8" {
		return content
	}
	body := content[m[1]:]
	if e := encodings[name]; e != nil {
		body = decoded(body, e)
	}
	return append([]byte(`<?xml version="1.0" encoding="UTF-8"?>`), body...)
}

// decoded is content in another encoding as UTF-8; as it is where that fails.
func decoded(content []byte, e encoding.Encoding) []byte {
	if out, err := e.NewDecoder().Bytes(content); err == nil {
		return out
	}
	return content
}
