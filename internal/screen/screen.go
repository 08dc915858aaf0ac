package screen

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"lockback/internal/view"
)

// The smallest terminal that a page is shown on.
const (
	minColumns = 50
	minLines   = 14
)

// mode is what the screen shows.
type mode int

const (
	page mode = iota
	panel
	overview
	asking
)

// model is the screen, as bubbletea defines it.
type model struct {
	deck   *Deck
	title  string
	color  bool
	width  int
	height int
	mode   mode
	head   string               // of a panel
	render func(Width) []string // of a panel or the overview
	lines  []string             // of it
	top    int                  // the first line that is seen
	steps  bool                 // in the overview
	prompt string               // what is asked for
	input  []rune
	answer func(string) (string, error)
	said   string // what happened
	twice  string // the handle of a protected entry that one key more turns off
	apply  bool
	failed error
}

// Screen asks on the whole terminal. It returns true where the person wants the decisions carried out. It fails where a
// decision could not be kept.
func Screen(ctx context.Context, d *Deck, title string, in io.Reader, out io.Writer, color bool) (apply bool,
	err error) {
	m := &model{deck: d, title: title, color: color, width: 80, height: 24}
	profile := colorprofile.ANSI
	if !color {
		profile = colorprofile.ASCII
	}
	// It does not query the terminal's abilities: a plain console writes the question out.
	env := append(os.Environ(), "SSH_TTY=none", "TERM_PROGRAM=none")
	_, err = tea.NewProgram(m, tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(out),
		tea.WithColorProfile(profile), tea.WithEnvironment(env)).Run()
	switch {
	case m.failed != nil:
		return false, m.failed
	case errors.Is(err, tea.ErrInterrupted), errors.Is(err, tea.ErrProgramKilled):
		return false, nil // what was decided is kept
	}
	return m.apply && err == nil, err
}

func (m *model) Init() tea.Cmd { return nil }

// Update takes what happened.
func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
		m.refresh()
	case tea.PasteMsg:
		if m.mode == asking {
			m.input = append(m.input, []rune(strings.Join(strings.Fields(msg.Content), " "))...)
		}
	case tea.KeyPressMsg:
		return m, m.key(msg)
	}
	return m, nil
}

// key takes a key.
func (m *model) key(msg tea.KeyPressMsg) tea.Cmd {
	name := msg.String()
	if name == "ctrl+c" {
		return tea.Quit
	}
	if m.small() {
		if name == "q" {
			return tea.Quit
		}
		return nil // nobody decides on what is not seen
	}
	if m.mode == asking {
		m.typed(name, msg.Key().Text)
		return nil
	}
	if m.scrolled(name) {
		return nil
	}
	twice := m.twice
	m.said, m.twice = "", ""
	if m.mode != page {
		switch name {
		case "esc", "b", "enter", "left", "backspace", "o":
			if m.mode == overview && name == "enter" {
				break
			}
			m.mode, m.top = page, 0
		case "s":
			if m.mode == overview {
				m.steps = !m.steps
				m.refresh()
			}
		case "a":
			if m.mode == overview {
				m.apply = true
				return tea.Quit
			}
		case "q":
			return tea.Quit
		}
		return nil
	}
	d := m.deck
	switch name {
	case "l":
		m.decide(Leave)
	case "d":
		if twice == d.Now().Handle {
			m.decide(OffProtected)
		} else {
			m.decide(Off)
		}
	case "e":
		m.decide(On)
	case "t":
		d.Widen()
	case "p":
		if !d.TakeProduct() {
			m.said = "nothing else of its product is in this review"
		}
	case "x":
		m.fail(d.Forget())
	case "n":
		m.ask("note (spare: ... sets the verdict)", func(text string) (string,
			error) {
			return d.source.Note(d.Now().Handle, text)
		})
	case "right", "space":
		m.move(1)
	case "left", "b", "backspace":
		m.move(-1)
	case "u":
		m.show("What is known of it elsewhere", d.source.Lookup)
	case "f":
		m.show("Where it stands", d.source.Where)
	case "/":
		m.ask("only entries with (empty for all)", func(text string) (string, error) { return "", d.SetFilter(text) })
	case "g":
		m.ask("go to number, handle or name", func(text string) (string, error) { return "", d.Jump(text) })
	case "o":
		m.mode, m.top = overview, 0
		m.render = func(w Width) []string { return d.source.Overview(d.Decisions, m.steps, w) }
		m.refresh()
	case "?":
		m.show("Keys", func(string, Width) []string { return strings.Split(keyHelp, "\n") })
	case "q":
		return tea.Quit
	}
	if m.failed != nil {
		return tea.Quit
	}
	return nil
}

