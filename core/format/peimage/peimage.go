// Package peimage reads what a Windows program says about itself: for which processors it is, its
// version resource, and the signatures that are embedded in it; and makes the digest that they
// sign.
//
//	image, err := peimage.Open(file, size)
//	info, err := image.Version()
//	fmt.Println(info.Strings["CompanyName"])
//
// The layout is that of the "PE Format" document of Microsoft. It reads only what the caller asks
// for, and never more than the bounds below, whatever sizes the file claims.
package peimage

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Bounds, in bytes and in number.
const (
	maxSections     = 256
	maxCertificates = 16 << 20 // of the table of signatures
	maxSignatures   = 64
	maxResource     = 1 << 20 // of the version resource
	maxDirectory    = 4096    // entries of one directory of resources
)

// ErrNotPE says that a file is no program of Windows at all.
var ErrNotPE = errors.New("not a Windows program")

// Machine is the processor that an image is for, IMAGE_FILE_MACHINE.
type Machine uint16

// String is the processor in words.
func (m Machine) String() string {
	switch m {
	case 0x14c:
		return "32-bit"
	case 0x8664:
		return "64-bit"
	case 0xaa64:
		return "64-bit ARM"
	case 0x1c0, 0x1c4:
		return "32-bit ARM"
	}
	return fmt.Sprintf("for processor 0x%x", uint16(m))
}

// Image is an opened program.
type Image struct {
	Machine Machine
	DLL     bool
	Native  bool // a driver, or a program that starts before Windows does

	r    io.ReaderAt
	size int64

	optional     int64 // where the optional header is
	checksum     int64 // where its checksum is
	certificates int64 // where the entry of the table of signatures is; 0: there is none
	sections     []section
	resources    span
	signed       span // the table of signatures, by its place in the file
}

type span struct{ at, size uint32 }

type section struct{ address, length, at, size uint32 }

// Open reads the headers.
func Open(r io.ReaderAt, size int64) (*Image, error) {
	i := &Image{r: r, size: size}
	var dos [64]byte
	if err := i.read(dos[:], 0); err != nil || dos[0] != 'M' || dos[1] != 'Z' {
		return nil, ErrNotPE
	}
	at := int64(binary.LittleEndian.Uint32(dos[60:]))
	var head [24]byte
	if err := i.read(head[:], at); err != nil || string(head[:4]) != "PE\x00\x00" {
		return nil, ErrNotPE
	}
	i.Machine = Machine(binary.LittleEndian.Uint16(head[4:]))
	count := int(binary.LittleEndian.Uint16(head[6:]))
	length := int(binary.LittleEndian.Uint16(head[20:]))
	i.DLL = binary.LittleEndian.Uint16(head[22:])&0x2000 != 0
	i.optional = at + 24
	if count > maxSections {
		return nil, fmt.Errorf("it has %d sections", count)
	}
	optional := make([]byte, length)
	if err := i.read(optional, i.optional); err != nil {
		return nil, err
	}
	if length < 96 {
		return nil, errors.New("its header is cut off")
	}
	i.checksum = i.optional + 64
	subsystem := binary.LittleEndian.Uint16(optional[68:])
	i.Native = subsystem == 1
	directories := 96
	if binary.LittleEndian.Uint16(optional) == 0x20b { // PE32+
		directories = 112
	}
	directory := func(n int) (s span, at int64) {
		where := directories + 8*n
		if directories < 4 || where+8 > length || uint32(n) >= binary.LittleEndian.Uint32(optional[directories-4:]) {
			return s, 0
		}
		return span{binary.LittleEndian.Uint32(optional[where:]), binary.LittleEndian.Uint32(optional[where+4:])},
			i.optional + int64(where)
	}
	if directories > length {
		return nil, errors.New("its header is cut off")
	}
	i.resources, _ = directory(2)
	i.signed, i.certificates = directory(4)
	table := make([]byte, 40*count)
	if err := i.read(table, i.optional+int64(length)); err != nil {
		return nil, err
	}
	for ; len(table) > 0; table = table[40:] {
		u := func(k int) uint32 { return binary.LittleEndian.Uint32(table[k:]) }
		i.sections = append(i.sections, section{address: u(12), length: u(8), at: u(20), size: u(16)})
	}
	return i, nil
}

// read fills a buffer; what lies beyond the file is an error.
func (i *Image) read(b []byte, at int64) error {
	if at < 0 || at+int64(len(b)) > i.size {
		return errors.New("it is cut off")
	}
	_, err := i.r.ReadAt(b, at)
	return err
}

// offset is where an address of the loaded program is in the file.
func (i *Image) offset(address uint32) (int64, bool) {
	for _, s := range i.sections {
		if address >= s.address && address-s.address < s.size {
			return int64(s.at) + int64(address-s.address), true
		}
	}
	return 0, false
}

// Kind is what the program is, in words.
func (i *Image) Kind() string {
	switch {
	case i.Native:
		return "Windows driver, " + i.Machine.String()
	case i.DLL:
		return "Windows library, " + i.Machine.String()
	}
	return "Windows program, " + i.Machine.String()
}
