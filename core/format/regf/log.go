package regf

import (
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
)

// Kinds of files that begin with a base block.
const (
	primaryFile = 0
	oldLog      = 1
	olderLog    = 2 // as written by some early systems
	newLog      = 6
)

const (
	sector     = 512
	maxLogSize = 256 << 20
	logEntry   = 40 // bytes before the list of pages
)

// logFile is a transaction log that was found fit to be applied.
type logFile struct {
	Source
	base  [pageSize]byte
	first uint32 // sequence number of the first entry, of a new log
}

// applyLogs recovers a hive that was not closed cleanly: from the log of the old
// format, or from both logs of the new one. baseWhole tells that the hive's own
// first page can be believed.
func (h *Hive) applyLogs(logs []Source, baseWhole bool) error {
	var (
		news []logFile
		errs []error
	)
	for _, l := range logs {
		if l.Size < sector || l.ReaderAt == nil {
			continue
		}
		f := logFile{Source: l}
		if _, err := l.ReadAt(f.base[:min(l.Size, pageSize)], 0); err != nil {
			errs = append(errs, fmt.Errorf("reading a log: %w", err))
			continue
		}
		switch {
		case string(f.base[:4]) != "regf":
			continue // a log that was never used is zeros
		case checksum(f.base[:]) != le32(f.base[:], 508):
			errs = append(errs, errors.New("a log's first sector has a wrong checksum"))
			continue
		case l.Size > maxLogSize:
			errs = append(errs, fmt.Errorf("a log of %d bytes, at most %d are read", l.Size, maxLogSize))
			continue
		}
		switch le32(f.base[:], 28) {
		case newLog:
			if head, ok := f.entry(sector); ok {
				f.first = le32(head, 12)
				news = append(news, f)
			}
		case oldLog, olderLog:
			err := h.applyOld(f)
			if err == nil {
				return nil
			}
			errs = append(errs, err)
		}
	}
	if len(news) > 0 {
		err := h.applyNew(news, baseWhole)
		if err == nil {
			return nil
		}
		errs = append(errs, err)
	}
	if len(errs) == 0 {
		return errors.New("it has no log that could finish it")
	}
	return errors.Join(errs...)
}

// applyOld applies a log of the old format: a bitmap of the sectors that were
// being written, and the sectors.
func (h *Hive) applyOld(f logFile) error {
	size := le32(f.base[:], 40)
	if size%pageSize != 0 || size > maxBins {
		return errors.New("a log claims an impossible size of the hive")
	}
	bitmap := make([]byte, 4+(size/sector+7)/8)
	if int64(sector+len(bitmap)) > f.Size {
		return errors.New("a log is cut short in its bitmap")
	}
	if _, err := f.ReadAt(bitmap, sector); err != nil {
		return fmt.Errorf("reading a log: %w", err)
	}
	if string(bitmap[:4]) != "DIRT" {
		return errors.New("a log has no bitmap of sectors")
	}
	bitmap = bitmap[4:]
	var dirty []uint32
	for k := range size / sector {
		if bitmap[k/8]>>(k%8)&1 != 0 {
			dirty = append(dirty, k)
		}
	}
	at := int64(sector+4+len(bitmap)+sector-1) &^ (sector - 1)
	if at+int64(len(dirty))*sector > f.Size {
		return errors.New("a log is cut short: it does not hold all sectors that it names")
	}
	h.size = size
	var buf [sector]byte
	for k, n := range dirty {
		if _, err := f.ReadAt(buf[:], at+int64(k)*sector); err != nil {
			return fmt.Errorf("reading a log: %w", err)
		}
		if err := h.write(n*sector, buf[:]); err != nil {
			return err
		}
	}
	h.takeBase(f, le32(f.base[:], 4), size)
	h.logs = 1
	return nil
}

