package view

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"lockback/core/autostart"
)

// Field is a field of an entry as text, for columns, sheets and sorting.
type Field struct {
	Name  string
	Value func(*autostart.Entry) string
}

// Fields are all fields, in the order of a sheet.
var Fields = []Field{
	{"handle", func(e *autostart.Entry) string { return e.Handle }},
	{"location", func(e *autostart.Entry) string { return e.Location }},
	{"place", func(e *autostart.Entry) string { return e.Place }},
	{"stage", func(e *autostart.Entry) string { return string(e.Stage) }},
	{"scope", func(e *autostart.Entry) string { return string(e.Scope) }},
	{"user", func(e *autostart.Entry) string { return e.User }},
	{"name", func(e *autostart.Entry) string { return e.Name }},
	{"system_name", func(e *autostart.Entry) string { return e.SystemName }},
	{"state", func(e *autostart.Entry) string { return string(e.State) }},
	{"mode", func(e *autostart.Entry) string { return e.Mode }},
	{"when", func(e *autostart.Entry) string { return e.When }},
	{"command", func(e *autostart.Entry) string { return e.Command }},
	{"target", func(e *autostart.Entry) string { return e.Target.Path }},
	{"target_exists", func(e *autostart.Entry) string {
		if e.Target.Exists == nil {
			return "unknown"
		}
		return strconv.FormatBool(*e.Target.Exists)
	}},
	{"target_size", func(e *autostart.Entry) string { return strconv.FormatInt(e.Target.Size, 10) }},
	{"target_modified", func(e *autostart.Entry) string {
		if e.Target.Modified.IsZero() {
			return ""
		}
		return e.Target.Modified.UTC().Format(time.RFC3339)
	}},
	{"commands", func(e *autostart.Entry) string {
		paths := make([]string, len(e.Commands))
		for k, c := range e.Commands {
			paths[k] = c.Path
		}
		return strings.Join(paths, "; ")
	}},
	{"maker", func(e *autostart.Entry) string { return e.Maker().Name }},
	{"maker_basis", func(e *autostart.Entry) string { return e.Maker().Basis }},
	{"product", func(e *autostart.Entry) string { return e.Facts().Product.Name }},
	{"product_version", func(e *autostart.Entry) string { return e.Facts().Product.Version }},
	{"product_installed", func(e *autostart.Entry) string { return e.Facts().Product.Installed }},
	{"description", func(e *autostart.Entry) string { return e.Facts().Description }},
	{"description_basis", func(e *autostart.Entry) string { return e.Facts().DescriptionBasis }},
	{"role", func(e *autostart.Entry) string { return e.Facts().RoleWord() }},
	{"verdict", func(e *autostart.Entry) string { return e.Facts().VerdictWord() }},
	{"verdict_basis", func(e *autostart.Entry) string { return e.Facts().VerdictBasis }},
	{"notes", func(e *autostart.Entry) string {
		var all []string
		for _, n := range e.Notes {
			what, who := NoteWords(n)
			all = append(all, what+" ("+who+")")
		}
		return strings.Join(all, "; ")
	}},
	{"cpu_ms", func(e *autostart.Entry) string {
		return costField(e, func(c *autostart.Cost) int64 { return c.CPUMS })
	}},
	{"memory_kb", func(e *autostart.Entry) string {
		return costField(e, func(c *autostart.Cost) int64 { return c.MemoryKB })
	}},
	{"disk_kb", func(e *autostart.Entry) string {
		return costField(e, func(c *autostart.Cost) int64 { return c.DiskKB })
	}},
	{"start_ms", func(e *autostart.Entry) string {
		return costField(e, func(c *autostart.Cost) int64 { return c.StartMS })
	}},
	{"start_basis", func(e *autostart.Entry) string {
		if e.Cost == nil {
			return ""
		}
		return e.Cost.StartBasis
	}},
	{"cost_basis", func(e *autostart.Entry) string {
		if e.Cost == nil {
			return ""
		}
		return e.Cost.Basis
	}},
	{"last_used", func(e *autostart.Entry) string {
		if e.LastUsed().IsZero() {
			return ""
		}
		return e.LastUsed().UTC().Format(time.RFC3339)
	}},
	{"os_part", func(e *autostart.Entry) string { return strconv.FormatBool(e.OSPart) }},
	{"os_basis", func(e *autostart.Entry) string { return e.OSBasis }},
	{"guarded", func(e *autostart.Entry) string { return e.Guarded }},
	{"caution", func(e *autostart.Entry) string { return e.Caution }},
	{"source", func(e *autostart.Entry) string { return e.Source.Path }},
	{"key", func(e *autostart.Entry) string { return e.Source.Key }},
	{"line", func(e *autostart.Entry) string { return strconv.Itoa(e.Source.Line) }},
	{"switch", func(e *autostart.Entry) string { return string(e.Switch) }},
	{"problems", func(e *autostart.Entry) string { return strings.Join(e.Problems, " ") }},
}

