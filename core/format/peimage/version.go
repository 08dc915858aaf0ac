package peimage

import (
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"unicode/utf16"
)

// Version is the version resource, VS_VERSIONINFO: what the program says about itself. Anybody can
// write anything there.
type Version struct {
	// File and Product are the numbers of the fixed part: "1.2.3.4"; empty if it is absent.
	File, Product string
	// Strings are the texts of the first language that has any: CompanyName, ProductName,
	// FileDescription, OriginalFilename and others.
	Strings map[string]string
}

// ErrNoVersion says that an image has no version resource.
var ErrNoVersion = errors.New("it has no version resource")

const typeVersion = 16 // RT_VERSION

// Version reads the version resource.
func (i *Image) Version() (Version, error) {
	base, ok := i.offset(i.resources.at)
	if i.resources.at == 0 || !ok {
		return Version{}, ErrNoVersion
	}
	// Three levels: the type, the name, the language. Of the last two, the first counts.
	at := base
	for level := range 3 {
		next, err := i.entry(at, level == 0)
		if err != nil {
			return Version{}, err
		}
		leaf := next&0x80000000 == 0
		if leaf != (level == 2) {
			return Version{}, errors.New("its resources are damaged")
		}
		at = base + int64(next&0x7fffffff)
	}
	var data [8]byte
	if err := i.read(data[:], at); err != nil {
		return Version{}, err
	}
	where, ok := i.offset(binary.LittleEndian.Uint32(data[:]))
	size := binary.LittleEndian.Uint32(data[4:])
	if !ok || size > maxResource {
		return Version{}, errors.New("its version resource is damaged")
	}
	text := make([]byte, size)
	if err := i.read(text, where); err != nil {
		return Version{}, err
	}
	return parseVersion(text)
}

// entry finds, in a directory of resources, the version or the first entry.
func (i *Image) entry(at int64, version bool) (uint32, error) {
	var head [16]byte
	if err := i.read(head[:], at); err != nil {
		return 0, err
	}
	named, numbered := int(binary.LittleEndian.Uint16(head[12:])), int(binary.LittleEndian.Uint16(head[14:]))
	if named+numbered > maxDirectory {
		return 0, errors.New("its resources are damaged")
	}
	entries := make([]byte, 8*(named+numbered))
	if err := i.read(entries, at+16); err != nil {
		return 0, err
	}
	for ; len(entries) > 0; entries = entries[8:] {
		if !version || binary.LittleEndian.Uint32(entries) == typeVersion {
			return binary.LittleEndian.Uint32(entries[4:]), nil
		}
	}
	return 0, ErrNoVersion
}

// block is a piece of the version resource: a key, a value, and the pieces in it.
type block struct {
	key      string
	value    []byte
	text     bool
	children []byte
}

// cutBlock takes the first piece off a list of them.
func cutBlock(b []byte) (k block, rest []byte, ok bool) {
	if len(b) < 6 {
		return k, nil, false
	}
	length := int(binary.LittleEndian.Uint16(b))
	valueLength := int(binary.LittleEndian.Uint16(b[2:]))
	k.text = binary.LittleEndian.Uint16(b[4:]) == 1
	if length < 6 || length > len(b) {
		return k, nil, false
	}
	rest = b[min((length+3)&^3, len(b)):]
	b = b[:length]
	at := 6
	var key []uint16
	for ; ; at += 2 {
		if at+2 > len(b) {
			return k, nil, false
		}
		u := binary.LittleEndian.Uint16(b[at:])
		if u == 0 {
			at += 2
			break
		}
		key = append(key, u)
	}
	k.key = string(utf16.Decode(key))
	at = min((at+3)&^3, len(b))
	if k.text {
		valueLength *= 2
	}
	// Some compilers count a text in bytes.
	valueLength = min(valueLength, len(b)-at)
	k.value = b[at : at+valueLength]
	k.children = b[min((at+valueLength+3)&^3, len(b)):]
	return k, rest, true
}

func parseVersion(b []byte) (Version, error) {
	v := Version{Strings: map[string]string{}}
	root, _, ok := cutBlock(b)
	if !ok || root.key != "VS_VERSION_INFO" {
		return v, errors.New("its version resource is damaged")
	}
	if f := root.value; len(f) >= 52 && binary.LittleEndian.Uint32(f) == 0xfeef04bd {
		number := func(k int) string {
			high, low := binary.LittleEndian.Uint32(f[k:]), binary.LittleEndian.Uint32(f[k+4:])
			return fmt.Sprintf("%d.%d.%d.%d", high>>16, high&0xffff, low>>16, low&0xffff)
		}
		v.File, v.Product = number(8), number(16)
	}
	for list := root.children; len(list) > 0; {
		info, rest, ok := cutBlock(list)
		if !ok {
			break
		}
		list = rest
		if info.key != "StringFileInfo" {
			continue
		}
		for tables := info.children; len(tables) > 0 && len(v.Strings) == 0; {
			table, rest, ok := cutBlock(tables)
			if !ok {
				break
			}
			tables = rest
			for strs := table.children; len(strs) > 0; {
				s, rest, ok := cutBlock(strs)
				if !ok {
					break
				}
				strs = rest
				if text := wide(s.value); text != "" {
					v.Strings[s.key] = text
				}
			}
		}
	}
	return v, nil
}

// wide decodes a text up to its zero.
func wide(b []byte) string {
	var u []uint16
	for ; len(b) >= 2; b = b[2:] {
		c := binary.LittleEndian.Uint16(b)
		if c == 0 {
			break
		}
		u = append(u, c)
	}
	return strings.TrimSpace(string(utf16.Decode(u)))
}
