package cli

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"strings"

	"mvdan.cc/sh/v3/shell"
)

// paged shows what a command writes page by page where that is longer than the screen, so that its beginning is what
// is seen first. Where the output is no terminal, or the person wants no pager, it is written as it is.
func (a *app) paged(write func() error) error {
	if a.Height == 0 || a.Width == 0 || a.noPager || a.format != "table" {
		return write()
	}
	var text bytes.Buffer
	out := a.Out
	a.Out = &text
	err := write()
	a.Out = out
	if bytes.Count(text.Bytes(), []byte("\n")) < a.Height || !a.inPager(text.Bytes()) {
		if _, wrote := out.Write(text.Bytes()); err == nil {
			err = wrote
		}
	}
	return err
}

// inPager hands a text to the pager, and reports whether one showed it: that of PAGER, else less, else our own. An
// empty PAGER, and cat, want none.
func (a *app) inPager(text []byte) bool {
	name, given := os.LookupEnv("PAGER")
	words, err := shell.Fields(name, os.Getenv)
	switch {
	case given && (err != nil || len(words) == 0 || words[0] == "cat"):
		return false
	case !given:
		words = []string{"less"}
	}
	program, err := exec.LookPath(words[0])
	if err != nil {
		shown := a.Ask && a.turnPages(text)
		if given {
			a.note("note: the pager %s cannot be started: %s", words[0], oneLine(err))
		}
		return shown
	}
	c := exec.Command(program, words[1:]...)
	c.Stdin, c.Stdout, c.Stderr = bytes.NewReader(text), os.Stdout, os.Stderr
	c.Env = os.Environ()
	if os.Getenv("LESS") == "" { // less(1): leave at once what fits, keep colours, leave the text on the screen
		c.Env = append(c.Env, "LESS=FRX")
	}
	signal.Ignore(os.Interrupt) // it is the pager's
	defer signal.Reset(os.Interrupt)
	if err := c.Start(); err != nil {
		return false
	}
	c.Wait() // how somebody leaves a pager is no failure of ours
	return true
}

// turnPages is the pager of systems that have none: a page, and the next with each line that is entered.
func (a *app) turnPages(text []byte) bool {
	answers := bufio.NewReader(a.In)
	lines := strings.SplitAfter(string(text), "\n")
	for len(lines) > 0 {
		n := min(len(lines), max(a.Height-1, 1))
		io.WriteString(a.Out, strings.Join(lines[:n], ""))
		if lines = lines[n:]; len(lines) == 0 || len(lines) == 1 && lines[0] == "" {
			return true
		}
		fmt.Fprintf(a.Out, "%d more lines: Enter shows them, q and Enter leaves ", len(lines))
		if answer, err := answers.ReadString('\n'); err != nil || strings.HasPrefix(strings.ToLower(answer), "q") {
			return true
		}
	}
	return true
}
