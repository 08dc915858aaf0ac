// Package journal reads the log files of systemd, from one end to the other: the entries that have
// certain messages, with certain fields.
//
//	fields := []string{"UNIT", "CPU_USAGE_NSEC"}
//	err := journal.Read(file, size, []string{journal.Resources}, fields, func(e journal.Entry) {
//		fmt.Println(e.Time, e.Fields["UNIT"], e.Fields["CPU_USAGE_NSEC"])
//	})
//
// The layout is that of systemd's document "Journal File Format". Objects are read in their order
// in the file; neither its tables nor its links from one object to another are followed, so no
// file can lead in circles.
package journal

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"io"
	"slices"
	"strings"
	"time"
)

// Ids of messages, from sd-messages.h.
const (
	// Resources is what a unit consumed, written when it ends.
	Resources = "ae8f7b866b0347b9af31fe1c80b127c0"
	// StartupFinished is how long the start of the machine took.
	StartupFinished = "b07a249cd024414a82dd00cd181378ff"
	// UserStartupFinished is the same of a user's service manager, and of a container's.
	UserStartupFinished = "eed00a68ffd84e31882105fd973abdd1"
	// UnitStarting and UnitStarted are that a unit was started.
	UnitStarting = "7d4958e842da4a758f6c1cdc7b36dcc5"
	UnitStarted  = "39f53479d3a045ac8e11786248231fbf"
	// UnitFailed is that a unit that was started did not come up.
	UnitFailed = "be02cf6855d2428ba40df7e9d022f03d"
	// SessionStarted is that a user signed in, written by systemd-logind.
	SessionStarted = "8d45620c1a4348dbb17410da57c60c66"
)

// Bounds.
const (
	maxFile  = 64 << 20 // bytes of a file that are read
	maxValue = 4096     // bytes of a field's value
	maxKept  = 1 << 17  // fields of interest in one file
	maxItems = 4096     // fields of an entry
)

// ErrFormat says that a file is no journal.
var ErrFormat = errors.New("not a journal of systemd")

// Entry is one line of the log.
type Entry struct {
	Time   time.Time
	Fields map[string]string
}

// Numbers of the format.
const (
	signature   = "LPKSHHRH"
	objectHead  = 16
	typeData    = 1
	typeEntry   = 3
	flagCompact = 16 // of the header: offsets of items have 32 bits
	compressed  = 7  // of an object: in one of three ways
	dataPayload = 64
	dataCompact = 72 // the same with two numbers more
	entryItems  = 64
)

// Boot is the id of the start in which the file's last entry was written, 32 hexadecimal digits as systemd has them:
// the field tail_entry_boot_id of the header. It is empty if the file is no journal, or has no entry.
func Boot(r io.ReaderAt) string {
	head := make([]byte, 72)
	if n, _ := r.ReadAt(head, 0); n < len(head) || string(head[:8]) != signature ||
		bytes.Count(head[56:], []byte{0}) == 16 {
		return ""
	}
	return hex.EncodeToString(head[56:])
}

// Read visits the entries whose MESSAGE_ID is one of messages, with those of fields that they have. A message may be of
// another field, as FIELD=VALUE, and a field may have the beginning of its value behind an =: others are skipped.
// It fails with [ErrFormat] where the file is no journal; what is damaged, and what is so long that
// it is compressed, is left out.
func Read(r io.ReaderAt, size int64, messages, fields []string, visit func(Entry)) error {
	head := make([]byte, 104)
	if n, _ := r.ReadAt(head, 0); n < len(head) || string(head[:8]) != signature {
		return ErrFormat
	}
	compact := binary.LittleEndian.Uint32(head[12:])&flagCompact != 0
	at := int64(binary.LittleEndian.Uint64(head[88:]))
	if at < 104 || at > 1<<16 {
		return ErrFormat
	}
	size = min(size, maxFile)
	wanted := make([]string, 0, len(fields)+1)
	ids := make([]string, 0, len(messages))
	for _, f := range messages {
		if !strings.Contains(f, "=") {
			f = "MESSAGE_ID=" + f
		}
		ids = append(ids, f)
		wanted = append(wanted, f)
	}
	for _, f := range fields {
		if !strings.Contains(f, "=") {
			f += "="
		}
		wanted = append(wanted, f)
	}
	kept := map[int64]string{} // values of interest, by where they stand
	input := bufio.NewReaderSize(io.NewSectionReader(r, at, size-at), 256<<10)
	body := make([]byte, 0, 8192)
	for at+objectHead <= size {
		var object [objectHead]byte
		if _, err := io.ReadFull(input, object[:]); err != nil {
			return nil
		}
		length := int64(binary.LittleEndian.Uint64(object[8:]))
		if length < objectHead || at+length > size {
			return nil // the end of what was written, or damage
		}
		rest := (length+7)&^7 - objectHead
		kind, flags := object[0], object[1]
		limit := int64(0)
		switch kind {
		case typeData:
			limit = dataCompact + maxValue
		case typeEntry:
			limit = entryItems + 16*maxItems
		}
		limit = min(limit, length-objectHead)
		if int64(cap(body)) < limit {
			body = make([]byte, limit)
		}
		body = body[:limit]
		if _, err := io.ReadFull(input, body); err != nil {
			return nil
		}
		if _, err := input.Discard(int(rest - int64(len(body)))); err != nil {
			return nil
		}
		switch kind {
		case typeData:
			payload := dataPayload - objectHead
			if compact {
				payload = dataCompact - objectHead
			}
			if len(body) > payload && len(kept) < maxKept {
				if text, ok := value(body[payload:], flags, wanted); ok {
					kept[at] = text
				}
			}
		case typeEntry:
			if len(body) >= entryItems-objectHead {
				if e, ok := entry(body, compact, kept, ids); ok {
					visit(e)
				}
			}
		}
		at += objectHead + rest
	}
	return nil
}

// value is the text of a field, if it is one of those that are wanted. Only long ones are
// compressed, and none of those is.
func value(payload []byte, flags byte, wanted []string) (string, bool) {
	if flags&compressed != 0 {
		return "", false
	}
	for _, prefix := range wanted {
		if len(payload) >= len(prefix) && string(payload[:len(prefix)]) == prefix {
			return string(payload[:min(len(payload), maxValue)]), true
		}
	}
	return "", false
}

// entry puts the fields of an entry together, if it has one of the messages.
func entry(body []byte, compact bool, kept map[int64]string, ids []string) (e Entry, ok bool) {
	e.Fields = map[string]string{}
	step := 16
	if compact {
		step = 4
	}
	for items := body[entryItems-objectHead:]; len(items) >= step; items = items[step:] {
		where := int64(binary.LittleEndian.Uint32(items))
		if !compact {
			where = int64(binary.LittleEndian.Uint64(items))
		}
		if text, known := kept[where]; known {
			name, value, _ := strings.Cut(text, "=")
			e.Fields[name] = value
			ok = ok || slices.Contains(ids, text)
		}
	}
	e.Time = time.UnixMicro(int64(binary.LittleEndian.Uint64(body[24-objectHead:]))).UTC()
	return e, ok
}
