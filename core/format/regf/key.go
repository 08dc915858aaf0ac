package regf

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"lockback/core/format/windata"
)

// Where the fields of a key's cell (nk) stand, and its flags.
const (
	nkFlags      = 2
	nkTime       = 4
	nkParent     = 16
	nkSubkeys    = 20
	nkSubkeyList = 28
	nkVolatile   = 32
	nkValues     = 36
	nkValueList  = 40
	nkSecurity   = 44
	nkClass      = 48
	nkMaxName    = 52 // the lower half; the upper holds flags of the key's user
	nkMaxClass   = 56
	nkMaxVName   = 60
	nkMaxVData   = 64
	nkNameLen    = 72
	nkClassLen   = 74
	nkSize       = 76

	flagRoot       = 0x04
	flagNoDelete   = 0x08
	flagCompressed = 0x20 // the name has one byte a character
)

// Key is a key of a hive, as it was when it was opened.
type Key struct {
	hive *Hive
	at   uint32
	head [nkSize]byte
	name string
}

func (h *Hive) keyAt(at uint32) (*Key, error) {
	head, size, err := h.prefix(at, nkSize)
	if err != nil {
		return nil, err
	}
	if string(head[:2]) != "nk" {
		return nil, damaged(at, "no key is there")
	}
	k := &Key{hive: h, at: at, head: [nkSize]byte(head)}
	n := uint32(k.u16(nkNameLen))
	if n > size-nkSize {
		return nil, damaged(at, "a key's name of %d bytes", n)
	}
	raw, err := h.read(at+4+nkSize, n)
	if err != nil {
		return nil, err
	}
	k.name = nameText(raw, k.u16(nkFlags)&flagCompressed != 0)
	return k, nil
}

func (k *Key) u16(at int) uint16 { return le16(k.head[:], at) }
func (k *Key) u32(at int) uint32 { return le32(k.head[:], at) }

// Name is the key's name, without its path. The root's name means nothing.
func (k *Key) Name() string { return k.name }

// Modified is when the key was last written.
func (k *Key) Modified() time.Time { return windata.Time(binary.LittleEndian.Uint64(k.head[nkTime:])) }

// SubkeyCount is the number of subkeys that the key says it has.
func (k *Key) SubkeyCount() int { return int(k.u32(nkSubkeys)) }

// ValueCount is the number of values that the key says it has.
func (k *Key) ValueCount() int { return int(k.u32(nkValues)) }

// Class returns the key's class name, as UTF-16 bytes; nearly always empty.
func (k *Key) Class() ([]byte, error) {
	n := uint32(k.u16(nkClassLen))
	if n == 0 || k.u32(nkClass) == noCell {
		return nil, nil
	}
	b, err := k.hive.cell(k.u32(nkClass), n)
	if err != nil {
		return nil, err
	}
	return bytes.Clone(b[:n]), nil
}

// Security returns the key's security descriptor, self-relative as MS-DTYP 2.4.6
// has it; nil if the key names none.
func (k *Key) Security() ([]byte, error) {
	at := k.u32(nkSecurity)
	if at == noCell {
		return nil, nil
	}
	return k.hive.security(at)
}

func (h *Hive) security(at uint32) ([]byte, error) {
	b, err := h.cell(at, 20)
	if err != nil {
		return nil, err
	}
	n := le32(b, 16)
	if string(b[:2]) != "sk" || n > uint32(len(b)-20) {
		return nil, damaged(at, "no security descriptor is there")
	}
	return bytes.Clone(b[20 : 20+n]), nil
}

// eachSubkey visits the cells of the subkeys with the hash or the first letters
// of their names, as far as the list has such; hint is "lh", "lf", or empty. It
// goes on behind lists that are damaged and returns the first error.
func (k *Key) eachSubkey(visit func(at uint32, hint string, word [4]byte) bool) error {
	at := k.u32(nkSubkeyList)
	if k.u32(nkSubkeys) == 0 || at == noCell {
		return nil
	}
	list, err := k.hive.cell(at, 4)
	if err != nil {
		return err
	}
	if string(list[:2]) != "ri" {
		_, err := visitList(at, list, visit)
		return err
	}
	var first error
	count := int(le16(list, 2))
	if 4+4*count > len(list) {
		count = (len(list) - 4) / 4
		first = damaged(at, "a list of lists with more items than it holds")
	}
	left := int64(k.u32(nkSubkeys)) + 1<<16 // a cycle of lists must end
	for n := range count {
		sub := le32(list, 4+4*n)
		leaf, err := k.hive.cell(sub, 4)
		if err == nil && string(leaf[:2]) == "ri" {
			err = damaged(sub, "a list of lists inside another")
		}
		more := true
		if err == nil {
			if left -= int64(le16(leaf, 2)); left < 0 {
				return damaged(at, "the lists hold more keys than there can be")
			}
			more, err = visitList(sub, leaf, visit)
		}
		if err != nil && first == nil {
			first = err
		}
		if !more {
			return nil
		}
	}
	return first
}

