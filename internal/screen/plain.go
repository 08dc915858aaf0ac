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
	w := Width{Columns: columns}
	print := func(lines []string) {
		for _, l := range lines {
			fmt.Fprintln(out, l)
		}
	}
	show := true
	for {
		if show {
			fmt.Fprintln(out)
			only := ""
			if d.Filter != "" {
				only = ", only " + view.Safe(d.Filter)
			}
			fmt.Fprintf(out, "%d of %d%s: %s\n", d.At+1, d.Shown(), only, d.Decisions[d.Now().Handle].Word())
			print(d.source.Page(d.Now().Handle, w))
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
		switch plainWord(word) {
		case "":
			if word != "" {
				said = fmt.Sprintf("%q is not understood; help lists the words", word)
			}
		case "leave":
			said, err = d.Decide(Leave)
			show = true
		case "disable":
			decision := Off
			if strings.EqualFold(rest, "protected") {
				decision = OffProtected
			}
			var protected protectedError
			if said, err = d.Decide(decision); errors.As(err, &protected) {
				said, err = protected.Error()+"; disable protected turns it off all the same", nil
			} else {
				show = true
			}
		case "enable":
			said, err = d.Decide(On)
			show = true
		case "take":
			d.Widen()
		case "product":
			if !d.TakeProduct() {
				said = "nothing else of its product is in this review"
			}
		case "forget":
			err = d.Forget()
			show = true
		case "note":
			if rest == "" {
				said = "write the note behind the word: note spare: comes with the scanner"
				break
			}
			if text, failed := d.source.Note(d.Now().Handle, rest); failed != nil {
				said = failed.Error()
			} else {
				said = text
			}
		case "look":
			print(d.source.Lookup(d.Now().Handle, w))
		case "file":
			print(d.source.Where(d.Now().Handle, w))
		case "next":
			err = d.Move(1)
			show = true
		case "back":
			err = d.Move(-1)
			show = true
		case "filter":
			if failed := d.SetFilter(rest); failed != nil {
				said = failed.Error()
			} else {
				show = true
			}
		case "go":
			if failed := d.Jump(rest); failed != nil {
				said = failed.Error()
			} else {
				show = true
			}
		case "overview", "steps":
			print(d.source.Overview(d.Decisions, plainWord(word) == "steps", w))
		case "apply":
			return true, nil
		case "quit":
			return false, nil
		case "help":
			fmt.Fprintln(out, plainHelp)
		}
		if err != nil {
			return false, err
		}
		if said != "" {
			fmt.Fprintln(out, view.Safe(said))
		}
	}
}

// plainWord finds the word that one begins with.
func plainWord(word string) string {
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

// readLine reads a line and not a byte more: what follows is for who asks next. A longer line is cut.
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
