// Command reference writes the manual pages (docs/man) and the reference (docs/reference.md) from
// the help texts of the commands, which are their only source, and the schemas (docs/schema) from the types that the
// commands print:
//
//	go run ./internal/reference docs
package main

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"lockback/internal/cli"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: reference DIR")
		os.Exit(2)
	}
	if err := write(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "reference:", err)
		os.Exit(1)
	}
}

// write writes all pages below a folder, and takes away what is no page any more.
func write(dir string) error {
	pages, err := pages()
	if err != nil {
		return err
	}
	if err := os.RemoveAll(filepath.Join(dir, "man")); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(dir, "man"), 0o755); err != nil {
		return err
	}
	schemas, err := schemas()
	if err != nil {
		return err
	}
	maps.Copy(pages, schemas)
	if err := os.RemoveAll(filepath.Join(dir, "schema")); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(dir, "schema"), 0o755); err != nil {
		return err
	}
	for name, text := range pages {
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// pages makes all pages, by their names below the folder of documents.
func pages() (map[string][]byte, error) {
	all := map[string][]byte{}
	reference := bytes.NewBufferString("# The commands of Lock Back\n\nMade from the help texts by `make docs`.\n\n")
	for _, c := range commands(cli.Command()) {
		c.DisableAutoGenTag = true
		section := "1"
		if c.IsAdditionalHelpTopicCommand() {
			section = "7"
		}
		var page bytes.Buffer
		date := time.Date(2026, time.November, 1, 0, 0, 0, 0, time.UTC) // the same page from the same text
		if err := doc.GenMan(c, &doc.GenManHeader{Section: section, Source: "Lock Back", Manual: "Lock Back",
			Date: &date}, &page); err != nil {
			return nil, err
		}
		all[filepath.Join("man", strings.ReplaceAll(c.CommandPath(), " ", "-")+"."+section)] = sound(page.Bytes(), date)
		var text bytes.Buffer
		if err := doc.GenMarkdownCustom(c, &text, anchor); err != nil {
			return nil, err
		}
		reference.Write(bytes.TrimRight(text.Bytes(), "\n"))
		reference.WriteString("\n\n")
	}
	all["reference.md"] = append(bytes.TrimRight(reference.Bytes(), "\n"), '\n')
	return all, nil
}

// option is how the generator writes an option: its text on a line that begins with a tab, which
// no manual page should have.
var option = regexp.MustCompile(`(?m)^(?:\.PP\n)?(\\fB-.*)\n\t`)

// sound mends what manual readers complain of: the date, and options.
func sound(page []byte, date time.Time) []byte {
	page = bytes.Replace(page, []byte(`"`+date.Format("Jan 2006")+`"`), []byte(`"`+date.Format(time.DateOnly)+`"`), 1)
	page = option.ReplaceAll(page, []byte(".TP\n$1\n"))
	var b bytes.Buffer
	literal := false
	for line := range bytes.Lines(page) {
		text := strings.TrimRight(string(line), "\n")
		switch text {
		case ".EX", ".nf":
			literal = true
		case ".EE", ".fi":
			literal = false
		}
		for !literal && len(text) > longLine && !strings.HasPrefix(text, ".") {
			at := strings.LastIndexByte(text[:longLine], ' ')
			if at < 1 || strings.ContainsAny(text[at+1:at+2], ".'") {
				break
			}
			b.WriteString(text[:at] + "\n")
			text = text[at+1:]
		}
		b.WriteString(text + "\n")
	}
	return b.Bytes()
}

// longLine is how many bytes a line of a manual page may have.
const longLine = 80

// anchor leads to a command's heading in the one page that has them all.
func anchor(file string) string {
	return "#" + strings.ReplaceAll(strings.TrimSuffix(file, ".md"), "_", "-")
}

// commands lists the tree, each command before those below it, with texts that Markdown keeps as
// they are laid out.
func commands(c *cobra.Command) []*cobra.Command {
	c.Long = literal(c.Long)
	all := []*cobra.Command{c}
	for _, sub := range c.Commands() {
		if sub.Name() != "help" && (sub.IsAvailableCommand() || sub.IsAdditionalHelpTopicCommand()) {
			all = append(all, commands(sub)...)
		}
	}
	return all
}

// literal indents lines that are laid out by hand, so that Markdown takes them for code.
func literal(text string) string {
	var b strings.Builder
	inside := false
	for line := range strings.Lines(text) {
		laidOut := strings.HasPrefix(line, "  ")
		blank := strings.TrimSpace(line) == ""
		if laidOut && !inside && b.Len() > 0 && !strings.HasSuffix(b.String(), "\n\n") {
			b.WriteString("\n")
		}
		if laidOut {
			line = "    " + line
		}
		inside = laidOut || inside && blank
		b.WriteString(line)
	}
	return b.String()
}