func costField(e *autostart.Entry, value func(*autostart.Cost) int64) string {
	if e.Cost == nil {
		return ""
	}
	return strconv.FormatInt(value(e.Cost), 10)
}

// CostWords are what a program costs, the most telling first, and where that comes from; empty
// where it is not known.
func CostWords(c *autostart.Cost) string {
	if c == nil {
		return ""
	}
	var words, all []string
	if c.StartMS > 0 {
		all = append(all, fmt.Sprintf("took %s s to start (%s)", seconds(c.StartMS), c.StartBasis))
	}
	if c.CPUMS > 0 {
		words = append(words, fmt.Sprintf("%s s of processor time", seconds(c.CPUMS)))
	}
	if c.MemoryKB > 0 {
		words = append(words, bytesOf(c.MemoryKB)+" of memory")
	}
	if c.DiskKB > 0 {
		words = append(words, bytesOf(c.DiskKB)+" read and written")
	}
	if len(words) == 0 && c.Basis != "" {
		words = []string{"nothing measurable"}
	}
	if len(words) > 0 {
		all = append(all, strings.Join(words, ", ")+" ("+c.Basis+")")
	}
	return strings.Join(all, ", ")
}

// CostFigures are what a program costs, in figures, what is felt most first.
func CostFigures(c *autostart.Cost) string { return strings.Join(costFigures(c, 1), ", ") }

// costFigures are these one by one. Processor time counts from so many milliseconds on.
func costFigures(c *autostart.Cost, leastCPU int64) []string {
	var all []string
	if c == nil {
		return all
	}
	if c.StartMS > 0 {
		all = append(all, seconds(c.StartMS)+" s of the start")
	}
	if c.CPUMS >= leastCPU {
		all = append(all, seconds(c.CPUMS)+" s of CPU")
	}
	if c.MemoryKB > 0 {
		all = append(all, bytesOf(c.MemoryKB)+" of memory")
	}
	if c.DiskKB > 0 {
		all = append(all, bytesOf(c.DiskKB)+" of disk")
	}
	return all
}

// seconds words milliseconds.
func seconds(ms int64) string {
	return strconv.FormatFloat(float64(ms)/1000, 'f', 1+btoi(ms < 1000), 64)
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// bytesOf words an amount of memory, in units of 1,024.
func bytesOf(kb int64) string {
	switch {
	case kb < 1024:
		return fmt.Sprintf("%d KB", kb)
	case kb < 10<<20:
		return fmt.Sprintf("%d MB", (kb+512)>>10)
	}
	return fmt.Sprintf("%d GB", (kb+512<<10)>>20)
}

// UseWords are when a program was last started by hand, by whom, and how often.
func UseWords(u autostart.Use) string {
	text := "last used on " + u.Last.UTC().Format(time.DateOnly)
	if u.User != "" {
		text += " by " + u.User
	}
	if u.Count > 0 {
		text += ", " + Number(u.Count, "time", "times") + " in all"
	}
	return text
}

// FieldNamed finds a field by its name.
func FieldNamed(name string) (Field, bool) {
	switch name { // what selectors call it, or what is no field of a sheet
	case "problem":
		name = "problems"
	case "program":
		name = "target"
	case "protected":
		name = "guarded"
	case Cost:
		return Field{Cost, func(e *autostart.Entry) string { return CostFigures(e.Cost) }}, true
	}
	k := slices.IndexFunc(Fields, func(f Field) bool { return f.Name == name })
	if k < 0 {
		return Field{}, false
	}
	return Fields[k], true
}

// Cost is what a program costs, in words: for columns and for sorting, but no field of a sheet.
const Cost = "cost"

// ColumnNames are the names by which columns are chosen and lists sorted.
func ColumnNames() []string { return append(FieldNames(), Cost) }

// FieldNames are the names of all fields of a sheet.
func FieldNames() []string {
	names := make([]string, len(Fields))
	for k, f := range Fields {
		names[k] = f.Name
	}
	return names
}
