package page

import (
	"fmt"
	"lockback/core/autostart"
	"lockback/core/figures"
	"lockback/core/machine"
	"lockback/core/snapshot"
	"lockback/internal/view"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Moment are the figures of one moment.
type Moment struct {
	Name    string           `json:"name"` // "S1" or "now"
	Time    time.Time        `json:"time"`
	Figures []figures.Figure `json:"figures"`
}

// FiguresDocument are the figures of several moments, in JSON.
type FiguresDocument struct {
	Machine Machine  `json:"machine"`
	Moments []Moment `json:"moments"`
}

// Figures shows the figures of several moments side by side.
func (w Writer) Figures(m *machine.Machine, moments []Moment) error {
	switch w.Format {
	case "json":
		return w.JSON(FiguresDocument{MachineOf(m), moments})
	case "csv":
		var rows [][]string
		for _, at := range moments {
			for _, f := range at.Figures {
				rows = append(rows, []string{at.Name, at.Time.Format(time.RFC3339), f.Name, strconv.FormatInt(f.Value,
					10), string(f.Unit), f.Basis})
			}
		}
		return w.CSV([]string{"moment", "time", "figure", "value", "unit", "basis"}, rows)
	}
	w.Line("%s", Heading(m))
	w.Line("")
	columns := []view.Column{{Title: "figure"}}
	taken := []view.Cell{view.T("taken")}
	for _, at := range moments {
		columns = append(columns, view.Column{Title: at.Name})
		taken = append(taken, view.T(autostart.Minute(at.Time)))
	}
	w.Table(columns, func(yield func([]view.Cell) bool) {
		if !yield(taken) {
			return
		}
		for _, n := range figures.Names {
			row := []view.Cell{view.T(n.Title)}
			any := false
			for _, at := range moments {
				f, ok := figures.Get(at.Figures, n.Name)
				any = any || ok
				row = append(row, view.T(figureWords(f, ok)))
			}
			if any && !yield(row) {
				return
			}
		}
	})
	w.Line("")
	w.Line("%s", comparable(moments))
	return nil
}

// figureWords is a figure as a person reads it.
func figureWords(f figures.Figure, known bool) string {
	if !known {
		return ""
	}
	switch f.Unit {
	case figures.KB:
		return fmt.Sprintf("%d MB", (f.Value+512)>>10)
	case figures.Milliseconds:
		if f.Value >= 600_000 {
			return time.Duration(f.Value * int64(time.Millisecond)).Round(time.Minute).String()
		}
		if f.Value < 1000 {
			return strconv.FormatInt(f.Value, 10) + " ms"
		}
		return strconv.FormatFloat(float64(f.Value)/1000, 'f', 1, 64) + " s"
	case figures.Hundredths:
		return strconv.FormatFloat(float64(f.Value)/100, 'f', 2, 64)
	case figures.Moment:
		return autostart.Minute(time.Unix(f.Value, 0))
	}
	return strconv.FormatInt(f.Value, 10)
}

// comparable says honestly what of the figures may be compared.
func comparable(moments []Moment) string {
	var running, resting []string
	var uptimes []int64
	starts := map[int64]bool{}
	timed := 0 // moments that know how long the last start took
	for _, m := range moments {
		if f, ok := figures.Get(m.Figures, "uptime"); ok {
			running = append(running, m.Name)
			uptimes = append(uptimes, f.Value)
		} else {
			resting = append(resting, m.Name)
		}
		if f, ok := figures.Get(m.Figures, "last-start"); ok {
			starts[f.Value] = true
		}
		if _, ok := figures.Get(m.Figures, "start"); ok {
			timed++
		}
	}
	took := ""
	switch {
	case timed < 2:
	case len(starts) == 1:
		took = " All are from the same start, so how long it took is one figure."
	default:
		took = " How long a start took can be compared."
	}
	switch {
	case len(running) == 0:
		return "The machine was not running when these were taken, so memory and processes are unknown." + took +
			" Only the number of enabled entries can be compared."
	case len(running) == 1:
		return fmt.Sprintf(
			"Only %s was taken while the machine ran, so memory and processes have nothing to be compared with.",
			running[0]) +
			took + " Only the number of enabled entries can be compared."
	}
	text := "Memory, processes and load depend on what was open, and on how long the machine had been running"
	if least, most := slices.Min(uptimes), slices.Max(uptimes); most > 2*least+60_000 {
		text += ": these were taken at different times after a start, so they say little"
	}
	text += "." + took
	if len(resting) > 0 {
		text += " " + strings.Join(resting, ", ") + ": the machine did not run."
	}
	return text
}

// Figure is a figure of two moments.
type Figure struct {
	Name string       `json:"name"`
	From int64        `json:"from"`
	To   int64        `json:"to"`
	Unit figures.Unit `json:"unit"`
}

// tellingFigures are the figures that a comparison names.
func tellingFigures(from, to []figures.Figure) (list []Figure, words string) {
	list = []Figure{}
	var parts []string
	for _, d := range figures.MostTelling(from, to) {
		list = append(list, Figure{d.From.Name, d.From.Value, d.To.Value, d.From.Unit})
		title := d.From.Name
		for _, n := range figures.Names {
			if n.Name == d.From.Name {
				title = n.Title
			}
		}
		parts = append(parts, title+" "+figureWords(d.From, true)+" → "+figureWords(d.To, true))
	}
	return list, strings.Join(parts, ", ")
}

// MomentOf are the figures that a snapshot recorded.
func MomentOf(snap *snapshot.Snapshot) Moment {
	return Moment{snap.Name(), snap.Time.UTC(), list(snap.Figures)}
}
