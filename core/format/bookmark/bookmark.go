// Package bookmark reads how macOS remembers where a file is: bookmark data,
// which came with 10.6, and the alias records before.
//
//	place, err := bookmark.Parse(data)
//	fmt.Println(place.Path, place.Volume)
//
// Neither is documented by its maker. What is read here, of either, is what
// several independent descriptions agree on: the path, the volume that it is on,
// and the dates of both. All of it is checked against the end of the data.
package bookmark

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"path"
	"strings"
	"time"

	"lockback/core/format/windata"
)

// Place is where a bookmark or alias leads.
type Place struct {
	// from the top of the file system, /Volumes/Backup/x on another volume; empty if it is not told
	Path          string
	Volume        string // the volume's name
	VolumePath    string // where it was mounted; "/" of the system's own
	VolumeUUID    string
	Created       time.Time // when the file was made; zero where unknown
	VolumeCreated time.Time
}

// Errors that callers decide on.
var (
	// ErrFormat says that the bytes are neither a bookmark nor an alias.
	ErrFormat = errors.New("neither a bookmark nor an alias")
	// ErrDamaged says that they end too early or contradict themselves.
	ErrDamaged = errors.New("the bookmark is damaged")
)

// Parse reads bookmark data or an alias record.
func Parse(b []byte) (Place, error) {
	switch {
	case len(b) >= 4 && (string(b[:4]) == "book" || string(b[:4]) == "alis"):
		return parseBookmark(b)
	case len(b) >= 8 && binary.BigEndian.Uint16(b[6:]) == 2:
		return parseAlias2(b)
	case len(b) >= 8 && binary.BigEndian.Uint16(b[6:]) == 3:
		return parseAlias3(b)
	}
	return Place{}, ErrFormat
}

// Keys of a bookmark's table.
const (
	keyPath          = 0x1004 // an array of names
	keyCreated       = 0x1040
	keyVolumePath    = 0x2002
	keyVolumeName    = 0x2010
	keyVolumeUUID    = 0x2011
	keyVolumeCreated = 0x2013
)

// Types of a bookmark's items: the upper byte tells the kind.
const (
	kindText  = 0x0100
	kindDate  = 0x0400
	kindArray = 0x0600
)

const (
	bookHeader = 48
	tableMagic = 0xfffffffe
	maxNames   = 1024 // folders in each other
	maxTables  = 64
)

// book is a bookmark's items, which refer to each other by offset.
type book struct{ b []byte }

// parseBookmark reads bookmark data: a header with its own length at 12, the
// items, and tables of keys, each leading to the next.
func parseBookmark(b []byte) (Place, error) {
	if len(b) < bookHeader+4 {
		return Place{}, fmt.Errorf("%w: it ends in its header", ErrDamaged)
	}
	header := binary.LittleEndian.Uint32(b[12:])
	if header < 16 || uint64(header)+4 > uint64(len(b)) {
		return Place{}, fmt.Errorf("%w: it ends in its header", ErrDamaged)
	}
	k := book{b[header:]}
	items := map[uint32]uint32{}
	table, _ := k.u32(0)
	for n := 0; table != 0; n++ {
		magic, ok := k.u32(uint64(table) + 4)
		count, ok2 := k.u32(uint64(table) + 16)
		if !ok || !ok2 || magic != tableMagic || uint64(count)*12 > uint64(len(k.b)) || n == maxTables {
			return Place{}, fmt.Errorf("%w: its table of contents is missing", ErrDamaged)
		}
		for e := range uint64(count) {
			at := uint64(table) + 20 + e*12
			key, _ := k.u32(at)
			offset, ok := k.u32(at + 4)
			if !ok {
				return Place{}, fmt.Errorf("%w: its table of contents ends too early", ErrDamaged)
			}
			if _, had := items[key]; !had {
				items[key] = offset
			}
		}
		next, _ := k.u32(uint64(table) + 12)
		if next != 0 && next <= table {
			return Place{}, fmt.Errorf("%w: its tables lead in a circle", ErrDamaged)
		}
		table = next
	}
	p := Place{Volume: k.text(items[keyVolumeName]), VolumeUUID: k.text(items[keyVolumeUUID]),
		VolumePath: k.text(items[keyVolumePath]),
		Created:    k.date(items[keyCreated]), VolumeCreated: k.date(items[keyVolumeCreated])}
	var names []string
	kind, data := k.item(items[keyPath])
	if kind&0xff00 != kindArray || len(data)/4 > maxNames {
		return p, fmt.Errorf("%w: it names no path", ErrDamaged)
	}
	for ; len(data) >= 4; data = data[4:] {
		name := k.text(binary.LittleEndian.Uint32(data))
		if name == "" || strings.ContainsAny(name, "/\x00") {
			return p, fmt.Errorf("%w: a part of its path is missing", ErrDamaged)
		}
		names = append(names, name)
	}
	p.Path = "/" + strings.Join(names, "/")
	return p, nil
}

func (k book) u32(at uint64) (uint32, bool) {
	if at+4 > uint64(len(k.b)) {
		return 0, false
	}
	return binary.LittleEndian.Uint32(k.b[at:]), true
}

