package regf

import "bytes"

// SetSecurity gives a key its security descriptor.
func (h *Hive) SetSecurity(k *Key, security []byte) error {
	k, err := h.editable(k)
	if err != nil {
		return err
	}
	old := k.u32(nkSecurity)
	at, err := h.findSecurity(old, security)
	if err != nil || at == old {
		return err
	}
	if err := h.useSecurity(at, +1); err != nil {
		return err
	}
	if err := h.put(k.at, nkSecurity, at); err != nil {
		return err
	}
	if old == noCell {
		return nil
	}
	return h.useSecurity(old, -1)
}

// findSecurity returns the cell of a security descriptor, which all keys with
// the same share; near is any of the cells, which form a ring.
func (h *Hive) findSecurity(near uint32, security []byte) (uint32, error) {
	if near == noCell {
		root, err := h.Root()
		if err != nil {
			return 0, err
		}
		near = root.u32(nkSecurity)
	}
	at := near
	for range 1 << 16 {
		b, err := h.cell(at, 20)
		if err != nil {
			return 0, err
		}
		have, err := h.security(at)
		if err != nil {
			return 0, err
		}
		if bytes.Equal(have, security) {
			return at, nil
		}
		if at = le32(b, 4); at == near {
			break
		}
	}
	head, err := h.cell(near, 20)
	if err != nil {
		return 0, err
	}
	next := le32(head, 4)
	at, err = h.store(securityCell(security, next, near, 0))
	if err != nil {
		return 0, err
	}
	if err := h.put(near, 4, at); err != nil {
		return 0, err
	}
	return at, h.put(next, 8, at)
}

// useSecurity counts the uses of a security descriptor and frees one that
// nothing uses any more.
func (h *Hive) useSecurity(at uint32, by int32) error {
	b, err := h.cell(at, 20)
	if err != nil {
		return err
	}
	if string(b[:2]) != "sk" {
		return damaged(at, "no security descriptor is there")
	}
	uses := int64(le32(b, 12)) + int64(by)
	next, previous := le32(b, 4), le32(b, 8)
	if uses > 0 || next == at {
		return h.put(at, 12, uint32(max(uses, 0)))
	}
	if err := h.put(previous, 4, next); err != nil {
		return err
	}
	if err := h.put(next, 8, previous); err != nil {
		return err
	}
	return h.free(at)
}
