package autostart

import (
	"bytes"
	"encoding/json"
	"strconv"
	"time"
)

// MarshalJSON is the entry as docs/schema/list.schema.json defines it. A fact that is not known is
// empty.
func (e Entry) MarshalJSON() ([]byte, error) { return e.AppendJSON(nil), nil }

// AppendJSON appends what [Entry.MarshalJSON] makes, without a detour: thousands of entries
// are most of what a list prints.
func (e *Entry) AppendJSON(b []byte) []byte {
	known := e.Facts()
	str := func(name, value string) {
		b = append(append(append(b, '"'), name...), `":`...)
		b = append(appendString(b, value), ',')
	}
	last := func(name, value string) {
		b = append(append(append(b, '"'), name...), `":`...)
		b = append(appendString(b, value), `},`...)
	}
	b = append(b, '{')
	str("handle", e.Handle)
	str("location", e.Location)
	str("place", e.Place)
	str("stage", string(e.Stage))
	str("scope", string(e.Scope))
	str("user", e.User)
	str("name", e.Name)
	str("system_name", e.SystemName)
	str("state", string(e.State))
	str("mode", e.Mode)
	str("when", e.When)
	str("command", e.Command)
	b = append(b, `"target":{`...)
	str("path", e.Target.Path)
	b = appendExists(b, e.Target.Exists)
	if e.Target.Size != 0 {
		b = strconv.AppendInt(append(b, `,"size":`...), e.Target.Size, 10)
	}
	if !e.Target.Modified.IsZero() {
		b = append(e.Target.Modified.AppendFormat(append(b, `,"modified":"`...), time.RFC3339Nano), '"')
	}
	b = append(b, `},"commands":[`...)
	for k, c := range e.Commands {
		if k > 0 {
			b = append(b, ',')
		}
		b = append(b, '{')
		str("key", c.Key)
		str("line", c.Line)
		str("path", c.Path)
		b = append(appendExists(b, c.Exists), '}')
	}
	b = append(b, `],"maker":{`...)
	str("name", known.Maker.Name)
	last("basis", known.Maker.Basis)
	b = append(b, `"product":{`...)
	str("name", known.Product.Name)
	str("version", known.Product.Version)
	last("installed", known.Product.Installed)
	str("description", known.Description)
	str("description_basis", known.DescriptionBasis)
	str("role", known.RoleWord())
	str("verdict", known.VerdictWord())
	str("verdict_basis", known.VerdictBasis)
	b = append(strconv.AppendBool(append(b, `"os_part":`...), e.OSPart), ',')
	str("os_basis", e.OSBasis)
	str("guarded", e.Guarded)
	str("caution", e.Caution)
	b = append(b, `"source":{`...)
	str("path", e.Source.Path)
	str("key", e.Source.Key)
	b = append(strconv.AppendInt(append(b, `"line":`...), int64(e.Source.Line), 10), `},`...)
	str("switch", string(e.Switch))
	b = append(b, `"problems":[`...)
	for k, problem := range e.Problems {
		if k > 0 {
			b = append(b, ',')
		}
		b = appendString(b, problem)
	}
	b = append(b, `],"notes":[`...)
	for k, n := range e.Notes {
		if k > 0 {
			b = append(b, ',')
		}
		b = append(b, '{')
		str("text", n.Text)
		str("verdict", n.Verdict)
		str("role", n.Role)
		str("by", n.By)
		b = append(n.Time.UTC().AppendFormat(append(b, `"time":"`...), time.RFC3339), '"', ',')
		b = append(strconv.AppendBool(append(b, `"machine":`...), n.Machine), ',')
		b = append(strconv.AppendBool(append(b, `"proven":`...), n.Proven), '}')
	}
	b = append(b, `],"cost":`...)
	if c := e.Cost; c == nil {
		b = append(b, `null`...)
	} else {
		number := func(name string, value int64) {
			b = strconv.AppendInt(append(append(append(b, '"'), name...), `":`...), value, 10)
			b = append(b, ',')
		}
		b = append(b, '{')
		number("cpu_ms", c.CPUMS)
		number("memory_kb", c.MemoryKB)
		number("disk_kb", c.DiskKB)
		number("start_ms", c.StartMS)
		b = appendString(append(b, `"start_basis":`...), c.StartBasis)
		b = append(appendString(append(b, `,"basis":`...), c.Basis), '}')
	}
	if last := e.LastUsed(); last.IsZero() {
		b = append(b, `,"last_used":null}`...)
	} else {
		b = append(last.UTC().AppendFormat(append(b, `,"last_used":"`...), time.RFC3339), `"}`...)
	}
	return b
}

// appendExists appends whether a program is there, null if that cannot be known.
func appendExists(b []byte, exists *bool) []byte {
	b = append(b, `"exists":`...)
	if exists == nil {
		return append(b, `null`...)
	}
	return strconv.AppendBool(b, *exists)
}

// appendString appends a JSON string. Text that needs no escape is copied.
func appendString(b []byte, s string) []byte {
	simple := true
	for k := 0; k < len(s) && simple; k++ {
		simple = s[k] >= ' ' && s[k] <= '~' && s[k] != '"' && s[k] != '\\'
	}
	if simple {
		return append(append(append(b, '"'), s...), '"')
	}
	var text bytes.Buffer
	e := json.NewEncoder(&text)
	e.SetEscapeHTML(false)
	if err := e.Encode(s); err != nil {
		panic(err) // a string always encodes
	}
	return append(b, bytes.TrimSuffix(text.Bytes(), []byte("\n"))...)
}