// item is the type and content of the item at an offset: its length, its type,
// its content. There is none at 0.
func (k book) item(at uint32) (kind uint32, data []byte) {
	length, ok := k.u32(uint64(at))
	kind, ok2 := k.u32(uint64(at) + 4)
	if at == 0 || !ok || !ok2 || uint64(at)+8+uint64(length) > uint64(len(k.b)) {
		return 0, nil
	}
	return kind, k.b[at+8:][:length]
}

func (k book) text(at uint32) string {
	kind, data := k.item(at)
	if kind&0xff00 != kindText {
		return ""
	}
	return string(data)
}

// date is a moment as Core Foundation keeps it, with the most significant byte
// first, unlike everything else.
func (k book) date(at uint32) time.Time {
	kind, data := k.item(at)
	if kind&0xff00 != kindDate || len(data) < 8 {
		return time.Time{}
	}
	seconds := math.Float64frombits(binary.BigEndian.Uint64(data))
	if !(math.Abs(seconds) < 9e9) {
		return time.Time{}
	}
	return time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(math.Round(seconds*1000)) * time.Millisecond)
}

// The tags of what stands behind an alias record's fixed part.
const (
	tagCarbonPath  = 2
	tagUnicodeName = 14
	tagUnicodeVol  = 15
	tagVolDate     = 16
	tagDate        = 17
	tagPath        = 18
	tagMount       = 19
	tagEnd         = 0xffff
)

// parseAlias2 reads an alias record of version 2: fixed fields up to 150.
func parseAlias2(b []byte) (Place, error) {
	const fixed = 150
	if len(b) < fixed {
		return Place{}, fmt.Errorf("%w: it ends in its fixed part", ErrDamaged)
	}
	p := Place{Volume: pascal(b[10:38]), VolumeCreated: macTime(uint64(binary.BigEndian.Uint32(b[38:]))),
		Created: macTime(uint64(binary.BigEndian.Uint32(b[118:])))}
	return aliasTags(p, b[fixed:], pascal(b[50:114]))
}

// parseAlias3 reads one of version 3: fixed fields up to 58, dates in parts of
// 65536 of a second.
func parseAlias3(b []byte) (Place, error) {
	const fixed = 58
	if len(b) < fixed {
		return Place{}, fmt.Errorf("%w: it ends in its fixed part", ErrDamaged)
	}
	p := Place{VolumeCreated: macTime(binary.BigEndian.Uint64(b[10:]) >> 16),
		Created: macTime(binary.BigEndian.Uint64(b[32:]) >> 16)}
	return aliasTags(p, b[fixed:], "")
}

func aliasTags(p Place, rest []byte, name string) (Place, error) {
	inVolume, mount, carbon := "", "", ""
	for len(rest) >= 4 {
		tag, length := binary.BigEndian.Uint16(rest), int(binary.BigEndian.Uint16(rest[2:]))
		if tag == tagEnd {
			break
		}
		if 4+length > len(rest) {
			return p, fmt.Errorf("%w: it ends in a field", ErrDamaged)
		}
		data := rest[4 : 4+length]
		rest = rest[min(len(rest), 4+length+length%2):]
		switch tag {
		case tagCarbonPath:
			carbon = string(bytes.TrimRight(data, "\x00"))
		case tagUnicodeName:
			name = wide(data, name)
		case tagUnicodeVol:
			p.Volume = wide(data, p.Volume)
		case tagVolDate:
			if length == 8 {
				p.VolumeCreated = macTime(binary.BigEndian.Uint64(data) >> 16)
			}
		case tagDate:
			if length == 8 {
				p.Created = macTime(binary.BigEndian.Uint64(data) >> 16)
			}
		case tagPath:
			inVolume = string(bytes.TrimRight(data, "\x00"))
		case tagMount:
			mount = string(bytes.TrimRight(data, "\x00"))
		}
	}
	if inVolume == "" && carbon != "" {
		// Colons between the parts, the volume first; a slash in a name is a colon.
		vol, below, _ := strings.Cut(carbon, ":")
		p.Volume = firstOf(p.Volume, vol)
		inVolume = "/" + strings.NewReplacer(":", "/", "/", ":").Replace(below)
		if mount == "" {
			return p, fmt.Errorf("%w: it does not tell where its volume is", ErrDamaged)
		}
	}
	switch {
	case inVolume == "":
		return p, fmt.Errorf("%w: it names no path, only %q", ErrDamaged, name)
	case strings.Contains(inVolume, "\x00") || strings.Contains(mount, "\x00"):
		return p, fmt.Errorf("%w: its path is none", ErrDamaged)
	}
	if mount == "" {
		mount = "/"
	}
	p.VolumePath = mount
	p.Path = path.Join("/", mount, inVolume)
	return p, nil
}

func firstOf(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// pascal is a text with its length before it.
func pascal(b []byte) string { return string(b[1 : 1+min(int(b[0]), len(b)-1)]) }

// wide is a text in UTF-16 with its length before it; other if there is none.
func wide(b []byte, other string) string {
	if len(b) < 2 {
		return other
	}
	n := min(int(binary.BigEndian.Uint16(b)), (len(b)-2)/2)
	if n == 0 {
		return other // an empty name tells nothing
	}
	return windata.Decode(windata.Swap(b[2 : 2+2*n]))
}

// macTime is a moment in seconds since the beginning of 1904.
func macTime(seconds uint64) time.Time {
	if seconds == 0 || seconds > 1<<33 {
		return time.Time{}
	}
	return time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(seconds) * time.Second)
}