func visitList(at uint32, list []byte, visit func(uint32, string, [4]byte) bool) (more bool, err error) {
	kind, width := string(list[:2]), 8
	switch kind {
	case "lf", "lh":
	case "li":
		kind, width = "", 4
	default:
		return true, damaged(at, "no list of keys is there")
	}
	count := int(le16(list, 2))
	if 4+width*count > len(list) {
		count = (len(list) - 4) / width
		err = damaged(at, "a list of keys with more items than it holds")
	}
	for n := range count {
		item := list[4+width*n:]
		var word [4]byte
		if width == 8 {
			word = [4]byte(item[4:])
		}
		if !visit(le32(item, 0), kind, word) {
			return false, err
		}
	}
	return true, err
}

// Subkeys opens all subkeys, in the order of the hive. Those that are damaged
// are left out; the error joins what is wrong with them.
func (k *Key) Subkeys() ([]*Key, error) {
	var (
		keys []*Key
		errs []error
		seen = map[uint32]bool{}
	)
	err := k.eachSubkey(func(at uint32, _ string, _ [4]byte) bool {
		if seen[at] {
			errs = append(errs, damaged(at, "a key is listed twice"))
			return len(errs) < 100
		}
		seen[at] = true
		sub, err := k.hive.keyAt(at)
		if err != nil {
			errs = append(errs, err)
			return len(errs) < 100
		}
		keys = append(keys, sub)
		return true
	})
	return keys, errors.Join(append(errs, err)...)
}

// Subkey opens the subkey of a name, compared without regard to case.
func (k *Key) Subkey(name string) (*Key, error) {
	folded := fold(name)
	hash, ascii := nameHash(name)
	var (
		found *Key
		bad   error
	)
	err := k.eachSubkey(func(at uint32, hint string, word [4]byte) bool {
		switch {
		case hint == "lh" && ascii && binary.LittleEndian.Uint32(word[:]) != hash:
			return true
		case hint == "lf" && ascii && !hintFits(word, name):
			return true
		}
		sub, err := k.hive.keyAt(at)
		if err != nil {
			bad = err
			return true
		}
		if fold(sub.name) == folded {
			found = sub
			return false
		}
		return true
	})
	switch {
	case found != nil:
		return found, nil
	case err != nil:
		return nil, err
	case bad != nil:
		return nil, bad
	}
	return nil, fmt.Errorf("key %q: %w", name, ErrNotFound)
}

// hintFits compares the first four letters of a name with those in a list, which
// are zeros where the name is not of one byte a character.
func hintFits(word [4]byte, name string) bool {
	if word == [4]byte{} {
		return true
	}
	for k, c := range word {
		have := byte(0)
		if k < len(name) {
			have = name[k]
		}
		if upper(c) != upper(have) {
			return false
		}
	}
	return true
}

func upper(c byte) byte {
	if c >= 'a' && c <= 'z' {
		return c - 'a' + 'A'
	}
	return c
}

// Where the fields of a value's cell (vk) stand.
const (
	vkNameLen  = 2
	vkDataLen  = 4
	vkData     = 8
	vkType     = 12
	vkFlags    = 16
	vkSize     = 20
	resident   = 0x80000000 // the data stands in the field of its offset
	segment    = 16344      // bytes of one piece of a big value
	vkFlagByte = 1          // the name has one byte a character
)

// valueCells lists the cells of the key's values.
func (k *Key) valueCells() ([]uint32, error) {
	count, at := k.u32(nkValues), k.u32(nkValueList)
	if count == 0 {
		return nil, nil
	}
	size, err := k.hive.cellSize(at)
	if err != nil {
		return nil, err
	}
	if count > size/4 {
		err = damaged(at, "a list of %d values in %d bytes", count, size)
		count = size / 4
	}
	list, rerr := k.hive.read(at+4, 4*count)
	if rerr != nil {
		return nil, rerr
	}
	cells := make([]uint32, count)
	for n := range cells {
		cells[n] = le32(list, 4*n)
	}
	return cells, err
}

