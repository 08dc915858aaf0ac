package evtx

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"strconv"
	"strings"
	"time"

	"lockback/core/format/windata"
)

// node is an element of XML, or an attribute (then it has no children but text).
type node struct {
	name       string
	value      string // of text
	attributes []*node
	children   []*node
}

// child is the first element of this name below, nil if there is none; of nil it is nil.
func (n *node) child(name string) *node {
	if n != nil {
		for _, c := range n.children {
			if c.name == name {
				return c
			}
		}
	}
	return nil
}

func (n *node) attribute(name string) string {
	if n != nil {
		for _, a := range n.attributes {
			if a.name == name {
				return a.text()
			}
		}
	}
	return ""
}

// text is all text below.
func (n *node) text() string {
	if n == nil {
		return ""
	}
	if len(n.children) == 0 {
		return n.value
	}
	var all strings.Builder
	for _, c := range n.children {
		if c.name == "" {
			all.WriteString(c.value)
		}
	}
	return all.String()
}

func number(text string) (uint32, bool) {
	n, err := strconv.ParseUint(text, 10, 32)
	return uint32(n), err == nil
}

// Tokens of BinXml, [MS-EVEN6] 2.2.12. The bit 0x40 says that an element has attributes, or that
// more values follow.
const (
	tokenEnd           = 0x00
	tokenOpenElement   = 0x01
	tokenCloseStart    = 0x02
	tokenCloseEmpty    = 0x03
	tokenCloseElement  = 0x04
	tokenValue         = 0x05
	tokenAttribute     = 0x06
	tokenCDATA         = 0x07
	tokenCharacter     = 0x08
	tokenEntity        = 0x09
	tokenInstructions  = 0x0a
	tokenInstruction   = 0x0b
	tokenTemplate      = 0x0c
	tokenSubstitution  = 0x0d
	tokenOptional      = 0x0e
	tokenFragment      = 0x0f
	tokenMore          = 0x40
	typeText           = 0x01
	typeBinXML         = 0x21
	templateHead       = 24 // next of the same hash, id, size
	sizeOfDescriptor   = 4
	sizeOfFragmentHead = 4
)

var (
	errCut     = errors.New("the event is cut off")
	errToken   = errors.New("the event has what no event has")
	errTooDeep = errors.New("the event is nested too deep, or too large")
)

// value is one of the values that are filled in where a template has places for them.
type value struct {
	kind     byte
	from, to int // in the chunk
}

// parser reads BinXml. Names and templates stand once in a chunk, and are referred to by their
// place in it.
type parser struct {
	chunk []byte
	nodes int
	texts int // bytes of names and values, those that are read again included
}

func (p *parser) u16(at, end int) (int, error) {
	if at < 0 || at+2 > end {
		return 0, errCut
	}
	return int(binary.LittleEndian.Uint16(p.chunk[at:])), nil
}

func (p *parser) u32(at, end int) (int, error) {
	if at < 0 || at+4 > end {
		return 0, errCut
	}
	return int(binary.LittleEndian.Uint32(p.chunk[at:])), nil
}

func (p *parser) add() error {
	if p.nodes++; p.nodes > maxNodes {
		return errTooDeep
	}
	return nil
}

// utf16 reads count characters.
func (p *parser) utf16(at, count, end int) (string, error) {
	if at < 0 || count < 0 || at+2*count > end {
		return "", errCut
	}
	if p.texts += count; p.texts > maxText {
		return "", errTooDeep
	}
	return windata.Decode(p.chunk[at : at+2*count]), nil
}

// name reads a name by its place, which stands at at: the name itself follows where it is used for
// the first time.
func (p *parser) name(at, end int) (name string, next int, err error) {
	place, err := p.u32(at, end)
	if err != nil {
		return "", 0, err
	}
	count, err := p.u16(place+6, len(p.chunk)) // after the place of the next one, and a hash
	if err != nil {
		return "", 0, err
	}
	if name, err = p.utf16(place+8, count, len(p.chunk)); err != nil {
		return "", 0, err
	}
	if next = at + 4; place == next {
		next = place + 8 + 2*count + 2
	}
	return name, next, nil
}

// content reads what stands in an element, or in a fragment, until its end. In the value of a template
// (within), elements lack a number that they have elsewhere.
func (p *parser) content(into *node, at, end int, values []value, within bool, depth int) (int, error) {
	if depth > maxDepth {
		return 0, errTooDeep
	}
	for at < end {
		token := p.chunk[at]
		if err := p.add(); err != nil {
			return 0, err
		}
		var err error
		switch token &^ tokenMore {
		case tokenEnd, tokenCloseElement:
			return at + 1, nil
		case tokenFragment:
			at += sizeOfFragmentHead
		case tokenOpenElement:
			at, err = p.element(into, at, end, values, within, depth)
		case tokenTemplate:
			at, err = p.template(into, at, end, depth)
		case tokenInstructions:
			_, at, err = p.name(at+1, end)
		case tokenInstruction:
			var count int
			if count, err = p.u16(at+1, end); err == nil {
				at += 3 + 2*count
			}
		default:
			if !isText(token &^ tokenMore) {
				return 0, errToken
			}
			at, err = p.text(into, at, end, values, depth)
		}
		if err != nil {
			return 0, err
		}
	}
	return at, nil
}

