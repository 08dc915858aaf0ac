package page

import (
	"lockback/core/autostart"
	"lockback/core/machine"
	"lockback/core/work"
	"lockback/internal/view"
	"strings"
	"time"
)

// Note is a note for scripts.
type Note struct {
	Handles   []string `json:"handles"`
	Name      string   `json:"name"`
	System    string   `json:"os"`
	KnownBy   string   `json:"known_by"`
	Proven    bool     `json:"proven"`
	Machine   string   `json:"machine"`
	Verdict   string   `json:"verdict"`
	Role      string   `json:"role"`
	Text      string   `json:"text"`
	By        string   `json:"by"`
	Time      string   `json:"time"`
	OfMachine bool     `json:"of_machine"`
}

// NotesDocument are notes, in JSON.
type NotesDocument struct {
	Notes   []Note `json:"notes"`
	Written bool   `json:"written"`
}

// WriteNotes tells notes, of a machine or, where that is nil, of all; done is what was done with them.
func (w Writer) WriteNotes(m *machine.Machine, notes []*work.Noted, done string, dryRun bool) error {
	docs := make([]Note, len(notes))
	for k, n := range notes {
		docs[k] = Note{Handles: list(n.Handles), Name: n.Name, System: n.Program.System, Machine: n.Machine,
			Verdict: n.Verdict, Role: n.Role, Text: n.Text, By: n.By, Time: n.Time.UTC().Format(time.RFC3339),
			OfMachine: n.Machine != ""}
		if n.Machine == "" {
			docs[k].KnownBy, docs[k].Proven = n.Program.String(), n.Program.Proven()
		}
	}
	switch w.Format {
	case "json":
		return w.JSON(NotesDocument{docs, done != "" && !dryRun})
	case "csv":
		rows := make([][]string, len(docs))
		for k, n := range docs {
			rows[k] = []string{strings.Join(n.Handles, " "), n.Name, n.System, n.KnownBy, n.Machine, n.Verdict, n.Role,
				n.Text, n.By, n.Time}
		}
		return w.CSV([]string{"handles", "name", "os", "known_by", "machine", "verdict", "role", "text", "by", "time"},
			rows)
	}
	if m != nil {
		w.Line("%s", Heading(m))
		w.Line("")
	}
	for k, n := range notes {
		if k > 0 {
			w.Line("")
		}
		what, who := view.NoteWords(autostart.Note{Text: n.Text, Verdict: n.Verdict, Role: n.Role, By: n.By,
			Time: n.Time, Proven: true})
		title := n.Name
		if len(n.Handles) > 0 {
			title += "  " + strings.Join(n.Handles, " ")
		}
		lines := [][]string{{what}, {"written " + who}}
		switch {
		case n.Machine != "" && m == nil:
			lines = append(lines, []string{"of the machine " + n.Machine + " only"})
		case n.Machine != "":
			lines = append(lines, []string{"of this machine's entry only"})
		default:
			lines = append(lines, []string{"found again by " + n.Program.String()})
		}
		if done == "noted" && n.Known {
			before, _ := view.NoteWords(autostart.Note{Text: n.Before.Text, Verdict: n.Before.Verdict,
				Role: n.Before.Role})
			lines = append(lines, []string{"before: " + before})
		}
		w.Block(title, lines)
	}
	if len(notes) > 0 {
		w.Line("")
	}
	text := autostart.Count(len(notes), "note", "notes")
	switch {
	case dryRun && done != "":
		text = "would be " + done + ": " + text + "; nothing was written"
	case done != "":
		text = done + ": " + text
	}
	w.Line("%s", text)
	return nil
}
