package demo

import (
	"cmp"
	"encoding/binary"
	"hash/crc32"
	"time"

	"lockback/core/format/windata"
)

// LoggedEvent is an event for [EventLog].
type LoggedEvent struct {
	// Provider is who wrote it, where that is not who wrote the others.
	Provider string
	ID       uint16
	Time     time.Time
	Data     []Datum
}

// Datum is a value of an event by its name: a string, a uint32, or the bytes of a security identifier.
type Datum struct {
	Name  string
	Value any
}

// EventLog makes an event log of Windows, of one chunk: each event has a template for what all
// events have in common, and in it, as a value, one for what is its own.
func EventLog(provider string, events ...LoggedEvent) []byte {
	w := &logWriter{chunk: make([]byte, 512, 64<<10), names: map[string]int{}}
	last := 0
	for k, e := range events {
		last = len(w.chunk)
		w.chunk = append(w.chunk, "\x2a\x2a\x00\x00"...)
		size := w.hole()
		w.u64(uint64(k + 1))
		w.u64(windata.FileTime(e.Time))
		w.instance(func() {
			w.element("Event", nil, func() {
				w.element("System", nil, func() {
					w.element("Provider", []string{"Name", cmp.Or(e.Provider, provider)}, nil)
					w.element("EventID", nil, func() { w.chunk = append(w.chunk, 0x0d, 0, 0, 0x06) })
					w.element("TimeCreated", []string{"SystemTime", "\x01"}, nil)
				})
				w.chunk = append(w.chunk, 0x0e, 2, 0, 0x21)
			})
		}, []byte{0x06, 0x11, 0x21}, func(k int) {
			switch k {
			case 0:
				w.u16(e.ID)
			case 1:
				w.u64(windata.FileTime(e.Time))
			case 2:
				w.data(e.Data)
				w.chunk = append(w.chunk, 0)
			}
		})
		w.chunk = append(w.chunk, 0)
		for (len(w.chunk)+4)%8 != 0 {
			w.chunk = append(w.chunk, 0)
		}
		total := uint32(len(w.chunk) + 4 - last)
		binary.LittleEndian.PutUint32(w.chunk[size:], total)
		w.u32(total)
	}
	return w.file(len(events), last)
}

// logWriter writes the records of a chunk.
type logWriter struct {
	chunk []byte
	names map[string]int // where each stands
	ids   uint32
}

func (w *logWriter) u16(n uint16) { w.chunk = binary.LittleEndian.AppendUint16(w.chunk, n) }
func (w *logWriter) u32(n uint32) { w.chunk = binary.LittleEndian.AppendUint32(w.chunk, n) }
func (w *logWriter) u64(n uint64) { w.chunk = binary.LittleEndian.AppendUint64(w.chunk, n) }

// hole leaves room for a number that is known later.
func (w *logWriter) hole() int {
	w.u32(0)
	return len(w.chunk) - 4
}

// fill writes into a hole how many bytes came after it.
func (w *logWriter) fill(hole int) {
	binary.LittleEndian.PutUint32(w.chunk[hole:], uint32(len(w.chunk)-hole-4))
}

func (w *logWriter) text(s string) { w.chunk = append(w.chunk, windata.Encode(s)...) }

// name refers to a name, which is written where it is used for the first time.
func (w *logWriter) name(s string) {
	at, known := w.names[s]
	if !known {
		at = len(w.chunk) + 4
		w.names[s] = at
	}
	w.u32(uint32(at))
	if known {
		return
	}
	var hash uint32
	for _, c := range s {
		hash = hash*65599 + uint32(c)
	}
	w.u32(0)
	w.u16(uint16(hash))
	w.u16(uint16(len(s)))
	w.text(s)
	w.u16(0)
}

