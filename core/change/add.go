package change

import (
	"fmt"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine/artifact"
)

// Add plans to make an entry. It fails with the errors of [inventory.Make], and where the entry would be one that is
// there already.
func (e *Engine) Add(n location.New, inv inventory.Inventory) (Plan, error) {
	plan := Plan{Kind: Add, want: map[string]autostart.State{}, starts: map[string]string{},
		expect: func(string) Expected { return Expected{State: autostart.Enabled} }}
	if n.Now.IsZero() {
		n.Now = e.now()
	}
	made, err := inventory.Make(e.Machine, n)
	if err != nil {
		return plan, err
	}
	if made.Note != "" {
		plan.Warnings = append(plan.Warnings, made.Note)
	}
	handles := e.foresee(made)
	known := inv.ByHandle()
	for _, handle := range handles {
		if item := known[handle]; item != nil && !Taken(item) {
			return plan, fmt.Errorf("%w: %s (%s)", location.ErrExists, item.Name, handle)
		}
	}
	handle := handles[0]
	entry := &autostart.Entry{Handle: handle, Name: n.Name, Location: made.Location, User: made.User, Stage: n.Stage,
		Scope: autostart.ForSystem}
	if made.User != "" {
		entry.Scope = autostart.ForUser
	}
	plan.expect = func(string) Expected { return Expected{State: autostart.Enabled, Entry: entry} }
	d := e.newDraft()
	if err := e.make(d, &plan, made, handle); err != nil {
		return plan, err
	}
	for _, handle := range handles {
		plan.want[handle], plan.starts[handle] = autostart.Enabled, n.Argv[0]
		plan.Handles = append(plan.Handles, handle)
	}
	err = d.finish(&plan)
	plan.sortOutcomes()
	return plan, err
}

// foresee are the handles that a new entry will have, of which the first is the one that its steps are for: what is for
// everyone is listed for each user on a Mac. The location reads it as it would be, where that lies in files.
func (e *Engine) foresee(made location.Made) []string {
	images := map[artifact.Artifact]artifact.Image{}
	files := map[string]bool{}
	for _, edit := range made.Edits {
		images[edit.Artifact] = edit.Image
		files[edit.Artifact.Name] = edit.Artifact.Kind == artifact.FileArtifact
	}
	var handles []string
	for _, item := range inventory.With(e.Machine, images, made.Location) {
		if files[item.Source.Path] && item.State == autostart.Enabled {
			handles = append(handles, item.Handle)
		}
	}
	if len(handles) == 0 {
		return []string{made.Handle()}
	}
	return handles
}

// make takes what makes an entry into a plan.
func (e *Engine) make(d *draft, plan *Plan, made location.Made, handle string) error {
	edits, err := d.withContainers(made.Edits)
	for _, edit := range edits {
		if err == nil {
			if err = d.possible(edit.Artifact, edit.Image); err != nil {
				err = fmt.Errorf("%s: %w", autostart.Text(edit.Artifact.String()), err)
			}
		}
		if err == nil {
			err = d.set(edit.Artifact, edit.Image, handle)
		}
	}
	return err
}
