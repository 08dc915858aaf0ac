package inventory

import (
	"path"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/identify"
	"lockback/core/location"
	"lockback/core/location/linux"
	"lockback/core/location/macos"
	"lockback/core/location/table"
	"lockback/core/location/windows"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
)

// SideEffect is what becomes of an entry that a plan does not name: a unit that nothing starts any more, a crontab
// whose cron is off.
type SideEffect struct {
	Item    *location.Item
	Becomes autostart.State // empty if it is no longer listed
	// Because says why it becomes so, in words; empty if nothing else starts it.
	Because string
}

// SideEffects tells what else changes with some images, besides the entries that are named: the locations are read
// once more, with these in place of what the files have. It is known about Linux, where units start each other and
// daemons act on the tables of others, and for the classes that Windows' Explorer is set not to load; elsewhere no
// entry depends on another one.
func (inv Inventory) SideEffects(images map[artifact.Artifact]artifact.Image, named []string) []SideEffect {
	if inv.Machine.OS == "windows" {
		return inv.blocked(images, named)
	}
	after := inv.readAgain(images)
	chosen := make(map[string]bool, len(named))
	for _, h := range named {
		chosen[h] = true
	}
	var effects []SideEffect
	for _, item := range inv.Items {
		now, read := after[item.Handle]
		switch {
		case chosen[item.Handle] || !read:
		case now == nil && item.State == autostart.Enabled:
			effects = append(effects, SideEffect{Item: item})
		case now != nil && now.State != item.State:
			effects = append(effects, SideEffect{Item: item, Becomes: now.State, Because: now.Because()})
		}
	}
	return effects
}

// Foreseen are the states in which some images leave entries, where that is more than their own switches say; empty of
// those that would no longer be listed. It knows what [Inventory.SideEffects] knows of units and of what daemons act
// on.
func (inv Inventory) Foreseen(images map[artifact.Artifact]artifact.Image) map[string]autostart.State {
	states := map[string]autostart.State{}
	for h, item := range inv.readAgain(images) {
		states[h] = ""
		if item != nil {
			states[h] = item.State
		}
	}
	return states
}

// readAgain reads the entries that others start, or that daemons act on, with some images in place of what the files
// have; nil are those that are listed now and would not be then. It reads nothing where no image is of systemd's: only
// there a change can have others start, or not.
func (inv Inventory) readAgain(images map[artifact.Artifact]artifact.Image) map[string]*location.Item {
	units := false
	for a := range images {
		units = units || strings.Contains(a.Name, "/systemd/")
	}
	if inv.Machine.OS != "linux" || !units {
		return nil
	}
	reader := inv.Machine.Reader(nil)
	planned := reader.Planned(images)
	var again []location.Location
	rows := table.Of(inv.Machine.OS)
	before, then := location.Idle(reader, reader, rows), location.Idle(planned, reader, rows)
	for k, l := range rows {
		if l.Kind.IsUnit() || l.Kind == location.ManagerHook || !slices.Equal(before[k], then[k]) {
			again = append(again, l)
		}
	}
	after := map[string]*location.Item{}
	for _, item := range inv.Items {
		if slices.ContainsFunc(again, func(l location.Location) bool { return l.ID == item.Location }) {
			after[item.Handle] = nil
		}
	}
	items, _, _ := location.RunOn(planned, reader, again)
	for _, item := range items {
		after[item.Handle] = item
	}
	return after
}

// StillThere tells which of some entries would still be found with some images, before anything is written, and what
// else would be gone, or in another state. Of what is not kept in files it tells nothing.
func (inv Inventory) StillThere(images map[artifact.Artifact]artifact.Image, named []string) (still map[string]bool,
	others []SideEffect) {
	still = map[string]bool{}
	if inv.Machine.OS == "windows" {
		return still, nil
	}
	reader := inv.Machine.Reader(nil)
	chosen := make(map[string]bool, len(named))
	for _, h := range named {
		chosen[h] = true
	}
	// What is read without them is compared, not the inventory itself: that has entries of other sources, too.
	now, _, _ := location.RunOn(reader, reader, table.Of(inv.Machine.OS))
	items, _, _ := location.RunOn(reader.Planned(images), reader, table.Of(inv.Machine.OS))
	then := make(map[string]*location.Item, len(items))
	for _, item := range items {
		then[item.Handle] = item
	}
	for _, item := range now {
		other := then[item.Handle]
		switch {
		case chosen[item.Handle]:
			if other != nil {
				still[item.Handle] = true
			}
		case other == nil:
			others = append(others, SideEffect{Item: item})
		case other.State != item.State:
			others = append(others, SideEffect{Item: item, Becomes: other.State, Because: other.Because()})
		}
	}
	return still, others
}