// element writes an element; an attribute of "\x01" is value 1 of the template.
func (w *logWriter) element(name string, attribute []string, content func()) {
	token := byte(0x01)
	if attribute != nil {
		token = 0x41
	}
	w.chunk = append(w.chunk, token, 0xff, 0xff)
	size := w.hole()
	w.name(name)
	if attribute != nil {
		list := w.hole()
		w.chunk = append(w.chunk, 0x06)
		w.name(attribute[0])
		if attribute[1] == "\x01" {
			w.chunk = append(w.chunk, 0x0d, 1, 0, 0x11)
		} else {
			w.chunk = append(w.chunk, 0x05, 0x01)
			w.u16(uint16(len(attribute[1])))
			w.text(attribute[1])
		}
		w.fill(list)
	}
	if content == nil {
		w.chunk = append(w.chunk, 0x03)
	} else {
		w.chunk = append(w.chunk, 0x02)
		content()
		w.chunk = append(w.chunk, 0x04)
	}
	w.fill(size)
}

// instance writes a template and its values.
func (w *logWriter) instance(template func(), kinds []byte, value func(k int)) {
	w.ids++
	w.chunk = append(w.chunk, 0x0f, 1, 1, 0, 0x0c, 1)
	w.u32(w.ids)
	w.u32(uint32(len(w.chunk) + 4))
	w.u32(0)
	w.u32(w.ids)
	w.chunk = append(w.chunk, make([]byte, 12)...)
	size := w.hole()
	w.chunk = append(w.chunk, 0x0f, 1, 1, 0)
	template()
	w.chunk = append(w.chunk, 0)
	w.fill(size)
	w.u32(uint32(len(kinds)))
	descriptors := len(w.chunk)
	for _, kind := range kinds {
		w.chunk = append(w.chunk, 0, 0, kind, 0)
	}
	for k := range kinds {
		from := len(w.chunk)
		value(k)
		binary.LittleEndian.PutUint16(w.chunk[descriptors+4*k:], uint16(len(w.chunk)-from))
	}
}

// data writes the values of an event.
func (w *logWriter) data(data []Datum) {
	var kinds []byte
	for _, d := range data {
		kind := byte(0x08)
		switch d.Value.(type) {
		case string:
			kind = 0x01
		case []byte:
			kind = 0x13
		}
		kinds = append(kinds, kind)
	}
	w.instance(func() {
		w.element("EventData", nil, func() {
			for k, d := range data {
				w.element("Data", []string{"Name", d.Name}, func() {
					w.chunk = append(w.chunk, 0x0d, byte(k), 0,
						kinds[k])
				})
			}
		})
	}, kinds, func(k int) {
		switch v := data[k].Value.(type) {
		case string:
			w.text(v)
		case uint32:
			w.u32(v)
		case []byte:
			w.chunk = append(w.chunk, v...)
		}
	})
}

// file puts the heads of the chunk and of the file before the records.
func (w *logWriter) file(events, last int) []byte {
	free := len(w.chunk)
	chunk := append(w.chunk, make([]byte, 64<<10-free)...)
	copy(chunk, "ElfChnk\x00")
	for k, n := range []uint64{1, uint64(events), 1, uint64(events)} {
		binary.LittleEndian.PutUint64(chunk[8+8*k:], n)
	}
	for k, n := range []uint32{128, uint32(last), uint32(free), crc32.ChecksumIEEE(chunk[512:free])} {
		binary.LittleEndian.PutUint32(chunk[40+4*k:], n)
	}
	binary.LittleEndian.PutUint32(chunk[124:], crc32.ChecksumIEEE(append(append([]byte(nil), chunk[:120]...),
		chunk[128:512]...)))
	head := make([]byte, 4096)
	copy(head, "ElfFile\x00")
	binary.LittleEndian.PutUint64(head[24:], uint64(events+1))
	binary.LittleEndian.PutUint32(head[32:], 128)
	for k, n := range []uint16{1, 3, 4096, 1} { // release 3.1, where the chunks begin, how many there are
		binary.LittleEndian.PutUint16(head[36+2*k:], n)
	}
	binary.LittleEndian.PutUint32(head[124:], crc32.ChecksumIEEE(head[:120]))
	return append(head, chunk...)
}
