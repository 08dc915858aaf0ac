// Package shellcommand reads a command as a shell would, as far as that can be known without
// running one: which simple commands it is made of, and the words of each. Nothing is expanded;
// a word that a shell would change says so.
//
//	commands, err := shellcommand.Parse("cd /opt && exec './bell ringer' --quiet")
//	// [cd /opt] [exec "./bell ringer" --quiet]
package shellcommand

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"mvdan.cc/sh/v3/syntax"
)

// Bounds of what is read. What is nested costs the parser time by the square of its depth.
const (
	MaxLength   = 8 << 10 // bytes
	maxBrackets = 200     // brackets that open, of all kinds, and backquotes
)

// ErrTooLong says that a command is longer than [MaxLength], or has too many brackets.
var ErrTooLong = errors.New("the command is too long")

// Word is one word of a simple command, its quotes undone.
type Word struct {
	Text  string
	Plain bool // a shell takes the text as it is
}

// Command is a simple command: a program or a builtin, and its arguments. Assignments before it
// and redirections are left out.
type Command []Word

// Texts are the texts of the words.
func (c Command) Texts() []string {
	texts := make([]string, len(c))
	for k, w := range c {
		texts[k] = w.Text
	}
	return texts
}

// Parse returns the simple commands in the order in which they are written, those in tests of if
// and while, in loops and in both sides of && and | included. Those inside of words, $(like this),
// and in functions are left out: whether they run is not told. It fails where the text is no
// command of a POSIX shell or of bash.
func Parse(text string) ([]Command, error) {
	if len(text) > MaxLength {
		return nil, fmt.Errorf("%w: %d bytes, at most %d are read", ErrTooLong, len(text), MaxLength)
	}
	if !strings.ContainsAny(text, "\\\"'$`;&|<>(){}*?[]~#!=\n\r\t\x00") {
		if fields := strings.Fields(text); len(fields) > 0 && !reserved[fields[0]] { // as nearly all are
			command := make(Command, len(fields))
			for k, f := range fields {
				command[k] = Word{f, true}
			}
			return []Command{command}, nil
		}
	}
	file, err := parsed(text)
	if err != nil {
		return nil, err
	}
	var commands []Command
	syntax.Walk(file, func(node syntax.Node) bool {
		switch node := node.(type) {
		case *syntax.FuncDecl, *syntax.Word, *syntax.Redirect:
			return false
		case *syntax.CallExpr:
			if len(node.Args) > 0 {
				commands = append(commands, command(node))
			}
			return false
		}
		return true
	})
	return commands, nil
}

// parsed is the syntax of a line, within the bounds.
func parsed(text string) (*syntax.File, error) {
	if len(text) > MaxLength {
		return nil, fmt.Errorf("%w: %d bytes, at most %d are read", ErrTooLong, len(text), MaxLength)
	}
	brackets := 0
	for k := range len(text) {
		if strings.IndexByte("({[`<", text[k]) >= 0 {
			brackets++
		}
	}
	if brackets > maxBrackets {
		return nil, fmt.Errorf("%w: it has %d brackets", ErrTooLong, brackets)
	}
	parser := parsers.Get().(*syntax.Parser)
	defer parsers.Put(parser)
	return parser.Parse(strings.NewReader(text), "")
}

// parsers are kept, for one takes longer to make than a short line to parse.
var parsers = sync.Pool{New: func() any { return syntax.NewParser(syntax.Variant(syntax.LangBash)) }}

// Line is all that a shell line can run.
type Line struct {
	// Commands are its simple commands in the order in which they are written, those in functions too, and Inner those
	// whose output becomes a part of others: $(COMMAND), <(COMMAND).
	Commands, Inner []Command
	// Sets are the variables that it sets, for itself or for one command, as NAME=VALUE.
	Sets []Word
	// Functions are the names that stand for functions of its own.
	Functions map[string]bool
}

// ParseLine parses a shell line, and keeps all that it can run. It fails as [Parse] does.
func ParseLine(text string) (Line, error) {
	file, err := parsed(text)
	if err != nil {
		return Line{}, err
	}
	var line Line
	var open []syntax.Node // the nodes around the one that is looked at
	inside := 0            // how many of these are substitutions
	substitutes := func(node syntax.Node) bool {
		switch node.(type) {
		case *syntax.CmdSubst, *syntax.ProcSubst:
			return true
		}
		return false
	}
	syntax.Walk(file, func(node syntax.Node) bool {
		if node == nil { // the last one ends
			if substitutes(open[len(open)-1]) {
				inside--
			}
			open = open[:len(open)-1]
			return true
		}
		open = append(open, node)
		switch node := node.(type) {
		case *syntax.CmdSubst, *syntax.ProcSubst:
			inside++
		case *syntax.FuncDecl:
			if line.Functions == nil {
				line.Functions = map[string]bool{}
			}
			if node.Name != nil {
				line.Functions[node.Name.Value] = true
			}
		case *syntax.CallExpr:
			switch {
			case len(node.Args) == 0:
			case inside > 0:
				line.Inner = append(line.Inner, command(node))
			default:
				line.Commands = append(line.Commands, command(node))
			}
		case *syntax.Assign:
			w := Word{Plain: true}
			var value strings.Builder
			if node.Value != nil {
				w.add(&value, node.Value.Parts, false)
			}
			if node.Name != nil {
				w.Text = node.Name.Value + "=" + value.String()
				line.Sets = append(line.Sets, w)
			}
		}
		return true
	})
	return line, nil
}

