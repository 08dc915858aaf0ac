package regf

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
)

// allocator knows the free cells of a hive, by size. It is made when the first
// cell is needed, by walking all bins once: that also tells which offsets are
// cells at all, so that a damaged hive is refused before anything is written.
type allocator struct {
	hive  *Hive
	free  [classes][]uint32 // offsets of free cells, by the class of their size
	cells []uint64          // a bit for each eight bytes: a cell begins here
}

// Sizes up to 8*(classes-1) bytes have a class each, larger ones share the last.
const classes = 130

func class(size uint32) int { return int(min(size/8, classes-1)) }

const (
	binHead = 32
	binUnit = pageSize
)

func (a *allocator) mark(at uint32, is bool) {
	word := int(at / 512)
	for len(a.cells) <= word {
		a.cells = append(a.cells, 0)
	}
	if is {
		a.cells[word] |= 1 << (at / 8 % 64)
	} else {
		a.cells[word] &^= 1 << (at / 8 % 64)
	}
}

func (a *allocator) isCell(at uint32) bool {
	return at%8 == 0 && int(at/512) < len(a.cells) && a.cells[at/512]>>(at/8%64)&1 != 0
}

// survey walks all bins and their cells. It fails with [ErrDamaged] where they
// do not fill the hive exactly.
func (h *Hive) survey() (*allocator, error) {
	a := &allocator{hive: h, cells: make([]uint64, 0, h.size/512+1)}
	r := &binReader{hive: h}
	for bin := uint32(0); bin < h.size; {
		head, err := r.at(bin, binHead)
		if err != nil {
			return nil, err
		}
		size := le32(head, 8)
		if string(head[:4]) != "hbin" || le32(head, 4) != bin || size == 0 || size%binUnit != 0 || size > h.size-bin {
			return nil, fmt.Errorf("nothing is written: %w", damaged(bin, "no bin begins there"))
		}
		for at := bin + binHead; at < bin+size; {
			head, err := r.at(at, 4)
			if err != nil {
				return nil, err
			}
			n := int32(binary.LittleEndian.Uint32(head))
			length := uint32(n)
			if n < 0 {
				length = uint32(-int64(n))
			}
			if length < 8 || length%8 != 0 || length > bin+size-at {
				return nil, fmt.Errorf("nothing is written: %w", damaged(at, "a cell of %d bytes", n))
			}
			a.mark(at, true)
			if n > 0 {
				c := class(length)
				a.free[c] = append(a.free[c], at)
			}
			at += length
		}
		bin += size
	}
	return a, nil
}

// binReader reads a hive from beginning to end without filling its blocks.
type binReader struct {
	hive *Hive
	buf  []byte
	from uint32
}

func (r *binReader) at(at, n uint32) ([]byte, error) {
	if at >= r.from && int(at-r.from)+int(n) <= len(r.buf) {
		return r.buf[at-r.from : at-r.from+n], nil
	}
	h := r.hive
	if at > h.size || n > h.size-at {
		return nil, damaged(at, "%d bytes would reach behind the end", n)
	}
	if r.buf == nil {
		r.buf = make([]byte, 1<<20)
	}
	r.from = at / blockSize * blockSize
	r.buf = r.buf[:min(1<<20, h.size-r.from)]
	clear(r.buf)
	if where := pageSize + int64(r.from); where < h.end {
		if _, err := h.src.ReadAt(r.buf[:min(int64(len(r.buf)), h.end-where)], where); err != nil &&
			!errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("reading a hive at byte %d: %w", where, err)
		}
	}
	for k := r.from / blockSize; k*blockSize < r.from+uint32(len(r.buf)); k++ {
		if b := h.blocks[k]; b != nil && b.dirty {
			copy(r.buf[k*blockSize-r.from:], b.data[:])
		}
	}
	return r.at(at, n)
}

// freeSize is the size of a free cell with its head, 0 where none is.
func (h *Hive) freeSize(at uint32) uint32 {
	if !h.alloc.isCell(at) {
		return 0
	}
	head, err := h.read(at, 4)
	if err != nil {
		return 0
	}
	if n := int32(binary.LittleEndian.Uint32(head)); n > 0 {
		return uint32(n)
	}
	return 0
}

