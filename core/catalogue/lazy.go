package catalogue

import (
	"strings"
	"sync/atomic"
)

// lazy is a program of the built-in files that is read when something looks like it: of a thousand, a machine has
// some dozens.
type lazy struct {
	maker, text string // the lines of its maker above the programs, and its own
	entry       atomic.Pointer[Entry]
}

// read is the program's entry. Reading it twice at once does no harm.
func (l *lazy) read() *Entry {
	if e := l.entry.Load(); e != nil {
		return e
	}
	tree, err := quick("format: 1\nmakers:\n" + l.maker + "    programs:\n" + l.text)
	if err != nil {
		panic(err) // a test reads each
	}
	c := &Catalogue{}
	(&reader{}).document(tree, c)
	l.entry.Store(&c.Entries[0])
	return &c.Entries[0]
}

// How the built-in files of programs are laid out, which a test holds them to by reading them with the package for YAML
// too.
const (
	makerLine    = "  - maker:"
	programsLine = "    programs:"
	programLine  = "      - id:"
	startsLine   = "        starts:"
	startIndent  = "          "
	keyIndent    = "        "
)

// scan notes the programs of a built-in file, with the names by which they are found.
func (c *Catalogue) scan(text string) {
	lower := lowered(text) // byte for byte
	maker, header, own, inStarts := 0, "", -1, false
	end := func(at int) {
		if own >= 0 {
			c.lazies[len(c.lazies)-1].text = text[own:at]
		}
		own = -1
	}
	for at, next := 0, 0; at < len(text); at = next {
		stop := len(text)
		next = stop
		if n := strings.IndexByte(text[at:], '\n'); n >= 0 {
			stop, next = at+n, at+n+1
		}
		line := text[at:stop]
		starts := inStarts && strings.HasPrefix(line, startIndent)
		inStarts = false
		switch {
		case starts:
			inStarts = true
			colon := strings.IndexByte(line, ':')
			c.programs.addList(&c.programs.names, c.programs.wildNames, lower[at+colon+2:stop], len(c.lazies)-1)
		case strings.HasPrefix(line, programLine):
			end(at)
			own = at
			c.lazies = append(c.lazies, &lazy{maker: header})
		case line == startsLine:
			inStarts = true
		case own >= 0 && strings.HasPrefix(line, keyIndent):
			c.programs.addLine(lower[at+len(keyIndent):stop], len(c.lazies)-1)
		case strings.HasPrefix(line, makerLine):
			end(at)
			maker = at
		case line == programsLine:
			header = text[maker:at]
		}
	}
	end(len(text))
}

// lowered has the letters of ASCII small, and is as long as the text.
func lowered(text string) string {
	b := []byte(text)
	for k, c := range b {
		if c >= 'A' && c <= 'Z' {
			b[k] = c + 'a' - 'A'
		}
	}
	return string(b)
}

// addLine notes the names of a line of a program.
func (x *programIndex) addLine(line string, program int) {
	switch {
	case strings.HasPrefix(line, "files: "):
		x.addList(&x.files, x.wildFiles, line[len("files: "):], program)
	case strings.HasPrefix(line, "shared: "):
		x.addList(&x.files, x.wildFiles, line[len("shared: "):], program)
	case strings.HasPrefix(line, "packages: "):
		x.addList(&x.packages, nil, line[len("packages: "):], program)
	case strings.HasPrefix(line, "bundles: "):
		x.addList(&x.bundles, nil, line[len("bundles: "):], program)
	}
}

// addList notes the names of a list in brackets, each plain or in single quotes, all in small letters.
func (x *programIndex) addList(to *nameMap, wild wildMap, list string, program int) {
	for rest := strings.TrimPrefix(list, "["); rest != "" && rest[0] != ']'; {
		name := ""
		if rest[0] == '\'' {
			name, rest = cutQuoted(rest[1:])
		} else if end := strings.IndexAny(rest, ",]"); end >= 0 {
			name, rest = rest[:end], rest[end:]
		} else {
			return
		}
		to.add(name, wild, program)
		rest = strings.TrimPrefix(strings.TrimPrefix(rest, ","), " ")
	}
}

// cutQuoted cuts a text behind its quote, in which two stand for one.
func cutQuoted(text string) (name, rest string) {
	for k := 0; k < len(text); k++ {
		switch {
		case text[k] != '\'':
		case k+1 < len(text) && text[k+1] == '\'':
			k++
		default:
			return strings.ReplaceAll(text[:k], "''", "'"), text[k+1:]
		}
	}
	return text, ""
}
