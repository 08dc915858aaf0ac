// Package regf reads and writes registry hives, the files that Windows keeps its
// registry in. Where no document of the maker exists, it follows the published
// descriptions of the format (regf 1.3 to 1.6) that independent readers agree on.
//
// Reading is lazy: opening a hive reads its first page, and every key and value
// only what it needs.
//
// Edits are made in memory, on copies of the pages that they touch; the file is
// written whole with [Hive.WriteTo], see the example.
//
// Nothing in a file is trusted: every offset and length is checked before it is
// followed, counts are bounded by the cells that must hold them, and what is
// damaged fails alone, key by key.
package regf

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"lockback/core/format/windata"
)

// Sizes and bounds of the format and of this reader.
const (
	pageSize     = 4096       // of the base block, and the unit that bins are multiples of
	maxBins      = 0x7fffe000 // the largest size that a 31-bit cell offset can address
	maxNameUnits = 256        // UTF-16 units of a key's name; longer ones are read, not made
	// MaxValue is the largest value, in bytes, that is read or written.
	MaxValue = 16 << 20
	// MaxDepth is the deepest nesting of keys that Windows allows.
	MaxDepth = 512
	noCell   = 0xffffffff
)

// Errors that callers decide on.
var (
	// ErrNotHive says that a file is no registry hive at all.
	ErrNotHive = errors.New("not a registry hive")
	// ErrDamaged says that a part of the hive cannot be right.
	ErrDamaged = errors.New("the hive is damaged")
	// ErrNotFound says that a key or value is not there.
	ErrNotFound = errors.New("not in the hive")
	// ErrUnfinished says that the hive was not closed cleanly and that its logs
	// could not be applied: it can be read as it is, not written.
	ErrUnfinished = errors.New("the hive was not closed cleanly and its logs cannot be applied")
)

// damaged makes an error that says what is wrong and where.
func damaged(at uint32, format string, args ...any) error {
	return fmt.Errorf("%w: %s (cell 0x%x)", ErrDamaged, fmt.Sprintf(format, args...), at)
}

// Hive is an opened hive. Several goroutines may read it at once; edits need
// the hive for themselves.
type Hive struct {
	src  io.ReaderAt
	base [pageSize]byte
	size uint32 // of the bins, in bytes
	end  int64  // where the file ends: bins behind it are zeros that a damaged file promised

	mu     sync.RWMutex
	blocks map[uint32]*block
	clean  int // blocks that can be read again

	alloc      *allocator // made when the first cell is needed
	unfinished error
	logs       int // entries that were applied
	edited     bool
}

// Open opens a hive of the given size in bytes. Logs are not looked at, see
// [OpenWithLogs].
func Open(r io.ReaderAt, size int64) (*Hive, error) { return OpenWithLogs(r, size) }

// Source is a file of a known size.
type Source struct {
	io.ReaderAt
	Size int64
}

// OpenWithLogs opens a hive and, where it was not closed cleanly, applies its
// transaction logs (the files ending in .LOG1 and .LOG2, or .LOG before Windows
// Vista) in memory, as Windows does when it loads the hive. Where that is not
// possible the hive opens all the same, and [Hive.Unfinished] tells.
func OpenWithLogs(r io.ReaderAt, size int64, logs ...Source) (*Hive, error) {
	h := &Hive{src: r, end: size, blocks: map[uint32]*block{}}
	if size < pageSize {
		return nil, fmt.Errorf("%w: %d bytes are too few", ErrNotHive, size)
	}
	if _, err := r.ReadAt(h.base[:], 0); err != nil {
		return nil, fmt.Errorf("reading a hive: %w", err)
	}
	if string(h.base[:4]) != "regf" {
		return nil, fmt.Errorf("%w: it does not begin with regf", ErrNotHive)
	}
	whole := checksum(h.base[:]) == h.u32(508)
	if h.u32(4) != h.u32(8) || !whole {
		if err := h.applyLogs(logs, whole); err != nil {
			if !whole && len(logs) > 0 {
				err = fmt.Errorf("%w; the first page has a wrong checksum", err)
			}
			h.unfinished = fmt.Errorf("%w: %w", ErrUnfinished, err)
		}
	}
	if major := h.u32(20); major != 1 {
		return nil, fmt.Errorf("%w: version %d is not known", ErrNotHive, major)
	}
	h.size = h.u32(40)
	if limit := size - pageSize; int64(h.size) > limit && h.logs == 0 {
		h.size = uint32(min(limit, maxBins))
		if h.unfinished == nil {
			h.unfinished = fmt.Errorf("%w: the file is shorter than it says", ErrUnfinished)
		}
	}
	h.size = min(h.size, maxBins) &^ (pageSize - 1)
	h.edited = false
	return h, nil
}

func (h *Hive) u32(at int) uint32 { return binary.LittleEndian.Uint32(h.base[at:]) }

func (h *Hive) putU32(at int, v uint32) { binary.LittleEndian.PutUint32(h.base[at:], v) }

// checksum is that of a base block: the exclusive or of its first 127 words,
// with the two values that mean "none" moved out of the way.
func checksum(base []byte) uint32 {
	var sum uint32
	for k := 0; k < 508; k += 4 {
		sum ^= binary.LittleEndian.Uint32(base[k:])
	}
	switch sum {
	case 0xffffffff:
		return 0xfffffffe
	case 0:
		return 1
	}
	return sum
}

// Unfinished returns nil for a hive that may be written: it was closed cleanly,
// or its logs were applied.
func (h *Hive) Unfinished() error { return h.unfinished }

// LogEntries tells how many entries of the transaction logs were applied.
func (h *Hive) LogEntries() int { return h.logs }

// Edited reports whether anything was edited since the hive was opened. What came
// from its logs is no edit.
func (h *Hive) Edited() bool { return h.edited }

// Version is the minor version of the format: 3 to 6.
func (h *Hive) Version() int { return int(h.u32(24)) }

// Written is when the hive was last written, as its first page says.
func (h *Hive) Written() time.Time { return windata.Time(binary.LittleEndian.Uint64(h.base[12:])) }

// Root is the hive's topmost key.
func (h *Hive) Root() (*Key, error) { return h.keyAt(h.u32(36)) }

// Key opens a key by its path below the root; names are compared without regard
// to case. It fails with [ErrNotFound] or [ErrDamaged].
func (h *Hive) Key(path string) (*Key, error) {
	k, err := h.Root()
	for name := range strings.SplitSeq(path, `\`) {
		if err != nil {
			return nil, err
		}
		if name != "" {
			k, err = k.Subkey(name)
		}
	}
	return k, err
}