// keyHelp tells all keys.
const keyHelp = `l            leave it as it is
d            disable: turn it off; of what is protected, press it twice
e            enable: turn it on
x            take the answer on this entry back
t            let the next answer count for the program, the product, the maker
p            let the next answer count for the whole product
n            write a note on its program down, for this machine and the next
u            look up: catalogue, notes, other machines, signature, web address
f            the file or key that it stands in
right, space go on without an answer
left, b      go back
up, down     scroll, also with page up and page down
/            show only some entries, by the same words as list
g            go to a number, a handle or a name
o            overview of all answers; from there they are carried out
q, Ctrl-C    leave; lockback review goes on where you are

Every answer is in the record at once. Nothing on the machine changes before
the question at the end.`

func (m *model) fail(err error) {
	if err != nil {
		m.failed = err
	}
}

func (m *model) move(by int) {
	m.top = 0
	m.fail(m.deck.Move(by))
}

func (m *model) decide(decision Decision) {
	at := m.deck.At
	said, err := m.deck.Decide(decision)
	var protected protectedError
	if errors.As(err, &protected) {
		m.twice, m.said = m.deck.Now().Handle, protected.Error()+"; press d again to turn it off all the same"
		return
	}
	m.fail(err)
	m.said = said
	if m.deck.At != at {
		m.top = 0
	}
	if _, _, _, open := m.deck.Count(); open == 0 && err == nil {
		m.said += "; all entries are decided on, o shows the overview"
	}
}

// show opens a panel.
func (m *model) show(head string, lines func(string, Width) []string) {
	m.mode, m.head, m.top = panel, head, 0
	m.render = func(w Width) []string { return lines(m.deck.Now().Handle, w) }
	m.refresh()
}

// ask opens the line for an answer.
func (m *model) ask(prompt string, answer func(string) (string, error)) {
	m.mode, m.prompt, m.input, m.answer = asking, prompt, nil, answer
}

// typed takes a key into the line.
func (m *model) typed(name, text string) {
	switch name {
	case "esc":
		m.mode = page
	case "enter":
		m.mode, m.top = page, 0
		said, err := m.answer(strings.TrimSpace(string(m.input)))
		if err != nil {
			said = err.Error()
		}
		m.said = said
	case "backspace":
		if len(m.input) > 0 {
			m.input = m.input[:len(m.input)-1]
		}
	case "ctrl+u":
		m.input = nil
	default:
		m.input = append(m.input, []rune(text)...)
	}
}

// scrolled moves what is seen; it reports whether the key is for that.
func (m *model) scrolled(name string) bool {
	room := m.room(m.footer())
	by := map[string]int{"up": -1, "down": 1, "pgup": -room, "pgdown": room, "home": -1 << 20, "end": 1 << 20}[name]
	if by == 0 {
		return false
	}
	m.top = max(0, min(m.top+by, len(m.content())-room))
	return true
}

func (m *model) small() bool { return m.width < minColumns || m.height < minLines }

// columns are what a page has; one is left free, so that no terminal wraps.
func (m *model) columns() Width { return Width{m.width - 1, m.color} }

// refresh makes the lines of a panel or the overview again: for another width, or with steps.
func (m *model) refresh() {
	if (m.mode == panel || m.mode == overview) && !m.small() {
		m.lines = m.render(m.columns())
	}
}

// content are all lines of what is shown. What is longer than a line, such as a path, goes on in the next: nothing is
// cut.
func (m *model) content() []string {
	lines := m.lines
	if m.mode == page || m.mode == asking {
		lines = m.deck.source.Page(m.deck.Now().Handle, m.columns())
	}
	var all []string
	for _, l := range lines {
		all = append(all, strings.Split(ansi.Hardwrap(l, m.width-1, true), "\n")...)
	}
	return all
}