// maxScript is how long a script may be, in bytes.
const maxScript = 64 << 10

// Alone returns the lines of a script, counted from 1, on each of which one simple command of the script's
// own stands, and nothing else: it can be taken out, and the rest stays a script.
func Alone(script string) (map[int]bool, error) {
	if len(script) > maxScript {
		return nil, fmt.Errorf("%w: %d bytes, at most %d are read", ErrTooLong, len(script), maxScript)
	}
	if deepest(script) > maxBrackets {
		return nil, ErrTooLong
	}
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(script), "")
	if err != nil {
		return nil, err
	}
	on := map[uint]int{} // how many statements a line has a share of
	for _, stmt := range file.Stmts {
		for n := stmt.Pos().Line(); n <= max(stmt.End().Line(), stmt.Pos().Line()); n++ {
			on[n]++
		}
	}
	alone := map[int]bool{}
	for _, stmt := range file.Stmts {
		call, ok := stmt.Cmd.(*syntax.CallExpr)
		at := stmt.Pos().Line()
		if ok && len(call.Args) > 0 && at == stmt.End().Line() && on[at] == 1 &&
			len(stmt.Redirs) == len(sameLine(stmt.Redirs, at)) {
			alone[int(at)] = true
		}
	}
	return alone, nil
}

// sameLine are the redirections that end on a line: the text of one can stand behind it.
func sameLine(redirs []*syntax.Redirect, line uint) []*syntax.Redirect {
	return slices.DeleteFunc(slices.Clone(redirs), func(r *syntax.Redirect) bool {
		return r.Hdoc != nil ||
			r.End().Line() != line
	})
}

// deepest is how deep brackets stand in each other at most.
func deepest(text string) int {
	depth, most := 0, 0
	for k := range len(text) {
		switch text[k] {
		case '(', '{', '[':
			depth++
			most = max(most, depth)
		case ')', '}', ']':
			depth--
		}
	}
	return most
}

// reserved are the words that begin something else than a simple command.
var reserved = map[string]bool{"if": true, "while": true, "until": true, "for": true, "case": true, "function": true,
	"select": true, "time": true, "coproc": true,
	"declare": true, "local": true, "export": true, "readonly": true, "typeset": true, "nameref": true, "let": true,
	"then": true, "else": true, "elif": true, "fi": true, "do": true, "done": true, "esac": true, "in": true}

// Reserved reports whether a word begins something else than a simple command.
func Reserved(word string) bool { return reserved[word] }

func command(call *syntax.CallExpr) Command {
	c := make(Command, len(call.Args))
	for k, arg := range call.Args {
		c[k].Plain = true
		var text strings.Builder
		c[k].add(&text, arg.Parts, false)
		c[k].Text = text.String()
	}
	return c
}

// add adds the parts of a word to its text; what a shell would expand stands there as it is
// written.
func (w *Word) add(text *strings.Builder, parts []syntax.WordPart, quoted bool) {
	for _, part := range parts {
		switch part := part.(type) {
		case *syntax.Lit:
			bare := unescape(text, part.Value, quoted)
			w.Plain = w.Plain && (quoted || !expands(bare))
		case *syntax.SglQuoted:
			w.Plain = w.Plain && !part.Dollar
			text.WriteString(part.Value)
		case *syntax.DblQuoted:
			w.Plain = w.Plain && !part.Dollar
			w.add(text, part.Parts, true)
		default:
			w.Plain = false
			if err := syntax.NewPrinter().Print(text, part); err != nil {
				text.WriteByte('?')
			}
		}
	}
}

// expands reports whether a shell takes a text for a pattern, a list in braces or a home.
func expands(bare string) bool {
	pair := func(opening, closing byte) bool {
		k := strings.IndexByte(bare, opening)
		return k >= 0 && strings.IndexByte(bare[k:], closing) > 0
	}
	return strings.ContainsAny(bare, "*?") || pair('[', ']') || pair('{', '}') || strings.Contains(bare, "~")
}

// unescape undoes the backslashes of a literal, and returns what had none before it. Between double
// quotes only those before $ ` " \ and a line end go, POSIX 2.2.3.
func unescape(text *strings.Builder, literal string, quoted bool) (bare string) {
	var rest strings.Builder
	for k := 0; k < len(literal); k++ {
		escaped := literal[k] == '\\' && k+1 < len(literal) &&
			(!quoted || strings.IndexByte("$`\"\\\n", literal[k+1]) >= 0)
		if escaped {
			if k++; literal[k] == '\n' {
				continue // the line goes on
			}
		} else {
			rest.WriteByte(literal[k])
		}
		text.WriteByte(literal[k])
	}
	return rest.String()
}