// element reads an element from its token on.
func (p *parser) element(into *node, at, end int, values []value, within bool, depth int) (int, error) {
	attributed := p.chunk[at]&tokenMore != 0
	at++
	if !within {
		at += 2 // the number of the value that it depends on
	}
	at += 4 // its size
	n := &node{}
	var err error
	if n.name, at, err = p.name(at, end); err != nil {
		return 0, err
	}
	if attributed {
		at += 4 // the size of its attributes
		for at < end && p.chunk[at]&^tokenMore == tokenAttribute {
			if err := p.add(); err != nil {
				return 0, err
			}
			a := &node{}
			if a.name, at, err = p.name(at+1, end); err != nil {
				return 0, err
			}
			for at < end && isText(p.chunk[at]&^tokenMore) {
				if at, err = p.text(a, at, end, values, depth); err != nil {
					return 0, err
				}
			}
			n.attributes = append(n.attributes, a)
		}
	}
	into.children = append(into.children, n)
	if at >= end {
		return 0, errCut
	}
	switch p.chunk[at] {
	case tokenCloseEmpty:
		return at + 1, nil
	case tokenCloseStart:
		return p.content(n, at+1, end, values, within, depth+1)
	}
	return 0, errToken
}

func isText(token byte) bool {
	switch token {
	case tokenValue, tokenCDATA, tokenCharacter, tokenEntity, tokenSubstitution, tokenOptional:
		return true
	}
	return false
}

// text reads a piece of text: written out, or a value of the template.
func (p *parser) text(into *node, at, end int, values []value, depth int) (int, error) {
	if err := p.add(); err != nil {
		return 0, err
	}
	add := func(s string) { into.children = append(into.children, &node{value: s}) }
	switch p.chunk[at] &^ tokenMore {
	case tokenValue:
		if at+2 > end || p.chunk[at+1] != typeText {
			return 0, errToken
		}
		at++
		fallthrough
	case tokenCDATA:
		count, err := p.u16(at+1, end)
		if err != nil {
			return 0, err
		}
		s, err := p.utf16(at+3, count, end)
		add(s)
		return at + 3 + 2*count, err
	case tokenCharacter:
		c, err := p.u16(at+1, end)
		add(string(rune(c)))
		return at + 3, err
	case tokenEntity:
		name, next, err := p.name(at+1, end)
		add(map[string]string{"amp": "&", "lt": "<", "gt": ">", "quot": `"`, "apos": "'"}[name])
		return next, err
	}
	k, err := p.u16(at+1, end)
	if err != nil {
		return 0, err
	}
	if k >= len(values) {
		return 0, errToken
	}
	v := values[k]
	if v.kind == typeBinXML {
		_, err := p.content(into, v.from, v.to, nil, true, depth+1)
		return at + 4, err
	}
	s, err := p.valueText(v)
	add(s)
	return at + 4, err
}

// template reads an instance of a template: which it is, and its values.
func (p *parser) template(into *node, at, end, depth int) (int, error) {
	place, err := p.u32(at+6, end) // after the token, a byte and the template's id
	if err != nil {
		return 0, err
	}
	size, err := p.u32(place+templateHead-4, len(p.chunk))
	if err != nil {
		return 0, err
	}
	body := place + templateHead
	if size > len(p.chunk)-body {
		return 0, errCut
	}
	if at += 10; place == at {
		at = body + size
	}
	count, err := p.u32(at, end)
	if err != nil {
		return 0, err
	}
	descriptors := at + 4
	if count > maxValues || descriptors+sizeOfDescriptor*count > end {
		return 0, errCut
	}
	values := make([]value, count)
	at = descriptors + sizeOfDescriptor*count
	for k := range values {
		length, _ := p.u16(descriptors+sizeOfDescriptor*k, end)
		if at+length > end {
			return 0, errCut
		}
		values[k] = value{p.chunk[descriptors+sizeOfDescriptor*k+2], at, at + length}
		at += length
	}
	if _, err := p.content(into, body, body+size, values, false, depth+1); err != nil {
		return 0, err
	}
	return at, nil
}

// valueText is a value as text; empty for the kinds that no fact of ours is in.
func (p *parser) valueText(v value) (string, error) {
	b := p.chunk[v.from:v.to]
	if p.texts += len(b); p.texts > maxText {
		return "", errTooDeep
	}
	switch v.kind {
	case typeText:
		return strings.TrimRight(windata.Decode(b[:len(b)&^1]), "\x00"), nil
	case 0x02:
		return strings.TrimRight(string(b), "\x00"), nil
	case 0x03, 0x05, 0x07, 0x09, 0x04, 0x06, 0x08, 0x0a, 0x0d, 0x14, 0x15:
		return integer(v.kind, b), nil
	case 0x0e:
		return hex.EncodeToString(b), nil
	case 0x13:
		return windata.SID(b), nil
	case 0x11:
		if len(b) == 8 {
			return windata.Time(binary.LittleEndian.Uint64(b)).Format(time.RFC3339Nano), nil
		}
	}
	return "", nil
}

// integer writes a number: the odd kinds up to 9 have a sign, 0x14 and 0x15 are in hexadecimal.
func integer(kind byte, b []byte) string {
	if len(b) > 8 {
		return ""
	}
	var wide [8]byte
	copy(wide[:], b)
	u := binary.LittleEndian.Uint64(wide[:])
	switch {
	case len(b) == 0:
		return ""
	case kind >= 0x14:
		return "0x" + strconv.FormatUint(u, 16)
	case kind <= 0x09 && kind%2 == 1:
		shift := 64 - 8*len(b)
		return strconv.FormatInt(int64(u<<shift)>>shift, 10)
	}
	return strconv.FormatUint(u, 10)
}
