package regf

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"lockback/core/format/windata"
)

// Errors of editing that callers decide on.
var (
	ErrName = errors.New("a key cannot have that name")
	ErrFull = errors.New("the hive would become larger than a hive can be")
)

// listMax is how many keys one list may hold before it is split, as Windows
// does: the list then fills half a page.
const listMax = 507

// Create makes a new hive with an empty root key. The time is when it was made,
// the security descriptor that of the root.
func Create(security []byte, now time.Time) *Hive {
	h := &Hive{src: bytes.NewReader(nil), blocks: map[uint32]*block{}, edited: true}
	copy(h.base[:], "regf")
	h.putU32(4, 1)
	h.putU32(8, 1)
	h.putU32(20, 1)
	h.putU32(24, 5)
	h.putU32(32, 1)
	h.putU32(44, 1)
	binary.LittleEndian.PutUint64(h.base[12:], windata.FileTime(now))
	h.alloc = &allocator{hive: h}
	sk, err := h.allocate(20 + uint32(len(security)))
	var root uint32
	if err == nil {
		err = h.write(sk+4, securityCell(security, sk, sk, 1))
	}
	if err == nil {
		root, err = h.allocate(nkSize + 4)
	}
	if err == nil {
		err = h.write(root+4, keyCell("ROOT", flagRoot|flagNoDelete, noCell, sk, now))
	}
	if err != nil {
		panic(err) // an empty hive has room
	}
	h.putU32(36, root)
	return h
}

func securityCell(descriptor []byte, next, previous, uses uint32) []byte {
	b := make([]byte, 20, 20+len(descriptor))
	copy(b, "sk")
	binary.LittleEndian.PutUint32(b[4:], next)
	binary.LittleEndian.PutUint32(b[8:], previous)
	binary.LittleEndian.PutUint32(b[12:], uses)
	binary.LittleEndian.PutUint32(b[16:], uint32(len(descriptor)))
	return append(b, descriptor...)
}

func keyCell(name string, flags uint16, parent, security uint32, now time.Time) []byte {
	raw, compressed := nameBytes(name)
	if compressed {
		flags |= flagCompressed
	}
	b := make([]byte, nkSize, nkSize+len(raw))
	copy(b, "nk")
	binary.LittleEndian.PutUint16(b[nkFlags:], flags)
	binary.LittleEndian.PutUint64(b[nkTime:], windata.FileTime(now))
	for at, v := range map[int]uint32{nkParent: parent, nkSubkeyList: noCell, nkVolatile: noCell, nkValueList: noCell,
		nkSecurity: security, nkClass: noCell} {
		binary.LittleEndian.PutUint32(b[at:], v)
	}
	binary.LittleEndian.PutUint16(b[nkNameLen:], uint16(len(raw)))
	return append(b, raw...)
}

// put writes one 32-bit field of a cell.
func (h *Hive) put(at uint32, field int, v uint32) error {
	return h.write(at+4+uint32(field), binary.LittleEndian.AppendUint32(nil, v))
}

// store allocates a cell for content and writes it.
func (h *Hive) store(content []byte) (uint32, error) {
	at, err := h.allocate(uint32(len(content)))
	if err != nil {
		return 0, err
	}
	return at, h.write(at+4, content)
}

// editable prepares for an edit of a key: the hive must be sound, and the key
// still be there.
func (h *Hive) editable(k *Key) (*Key, error) {
	if h.unfinished != nil {
		return nil, h.unfinished
	}
	if k.hive != h {
		return nil, errors.New("a key of another hive")
	}
	if h.alloc == nil {
		a, err := h.survey()
		if err != nil {
			return nil, err
		}
		h.alloc = a
	}
	return h.keyAt(k.at)
}

// touch sets the time of a key.
func (h *Hive) touch(k *Key, now time.Time) error {
	return h.write(k.at+4+nkTime, binary.LittleEndian.AppendUint64(nil, windata.FileTime(now)))
}

