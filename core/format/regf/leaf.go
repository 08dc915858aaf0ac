package regf

import (
	"cmp"
	"encoding/binary"
	"slices"

	"lockback/core/format/windata"
)

// leaf is one list of subkeys.
type leaf struct {
	at    uint32
	kind  string
	items []leafItem
}

type leafItem struct {
	at   uint32
	word [4]byte
}

// leaves reads the lists of a key's subkeys; via is the cell of a list of lists.
func (h *Hive) leaves(k *Key) (lists []leaf, via uint32, err error) {
	via = noCell
	if k.u32(nkSubkeys) == 0 {
		return nil, via, nil
	}
	at := k.u32(nkSubkeyList)
	head, err := h.cell(at, 4)
	if err != nil {
		return nil, via, err
	}
	cells := []uint32{at}
	if string(head[:2]) == "ri" {
		via = at
		if 4+4*int(le16(head, 2)) > len(head) {
			return nil, via, damaged(at, "a list of lists with more items than it holds")
		}
		cells = make([]uint32, le16(head, 2))
		for n := range cells {
			cells[n] = le32(head, 4+4*n)
		}
	}
	for _, at := range cells {
		list, err := h.cell(at, 4)
		if err != nil {
			return nil, via, err
		}
		l := leaf{at: at, kind: string(list[:2])}
		if _, err := visitList(at, list, func(at uint32, _ string, word [4]byte) bool {
			l.items = append(l.items, leafItem{at, word})
			return true
		}); err != nil {
			return nil, via, err
		}
		lists = append(lists, l)
	}
	return lists, via, nil
}

func (l leaf) bytes() []byte {
	b := binary.LittleEndian.AppendUint16([]byte(l.kind), uint16(len(l.items)))
	for _, i := range l.items {
		b = binary.LittleEndian.AppendUint32(b, i.at)
		if l.kind != "li" {
			b = append(b, i.word[:]...)
		}
	}
	return b
}

// hint is what a list keeps of a name beside its cell.
func hint(kind, name string) (word [4]byte) {
	if kind == "lh" {
		hash, _ := nameHash(name)
		binary.LittleEndian.PutUint32(word[:], hash)
	} else if raw, compressed := nameBytes(name); compressed {
		copy(word[:], raw)
	}
	return word
}

// compareNames orders keys as lists have them: by the upper case of their
// UTF-16 units.
func compareNames(a, b string) int {
	x, y := windata.Encode(a), windata.Encode(b)
	for k := 0; k < min(len(x), len(y)); k += 2 {
		if c := cmp.Compare(upcase(rune(le16(x, k))), upcase(rune(le16(y, k)))); c != 0 {
			return c
		}
	}
	return cmp.Compare(len(x), len(y))
}

// insertKey puts a key into its parent's lists, in order.
func (h *Hive) insertKey(parent *Key, at uint32, name string) error {
	lists, via, err := h.leaves(parent)
	if err != nil {
		return err
	}
	nameAt := func(i leafItem) string {
		k, kerr := h.keyAt(i.at)
		if kerr != nil {
			err = kerr
			return ""
		}
		return k.name
	}
	if len(lists) == 0 {
		kind := "lh"
		if h.Version() < 5 {
			kind = "lf"
		}
		lists = []leaf{{at: noCell, kind: kind}}
	}
	// The first list whose last name comes behind the new one, or the last.
	n := len(lists) - 1
	for k, l := range lists[:n] {
		if len(l.items) > 0 && compareNames(name, nameAt(l.items[len(l.items)-1])) < 0 {
			n = k
			break
		}
	}
	l := &lists[n]
	place, _ := slices.BinarySearchFunc(l.items, name,
		func(i leafItem, name string) int { return compareNames(nameAt(i), name) })
	if err != nil {
		return err
	}
	l.items = slices.Insert(l.items, place, leafItem{at, hint(l.kind, name)})
	if len(l.items) > listMax {
		half := len(l.items) / 2
		second := leaf{at: noCell, kind: l.kind, items: slices.Clone(l.items[half:])}
		l.items = l.items[:half]
		if second.at, err = h.store(second.bytes()); err != nil {
			return err
		}
		if l.at, err = h.replace(l.at, l.bytes()); err != nil {
			return err
		}
		lists = slices.Insert(lists, n+1, second)
	} else if l.at, err = h.replace(l.at, l.bytes()); err != nil {
		return err
	}
	return h.setLists(parent, lists, via, +1)
}

// setLists writes which lists a key has, and how many keys are in them.
func (h *Hive) setLists(parent *Key, lists []leaf, via uint32, by int32) error {
	at := uint32(noCell)
	if len(lists) > 1 || via != noCell && len(lists) > 0 {
		content := binary.LittleEndian.AppendUint16([]byte("ri"), uint16(len(lists)))
		for _, l := range lists {
			content = binary.LittleEndian.AppendUint32(content, l.at)
		}
		var err error
		if at, err = h.replace(via, content); err != nil {
			return err
		}
	} else {
		if via != noCell {
			if err := h.free(via); err != nil {
				return err
			}
		}
		if len(lists) == 1 {
			at = lists[0].at
		}
	}
	if err := h.put(parent.at, nkSubkeyList, at); err != nil {
		return err
	}
	return h.put(parent.at, nkSubkeys, parent.u32(nkSubkeys)+uint32(by))
}

// removeKey takes a key out of its parent's lists.
func (h *Hive) removeKey(parent *Key, at uint32) error {
	lists, via, err := h.leaves(parent)
	if err != nil {
		return err
	}
	for n := range lists {
		l := &lists[n]
		k := slices.IndexFunc(l.items, func(i leafItem) bool { return i.at == at })
		if k < 0 {
			continue
		}
		l.items = slices.Delete(l.items, k, k+1)
		if len(l.items) == 0 {
			if err := h.free(l.at); err != nil {
				return err
			}
			lists = slices.Delete(lists, n, n+1)
		} else if l.at, err = h.replace(l.at, l.bytes()); err != nil {
			return err
		}
		return h.setLists(parent, lists, via, -1)
	}
	return damaged(at, "the key is not in its parent's list")
}
