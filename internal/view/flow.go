package view

import (
	"fmt"
	"strings"
)

// Pair is a name, its value, and where the value comes from.
type Pair struct {
	Name, Value, From string
	Mark              Mark
}

// Pairs writes names and values below each other. Words are not broken where they fit a line.
func (p Printer) Pairs(pairs []Pair) {
	at := 0
	for _, pair := range pairs {
		at = max(at, width(Safe(pair.Name)))
	}
	at += 2
	for _, pair := range pairs {
		p.Pair(pair, at)
	}
}

// Pair writes a name, and its value from a column on.
func (p Printer) Pair(pair Pair, at int) {
	name := Safe(pair.Name)
	fmt.Fprintf(p.Out, "%s%*s", p.paint(name, Quiet), at-width(name), "")
	var pieces []piece
	for _, w := range strings.Fields(pair.Value) {
		pieces = append(pieces, piece{w, pair.Mark, true})
	}
	if pair.From != "" {
		pieces = append(pieces, piece{"(" + pair.From + ")", Quiet, false})
	}
	p.flow(pieces, at, at, " ")
}

// piece is a stretch of text that stays on one line where it fits one. Where it does not, it is
// broken at its spaces, but for a whole one: a name.
type piece struct {
	text  string
	mark  Mark
	whole bool
}

// flow writes pieces one after another from a column on, on further lines where they do not
// fit. A name or a path that is longer than a line stays whole.
func (p Printer) flow(pieces []piece, at, indent int, between string) {
	start := true
	put := func(s string, mark Mark, between string) {
		w := width(s)
		switch {
		case start:
		case p.Width == 0 || at+len(between)+w < p.Width:
			fmt.Fprint(p.Out, between)
			at += len(between)
		default:
			fmt.Fprintf(p.Out, "\n%*s", indent, "")
			at = indent
		}
		start = false
		fmt.Fprint(p.Out, p.paint(s, mark))
		at += w
	}
	for _, piece := range pieces {
		s := Safe(piece.text)
		if piece.whole || p.Width == 0 || indent+width(s) < p.Width {
			put(s, piece.mark, between)
			continue
		}
		for k, word := range strings.Fields(s) {
			if k == 0 {
				put(word, piece.mark, between)
			} else {
				put(word, piece.mark, " ")
			}
		}
	}
	fmt.Fprintln(p.Out)
}

// Commands writes commands and what they do below each other, indented.
func (p Printer) Commands(pairs [][2]string) {
	at := 0
	for k, pair := range pairs {
		pairs[k][0] = Safe(p.Hinted(pair[0]))
		at = max(at, width(pairs[k][0]))
	}
	at += 4
	for _, pair := range pairs {
		fmt.Fprintf(p.Out, "  %s%*s", pair[0], at-2-width(pair[0]), "")
		p.flow([]piece{{text: pair[1]}}, at, at, " ")
	}
}
