// Package evtx reads the event logs of Windows since Vista: files of chunks, whose records are XML
// in a binary form.
//
//	err := evtx.Read(file, size, func(e evtx.Event) {
//		fmt.Println(e.Time, e.Provider, e.ID, e.Data["BootTime"])
//	})
//
// The records are of "[MS-EVEN6]: EventLog Remoting Protocol 6.0", 2.2.12 (BinXml); the file
// around them is in no document of Microsoft's, and is read as the documentation of libevtx has
// it. Its checksums are not compared, for the log of a machine that went out is not closed.
package evtx

import (
	"encoding/binary"
	"errors"
	"io"
	"time"

	"lockback/core/format/windata"
)

// Bounds.
const (
	maxFile     = 64 << 20 // bytes of a log that are read
	maxTime     = 2 * time.Second
	maxNodes    = 4096 // elements, attributes and values of one event
	maxDepth    = 32   // elements in elements, and templates in values
	maxValues   = 1024 // of one template
	maxText     = 64 << 10
	chunkSize   = 64 << 10
	chunkHead   = 512
	recordHead  = 24
	recordTail  = 4
	freeSpaceAt = 48 // in a chunk's head: where its records end
)

// ErrFormat says that a file is no event log.
var ErrFormat = errors.New("not an event log of Windows")

// Event is one record of a log.
type Event struct {
	Time     time.Time // when it was written
	Provider string    // who wrote it
	ID       uint32    // which of the provider's events it is
	// Data are its values by their names.
	Data map[string]string
}

// Read visits the events of a log in the order in which they lie in the file. It fails with
// [ErrFormat] where the file is no log; records that are damaged are left out.
func Read(r io.ReaderAt, size int64, visit func(Event)) error {
	head := make([]byte, 128)
	if n, _ := r.ReadAt(head, 0); n < len(head) || string(head[:8]) != "ElfFile\x00" {
		return ErrFormat
	}
	first := int64(binary.LittleEndian.Uint16(head[40:])) // where the chunks begin
	if first < int64(len(head)) {
		return ErrFormat
	}
	until := time.Now().Add(maxTime)
	chunk := make([]byte, chunkSize)
	for at := first; at+chunkSize <= min(size, maxFile); at += chunkSize {
		if n, err := r.ReadAt(chunk, at); n < len(chunk) {
			return err
		}
		if string(chunk[:8]) != "ElfChnk\x00" {
			continue // one that was never written to
		}
		end := int(binary.LittleEndian.Uint32(chunk[freeSpaceAt:]))
		if end > chunkSize {
			end = chunkSize
		}
		for k := chunkHead; k+recordHead+recordTail <= end; {
			if time.Now().After(until) {
				return errors.New("it takes too long to read")
			}
			count := int(binary.LittleEndian.Uint32(chunk[k+4:]))
			if string(chunk[k:k+4]) != "\x2a\x2a\x00\x00" || count < recordHead+recordTail || count > end-k {
				break
			}
			if e, ok := event(chunk, k+recordHead, k+count-recordTail); ok {
				e.Time = windata.Time(binary.LittleEndian.Uint64(chunk[k+16:]))
				visit(e)
			}
			k += count
		}
	}
	return nil
}

// event reads the XML of one record.
func event(chunk []byte, at, end int) (e Event, ok bool) {
	p := &parser{chunk: chunk}
	root := &node{}
	if _, err := p.content(root, at, end, nil, false, 0); err != nil {
		return e, false
	}
	top := root.child("Event")
	system := top.child("System")
	e.Provider = system.child("Provider").attribute("Name")
	id, ok := number(system.child("EventID").text())
	if !ok {
		return e, false
	}
	e.ID, e.Data = id, map[string]string{}
	if data := top.child("EventData"); data != nil {
		for _, c := range data.children {
			if name := c.attribute("Name"); c.name == "Data" && name != "" {
				e.Data[name] = c.text()
			}
		}
	}
	return e, true
}