// Values reads all values of the key, in the order of the hive. Those that are
// damaged are left out; the error joins what is wrong with them.
func (k *Key) Values() ([]Value, error) {
	cells, err := k.valueCells()
	errs := []error{err}
	var values []Value
	for _, at := range cells {
		v, err := k.hive.value(at)
		if err != nil {
			if errs = append(errs, err); len(errs) > 100 {
				break
			}
			continue
		}
		values = append(values, v)
	}
	return values, errors.Join(errs...)
}

// Value reads the value of a name, compared without regard to case; the empty
// name is the key's default value.
func (k *Key) Value(name string) (Value, error) {
	at, err := k.findValue(name)
	if err != nil {
		return Value{}, err
	}
	return k.hive.value(at)
}

// findValue returns the cell of a value.
func (k *Key) findValue(name string) (uint32, error) {
	cells, bad := k.valueCells()
	folded := fold(name)
	for _, at := range cells {
		have, _, err := k.hive.valueHead(at)
		if err != nil {
			bad = err
			continue
		}
		if fold(have) == folded {
			return at, nil
		}
	}
	if bad != nil {
		return 0, bad
	}
	return 0, fmt.Errorf("value %q: %w", name, ErrNotFound)
}

func (h *Hive) valueHead(at uint32) (string, []byte, error) {
	head, size, err := h.prefix(at, vkSize)
	if err != nil {
		return "", nil, err
	}
	n := uint32(le16(head, vkNameLen))
	if string(head[:2]) != "vk" || n > size-vkSize {
		return "", nil, damaged(at, "no value is there")
	}
	raw, err := h.read(at+4+vkSize, n)
	if err != nil {
		return "", nil, err
	}
	return nameText(raw, le16(head, vkFlags)&vkFlagByte != 0), head, nil
}

func (h *Hive) value(at uint32) (Value, error) {
	name, head, err := h.valueHead(at)
	if err != nil {
		return Value{}, err
	}
	v := Value{Name: name, Type: Type(le32(head, vkType))}
	n := le32(head, vkDataLen)
	switch {
	case n&resident != 0:
		if n &^= resident; n > 4 {
			return v, damaged(at, "%d bytes cannot stand in the value itself", n)
		}
		v.Data = bytes.Clone(head[vkData : vkData+n])
	case n > 0:
		if v.Data, err = h.data(le32(head, vkData), n); err != nil {
			return v, fmt.Errorf("value %q: %w", name, err)
		}
	}
	return v, nil
}

// data reads the data of a value, in one cell or in pieces.
func (h *Hive) data(at, n uint32) ([]byte, error) {
	if n > MaxValue {
		return nil, damaged(at, "a value of %d bytes, at most %d are read", n, MaxValue)
	}
	if n > segment && h.Version() > 3 {
		if head, err := h.cell(at, 8); err == nil && string(head[:2]) == "db" {
			return h.bigData(at, n)
		}
	}
	b, err := h.cell(at, n)
	if err != nil {
		return nil, err
	}
	return bytes.Clone(b[:n]), nil
}

func (h *Hive) bigData(at, n uint32) ([]byte, error) {
	cells, err := h.segments(at)
	if err != nil {
		return nil, err
	}
	out := make([]byte, 0, n)
	for _, cell := range cells {
		part := min(segment, n-uint32(len(out)))
		b, err := h.cell(cell, part)
		if err != nil {
			return nil, err
		}
		out = append(out, b[:part]...)
	}
	if uint32(len(out)) < n {
		return nil, damaged(at, "%d of %d bytes of a big value", len(out), n)
	}
	return out, nil
}

// segments lists the cells that hold a big value's pieces.
func (h *Hive) segments(at uint32) ([]uint32, error) {
	head, err := h.cell(at, 8)
	if err != nil {
		return nil, err
	}
	count, listAt := uint32(le16(head, 2)), le32(head, 4)
	list, err := h.cell(listAt, 4*count)
	if err != nil {
		return nil, err
	}
	cells := make([]uint32, count)
	for k := range cells {
		cells[k] = le32(list, 4*k)
	}
	return cells, nil
}
