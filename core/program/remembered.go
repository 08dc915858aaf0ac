package program

import (
	"encoding/binary"
	"slices"

	"lockback/core/autostart"
)

// remembered is the form in which evidence is kept: every list looks at all of it, so it is read
// without decoding more than where each text ends. Texts stand with their length before them, lists
// with their number.
type remembered struct {
	Path     string
	Kind     string
	Evidence []Evidence
}

// noteKinds are the kinds of notes by the words that the record has for them. Nobody reads those.
var noteKinds = map[string]autostart.FactKind{
	"uninstalled by": autostart.FactUninstalledBy, "signature": autostart.FactSignature,
	"signed by": autostart.FactSignedBy,
	"signed as": autostart.FactSignedAs, "signed at": autostart.FactSignedAt,
}

// recordedName is the name of a note in the record.
func (n Note) recordedName() string {
	if n.Kind == autostart.OtherFact {
		return n.Name
	}
	for word, kind := range noteKinds {
		if kind == n.Kind {
			return word
		}
	}
	return n.Name
}

// noteNamed is a note as the record has it.
func noteNamed(word, text string) Note {
	if kind, known := noteKinds[word]; known {
		return Note{Kind: kind, Text: text}
	}
	return Note{Name: word, Text: text}
}

// maxRemembered is how many pieces of evidence, notes or problems stand in one list.
const maxRemembered = 1000

// texts are the fields of a piece of evidence that are text, in the order in which they are kept.
func (e *Evidence) texts() []*string {
	return []*string{&e.Basis, &e.Source, &e.Maker, &e.Product, &e.Version, &e.Installed, &e.Description, &e.Role,
		&e.Package, &e.Bundle}
}

func (r *remembered) encode() []byte {
	var b []byte
	number := func(n int) { b = binary.AppendUvarint(b, uint64(n)) }
	text := func(s string) { number(len(s)); b = append(b, s...) }
	text(r.Path)
	text(r.Kind)
	number(len(r.Evidence))
	for k := range r.Evidence {
		e := &r.Evidence[k]
		for _, s := range e.texts() {
			text(*s)
		}
		flags := int(e.State) << 3
		if e.System {
			flags |= 1
		}
		if e.Foreign {
			flags |= 2
		}
		if e.Official {
			flags |= 4
		}
		number(flags)
		number(len(e.Problems))
		for _, p := range e.Problems {
			text(p)
		}
		number(len(e.Notes))
		for _, n := range e.Notes {
			text(n.recordedName())
			text(n.Text)
		}
	}
	return b
}

// decode reads what encode wrote; ok is false for anything else.
func (r *remembered) decode(b []byte) (ok bool) {
	rest, ok := string(b), true
	number := func(limit int) int {
		n, used := uint64(0), 0
		for k := 0; k < len(rest) && k < 5; k++ {
			n |= uint64(rest[k]&0x7f) << (7 * k)
			if rest[k] < 0x80 {
				used = k + 1
				break
			}
		}
		if used == 0 || n > uint64(limit) {
			ok, rest = false, ""
			return 0
		}
		rest = rest[used:]
		return int(n)
	}
	text := func() string {
		n := number(len(rest))
		if n > len(rest) {
			ok, rest = false, ""
			return ""
		}
		s := rest[:n]
		rest = rest[n:]
		return s
	}
	r.Path, r.Kind = text(), text()
	r.Evidence = slices.Grow(r.Evidence[:0], 4)
	for range number(maxRemembered) {
		var e Evidence
		for _, s := range e.texts() {
			*s = text()
		}
		flags := number(int(Changed)<<3 | 7)
		e.System, e.Foreign, e.Official, e.State = flags&1 != 0, flags&2 != 0, flags&4 != 0, State(flags>>3)
		for range number(maxRemembered) {
			e.Problems = append(e.Problems, text())
		}
		for range number(maxRemembered) {
			e.Notes = append(e.Notes, noteNamed(text(), text()))
		}
		if !ok {
			return false
		}
		r.Evidence = append(r.Evidence, e)
	}
	return ok && rest == ""
}