// keys are the footer of each mode, the most used first.
var keys = map[mode][]string{
	page: {"l leave", "d disable", "e enable", "t take along", "p product", "n note", "u look up", "f file",
		"space next", "b back", "/ filter", "g go to", "o overview", "? keys", "q quit"},
	panel:    {"b back", "up, down scroll", "q quit"},
	overview: {"a apply, after one question", "s steps", "b back", "up, down scroll", "q quit"},
	asking:   {"enter ok", "esc cancel"},
}

// footer is what stands at the bottom.
type footer struct {
	said   []string // what happened, or that there is more
	status string   // the answer, or what is typed
	keys   []string
}

func (f footer) lines() int { return len(f.said) + 1 + len(f.keys) }

// footer makes the bottom; what happened takes as many lines as it needs.
func (m *model) footer() footer {
	f := footer{said: []string{""}, keys: flow(keys[m.mode], m.width-1)}
	switch m.mode {
	case page:
		f.status = "Answer: " + m.deck.Decisions[m.deck.Now().Handle].Word() + "   Counts for: " + m.deck.AlongWords()
		if m.deck.Filter != "" {
			f.status += "   Only: " + view.Safe(m.deck.Filter)
		}
	case asking:
		f.status = m.prompt + ": " + view.Safe(string(m.input)) + "_"
		if over := ansi.StringWidth(f.status) - (m.width - 1); over > 0 {
			f.status = "..." + ansi.TruncateLeft(f.status, over+3, "") // what is typed now is seen
		}
	}
	if m.said != "" {
		f.said = strings.Split(ansi.Wrap(view.Safe(m.said), m.width-1, ""), "\n")
	} else if more := len(m.content()) - m.top - m.room(f); more > 0 && m.mode != asking {
		f.said[0] = fmt.Sprintf("%d more lines below", more)
	}
	return f
}

// room is how many lines there are between the head and a footer.
func (m *model) room(f footer) int { return max(1, m.height-2-f.lines()) }

// flow puts texts into lines of a width; none is broken.
func flow(texts []string, width int) []string {
	const between = "   "
	lines := []string{texts[0]}
	for _, text := range texts[1:] {
		last := &lines[len(lines)-1]
		if len(*last)+len(between)+len(text) > width {
			lines = append(lines, text)
		} else {
			*last += between + text
		}
	}
	return lines
}

// View draws the screen.
func (m *model) View() tea.View {
	v := tea.NewView(m.draw())
	v.AltScreen = true
	v.WindowTitle = "lockback review"
	return v
}

func (m *model) draw() string {
	if m.small() {
		return ansi.Wrap(fmt.Sprintf("The terminal has %d columns and %d lines; a review needs %d and %d. Nothing "+
			"is lost: make it larger, or q to leave.", m.width, m.height, minColumns, minLines), max(1, m.width), "")
	}
	bold, faint := lipgloss.NewStyle().Bold(true), lipgloss.NewStyle().Faint(true)
	off, on, left, open := m.deck.Count()
	count := fmt.Sprintf("off %d, on %d, left %d, open %d", off, on, left, open)
	where := fmt.Sprintf("%d of %d", m.deck.At+1, m.deck.Shown())
	switch m.mode {
	case panel:
		where = m.head
	case overview:
		where = "Overview"
	}
	tail := where + "   " + count
	head := ansi.Truncate(m.title, max(10, m.width-1-ansi.StringWidth(tail)-3), "...")
	gap := max(3, m.width-1-ansi.StringWidth(head)-ansi.StringWidth(tail))
	lines := []string{bold.Render(ansi.Truncate(head+strings.Repeat(" ", gap)+tail, m.width-1, "...")),
		faint.Render(strings.Repeat("─", m.width-1))}
	foot := m.footer()
	body, room := m.content(), m.room(foot)
	m.top = max(0, min(m.top, len(body)-room))
	for k := range room {
		line := ""
		if m.top+k < len(body) {
			line = body[m.top+k]
		}
		lines = append(lines, line)
	}
	for _, l := range foot.said {
		lines = append(lines, bold.Render(l))
	}
	lines = append(lines, ansi.Truncate(foot.status, m.width-1, "..."))
	for _, l := range foot.keys {
		lines = append(lines, faint.Render(l))
	}
	return strings.Join(lines, "\n")
}