// allocate finds a free cell for n bytes, or adds a bin.
func (h *Hive) allocate(n uint32) (uint32, error) {
	want := (n + 4 + 7) &^ 7
	a := h.alloc
	for c := class(want); c < classes; c++ {
		list := a.free[c]
		for k := len(list) - 1; k >= 0; k-- {
			at := list[k]
			size := h.freeSize(at)
			if class(size) != c || size == 0 {
				list[k] = list[len(list)-1] // merged with another since
				list = list[:len(list)-1]
				continue
			}
			if size >= want {
				list[k] = list[len(list)-1]
				a.free[c] = list[:len(list)-1]
				return at, h.take(at, size, want)
			}
		}
		a.free[c] = list
	}
	at, size, err := h.addBin(want)
	if err != nil {
		return 0, err
	}
	return at, h.take(at, size, want)
}

// fits reports, before anything is changed, whether the hive has room for
// content and for the lists that may have to move.
func (h *Hive) fits(content []byte) error {
	if h.size > maxBins-(64<<10)-uint32(len(content)) {
		return ErrFull
	}
	return nil
}

// take allocates the first bytes of a free cell and leaves the rest free.
func (h *Hive) take(at, size, want uint32) error {
	if rest := size - want; rest >= 8 {
		if err := h.write(at+want, binary.LittleEndian.AppendUint32(nil, rest)); err != nil {
			return err
		}
		h.alloc.mark(at+want, true)
		c := class(rest)
		h.alloc.free[c] = append(h.alloc.free[c], at+want)
		size = want
	}
	return h.write(at, append(binary.LittleEndian.AppendUint32(nil, -size), make([]byte, size-4)...))
}

// addBin adds a bin that a cell of that size fits into.
func (h *Hive) addBin(want uint32) (at, size uint32, err error) {
	length := (want + binHead + binUnit - 1) &^ (binUnit - 1)
	if length > maxBins-h.size {
		return 0, 0, ErrFull
	}
	bin := h.size
	if pageSize+int64(bin) < h.end {
		// Something lies behind the bins; a new bin goes over it.
		h.end = pageSize + int64(bin)
	}
	h.size += length
	head := make([]byte, binHead+4)
	copy(head, "hbin")
	binary.LittleEndian.PutUint32(head[4:], bin)
	binary.LittleEndian.PutUint32(head[8:], length)
	if bin == 0 {
		copy(head[20:28], h.base[12:20]) // only the first bin's time is used
	}
	binary.LittleEndian.PutUint32(head[binHead:], length-binHead)
	if err := h.write(bin, head); err != nil {
		return 0, 0, err
	}
	h.putU32(40, h.size)
	h.alloc.mark(bin+binHead, true)
	return bin + binHead, length - binHead, nil
}

// free frees a cell and joins it with the free ones beside it in the same bin.
func (h *Hive) free(at uint32) error {
	a := h.alloc
	if !a.isCell(at) {
		return damaged(at, "no cell begins there")
	}
	size, err := h.cellSize(at)
	if err != nil {
		return err
	}
	size += 4
	// Where a bin begins, no cell does.
	if next := at + size; next < h.size {
		if more := h.freeSize(next); more > 0 {
			a.mark(next, false)
			size += more
		}
	}
	if before, ok := a.before(at); ok {
		if more := h.freeSize(before); more > 0 && before+more == at {
			a.mark(at, false)
			at, size = before, size+more
		}
	}
	c := class(size)
	a.free[c] = append(a.free[c], at)
	return h.write(at, binary.LittleEndian.AppendUint32(nil, size))
}

// before is where the last cell before an offset begins.
func (a *allocator) before(at uint32) (uint32, bool) {
	word, below := int(at/512), uint64(1)<<(at/8%64)-1
	for ; word >= 0; word, below = word-1, ^uint64(0) {
		if set := a.cells[word] & below; set != 0 {
			return uint32(word*512 + 8*(63-bits.LeadingZeros64(set))), true
		}
	}
	return 0, false
}
