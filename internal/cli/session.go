package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"os/user"
	"strconv"
	"strings"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/machine/files"
	"lockback/core/store"
	"lockback/core/work"
	"lockback/internal/page"
	"lockback/internal/view"
)

// session is a machine with its record, opened for a command.
type session struct {
	*app
	*work.Session
}

// open opens the machine and its record.
func (a *app) open(access store.Access) (*session, error) {
	s, err := a.desk().Open(access)
	return a.with(s, err)
}

// openSettled opens them too, and refuses to go on while an interrupted change waits.
func (a *app) openSettled(access store.Access) (*session, error) {
	s, err := a.desk().OpenSettled(access)
	return a.with(s, err)
}

// openToChange opens a session for a command that changes the machine, or only shows what it would do.
func (a *app) openToChange(recordNeeded bool) (*session, error) {
	s, err := a.desk().OpenToChange(a.dryRun, recordNeeded)
	return a.with(s, err)
}

func (a *app) with(s *work.Session, err error) (*session, error) {
	if err != nil {
		return nil, err
	}
	return &session{a, s}, nil
}

// look opens the machine, reads its inventory and shows something of it: what every command does that only looks.
func (a *app) look(show func(s *session, inv inventory.Inventory) error) error {
	s, err := a.with(a.desk().Look())
	if err != nil {
		return err
	}
	defer s.Close()
	inv := s.Measured()
	s.WarnOfInterrupted()
	if err := show(s, inv); err != nil {
		return err
	}
	return files.RanOut()
}

// desk opens machines and records, as the options of the command line say.
func (a *app) desk() *work.Desk {
	if a.bench == nil {
		a.bench = &work.Desk{}
	}
	a.bench.Options = work.Options{Root: a.root, Record: a.store, OpenMachine: a.Open, At: a.At, Reading: a.reading,
		Which: a.which, Warn: func(text string) { a.note("%s", a.whole(text)) }}
	if a.Ask {
		a.bench.AskWhich = a.askWhich
	}
	return a.bench
}

// askWhich asks which of several machines with one id is at hand.
func (a *app) askWhich(d work.Doubt) (string, error) {
	names := ""
	if len(d.Known) > 1 {
		for _, i := range d.Known {
			names += "/" + autostart.Text(i.Name)
		}
	}
	which := a.answer(fmt.Sprintf("%s. Is it the same computer, or another one that was made from the same image? "+
		"[same%s/other]", strings.ToUpper(d.Words()[:1])+d.Words()[1:], names))
	if which == "" {
		a.note("nothing was done")
		return "", exitError(exitFailed)
	}
	return which, nil
}

// page writes what a command found.
func (a *app) page() page.Writer {
	return page.Writer{Printer: a.printer(), Format: a.format, Verbose: a.verbose, Quiet: a.quiet, Err: a.Err,
		Search: a.search}
}

func (a *app) printer() view.Printer {
	return view.Printer{Out: a.Out, Width: a.Width, Color: a.Color && !a.noColor, Hints: a.hints()}
}

// errorPage is page on standard error, where questions are asked.
func (a *app) errorPage() page.Writer {
	w := a.page()
	w.Out = a.Err
	return w
}

// author is who writes a note: the name in the configuration, else that of who runs the program, also where that is
// done as root.
func (a *app) author() string {
	if a.by != "" {
		return a.by
	}
	if name := os.Getenv("SUDO_USER"); name != "" && files.Privileged() {
		return autostart.Text(name)
	}
	u, err := user.Current()
	if err != nil {
		return ""
	}
	return autostart.Text(u.Username[strings.LastIndex(u.Username, `\`)+1:])
}

// confirm asks before something is done. Without a terminal it stops, unless --yes was given.
func (a *app) confirm(question string) error {
	if a.yes {
		return nil
	}
	if !a.Ask {
		return usage("nothing was done: this needs a yes, and there is no terminal to ask on; add --yes, or " +
			"--dry-run to look first")
	}
	switch strings.ToLower(a.answer(question + " [y/N]")) {
	case "y", "yes":
		return nil
	}
	a.note("nothing was done")
	return exitError(exitFailed)
}

// confirmNumber asks before something large is done: the number of entries is to be typed.
func (a *app) confirmNumber(question string, n int) error {
	if a.yes || !a.Ask {
		return a.confirm(question)
	}
	if a.answer(question+" Type the number of entries to go on:") == strconv.Itoa(n) {
		return nil
	}
	a.note("nothing was done")
	return exitError(exitFailed)
}

// answer asks a question and reads a line.
func (a *app) answer(question string) string {
	fmt.Fprintf(a.Err, "%s ", view.Safe(question))
	answer, _ := bufio.NewReader(a.In).ReadString('\n')
	return strings.TrimSpace(answer)
}

// notes writes several.
func (a *app) notes(lines []string) { a.page().Notes(lines) }

// note writes a line for the person to standard error, unless --quiet is given.
func (a *app) note(format string, args ...any) { a.page().Note(format, args...) }

// nothingFound notes that a selector chose nothing, which is an answer where one looks; other errors it returns.
func (a *app) nothingFound(err error) error {
	var nothing work.NothingFound
	if errors.As(err, &nothing) {
		a.note("%s", a.oneLine(err)) // the rest of the machine was read
		return nil
	}
	return err
}
