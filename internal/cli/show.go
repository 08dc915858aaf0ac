package cli

import (
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/internal/view"
)

func (a *app) showCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "show SELECTOR",
		Short:   "Show everything known of one entry",
		Long:    "Show everything known of one entry, where each fact comes from, and every\nartifact that decides it with its present state.",
		Example: "  lockback show k7f3qa2\n  lockback show 'Fogbell Sync' user=ines",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, words []string) error {
			return a.look(func(m *machine.Machine, inv inventory.Inventory) error {
				c, sel, err := choose(inv, words, true)
				if err == nil {
					err = exact(c, sel)
				}
				if err != nil {
					return err
				}
				if len(c.items) > 1 {
					return usage("%d entries match; show takes one: %s and %s are among them", len(c.items), c.items[0].Handle, c.items[1].Handle)
				}
				return a.show(m, c.items[0])
			})
		},
	}
}

// factJSON is one thing known of an entry.
type factJSON struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	Basis string `json:"basis"`
}

type artifactJSON struct {
	Artifact string `json:"artifact"`
	Image    string `json:"image"`
}

func (a *app) show(m *machine.Machine, item *location.Item) error {
	var facts []factJSON
	if item.Facts != nil {
		for _, f := range item.Facts() {
			facts = append(facts, factJSON{f.Name, autostart.Text(f.Value), autostart.Text(f.Basis)})
		}
	}
	var artifacts []artifactJSON
	for _, art := range item.Artifacts() {
		text := ""
		if i, err := m.Image(art); err != nil {
			text = "not readable: " + machine.Reason(err)
		} else {
			text = i.String()
		}
		artifacts = append(artifacts, artifactJSON{autostart.Text(art.Name), autostart.Text(text)})
	}
	p := a.printer()
	e := item.Entry
	rows := [][3]string{
		{"handle", e.Handle, ""}, {"name", e.Name, ""}, {"state", string(e.State), e.Location}, {"mode", e.Mode, "the system's own word"},
		{"stage", string(e.Stage), ""}, {"for", forWhom(e), ""}, {"command", e.Command, place(e)},
		{"program", program(e), "looked up on the machine"}, {"maker", e.Maker.Name, e.Maker.Basis}, {"switch", string(e.Switch), ""}, {"takes effect", item.Effect, ""},
		{"guarded", e.Guarded, "catalogue"},
	}
	for _, problem := range e.Problems {
		rows = append(rows, [3]string{"problem", problem, ""})
	}
	for _, f := range facts {
		rows = append(rows, [3]string{f.Name, f.Value, f.Basis})
	}
	switch a.format {
	case "json":
		return p.JSON(struct {
			Machine   machineJSON     `json:"machine"`
			Entry     autostart.Entry `json:"entry"`
			Facts     []factJSON      `json:"facts"`
			Artifacts []artifactJSON  `json:"artifacts"`
		}{describe(m), e, notNil(facts), notNil(artifacts)})
	case "csv":
		var sheet [][]string
		for _, r := range rows {
			if r[1] != "" {
				sheet = append(sheet, r[:])
			}
		}
		for _, art := range artifacts {
			sheet = append(sheet, []string{"artifact", art.Artifact, art.Image})
		}
		return p.CSV([]string{"fact", "value", "basis"}, sheet)
	}
	p.Bold(e.Name)
	var cells [][]view.Cell
	for _, r := range rows {
		if r[1] != "" {
			mark := view.Plain
			if r[0] == "problem" || r[0] == "guarded" {
				mark = view.Alert
			}
			cells = append(cells, []view.Cell{view.T(r[0]), {Lines: []string{r[1]}, Mark: mark}, {Lines: []string{r[2]}, Mark: view.Quiet}})
		}
	}
	p.Table([]view.Column{{Title: "fact"}, {Title: "value", Share: 3}, {Title: "from", Share: 2}}, slices.Values(cells))
	p.Line("")
	p.Bold("Decided by")
	present, absent := artifactRows(artifacts)
	p.Table([]view.Column{{Title: "artifact", Share: 3}, {Title: "now", Share: 2}}, slices.Values(present))
	if absent > 0 {
		p.Line("and by the absence of %s that could override it (--format json lists them)", view.Number(absent, "file or folder", "files and folders"))
	}
	return nil
}

// artifactRows leaves out what is not there: a machine with many users has many
// places where an override could be.
func artifactRows(artifacts []artifactJSON) (present [][]view.Cell, absent int) {
	for _, art := range artifacts {
		if art.Image == "absent" {
			absent++
			continue
		}
		present = append(present, []view.Cell{view.T(art.Artifact), view.T(art.Image)})
	}
	return present, absent
}

func place(e autostart.Entry) string {
	if e.Source.Line > 0 {
		return fmt.Sprintf("%s, line %d", e.Source.Path, e.Source.Line)
	}
	return e.Source.Path
}

func program(e autostart.Entry) string {
	switch {
	case e.Target.Path == "":
		return "cannot be told without running a shell"
	case e.Target.Exists == nil:
		return e.Target.Path + " (not known whether it is there)"
	case !*e.Target.Exists:
		return e.Target.Path + " (is missing)"
	}
	return fmt.Sprintf("%s (%d bytes of %s)", e.Target.Path, e.Target.Size, e.Target.Modified.Format(time.DateTime))
}