// takeBase makes the log's base block the hive's own, as closed with a sequence
// number.
func (h *Hive) takeBase(f logFile, sequence, size uint32) {
	rest := slices.Clone(h.base[sector:])
	h.base = f.base
	copy(h.base[sector:], rest)
	h.putU32(28, primaryFile)
	h.putU32(4, sequence)
	h.putU32(8, sequence)
	h.putU32(40, size)
	h.putU32(508, checksum(h.base[:]))
	h.edited = true
}

// entry reads an entry of a new log and checks it: its head has to be right, and
// both its hashes.
func (f *logFile) entry(at int64) ([]byte, bool) {
	var head [logEntry]byte
	if at+logEntry > f.Size {
		return nil, false
	}
	if _, err := f.ReadAt(head[:], at); err != nil || string(head[:4]) != "HvLE" {
		return nil, false
	}
	size := le32(head[:], 4)
	if size < logEntry || size%sector != 0 || int64(size) > f.Size-at {
		return nil, false
	}
	whole := make([]byte, size)
	if _, err := f.ReadAt(whole, at); err != nil {
		return nil, false
	}
	if binary.LittleEndian.Uint64(whole[24:]) != marvin32(whole[logEntry:]) ||
		binary.LittleEndian.Uint64(whole[32:]) != marvin32(whole[:32]) {
		return nil, false
	}
	return whole, true
}

// applyNew applies the logs of the new format. A log whose entries go on where
// the other one's end comes second; entries older than the hive are skipped.
func (h *Hive) applyNew(logs []logFile, baseWhole bool) error {
	slices.SortFunc(logs, func(a, b logFile) int { return int(int32(a.first - b.first)) })
	var (
		want    uint32 // the sequence number that has to come next
		applied int
		last    logFile
		size    uint32
	)
	for _, f := range logs {
		for at := int64(sector); ; {
			e, ok := f.entry(at)
			if !ok {
				break
			}
			at += int64(len(e))
			number := le32(e, 12)
			if baseWhole && int32(number-h.u32(8)) < 0 && applied == 0 {
				continue
			}
			if applied > 0 && number != want {
				break
			}
			if err := h.applyEntry(e); err != nil {
				return err
			}
			last, size, want = f, le32(e, 16), number+1
			applied++
		}
	}
	if applied == 0 {
		return errors.New("its logs hold no entry that follows on it")
	}
	h.takeBase(last, want, size)
	h.logs = applied
	return nil
}

func (h *Hive) applyEntry(e []byte) error {
	size, count := le32(e, 16), int(le32(e, 20))
	if size%pageSize != 0 || size > maxBins || count > (len(e)-logEntry)/8 {
		return errors.New("a log's entry claims impossible sizes")
	}
	h.size = size
	data := e[logEntry+8*count:]
	for k := range count {
		at, n := le32(e, logEntry+8*k), le32(e, logEntry+8*k+4)
		if int64(n) > int64(len(data)) {
			return errors.New("a log's entry does not hold all pages that it names")
		}
		if err := h.write(at, data[:n]); err != nil {
			return err
		}
		data = data[n:]
	}
	return nil
}

// marvin32 is the hash that log entries are checked with, over the seed that
// Windows uses for them.
func marvin32(p []byte) uint64 { return marvin(0x82ef4d887a4e55c5, p) }

func marvin(seed uint64, p []byte) uint64 {
	lo, hi := uint32(seed), uint32(seed>>32)
	mix := func(v uint32) {
		lo += v
		hi ^= lo
		lo = lo<<20 | lo>>12
		lo += hi
		hi = hi<<9 | hi>>23
		hi ^= lo
		lo = lo<<27 | lo>>5
		lo += hi
		hi = hi<<19 | hi>>13
	}
	for ; len(p) >= 4; p = p[4:] {
		mix(binary.LittleEndian.Uint32(p))
	}
	final := uint32(0x80)
	for k := len(p) - 1; k >= 0; k-- {
		final = final<<8 | uint32(p[k])
	}
	mix(final)
	mix(0)
	return uint64(hi)<<32 | uint64(lo)
}
