package plist

import (
	"bytes"
	"encoding/binary"
)

// bounded looks through a property list before it is read, for what would make
// reading it take forever: containers inside each other without end.
func bounded(content []byte) error {
	if bytes.HasPrefix(content, []byte("bplist")) {
		return boundedBinary(content)
	}
	if head := bytes.TrimLeft(content, "\xef\xbb\xbf \t\r\n"); bytes.HasPrefix(head, []byte("<?")) ||
		bytes.HasPrefix(head, []byte("<!")) || bytes.HasPrefix(head, []byte("<plist")) {
		return boundedXML(content)
	}
	// The text form would take any word for a list of one.
	if head := bytes.TrimLeft(content, " \t\r\n"); len(head) == 0 || !bytes.ContainsRune([]byte("{(/"), rune(head[0])) {
		return ErrFormat
	}
	depth := 0
	for _, c := range content {
		switch c {
		case '(', '{', '<': // of the text form; what stands in quotes counts too
			depth++
		case ')', '}', '>':
			depth--
		}
		if depth > maxDepth {
			return ErrTooDeep
		}
	}
	return nil
}

// boundedXML follows the elements, whatever their names.
func boundedXML(content []byte) error {
	depth := 0
	for rest := content; ; {
		k := bytes.IndexByte(rest, '<')
		if k < 0 || k+1 == len(rest) {
			return nil
		}
		rest = rest[k+1:]
		switch rest[0] {
		case '/':
			depth--
		case '!', '?':
		default:
			if end := bytes.IndexByte(rest, '>'); end <= 0 || rest[end-1] != '/' {
				depth++
			}
		}
		if depth > maxDepth {
			return ErrTooDeep
		}
	}
}

// boundedBinary follows the references of a binary property list. The format is
// told in CFBinaryPList.c: a header, objects, a table of their offsets, and a
// trailer of 32 bytes. What is damaged is left to the reader to say.
func boundedBinary(b []byte) error {
	if len(b) < 40 {
		return nil
	}
	trailer := b[len(b)-32:]
	t := binaryTable{
		b: b, offsetSize: int(trailer[6]), refSize: int(trailer[7]), values: map[uint64]measure{},
		count: binary.BigEndian.Uint64(trailer[8:]), table: binary.BigEndian.Uint64(trailer[24:]),
	}
	if t.count > uint64(len(b)) || t.table > uint64(len(b)) || t.offsetSize == 0 || t.offsetSize > 8 ||
		t.refSize == 0 || t.refSize > 8 {
		return ErrFormat
	}
	m, ok := t.measure(binary.BigEndian.Uint64(trailer[16:]), 0)
	if !ok || m.values > maxValues || m.depth > maxDepth {
		return ErrTooDeep
	}
	return nil
}

type binaryTable struct {
	b                   []byte
	count, table        uint64
	offsetSize, refSize int
	values              map[uint64]measure
}

// measure is how much an object holds when it is read.
type measure struct {
	values, depth int
	open          bool // it is being measured: who meets it again goes in a circle
}

func (t *binaryTable) measure(index uint64, level int) (measure, bool) {
	if m, known := t.values[index]; known {
		return m, !m.open
	}
	if level > maxDepth {
		return measure{}, false
	}
	if index >= t.count {
		return measure{values: 1}, true
	}
	at := t.number(t.table+index*uint64(t.offsetSize), t.offsetSize)
	if at >= uint64(len(t.b)) {
		return measure{values: 1}, true
	}
	tag, count, start := t.b[at], uint64(t.b[at]&0xf), at+1
	refs := uint64(1)
	switch tag >> 4 {
	case 0xa, 0xc: // array, set
	case 0xd: // dictionary: keys, then values
		refs = 2
	default:
		return measure{values: 1}, true
	}
	if count == 0xf {
		if start >= uint64(len(t.b)) || t.b[start]&0xf > 3 {
			return measure{values: 1}, true
		}
		size := 1 << (t.b[start] & 0xf)
		count = t.number(start+1, size)
		start += 1 + uint64(size)
	}
	if count > uint64(len(t.b)) {
		return measure{values: 1}, true
	}
	t.values[index] = measure{open: true}
	sum := measure{values: 1}
	for k := range count * refs {
		below, ok := t.measure(t.number(start+k*uint64(t.refSize), t.refSize), level+1)
		if !ok {
			return measure{}, false
		}
		sum.values, sum.depth = sum.values+below.values, max(sum.depth, below.depth+1)
		if sum.values > maxValues {
			return measure{}, false
		}
	}
	t.values[index] = sum
	return sum, true
}

// number reads a big-endian number; beyond the end there are zeros.
func (t *binaryTable) number(at uint64, size int) uint64 {
	var n uint64
	for k := range uint64(size) {
		n <<= 8
		if at+k < uint64(len(t.b)) {
			n |= uint64(t.b[at+k])
		}
	}
	return n
}
