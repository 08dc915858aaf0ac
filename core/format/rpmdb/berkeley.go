package rpmdb

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"time"
)

// berkeleyDatabase is Packages of earlier years, a hash table of Berkeley DB: pages of items, keys
// and values in turn. The numbers are those of its db_page.h; they stand in the order of the
// processor that made the file. Every page tells what it is, so the table itself is not needed.
type berkeleyDatabase struct {
	r        io.ReaderAt
	size     int64
	order    binary.ByteOrder
	pageSize int64
}

// Numbers of that file.
const (
	berkeleyMagic  = 0x061561 // a hash table
	berkeleyHead   = 26       // bytes before a page's list of places
	pageUnsorted   = 2        // a page of items, as releases before 4.6 wrote it
	pageSorted     = 13       // the same since
	pageOverflow   = 7        // a piece of a value that fits on no page
	itemHere       = 1        // the value stands in the item
	itemElsewhere  = 3        // the value stands on pages of its own
	itemElsewhereN = 12       // bytes of such an item
)

// openBerkeley knows such a database by its first page.
func openBerkeley(r io.ReaderAt, size int64, head []byte) (Database, bool) {
	for _, order := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
		if order.Uint32(head[12:]) != berkeleyMagic {
			continue
		}
		page := int64(order.Uint32(head[20:]))
		if page < 512 || page > 1<<16 || page&(page-1) != 0 {
			return nil, false
		}
		return walked{berkeleyDatabase{r, size, order, page}}, true
	}
	return nil, false
}

// headers reads page after page.
func (d berkeleyDatabase) headers(visit func(header []byte)) error {
	until := time.Now().Add(maxTime)
	page := make([]byte, d.pageSize)
	for at := d.pageSize; at+d.pageSize <= d.size; at += d.pageSize {
		if time.Now().After(until) {
			return errTooLong
		}
		if n, err := d.r.ReadAt(page, at); n < len(page) {
			return fmt.Errorf("%w: it is cut off: %w", ErrKind, err)
		}
		if page[25] != pageSorted && page[25] != pageUnsorted {
			continue
		}
		// Items are filled in from the end of the page: each ends where the one before it begins.
		end := len(page)
		for k := range int(d.order.Uint16(page[20:])) {
			place := berkeleyHead + 2*k
			if place+2 > len(page) {
				break
			}
			begin := int(d.order.Uint16(page[place:]))
			if begin >= end || begin < berkeleyHead {
				break
			}
			if time.Now().After(until) {
				return errTooLong // each item may lead to a large value, or to the same one
			}
			item := page[begin:end]
			end = begin
			if k%2 == 0 {
				continue // a key: the number of a package
			}
			if value := d.value(item); value != nil {
				visit(value)
			}
		}
	}
	return nil
}

// value is what an item holds; nil if it is of another kind, or damaged.
func (d berkeleyDatabase) value(item []byte) []byte {
	switch {
	case item[0] == itemHere:
		return item[1:]
	case item[0] != itemElsewhere || len(item) < itemElsewhereN:
		return nil
	}
	number, length := int64(d.order.Uint32(item[4:])), int64(d.order.Uint32(item[8:]))
	if length > maxHeader || length > d.size {
		return nil
	}
	value := make([]byte, 0, length)
	page := make([]byte, d.pageSize)
	for int64(len(value)) < length {
		if n, _ := d.r.ReadAt(page, number*d.pageSize); n < len(page) || page[25] != pageOverflow {
			return nil
		}
		held := int64(d.order.Uint16(page[22:])) // of an overflow page, the bytes on it
		if held == 0 || held > d.pageSize-berkeleyHead {
			return nil // without a byte more with each page, a ring of them would never end
		}
		value = append(value, page[berkeleyHead:][:min(held, length-int64(len(value)))]...)
		number = int64(d.order.Uint32(page[16:]))
	}
	return value
}

var errTooLong = errors.New("it takes too long to read")

func setOf(names []string) map[string]bool {
	set := map[string]bool{}
	for _, n := range names {
		set[n] = true
	}
	return set
}

// visitHaving visits the package of a header if it has a file of one of the names.
func visitHaving(header []byte, wanted map[string]bool, visit func(*Package)) {
	p, err := Parse(header)
	if err != nil {
		return
	}
	for _, n := range p.names {
		if wanted[n] {
			visit(p)
			return
		}
	}
}
