package plist

import (
	"bytes"
	"strconv"
	"unicode/utf8"
)

// A disk holds thousands of property lists that a dozen elements of XML make up,
// written by the system's own tools in the same plain way: no comments, no
// attributes but the version, no entities but five. Those are read here, about
// twenty times as fast as by a general reader of XML; whatever is not plain is
// left to the package. A fuzz target holds the two against each other.

// plainHeads are what a plain property list begins with.
var plainHeads = [][]byte{
	[]byte("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<!DOCTYPE plist PUBLIC \"-//Apple//DTD PLIST 1.0//EN\" " +
		"\"http://www.apple.com/DTDs/PropertyList-1.0.dtd\">\n<plist version=\"1.0\">"),
	[]byte("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<!DOCTYPE plist PUBLIC \"-//Apple Computer//DTD PLIST " +
		"1.0//EN\" \"http://www.apple.com/DTDs/PropertyList-1.0.dtd\">\n<plist version=\"1.0\">"),
}

type plainReader struct{ rest []byte }

// parsePlainXML reads a plain property list; ok is false if it is not plain.
func parsePlainXML(content []byte) (root any, ok bool) {
	for _, head := range plainHeads {
		if rest, is := bytes.CutPrefix(content, head); is {
			r := plainReader{rest}
			root, ok = r.value(0)
			return root, ok && string(r.tag()) == "/plist" && len(bytes.TrimLeft(r.rest, " \t\n")) == 0
		}
	}
	return nil, false
}

// tag reads up to the end of the next tag and returns what stands in it; empty
// where something else comes.
func (r *plainReader) tag() []byte {
	for k, c := range r.rest {
		switch c {
		case ' ', '\t', '\n':
			continue
		case '<':
			end := bytes.IndexByte(r.rest[k:], '>')
			if end < 0 {
				return nil
			}
			tag := r.rest[k+1 : k+end]
			r.rest = r.rest[k+end+1:]
			return tag
		}
		break
	}
	return nil
}

// text reads the text up to the end tag of an element.
func (r *plainReader) text(element string) (string, bool) {
	end := bytes.IndexByte(r.rest, '<')
	if end < 0 {
		return "", false
	}
	raw := r.rest[:end]
	after := r.rest[end:]
	if len(after) < len(element)+3 || after[1] != '/' || string(after[2:2+len(element)]) != element ||
		after[2+len(element)] != '>' {
		return "", false
	}
	r.rest = after[len(element)+3:]
	if !utf8.Valid(raw) {
		return "", false
	}
	amp := false
	for _, c := range raw {
		// XML normalizes line ends and allows no other control characters; "]]>"
		// is not allowed in a text either.
		if c < 0x20 && c != '\t' && c != '\n' || c == '>' || c == 0xef {
			return "", false
		}
		amp = amp || c == '&'
	}
	if !amp {
		return string(raw), true
	}
	out := make([]byte, 0, len(raw))
	for len(raw) > 0 {
		if raw[0] != '&' {
			out, raw = append(out, raw[0]), raw[1:]
			continue
		}
		found := false
		for _, e := range [...]struct {
			entity string
			c      byte
		}{{"&amp;", '&'}, {"&lt;", '<'}, {"&gt;", '>'}, {"&quot;", '"'}, {"&apos;", '\''}} {
			if bytes.HasPrefix(raw, []byte(e.entity)) {
				out, raw, found = append(out, e.c), raw[len(e.entity):], true
				break
			}
		}
		if !found {
			return "", false
		}
	}
	return string(out), true
}

func (r *plainReader) value(depth int) (any, bool) {
	if depth > maxDepth {
		return nil, false
	}
	return r.element(r.tag(), depth)
}

func (r *plainReader) element(tag []byte, depth int) (any, bool) {
	switch string(tag) {
	case "string":
		return noted(r.text("string"))
	case "string/":
		return "", true
	case "true/":
		return true, true
	case "false/":
		return false, true
	case "integer":
		text, ok := r.text("integer")
		if !ok || text == "" || len(text) > 1 && text[0] == '0' || text[0] == '+' {
			return nil, false
		}
		if text[0] == '-' {
			n, err := strconv.ParseInt(text, 10, 64)
			return n, err == nil && text[1] >= '1'
		}
		n, err := strconv.ParseUint(text, 10, 64)
		return n, err == nil
	case "array/":
		return []any{}, true
	case "array":
		list := []any{}
		for {
			tag := r.tag()
			if string(tag) == "/array" {
				return list, true
			}
			v, ok := r.element(tag, depth+1)
			if !ok || depth > maxDepth {
				return nil, false
			}
			list = append(list, v)
		}
	case "dict/":
		return map[string]any{}, true
	case "dict":
		dict := map[string]any{}
		for {
			switch string(r.tag()) {
			case "/dict":
				_, uid := dict["CF$UID"] // a reference, which the package knows
				return dict, !uid
			case "key":
			default:
				return nil, false
			}
			key, ok := r.text("key")
			if !ok {
				return nil, false
			}
			v, ok := r.value(depth + 1)
			if !ok {
				return nil, false
			}
			dict[key] = v
		}
	}
	return nil, false // reals, dates, data, and what is not plain
}

// noted makes an any of a string.
func noted(s string, ok bool) (any, bool) { return s, ok }
