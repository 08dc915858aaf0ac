package artifact

import (
	"bytes"
	"encoding/binary"
)

// sameXattrs compares extended attributes; those that are security descriptors
// by what they allow, where both have one: not every file system keeps them.
func sameXattrs(a, b map[string][]byte) bool {
	for _, pair := range [2][2]map[string][]byte{{a, b}, {b, a}} {
		for name, x := range pair[0] {
			y, ok := pair[1][name]
			switch {
			case name == SecurityAttribute:
				if ok && !SameSecurity(x, y) {
					return false
				}
			case !ok || !bytes.Equal(x, y):
				return false
			}
		}
	}
	return true
}

// SameSecurity compares two self-relative security descriptors, MS-DTYP 2.4.6, by
// owner, group and access list. How the list came about (the control bits) and in
// which order the parts lie is the system's to choose.
func SameSecurity(a, b []byte) bool {
	if bytes.Equal(a, b) {
		return true
	}
	if len(a) < 20 || len(b) < 20 {
		return false
	}
	for _, part := range []struct {
		at   int
		size func([]byte) int
	}{{4, sidSize}, {8, sidSize}, {16, aclSize}} {
		if !bytes.Equal(securityPart(a, part.at, part.size), securityPart(b, part.at, part.size)) {
			return false
		}
	}
	return true
}

func securityPart(sd []byte, field int, size func([]byte) int) []byte {
	at := binary.LittleEndian.Uint32(sd[field:])
	if at == 0 || uint64(at)+8 > uint64(len(sd)) {
		return nil
	}
	n := size(sd[at:])
	return sd[at:min(int(at)+n, len(sd))]
}

func sidSize(b []byte) int { return 8 + 4*int(b[1]) }
func aclSize(b []byte) int { return int(binary.LittleEndian.Uint16(b[2:])) }
