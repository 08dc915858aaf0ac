package cost

import (
	"bytes"
	"encoding/binary"
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"unicode/utf16"

	"lockback/core/autostart"
	"lockback/core/machine"
)

// traceFolder is where Windows writes down what each program used in the first minutes after a
// sign-in: a file for each user, NAME_StartupInfo.xml, of which it keeps several numbered ones.
const traceFolder = `\System32\wdi\LogFiles\StartupInfo`

// Bounds of a trace.
const (
	maxTrace     = 8 << 20 // bytes
	maxProcesses = 20_000
)

// startupTraces reads the newest trace of each user.
func (c *Costs) startupTraces(m *machine.Reader) {
	folder := m.Windows() + traceFolder
	entries, err := m.ReadDir(folder)
	if err != nil {
		return
	}
	newest := map[string]string{}
	times := map[string]int64{}
	for _, e := range entries {
		user, rest, ok := strings.Cut(e.Name(), "_StartupInfo")
		if !ok || !strings.HasSuffix(strings.ToLower(rest), ".xml") {
			continue
		}
		info, err := m.Stat(folder + `\` + e.Name())
		if err == nil && (newest[user] == "" || info.ModTime().UnixNano() > times[user]) {
			newest[user], times[user] = e.Name(), info.ModTime().UnixNano()
		}
	}
	for _, name := range newest {
		text, err := m.ReadFile(folder+`\`+name, maxTrace)
		if err != nil {
			continue
		}
		processes, err := ParseTrace(text)
		if err != nil {
			continue
		}
		seen := map[string]autostart.Cost{}
		for _, p := range processes {
			was := seen[c.fold(p.Program)]
			was.CPUMS += p.CPU / 1000
			was.DiskKB += p.Disk / 1024
			was.Basis = StartupTrace
			seen[c.fold(p.Program)] = was
		}
		for program, cost := range seen {
			// Of several users, the one whom it cost most.
			if was, ok := c.programs[program]; !ok || cost.CPUMS > was.CPUMS {
				c.programs[program] = cost
			}
		}
	}
}

// Process is one process of a trace.
type Process struct {
	Program string
	CPU     int64 // microseconds
	Disk    int64 // bytes
}

// ParseTrace reads a trace of a sign-in: XML, mostly in UTF-16, with an element Process for each
// process. It fails where it is no such file; what it does not know it skips.
func ParseTrace(text []byte) ([]Process, error) {
	d := xml.NewDecoder(bytes.NewReader(plainText(text)))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil } // it is UTF-8 by now
	var all []Process
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) && len(all) > 0 {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		start, ok := token.(xml.StartElement)
		if !ok || start.Name.Local != "Process" {
			continue
		}
		var p struct {
			Name string `xml:"Name,attr"`
			CPU  amount `xml:"CpuUsage"`
			Disk amount `xml:"DiskUsage"`
		}
		if err := d.DecodeElement(&p, &start); err != nil {
			return nil, err
		}
		if len(all) >= maxProcesses {
			return nil, errors.New("too many processes")
		}
		all = append(all, Process{p.Name, p.CPU.in(map[string]int64{"us": 1, "ms": 1000}),
			p.Disk.in(map[string]int64{"bytes": 1, "KB": 1024})})
	}
}

// amount is a number with its unit.
type amount struct {
	Units string `xml:"Units,attr"`
	Value int64  `xml:",chardata"`
}

// in is the amount in the smallest unit; 0 if the unit is not known, or the amount is none.
func (a amount) in(units map[string]int64) int64 {
	if a.Value < 0 || a.Value > 1<<50 {
		return 0
	}
	return a.Value * units[a.Units]
}

// plainText makes UTF-8 of a text that may be UTF-16 with its mark.
func plainText(text []byte) []byte {
	var order binary.ByteOrder
	switch {
	case bytes.HasPrefix(text, []byte{0xff, 0xfe}):
		order = binary.LittleEndian
	case bytes.HasPrefix(text, []byte{0xfe, 0xff}):
		order = binary.BigEndian
	default:
		return text
	}
	text = text[2:]
	units := make([]uint16, len(text)/2)
	for k := range units {
		units[k] = order.Uint16(text[2*k:])
	}
	return []byte(string(utf16.Decode(units)))
}
