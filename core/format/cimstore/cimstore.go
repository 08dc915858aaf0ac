// Package cimstore finds, in the store of the management service of Windows (wbem\Repository\OBJECTS.DATA), what
// programs are started by: bindings of a filter to a consumer, and the texts of the consumers.
//
//	for _, b := range cimstore.Bindings(piece) { ... }
//	for _, c := range cimstore.Consumers(piece) { ... }
//
// Microsoft does not document the store. Published research on it ("Windows Management Instrumentation Offense,
// Defense, and Forensics", 2015, and the readers made for it) agrees on this much: a reference is a text of single
// bytes; the values of an object lie in a heap, its length before it in four bytes with the highest bit set, and the
// name of its class first; a text in it begins with a byte that is 0 where it is of single bytes, and 1 where it is
// UTF-16, and ends with a zero. Which text is which property, only the definition of the class tells; that is not read.
// Pages that the service has given up stay in the file, so what is found may have been deleted.
package cimstore

import (
	"bytes"
	"encoding/binary"
	"strings"
	"unicode"
	"unicode/utf16"
)

// Overlap is how many bytes two pieces of the store must share so that nothing is missed between them.
const Overlap = maxHeap + 8

// maxHeap is how long the heap of one object may be. The service itself keeps larger ones; their texts are not found.
const maxHeap = 64 << 10

// Binding joins a filter to a consumer.
type Binding struct {
	Class    string // of the consumer, such as CommandLineEventConsumer
	Consumer string // its name
	Filter   string
}

// consumerMark is how all classes of consumers end.
const consumerMark = "EventConsumer"

// Bindings finds the records of the class __FilterToConsumerBinding in a piece of the store: a consumer's reference
// with a filter's soon behind it.
func Bindings(b []byte) []Binding {
	var found []Binding
	marker, filterMark := []byte(consumerMark+`.Name="`), []byte(`__EventFilter.Name="`)
	for at := 0; ; {
		k := bytes.Index(b[at:], marker)
		if k < 0 {
			return found
		}
		start := at + k
		at = start + len(marker)
		consumer := quoted(b[at:])
		rest := b[at:min(len(b), at+1024)]
		if f := bytes.Index(rest, filterMark); consumer != "" && f >= 0 {
			if filter := quoted(rest[f+len(filterMark):]); filter != "" {
				found = append(found, Binding{classBefore(b, start) + consumerMark, consumer, filter})
			}
		}
	}
}

// Consumer is an object of a class of consumers, with all texts of its heap but the name of the class: its own name,
// and what it runs or writes, in an order that is not known.
type Consumer struct {
	Class string
	Texts []string
}

// Consumers finds the consumers in a piece of the store.
func Consumers(b []byte) []Consumer {
	var found []Consumer
	marker := []byte(consumerMark + "\x00")
	for at := 0; ; {
		k := bytes.Index(b[at:], marker)
		if k < 0 {
			return found
		}
		end := at + k + len(marker)
		class := classBefore(b, at+k) + consumerMark
		at = end
		start := end - len(class) - 2 // the byte before the text
		if start < 4 || b[start] != 0 {
			continue
		}
		size := binary.LittleEndian.Uint32(b[start-4:])
		if size&(1<<31) == 0 {
			continue
		}
		stop := start + int(min(size&^(1<<31), maxHeap))
		if stop < end || stop > len(b) {
			continue
		}
		if texts := heapTexts(b[end:stop]); len(texts) > 0 {
			found = append(found, Consumer{class, texts})
		}
	}
}

// heapTexts are the texts of a heap. What is none, numbers for example, is passed over byte by byte.
func heapTexts(b []byte) []string {
	var all []string
	var no [2]int // up to where no text of UTF-16 begins, at even and odd places: what ends one ends all before it
	for k := 0; k < len(b); {
		text, n := "", 0
		switch {
		case b[k] == 0:
			text, n = narrow(b[k+1:])
		case b[k] == 1 && k >= no[k%2]:
			if text, n = wide(b[k+1:]); text == "" {
				no[k%2] = k + n
			}
		}
		if text == "" {
			k++
			continue
		}
		all = append(all, text)
		k += 1 + n
	}
	return all
}

// narrow is a text of single bytes, and how many bytes it takes with its end; empty if there is none.
func narrow(b []byte) (string, int) {
	end := bytes.IndexByte(b, 0)
	if end <= 0 {
		return "", 0
	}
	runes := make([]rune, end)
	for k, c := range b[:end] {
		runes[k] = rune(c)
	}
	return printable(string(runes)), end + 1
}

// wide is a text of UTF-16, and how many bytes it takes with its end; without one, how many cannot be one's beginning.
func wide(b []byte) (string, int) {
	var units []uint16
	for k := 0; k+1 < len(b); k += 2 {
		switch u := binary.LittleEndian.Uint16(b[k:]); {
		case u == 0:
			return printable(string(utf16.Decode(units))), k + 2
		case u < ' ' && !unicode.IsSpace(rune(u)):
			return "", k
		default:
			units = append(units, u)
		}
	}
	return "", len(b)
}

// printable is a text that a person could have written; empty if it is something else.
func printable(s string) string {
	if strings.ContainsFunc(s, func(r rune) bool {
		return r == unicode.ReplacementChar || !unicode.IsPrint(r) && !unicode.IsSpace(r)
	}) {
		return ""
	}
	return s
}

// classBefore is the word that ends at a place.
func classBefore(b []byte, end int) string {
	start := end
	for start > 0 && end-start < 64 && isWordByte(b[start-1]) {
		start--
	}
	return string(b[start:end])
}

func isWordByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_'
}

// quoted is what stands up to the next quote.
func quoted(b []byte) string {
	end := bytes.IndexByte(b[:min(len(b), 512)], '"')
	if end < 0 || bytes.IndexByte(b[:end], 0) >= 0 {
		return ""
	}
	return string(b[:end])
}
