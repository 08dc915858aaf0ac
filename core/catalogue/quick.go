package catalogue

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// quick reads the part of YAML that the built-in files use, without copying a text: tables and lists by
// indentation, lists and tables in brackets on one line, plain and quoted texts, comments on lines of their own. The
// package for YAML takes as long for these files as a whole list does. Anything else is an error, never misread: a
// fuzz target holds every text that quick accepts against the package.
func quick(text string) (node, error) {
	r := &quickReader{rest: text}
	if strings.ContainsFunc(text, unfit) {
		return node{}, fmt.Errorf("a character stands in the file that is not for people to read")
	}
	r.next()
	if r.done {
		return node{}, fmt.Errorf("the file is empty")
	}
	n := r.block(r.indent, 0)
	if r.err == nil && !r.done {
		r.fail("the indentation fits nothing above")
	}
	return n, r.err
}

// unfit reports whether YAML takes a character for something else than a letter, or refuses it. Tabs are refused, too.
func unfit(c rune) bool {
	return c < ' ' && c != '\n' || c >= 0x7f && c < 0xa0 || c == 0x2028 || c == 0x2029 || c == 0xfeff ||
		c == utf8.RuneError
}

// maxNesting bounds how deep lists and tables may lie in each other.
const maxNesting = 20

type quickReader struct {
	rest string // what follows the line
	line int
	// indent and content are the line that is read next, without what stands before and behind it.
	indent  int
	content string
	done    bool
	err     error
}

func (r *quickReader) fail(format string, args ...any) {
	if r.err == nil {
		r.err = Problem{r.line, fmt.Sprintf(format, args...)}
	}
	r.done = true
}

// next goes on to the next line that is neither empty nor a comment.
func (r *quickReader) next() {
	for r.rest != "" {
		line := r.rest
		if end := strings.IndexByte(line, '\n'); end >= 0 {
			line, r.rest = line[:end], line[end+1:]
		} else {
			r.rest = ""
		}
		r.line++
		content := strings.TrimLeft(line, " ")
		if content == "" || content[0] == '#' {
			continue
		}
		r.indent, r.content = len(line)-len(content), strings.TrimRight(content, " ")
		return
	}
	r.done = true
}

func isItem(content string) bool { return strings.HasPrefix(content, "- ") }

// block reads the list or the table that begins at a column.
func (r *quickReader) block(indent, depth int) node {
	n := node{kind: tableNode, line: r.line}
	if depth > maxNesting {
		r.fail("there are too many lists in each other")
		return n
	}
	if isItem(r.content) {
		n.kind = listNode
		for !r.done && r.indent == indent && isItem(r.content) {
			rest := strings.TrimLeft(r.content[2:], " ")
			if _, _, pair := cutKey(rest); !pair {
				n.items = append(n.items, r.value(rest))
				r.next()
				continue
			}
			r.indent += len(r.content) - len(rest)
			r.content = rest
			n.items = append(n.items, r.block(r.indent, depth+1))
		}
		return n
	}
	for !r.done && r.indent == indent && !isItem(r.content) {
		name, rest, pair := cutKey(r.content)
		if !pair {
			r.fail("this is neither a name with a value nor an item of a list")
			return n
		}
		n.keys = append(n.keys, key{name, r.line})
		if rest != "" {
			n.items = append(n.items, r.value(rest))
			r.next()
			continue
		}
		line := r.line
		r.next()
		if r.done || r.indent < indent || r.indent == indent && !isItem(r.content) {
			r.line, r.done = line, true
			r.fail("%s has no value", name)
			return n
		}
		n.items = append(n.items, r.block(r.indent, depth+1))
	}
	return n
}

// cutKey splits a line at the colon behind a name; pair is false where there is none.
func cutKey(content string) (name, rest string, pair bool) {
	for k := 0; k < len(content); k++ {
		switch c := content[k]; {
		case c == ':':
			if rest = content[k+1:]; rest == "" || rest[0] == ' ' {
				return content[:k], strings.TrimLeft(rest, " "), k > 0
			}
			return "", "", false
		case (c < 'a' || c > 'z') && c != '-' && c != '.':
			return "", "", false
		}
	}
	return "", "", false
}

