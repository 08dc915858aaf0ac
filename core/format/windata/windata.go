// Package windata reads what several formats of Windows have in common: texts in UTF-16, and
// times.
//
//	name := windata.Text(b[8:])
//	at := windata.Time(binary.LittleEndian.Uint64(b))
package windata

import (
	"encoding/binary"
	"fmt"
	"strconv"
	"time"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// Decode converts little-endian UTF-16. Lone surrogates become their three
// bytes, an odd last byte is dropped.
func Decode(b []byte) string {
	out := make([]byte, 0, len(b)/2+8)
	for k := 0; k+1 < len(b); k += 2 {
		u := rune(binary.LittleEndian.Uint16(b[k:]))
		if utf16.IsSurrogate(u) {
			if k+3 < len(b) {
				if r := utf16.DecodeRune(u, rune(binary.LittleEndian.Uint16(b[k+2:]))); r != unicode.ReplacementChar {
					out = utf8.AppendRune(out, r)
					k += 2
					continue
				}
			}
			out = append(out, byte(0xe0|u>>12), byte(0x80|u>>6&0x3f), byte(0x80|u&0x3f))
			continue
		}
		out = utf8.AppendRune(out, u)
	}
	return string(out)
}

// Encode is the reverse of [Decode], without a zero at the end.
func Encode(s string) []byte {
	out := make([]byte, 0, 2*len(s))
	for len(s) > 0 {
		r, n := utf8.DecodeRuneInString(s)
		if r == utf8.RuneError && n == 1 {
			if len(s) >= 3 && s[0] == 0xed && s[1] >= 0xa0 && s[1] <= 0xbf && s[2]&0xc0 == 0x80 {
				r, n = rune(s[0]&0x0f)<<12|rune(s[1]&0x3f)<<6|rune(s[2]&0x3f), 3
			} else {
				r = unicode.ReplacementChar
			}
		}
		s = s[n:]
		if r > 0xffff {
			hi, lo := utf16.EncodeRune(r)
			out = binary.LittleEndian.AppendUint16(out, uint16(hi))
			r = lo
		}
		out = binary.LittleEndian.AppendUint16(out, uint16(r))
	}
	return out
}

// Valid makes a decoded text valid UTF-8 of the same length: lone surrogates become U+FFFD.
func Valid(s string) string {
	if utf8.ValidString(s) {
		return s
	}
	b := []byte(s)
	for k := 0; k+2 < len(b); k++ {
		if b[k] == 0xed && b[k+1] >= 0xa0 && b[k+1] <= 0xbf && b[k+2]&0xc0 == 0x80 {
			copy(b[k:], "\ufffd")
		}
	}
	return string(b)
}

// Text is [Decode] up to the first zero, where there is one.
func Text(b []byte) string {
	for k := 0; k+1 < len(b); k += 2 {
		if b[k] == 0 && b[k+1] == 0 {
			return Decode(b[:k])
		}
	}
	return Decode(b)
}

// Swap turns big-endian UTF-16 into little-endian, and back; an odd last byte is dropped.
func Swap(b []byte) []byte {
	out := make([]byte, len(b)&^1)
	for k := 0; k+1 < len(b); k += 2 {
		out[k], out[k+1] = b[k+1], b[k]
	}
	return out
}

// LowerASCII makes the letters A to Z small and leaves all others, so that every place in the
// text stays the same: [strings.ToLower] can make a text longer.
func LowerASCII(s string) string {
	b := []byte(s)
	for k, c := range b {
		if 'A' <= c && c <= 'Z' {
			b[k] = c + 'a' - 'A'
		}
	}
	return string(b)
}

// epoch is 1601-01-01, where Windows counts 100-nanosecond steps from, in those
// steps before 1970.
const epoch = 116444736000000000

// Time converts a FILETIME; zero, and what no date can be, is the zero time.
func Time(t uint64) time.Time {
	if t == 0 || t > 1<<62 {
		return time.Time{}
	}
	n := int64(t) - epoch
	return time.Unix(n/1e7, n%1e7*100).UTC()
}

// FileTime is the reverse of [Time]: the number of 100-nanosecond steps since 1601.
func FileTime(t time.Time) uint64 {
	if t.IsZero() {
		return 0
	}
	return uint64(t.Unix()*1e7 + int64(t.Nanosecond()/100) + epoch)
}

// GUID is the text of an id of 16 bytes: {01234567-89AB-CDEF-0123-456789ABCDEF}. Of other lengths it is empty.
func GUID(b []byte) string {
	if len(b) != 16 {
		return ""
	}
	le := binary.LittleEndian
	return fmt.Sprintf("{%08X-%04X-%04X-%X-%X}", le.Uint32(b), le.Uint16(b[4:]), le.Uint16(b[6:]), b[8:10], b[10:])
}

// SID is a security identifier as text, MS-DTYP 2.4.2: "S-1-5-21-...". It is empty if the bytes are not a
// time.
func SID(b []byte) string {
	if len(b) < 8 || b[0] != 1 || len(b) != 8+4*int(b[1]) || b[1] > 15 {
		return ""
	}
	var authority uint64
	for _, part := range b[2:8] {
		authority = authority<<8 | uint64(part)
	}
	text := "S-1-" + strconv.FormatUint(authority, 10)
	for k := 8; k < len(b); k += 4 {
		text += "-" + strconv.FormatUint(uint64(binary.LittleEndian.Uint32(b[k:])), 10)
	}
	return text
}
