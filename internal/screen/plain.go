package screen

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"lockback/internal/view"
)

// plainHelp tells the words that are understood.
const plainHelp = `leave       leave it as it is
disable     turn it off        (disable protected: also what is protected)
enable      turn it on
take        let the next answer count for more: the program, the product, the maker
product     let the next answer count for the whole product
forget      take the answer on this entry back
note TEXT   write a note on its program down: note spare: comes with the scanner
look        what is known of it elsewhere
file        the file or key that it stands in
next, back  go on or back without an answer
filter WORDS  only entries that the words choose; filter alone shows all
go TO       go to a number, a handle or a name
overview    what the answers amount to; steps adds every step
apply       go on to the question whether to do it
quit        leave; lockback review goes on where you are
A beginning of a word is enough.`

// plainWords are the words that are understood, the first that fits a beginning counts.
var plainWords = []string{"leave", "disable", "enable", "take", "product", "forget", "note", "look", "file", "next",
	"back", "filter", "go", "overview", "steps", "apply", "quit", "help"}

// Plain asks line by line: for screen readers, simple terminals and pipes. It returns true where the person wants the
// decisions carried out. The end of the input is the same as quit. Where nobody types, the answers are echoed.
func Plain(d *Deck, in io.Reader, out io.Writer, columns int, echo bool) (apply bool, err error) {
	p := plain{d, out, Width{Columns: columns}}
	show := true
	for {
		if show {
			fmt.Fprintln(out)
			only := ""
			if d.Filter != "" {
				only = ", only " + view.Safe(d.Filter)
			}
			fmt.Fprintf(out, "%d of %d%s: %s\n", d.At+1, d.Shown(), only, d.Decisions[d.Now().Handle].Word())
			p.print(d.source.Page(d.Now().Handle, p.width))
		}
		show = false
		fmt.Fprintf(out, "For %s: leave, disable, enable, next, back, overview, quit, or help? ", d.AlongWords())
		line, end := readLine(in)
		if end != nil && line == "" {
			fmt.Fprintln(out)
			if errors.Is(end, io.EOF) {
				return false, nil
			}
			return false, end
		}
		if echo {
			fmt.Fprintln(out, line)
		}
		word, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
		rest = strings.TrimSpace(rest)
		said := ""
		switch name := plainWord(word); name {
		case "apply":
			return true, nil
		case "quit":
			return false, nil
		default:
			said, show, err = p.answer(name, word, rest)
		}
		if err != nil {
			return false, err
		}
		if said != "" {
			fmt.Fprintln(out, view.Safe(said))
		}
	}
}

// plain is a review that asks line by line.
type plain struct {
	deck  *Deck
	out   io.Writer
	width Width
}

func (p plain) print(lines []string) {
	for _, l := range lines {
		fmt.Fprintln(p.out, l)
	}
}

// answer does what a word asks for, and returns what is to be said to it, and whether the page is to be shown again.
// What follows the word is rest; typed is the word as it was typed.
func (p plain) answer(name, typed, rest string) (said string, show bool, err error) {
	switch name {
	case "":
		if typed != "" {
			said = fmt.Sprintf("%q is not understood; help lists the words", typed)
		}
	case "leave":
		said, err = p.deck.Decide(Leave)
		show = true
	case "disable":
		decision := Off
		if strings.EqualFold(rest, "protected") {
			decision = OffProtected
		}
		var protected protectedError
		if said, err = p.deck.Decide(decision); errors.As(err, &protected) {
			said, err = protected.Error()+"; disable protected turns it off all the same", nil
		} else {
			show = true
		}
	case "enable":
		said, err = p.deck.Decide(On)
		show = true
	case "take":
		p.deck.Widen()
	case "product":
		if !p.deck.TakeProduct() {
			said = "nothing else of its product is in this review"
		}
	case "forget":
		err = p.deck.Forget()
		show = true
	case "note":
		if rest == "" {
			said = "write the note behind the word: note spare: comes with the scanner"
			break
		}
		if text, failed := p.deck.source.Note(p.deck.Now().Handle, rest); failed != nil {
			said = failed.Error()
		} else {
			said = text
		}
	case "look":
		p.print(p.deck.source.Lookup(p.deck.Now().Handle, p.width))
	case "file":
		p.print(p.deck.source.Where(p.deck.Now().Handle, p.width))
	case "next":
		err = p.deck.Move(1)
		show = true
	case "back":
		err = p.deck.Move(-1)
		show = true
	case "filter":
		if failed := p.deck.SetFilter(rest); failed != nil {
			said = failed.Error()
		} else {
			show = true
		}
	case "go":
		if failed := p.deck.Jump(rest); failed != nil {
			said = failed.Error()
		} else {
			show = true
		}
	case "overview", "steps":
		p.print(p.deck.source.Overview(p.deck.Decisions, name == "steps", p.width))
	case "help":
		fmt.Fprintln(p.out, plainHelp)
	}
	return said, show, err
}

// plainWord finds the word that one begins with.
func plainWord(word string) string {
	if word == "?" {
		return "help"
	}
	word = strings.ToLower(word)
	for _, w := range plainWords {
		if word != "" && strings.HasPrefix(w, word) {
			return w
		}
	}
	return ""
}

// maxLine is how long a line may be, in bytes.
const maxLine = 4096

// readLine reads a line and not a byte more: the next question reads what follows. A longer line is cut.
func readLine(in io.Reader) (string, error) {
	var line []byte
	b := make([]byte, 1)
	for {
		n, err := in.Read(b)
		if n == 1 && b[0] == '\n' {
			return strings.TrimSuffix(string(line), "\r"), nil
		}
		if n == 1 && len(line) < maxLine {
			line = append(line, b[0])
		}
		if err != nil {
			return string(line), err
		}
	}
}