// SetTime gives a key the time of its last change.
func (h *Hive) SetTime(k *Key, t time.Time) error {
	k, err := h.editable(k)
	if err != nil {
		return err
	}
	return h.touch(k, t)
}

// SetValue sets a value of a key, which keeps its place among the others when it
// is there already. The name keeps the case that it had. The key's time is left
// to the caller, see [Hive.SetTime].
func (h *Hive) SetValue(k *Key, v Value) error {
	k, err := h.editable(k)
	if err != nil {
		return err
	}
	if len(v.Data) > MaxValue {
		return fmt.Errorf("a value of %d bytes, at most %d are written", len(v.Data), MaxValue)
	}
	at, err := k.findValue(v.Name)
	switch {
	case err == nil:
		if err := h.freeData(at); err != nil {
			return err
		}
		if err := h.setData(at, v); err != nil {
			return err
		}
	case errors.Is(err, ErrNotFound):
		raw, compressed := nameBytes(v.Name)
		cell := make([]byte, vkSize, vkSize+len(raw))
		copy(cell, "vk")
		binary.LittleEndian.PutUint16(cell[vkNameLen:], uint16(len(raw)))
		if compressed && len(raw) > 0 {
			binary.LittleEndian.PutUint16(cell[vkFlags:], vkFlagByte)
		}
		if at, err = h.store(append(cell, raw...)); err != nil {
			return err
		}
		if err := h.setData(at, v); err != nil {
			return err
		}
		cells, err := k.valueCells()
		if err != nil {
			return err
		}
		if err := h.setValueList(k, append(cells, at)); err != nil {
			return err
		}
		if err := h.raise(k, nkMaxVName, uint32(len(windata.Encode(v.Name)))); err != nil {
			return err
		}
	default:
		return err
	}
	return h.raise(k, nkMaxVData, uint32(len(v.Data)))
}

// raise keeps a field that holds a maximum.
func (h *Hive) raise(k *Key, field int, n uint32) error {
	if k.u32(field) >= n {
		return nil
	}
	return h.put(k.at, field, n)
}

// setData gives a value's cell its type and data.
func (h *Hive) setData(at uint32, v Value) error {
	n, where := uint32(len(v.Data)), uint32(0)
	switch {
	case n <= 4:
		var small [4]byte
		copy(small[:], v.Data)
		n, where = n|resident, le32(small[:], 0)
	case n > segment && h.Version() > 3:
		var cells []byte
		count := 0
		for piece := range slices.Chunk(v.Data, segment) {
			// Windows keeps four bytes behind each piece.
			cell, err := h.allocate(uint32(len(piece)) + 4)
			if err != nil {
				return err
			}
			if err := h.write(cell+4, piece); err != nil {
				return err
			}
			cells = binary.LittleEndian.AppendUint32(cells, cell)
			count++
		}
		list, err := h.store(cells)
		if err != nil {
			return err
		}
		head := binary.LittleEndian.AppendUint16([]byte("db"), uint16(count))
		if where, err = h.store(append(binary.LittleEndian.AppendUint32(head, list), 0, 0, 0, 0)); err != nil {
			return err
		}
	default:
		var err error
		if where, err = h.store(v.Data); err != nil {
			return err
		}
	}
	for field, value := range map[int]uint32{vkDataLen: n, vkData: where, vkType: uint32(v.Type)} {
		if err := h.put(at, field, value); err != nil {
			return err
		}
	}
	return nil
}

// freeData frees the cells that hold a value's data.
func (h *Hive) freeData(at uint32) error {
	_, head, err := h.valueHead(at)
	if err != nil {
		return err
	}
	n, where := le32(head, vkDataLen), le32(head, vkData)
	if n == 0 || n&resident != 0 {
		return nil
	}
	if n > segment && h.Version() > 3 {
		if head, err := h.cell(where, 8); err == nil && string(head[:2]) == "db" {
			cells, err := h.segments(where)
			if err != nil {
				return err
			}
			for _, cell := range append(cells, le32(head, 4)) {
				if err := h.free(cell); err != nil {
					return err
				}
			}
		}
	}
	return h.free(where)
}

