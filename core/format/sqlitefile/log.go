package sqlitefile

import (
	"encoding/binary"
	"fmt"
)

// The layout of a log and of the head of a database, "Database File Format" of SQLite, 4.1, 4.2 and 1.3.
const (
	logHead    = 32
	frameHead  = 24
	logMagic   = 0x377f0682 // its lowest bit tells the order of the bytes in checksums
	logVersion = 3007000
	pageSizeAt = 16
)

// WithLog returns a database as it is with what stands in the log beside it, FILE-wal, and was not written into
// it yet. Frames count up to the last that ends a transaction and is whole, as SQLite reads them. It fails with
// [ErrFormat] where the log is of another database, and where the result is larger than max bytes. Content and
// log are not changed.
func WithLog(content, log []byte, max int64) ([]byte, error) {
	if len(log) < logHead {
		return content, nil // a log that was emptied
	}
	word := func(at int) uint32 { return binary.BigEndian.Uint32(log[at:]) }
	var order binary.ByteOrder = binary.LittleEndian
	if word(0)&1 == 1 {
		order = binary.BigEndian
	}
	size := int(word(8))
	if word(0)&^1 != logMagic || word(4) != logVersion || size < 512 || size > 1<<16 || size&(size-1) != 0 {
		return nil, fmt.Errorf("%w: its log is none", ErrFormat)
	}
	if own := pageSize(content); own != 0 && own != size {
		return nil, fmt.Errorf("%w: its log has pages of another size", ErrFormat)
	}
	var sum checksum
	if sum.add(order, log[:24]); sum != (checksum{word(24), word(28)}) {
		return content, nil // its writing was cut off: nothing in it counts
	}
	pages, committed := map[uint32]int{}, map[uint32]int{} // where the newest copy of a page is
	count := int64(-1)
	for at := logHead; at+frameHead+size <= len(log); at += frameHead + size {
		page, ends := word(at), word(at+4)
		if word(at+8) != word(16) || word(at+12) != word(20) || page == 0 {
			break // of an earlier round
		}
		sum.add(order, log[at:at+8])
		if sum.add(order, log[at+frameHead:at+frameHead+size]); sum != (checksum{word(at + 16), word(at + 20)}) {
			break
		}
		if pages[page] = at + frameHead; ends != 0 {
			count = int64(ends)
			for page, at := range pages {
				committed[page] = at
			}
			clear(pages)
		}
	}
	if count < 0 {
		return content, nil
	}
	if count*int64(size) > max {
		return nil, fmt.Errorf("%w: it is larger than %d bytes", ErrFormat, max)
	}
	whole := make([]byte, count*int64(size))
	copy(whole, content)
	for page, at := range committed {
		if int64(page) <= count {
			copy(whole[(int64(page)-1)*int64(size):], log[at:at+size])
		}
	}
	return whole, nil
}

// pageSize is the size of a database's pages in bytes; 0 if there is no database.
func pageSize(content []byte) int {
	if len(content) < 100 {
		return 0
	}
	if size := int(binary.BigEndian.Uint16(content[pageSizeAt:])); size != 1 {
		return size
	}
	return 1 << 16
}

// checksum is that of a log, over pairs of words.
type checksum [2]uint32

func (c *checksum) add(order binary.ByteOrder, b []byte) {
	for ; len(b) >= 8; b = b[8:] {
		c[0] += order.Uint32(b) + c[1]
		c[1] += order.Uint32(b[4:]) + c[0]
	}
}
