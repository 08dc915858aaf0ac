package regf

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// The hive is read in blocks, which are kept: those that were edited until they
// are written, the others as long as there is room.
const (
	blockSize = 16 << 10
	maxClean  = 192 // 3 MiB
)

type block struct {
	data  [blockSize]byte
	dirty bool
}

// block returns the block that holds an offset into the bins.
func (h *Hive) block(at uint32) (*block, error) {
	n := at / blockSize
	h.mu.RLock()
	b := h.blocks[n]
	h.mu.RUnlock()
	if b != nil {
		return b, nil
	}
	b = &block{}
	where := pageSize + int64(n)*blockSize
	if where < h.end {
		if _, err := h.src.ReadAt(b.data[:min(blockSize, h.end-where)], where); err != nil && !errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("reading a hive at byte %d: %w", where, err)
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if there := h.blocks[n]; there != nil {
		return there, nil
	}
	if h.clean >= maxClean {
		for k, old := range h.blocks {
			if !old.dirty {
				delete(h.blocks, k)
			}
		}
		h.clean = 0
	}
	h.blocks[n] = b
	h.clean++
	return b, nil
}

// read returns n bytes of the bins. They must not be changed, and change with
// the next edit.
func (h *Hive) read(at, n uint32) ([]byte, error) {
	if at > h.size || n > h.size-at {
		return nil, damaged(at, "%d bytes would reach behind the end", n)
	}
	b, err := h.block(at)
	if err != nil {
		return nil, err
	}
	if in := at % blockSize; in+n <= blockSize {
		return b.data[in : in+n : in+n], nil
	}
	out := make([]byte, 0, n)
	for n > 0 {
		if b, err = h.block(at); err != nil {
			return nil, err
		}
		part := min(n, blockSize-at%blockSize)
		out = append(out, b.data[at%blockSize:at%blockSize+part]...)
		at, n = at+part, n-part
	}
	return out, nil
}

// write changes bytes of the bins in memory.
func (h *Hive) write(at uint32, p []byte) error {
	if at > h.size || uint32(len(p)) > h.size-at {
		return damaged(at, "%d bytes cannot be written there", len(p))
	}
	for len(p) > 0 {
		b, err := h.block(at)
		if err != nil {
			return err
		}
		if !b.dirty {
			h.mu.Lock()
			b.dirty = true
			h.clean--
			// It may have been dropped since it was found.
			h.blocks[at/blockSize] = b
			h.mu.Unlock()
		}
		n := copy(b.data[at%blockSize:], p)
		at, p = at+uint32(n), p[n:]
	}
	h.edited = true
	return nil
}

// cell returns the content of an allocated cell, of at least want bytes.
func (h *Hive) cell(at uint32, want uint32) ([]byte, error) {
	size, err := h.cellSize(at)
	if err != nil {
		return nil, err
	}
	if size < want {
		return nil, damaged(at, "%d bytes, at least %d are needed", size, want)
	}
	return h.read(at+4, size)
}

// cellSize returns how many bytes an allocated cell can hold.
func (h *Hive) cellSize(at uint32) (uint32, error) {
	if at%8 != 0 {
		return 0, damaged(at, "not where a cell can be")
	}
	head, err := h.read(at, 4)
	if err != nil {
		return 0, err
	}
	size := int32(binary.LittleEndian.Uint32(head))
	switch {
	case size >= 0:
		return 0, damaged(at, "the cell is free")
	case size > -8 || size%8 != 0 || int64(-int64(size)) > int64(h.size-at):
		return 0, damaged(at, "a cell cannot have %d bytes there", -int64(size))
	}
	return uint32(-size) - 4, nil
}

// prefix is the content of a cell without what lies behind its first n bytes,
// for structures of fixed size at the head of long cells.
func (h *Hive) prefix(at, n uint32) ([]byte, uint32, error) {
	size, err := h.cellSize(at)
	if err != nil {
		return nil, 0, err
	}
	if size < n {
		return nil, 0, damaged(at, "%d bytes, at least %d are needed", size, n)
	}
	b, err := h.read(at+4, n)
	return b, size, err
}

func le16(b []byte, at int) uint16 { return binary.LittleEndian.Uint16(b[at:]) }
func le32(b []byte, at int) uint32 { return binary.LittleEndian.Uint32(b[at:]) }
