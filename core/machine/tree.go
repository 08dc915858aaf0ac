package machine

import "encoding/binary"

// A recorded tree is written as numbers (varints) and texts with their length
// before them.

func appendNumber(b []byte, n uint64) []byte { return binary.AppendUvarint(b, n) }

func appendText(b []byte, s string) []byte {
	return append(binary.AppendUvarint(b, uint64(len(s))), s...)
}

// treeReader reads them again; bad is set where the bytes end early.
type treeReader struct {
	b   []byte
	bad bool
}

func (r *treeReader) number() uint64 {
	n, used := binary.Uvarint(r.b)
	if used <= 0 {
		r.b, r.bad = nil, true
		return 0
	}
	r.b = r.b[used:]
	return n
}

// count is a number of things that each take a byte at least.
func (r *treeReader) count() uint64 {
	n := r.number()
	if n > uint64(len(r.b)) {
		r.bad = true
		return 0
	}
	return n
}

func (r *treeReader) text() string {
	n := r.number()
	if n > uint64(len(r.b)) {
		r.b, r.bad = nil, true
		return ""
	}
	s := string(r.b[:n])
	r.b = r.b[n:]
	return s
}