// With reads the entries of one location as they would be with some images. Of what is not kept in files it reads
// nothing.
func With(m *machine.Machine, images map[artifact.Artifact]artifact.Image, id string) []*location.Item {
	if m.OS == "windows" {
		return nil
	}
	reader := m.Reader(nil)
	rows := slices.DeleteFunc(table.Of(m.OS), func(l location.Location) bool { return l.ID != id })
	items, _, _ := location.RunOn(reader.Planned(images), reader, rows)
	return items
}

// StartsOthers reports whether a program only starts others, so that an entry's program is what it starts: a shell, for
// example.
func StartsOthers(program string) bool { return identify.StartsOthers(program) }

// makers make new entries on each operating system.
var makers = map[string]func(*machine.Reader, location.New) (location.Made, error){"linux": linux.Add,
	"windows": windows.Add, "macos": macos.Add}

// Make says how a new entry is made on a machine.
func Make(m *machine.Machine, n location.New) (location.Made, error) {
	return makers[m.OS](m.Reader(nil), n)
}

// ArgumentsOf are the program of an entry, as its machine names it, and its arguments; ok is false where only a shell,
// or the running system, could tell them. An inventory no longer has them, so the location is read once more.
func ArgumentsOf(m *machine.Machine, entry *location.Item) (argv []string, ok bool) {
	reader := m.Reader(nil)
	rows := slices.DeleteFunc(table.Of(m.OS), func(l location.Location) bool { return l.ID != entry.Location })
	items, _, _ := location.RunOn(reader, reader, rows)
	for _, item := range items {
		if item.Handle != entry.Handle || entry.Target.Path == "" {
			continue
		}
		switch {
		case m.OS == "windows":
			program, rest := Invocation(m, item)
			args := windows.Arguments(rest)
			// A program that starts others reads its line in a way of its own.
			return append([]string{program}, args...), program != "" && (!identify.StartsOthers(program) ||
				windows.CommandLine(args) == rest)
		case len(item.Argv) == 0 || item.HandedOver():
			return nil, false
		case item.Kind().IsUnit() && strings.Contains(strings.Join(item.Argv, ""), "$"):
			return nil, false // a variable of the unit's own
		case path.IsAbs(item.Argv[0]):
			return item.Argv, true
		}
		argv = append([]string{entry.Target.Path}, item.Argv[1:]...)
		return argv, path.Base(item.Argv[0]) == path.Base(entry.Target.Path)
	}
	return nil, false
}

// Invocation parts the command line of an entry of Windows: the program that it starts itself, and the rest of the line
// as it stands. The program is empty if that is not sure, and elsewhere than on Windows.
func Invocation(m *machine.Machine, entry *location.Item) (program, rest string) {
	if m.OS != "windows" {
		return "", ""
	}
	program, rest, ok := identify.Invocation(m.Reader(nil), entry)
	if !ok {
		return "", ""
	}
	return program, rest
}

// blocked tells which other entries are of a class that a plan has Explorer load no more, or load again: the list
// of those is about classes, wherever they are named.
func (inv Inventory) blocked(images map[artifact.Artifact]artifact.Image, named []string) []SideEffect {
	becomes := map[string]autostart.State{}
	for a, image := range images {
		if key, class := a.Value(); a.Kind == artifact.ValueArtifact && strings.HasSuffix(strings.ToLower(key),
			`\shell extensions\blocked`) {
			becomes[strings.ToLower(class)] = autostart.Disabled
			if image.Kind == artifact.Absent {
				becomes[strings.ToLower(class)] = autostart.Enabled
			}
		}
	}
	var effects []SideEffect
	for _, item := range inv.Items {
		if item.Kind() != location.ClassExtension || slices.Contains(named, item.Handle) {
			continue
		}
		state, ok := becomes[strings.ToLower(item.Source.Key)]
		if ok && state != item.State && (state == autostart.Disabled || item.Blocked) {
			effects = append(effects, SideEffect{Item: item, Becomes: state,
				Because: "its class is blocked for all of its extensions"})
		}
	}
	return effects
}
