package bookmark

import (
	"encoding/binary"
	"math"
	"path"
	"strings"
	"time"

	"lockback/core/format/windata"
)

// Encode makes bookmark data that leads to a place, with the items that [Parse]
// reads.
func Encode(p Place) []byte {
	body := make([]byte, 4) // room for the offset of the table
	item := func(kind uint32, data []byte) uint32 {
		at := uint32(len(body))
		body = binary.LittleEndian.AppendUint32(body, uint32(len(data)))
		body = binary.LittleEndian.AppendUint32(body, kind)
		body = append(body, data...)
		for len(body)%4 != 0 {
			body = append(body, 0)
		}
		return at
	}
	text := func(s string) uint32 { return item(kindText|1, []byte(s)) }
	date := func(t time.Time) uint32 {
		seconds := float64(t.Sub(time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC)).Milliseconds()) / 1000
		return item(kindDate, binary.BigEndian.AppendUint64(nil, math.Float64bits(seconds)))
	}
	var names []byte
	for name := range strings.SplitSeq(strings.Trim(p.Path, "/"), "/") {
		names = binary.LittleEndian.AppendUint32(names, text(name))
	}
	type row struct{ key, at uint32 }
	rows := []row{{keyPath, item(kindArray|1, names)}}
	for _, r := range []struct {
		key  uint32
		text string
	}{{keyVolumePath, p.VolumePath}, {keyVolumeName, p.Volume}, {keyVolumeUUID, p.VolumeUUID}} {
		if r.text != "" {
			rows = append(rows, row{r.key, text(r.text)})
		}
	}
	for _, r := range []struct {
		key uint32
		t   time.Time
	}{{keyCreated, p.Created}, {keyVolumeCreated, p.VolumeCreated}} {
		if !r.t.IsZero() {
			rows = append(rows, row{r.key, date(r.t)})
		}
	}
	binary.LittleEndian.PutUint32(body, uint32(len(body)))
	for _, n := range []uint32{uint32(12*len(rows) + 12), tableMagic, 1, 0, uint32(len(rows))} {
		body = binary.LittleEndian.AppendUint32(body, n)
	}
	for _, r := range rows {
		for _, n := range []uint32{r.key, r.at, 0} {
			body = binary.LittleEndian.AppendUint32(body, n)
		}
	}
	head := make([]byte, bookHeader)
	copy(head, "book")
	binary.LittleEndian.PutUint32(head[4:], uint32(bookHeader+len(body)))
	binary.LittleEndian.PutUint32(head[8:], 0x10040000)
	binary.LittleEndian.PutUint32(head[12:], bookHeader)
	return append(head, body...)
}

// EncodeAlias makes an alias record of version 2 that leads to a place.
func EncodeAlias(p Place) []byte {
	b := make([]byte, 150)
	binary.BigEndian.PutUint16(b[6:], 2)
	seconds := func(t time.Time) uint32 {
		return uint32(t.Sub(time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)) / time.Second)
	}
	putPascal := func(b []byte, s string) { b[0] = byte(copy(b[1:], s)) }
	putPascal(b[10:38], p.Volume)
	binary.BigEndian.PutUint32(b[38:], seconds(p.VolumeCreated))
	putPascal(b[50:114], path.Base(p.Path))
	binary.BigEndian.PutUint32(b[118:], seconds(p.Created))
	tag := func(n uint16, data []byte) {
		b = binary.BigEndian.AppendUint16(b, n)
		b = binary.BigEndian.AppendUint16(b, uint16(len(data)))
		b = append(b, data...)
		if len(data)%2 != 0 {
			b = append(b, 0)
		}
	}
	name := windata.Swap(windata.Encode(path.Base(p.Path)))
	tag(tagUnicodeName, append(binary.BigEndian.AppendUint16(nil, uint16(len(name)/2)), name...))
	tag(tagPath, []byte(strings.TrimPrefix(p.Path, strings.TrimSuffix(p.VolumePath, "/"))))
	tag(tagMount, []byte(p.VolumePath))
	tag(tagEnd, nil)
	binary.BigEndian.PutUint16(b[4:], uint16(len(b)))
	return b
}
