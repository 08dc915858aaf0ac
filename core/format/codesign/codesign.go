// Package codesign reads the programs of macOS, Mach-O files, and the signatures in them: who
// signed, whether the code is what was signed, and what else the signature seals.
//
//	for _, code := range must(codesign.Open(file, size)) {
//		s, err := code.Signature()
//		fmt.Println(s.Identifier, s.Team, s.Authorities, err)
//	}
//
// The layouts are those of the headers mach-o/loader.h, mach-o/fat.h and kern/cs_blobs.h of Darwin.
// All numbers of signatures are big-endian. It reads only what the caller asks for, within the
// bounds below.
package codesign

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
)

// Bounds.
const (
	maxSlices    = 16
	maxCommands  = 1 << 20  // bytes of load commands
	maxSignature = 32 << 20 // bytes of a signature
	maxBlobs     = 64

	maxAlternates = 2 // lists of digests beside the first, each over all of the code
)

// ErrNotMachO says that a file is no program of macOS at all.
var ErrNotMachO = errors.New("not a Mach-O program")

// Code is the program for one kind of processor.
type Code struct {
	CPU  uint32
	Kind uint32 // MH_EXECUTE and its like

	r         io.ReaderAt // of this slice of the file alone
	size      int64
	signature struct{ at, size int64 }
}

// Numbers of mach-o/loader.h and mach-o/fat.h.
const (
	magicFat   = 0xcafebabe
	magicFat64 = 0xcafebabf
	magic32    = 0xfeedface
	magic64    = 0xfeedfacf

	loadSignature = 0x1d // LC_CODE_SIGNATURE
)

// Open reads the headers of a file, which may hold the program for several kinds of processors.
func Open(r io.ReaderAt, size int64) ([]Code, error) {
	var head [8]byte
	if size < 28 {
		return nil, ErrNotMachO
	}
	if _, err := r.ReadAt(head[:], 0); err != nil {
		return nil, err
	}
	magic, count := binary.BigEndian.Uint32(head[:]), binary.BigEndian.Uint32(head[4:])
	if magic != magicFat && magic != magicFat64 {
		code, err := open(io.NewSectionReader(r, 0, size))
		if err != nil {
			return nil, err
		}
		return []Code{code}, nil
	}
	// Java's classes begin in the same way; their next number is a version, above 40.
	if count == 0 || count > maxSlices {
		return nil, ErrNotMachO
	}
	entry := 20
	if magic == magicFat64 {
		entry = 32
	}
	table := make([]byte, entry*int(count))
	if _, err := r.ReadAt(table, 8); err != nil {
		return nil, errors.New("it is cut off")
	}
	var all []Code
	left := uint64(size)
	for ; len(table) > 0; table = table[entry:] {
		at, length := uint64(binary.BigEndian.Uint32(table[8:])), uint64(binary.BigEndian.Uint32(table[12:]))
		if magic == magicFat64 {
			at, length = binary.BigEndian.Uint64(table[8:]), binary.BigEndian.Uint64(table[16:])
		}
		if at > uint64(size) || length > uint64(size)-at {
			return nil, errors.New("it is cut off")
		}
		if length > left {
			return nil, errors.New("its parts overlap")
		}
		left -= length
		code, err := open(io.NewSectionReader(r, int64(at), int64(length)))
		if err != nil {
			return nil, err
		}
		all = append(all, code)
	}
	return all, nil
}

func open(r *io.SectionReader) (Code, error) {
	c := Code{r: r, size: r.Size()}
	var head [32]byte
	if n, err := r.ReadAt(head[:], 0); n < 28 {
		return c, errors.Join(ErrNotMachO, err)
	}
	var order binary.ByteOrder = binary.LittleEndian
	if m := binary.BigEndian.Uint32(head[:]); m == magic32 || m == magic64 {
		order = binary.BigEndian
	}
	at := int64(28)
	switch order.Uint32(head[:]) {
	case magic32:
	case magic64:
		at = 32
	default:
		return c, ErrNotMachO
	}
	c.CPU, c.Kind = order.Uint32(head[4:]), order.Uint32(head[12:])
	commands, length := order.Uint32(head[16:]), order.Uint32(head[20:])
	if length > maxCommands || at+int64(length) > c.size {
		return c, errors.New("its load commands are cut off")
	}
	table := make([]byte, length)
	if _, err := r.ReadAt(table, at); err != nil && !errors.Is(err, io.EOF) {
		return c, err
	}
	for range commands {
		if len(table) < 8 {
			break
		}
		kind, size := order.Uint32(table), order.Uint32(table[4:])
		if size < 8 || int64(size) > int64(len(table)) {
			return c, errors.New("its load commands are damaged")
		}
		if kind == loadSignature && size >= 16 {
			c.signature.at, c.signature.size = int64(order.Uint32(table[8:])), int64(order.Uint32(table[12:]))
		}
		table = table[size:]
	}
	return c, nil
}

// Signed reports whether the code has a signature, of whatever kind.
func (c Code) Signed() bool { return c.signature.at != 0 && c.signature.size != 0 }

// Processor is the kind of processor, in words.
func (c Code) Processor() string {
	switch c.CPU {
	case 7:
		return "32-bit Intel"
	case 0x01000007:
		return "Intel"
	case 0x0100000c:
		return "Apple silicon"
	case 18, 0x01000012:
		return "PowerPC"
	}
	return fmt.Sprintf("processor 0x%x", c.CPU)
}