// setValueList replaces the list of a key's values.
func (h *Hive) setValueList(k *Key, cells []uint32) error {
	if len(cells) > 1<<20 {
		return fmt.Errorf("key %q: too many values", k.name)
	}
	list := make([]byte, 4*len(cells))
	for n, at := range cells {
		binary.LittleEndian.PutUint32(list[4*n:], at)
	}
	at := uint32(noCell)
	if k.u32(nkValues) > 0 {
		at = k.u32(nkValueList)
	}
	at, err := h.replace(at, list)
	if err != nil {
		return err
	}
	if err := h.put(k.at, nkValueList, at); err != nil {
		return err
	}
	return h.put(k.at, nkValues, uint32(len(cells)))
}

// replace writes content into a cell, or into a new one where it does not fit;
// no content frees the cell.
func (h *Hive) replace(at uint32, content []byte) (uint32, error) {
	if at != noCell {
		if size, err := h.cellSize(at); err == nil && len(content) > 0 && uint32(len(content)) <= size {
			return at, h.write(at+4, content)
		}
		if err := h.free(at); err != nil {
			return 0, err
		}
	}
	if len(content) == 0 {
		return noCell, nil
	}
	return h.store(content)
}

// editableValue prepares for an edit of a value: its key as it is now, its cell,
// and the cells of the key's other values.
func (h *Hive) editableValue(k *Key, name string) (now *Key, at uint32, others []uint32, err error) {
	if now, err = h.editable(k); err == nil {
		at, err = now.findValue(name)
	}
	if err == nil {
		others, err = now.valueCells()
	}
	return now, at, slices.DeleteFunc(others, func(c uint32) bool { return c == at }), err
}

// DeleteValue takes a value away.
func (h *Hive) DeleteValue(k *Key, name string) error {
	k, at, others, err := h.editableValue(k, name)
	if err != nil {
		return err
	}
	if err := h.freeData(at); err != nil {
		return err
	}
	if err := h.free(at); err != nil {
		return err
	}
	return h.setValueList(k, others)
}

// MoveValue gives a value its place among the values of its key: restored values
// stand where they stood.
func (h *Hive) MoveValue(k *Key, name string, place int) error {
	k, at, others, err := h.editableValue(k, name)
	if err != nil {
		return err
	}
	return h.setValueList(k, slices.Insert(others, max(0, min(place, len(others))), at))
}

// CreateKey makes a subkey. A nil security descriptor means the parent's own.
func (h *Hive) CreateKey(parent *Key, name string, security []byte, now time.Time) (*Key, error) {
	parent, err := h.editable(parent)
	if err != nil {
		return nil, err
	}
	if n := len(windata.Encode(name)) / 2; n == 0 || n >= maxNameUnits || bytes.ContainsRune([]byte(name), '\\') {
		return nil, fmt.Errorf("%w: %q", ErrName, name)
	}
	switch _, err := parent.Subkey(name); {
	case err == nil:
		return nil, fmt.Errorf("key %q is there already", name)
	case !errors.Is(err, ErrNotFound):
		return nil, err
	}
	if err := h.fits(keyCell(name, 0, 0, 0, now)); err != nil {
		return nil, err
	}
	sk := parent.u32(nkSecurity)
	if security != nil {
		if sk, err = h.findSecurity(sk, security); err != nil {
			return nil, err
		}
	}
	if sk != noCell {
		if err := h.useSecurity(sk, +1); err != nil {
			return nil, err
		}
	}
	at, err := h.store(keyCell(name, 0, parent.at, sk, now))
	if err != nil {
		return nil, err
	}
	if err := h.insertKey(parent, at, name); err != nil {
		return nil, err
	}
	if err := h.raise16(parent, nkMaxName, len(windata.Encode(name))); err != nil {
		return nil, err
	}
	return h.keyAt(at)
}