// value reads a value that stands on one line.
func (r *quickReader) value(text string) node {
	n, rest := r.inline(text, false, 0)
	if rest != "" && r.err == nil {
		r.fail("something stands behind the value: %s", rest)
	}
	return n
}

// inline reads one value, in brackets or not, and returns what follows it.
func (r *quickReader) inline(text string, inside bool, depth int) (n node, rest string) {
	n.line = r.line
	switch {
	case text == "" || depth > maxNesting:
		r.fail("a value is missing, or too deep in brackets")
		return n, ""
	case text[0] == '"' || text[0] == '\'':
		return r.quoted(text)
	case text[0] == '[':
		n.kind = listNode
		rest = strings.TrimLeft(text[1:], " ")
		for r.err == nil && !strings.HasPrefix(rest, "]") {
			var item node
			item, rest = r.inline(rest, true, depth+1)
			n.items = append(n.items, item)
			rest = r.separator(rest, "]")
		}
	case text[0] == '{':
		n.kind = tableNode
		rest = strings.TrimLeft(text[1:], " ")
		for r.err == nil && !strings.HasPrefix(rest, "}") {
			name, value, pair := cutKey(rest)
			if !pair {
				r.fail("this is no name with a value: %s", rest)
				return n, ""
			}
			var item node
			item, rest = r.inline(value, true, depth+1)
			n.keys, n.items = append(n.keys, key{name, r.line}), append(n.items, item)
			rest = r.separator(rest, "}")
		}
	default:
		return r.plain(text, inside)
	}
	if r.err != nil {
		return n, ""
	}
	return n, strings.TrimLeft(rest[1:], " ")
}

// separator wants a comma and one more, or the bracket at the end.
func (r *quickReader) separator(rest, end string) string {
	rest = strings.TrimLeft(rest, " ")
	if after, ok := strings.CutPrefix(rest, ","); ok {
		if after = strings.TrimLeft(after, " "); !strings.HasPrefix(after, end) {
			return after
		}
	} else if strings.HasPrefix(rest, end) {
		return rest
	}
	r.fail("a bracket is not closed, or a comma is missing or too many: %s", rest)
	return ""
}

// plain reads a text without quotes. What YAML could take for anything else is refused.
func (r *quickReader) plain(text string, inside bool) (n node, rest string) {
	n.line = r.line
	n.text = text
	if inside {
		if end := strings.IndexAny(text, ",[]{}"); end >= 0 {
			n.text, rest = strings.TrimRight(text[:end], " "), text[end:]
		}
	}
	first := text[0]
	letter := first >= 'a' && first <= 'z' || first >= 'A' && first <= 'Z' || first >= '0' && first <= '9'
	if !letter && (first != '*' && first != '.' && first != '_' || first == '*') ||
		strings.Contains(n.text, ": ") || strings.HasSuffix(n.text, ":") || strings.Contains(n.text, " #") {
		r.fail("this needs quotes: %s", n.text)
	}
	return n, rest
}

// quoted reads a text in quotes and returns what follows. In double ones \" and \\ stand for a quote and a backslash,
// in single ones two stand for one.
func (r *quickReader) quoted(text string) (n node, rest string) {
	n.line = r.line
	quote := text[0]
	plain := true
	for k := 1; k < len(text); k++ {
		switch c := text[k]; {
		case c == quote && quote == '\'' && k+1 < len(text) && text[k+1] == quote:
			plain = false
			k++
		case c == quote:
			n.text = text[1:k]
			if !plain && quote == '\'' {
				n.text = strings.ReplaceAll(n.text, "''", "'")
			} else if !plain {
				n.text = unescaped.Replace(n.text)
			}
			return n, strings.TrimLeft(text[k+1:], " ")
		case c == '\\' && quote == '"':
			if plain = false; k+1 == len(text) || text[k+1] != '"' && text[k+1] != '\\' {
				r.fail(`only \" and \\ may stand in double quotes: %s`, text)
				return n, ""
			}
			k++
		}
	}
	r.fail("a quote is not closed: %s", text)
	return n, ""
}

var unescaped = strings.NewReplacer(`\\`, `\`, `\"`, `"`)