// raise16 keeps the maximum in the lower half of a field.
func (h *Hive) raise16(k *Key, field int, n int) error {
	if int(k.u16(field)) >= n {
		return nil
	}
	return h.write(k.at+4+uint32(field), binary.LittleEndian.AppendUint16(nil, uint16(n)))
}

// SetClass gives a key its class name, as UTF-16 bytes.
func (h *Hive) SetClass(k *Key, class []byte) error {
	k, err := h.editable(k)
	if err != nil {
		return err
	}
	at := uint32(noCell)
	if k.u16(nkClassLen) > 0 {
		at = k.u32(nkClass)
	}
	if at, err = h.replace(at, class); err != nil {
		return err
	}
	if err := h.put(k.at, nkClass, at); err != nil {
		return err
	}
	return h.write(k.at+4+nkClassLen, binary.LittleEndian.AppendUint16(nil, uint16(len(class))))
}

// DeleteKey takes a key away, with everything below it. The root stays.
func (h *Hive) DeleteKey(k *Key) error {
	k, err := h.editable(k)
	if err != nil {
		return err
	}
	if k.u16(nkFlags)&flagRoot != 0 || k.at == h.u32(36) {
		return fmt.Errorf("%w: the root of a hive stays", ErrName)
	}
	parent, err := h.keyAt(k.u32(nkParent))
	if err != nil {
		return err
	}
	// Everything is looked at before anything is freed: a damaged subtree
	// stays whole.
	var keys []*Key
	if err := h.collect(k, 0, map[uint32]bool{}, &keys); err != nil {
		return fmt.Errorf("key %q cannot be deleted: %w", k.name, err)
	}
	if err := h.removeKey(parent, k.at); err != nil {
		return err
	}
	for _, k := range slices.Backward(keys) {
		if err := h.freeKey(k); err != nil {
			return err
		}
	}
	return nil
}

// collect lists a key and all keys below it, and fails where any is damaged.
func (h *Hive) collect(k *Key, depth int, seen map[uint32]bool, keys *[]*Key) error {
	if depth > MaxDepth || seen[k.at] {
		return damaged(k.at, "keys nested without end")
	}
	seen[k.at] = true
	*keys = append(*keys, k)
	if _, err := k.Values(); err != nil {
		return err
	}
	subs, err := k.Subkeys()
	if err != nil {
		return err
	}
	for _, sub := range subs {
		if err := h.collect(sub, depth+1, seen, keys); err != nil {
			return err
		}
	}
	return nil
}

// freeKey frees the cells of a key without subkeys.
func (h *Hive) freeKey(k *Key) error {
	cells, err := k.valueCells()
	if err != nil {
		return err
	}
	for _, at := range cells {
		if err := h.freeData(at); err != nil {
			return err
		}
		if err := h.free(at); err != nil {
			return err
		}
	}
	if len(cells) > 0 {
		if err := h.free(k.u32(nkValueList)); err != nil {
			return err
		}
	}
	if at := k.u32(nkSubkeyList); k.u32(nkSubkeys) > 0 && at != noCell {
		list, err := h.cell(at, 4)
		if err != nil {
			return err
		}
		if string(list[:2]) == "ri" {
			for n := range int(le16(list, 2)) {
				if err := h.free(le32(list, 4+4*n)); err != nil {
					return err
				}
			}
		}
		if err := h.free(at); err != nil {
			return err
		}
	}
	if at := k.u32(nkClass); k.u16(nkClassLen) > 0 && at != noCell {
		if err := h.free(at); err != nil {
			return err
		}
	}
	if at := k.u32(nkSecurity); at != noCell {
		if err := h.useSecurity(at, -1); err != nil {
			return err
		}
	}
	return h.free(k.at)
}

// WriteTo writes the whole hive, with its edits, as a hive that was closed
// cleanly: both sequence numbers the same, the checksum right. A hive without
// edits is written byte for byte as it was read.
func (h *Hive) WriteTo(w io.Writer) (int64, error) {
	total := int64(0)
	write := func(p []byte) error {
		n, err := w.Write(p)
		total += int64(n)
		return err
	}
	if err := write(h.base[:]); err != nil {
		return total, err
	}
	var buf [64 * blockSize]byte
	for at := uint32(0); at < h.size; {
		n := min(uint32(len(buf)), h.size-at)
		where := pageSize + int64(at)
		clear(buf[:n])
		if where < h.end {
			if _, err := h.src.ReadAt(buf[:min(int64(n), h.end-where)], where); err != nil && !errors.Is(err, io.EOF) {
				return total, fmt.Errorf("reading a hive at byte %d: %w", where, err)
			}
		}
		for k := at / blockSize; k*blockSize < at+n; k++ {
			if b := h.blocks[k]; b != nil && b.dirty {
				copy(buf[k*blockSize-at:n], b.data[:])
			}
		}
		if err := write(buf[:n]); err != nil {
			return total, err
		}
		at += n
	}
	// What a file has behind its bins is no part of the hive and is kept.
	if tail := h.end - total; tail > 0 {
		if _, err := io.Copy(w, io.NewSectionReader(h.src, total, tail)); err != nil {
			return total, err
		}
		total = h.end
	}
	return total, nil
}

// Seal makes the first page that of a hive closed cleanly at a time: to be
// called once, before [Hive.WriteTo] writes edits.
func (h *Hive) Seal(now time.Time) {
	next := max(h.u32(4), h.u32(8)) + 1
	h.putU32(4, next)
	h.putU32(8, next)
	h.putU32(40, h.size)
	binary.LittleEndian.PutUint64(h.base[12:], windata.FileTime(now))
	h.putU32(508, checksum(h.base[:]))
}

// WriteInterrupted writes a hive as a power cut leaves it: the file as it was
// before the edits, marked as not closed, and a transaction log of the new
// format that holds them. It is what programs that read hives are tried with.
func (h *Hive) WriteInterrupted(file, log io.Writer) error {
	old := &Hive{src: h.src, base: h.base, end: h.end, blocks: map[uint32]*block{}}
	old.size = uint32(max(0, h.end-pageSize))
	sequence := h.u32(8)
	old.putU32(4, sequence+1)
	old.putU32(40, old.size)
	old.putU32(508, checksum(old.base[:]))
	if _, err := old.WriteTo(file); err != nil {
		return err
	}
	head := append([]byte(nil), old.base[:sector]...)
	binary.LittleEndian.PutUint32(head[4:], sequence)
	binary.LittleEndian.PutUint32(head[28:], newLog)
	binary.LittleEndian.PutUint32(head[508:], checksum(head))
	var refs, pages []byte
	count := uint32(0)
	for at := uint32(0); at < h.size; at += pageSize {
		b := h.blocks[at/blockSize]
		if b == nil || !b.dirty {
			continue
		}
		refs = binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(refs, at), pageSize)
		pages = append(pages, b.data[at%blockSize:at%blockSize+pageSize]...)
		count++
	}
	e := append([]byte("HvLE"), make([]byte, logEntry-4)...)
	e = append(append(e, refs...), pages...)
	e = append(e, make([]byte, -len(e)&(sector-1))...)
	for field, v := range map[int]uint32{4: uint32(len(e)), 12: sequence, 16: h.size, 20: count} {
		binary.LittleEndian.PutUint32(e[field:], v)
	}
	binary.LittleEndian.PutUint64(e[24:], marvin32(e[logEntry:]))
	binary.LittleEndian.PutUint64(e[32:], marvin32(e[:32]))
	_, err := log.Write(append(head, e...))
	return err
}
