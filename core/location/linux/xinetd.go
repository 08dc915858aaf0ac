package linux

import (
	"fmt"
	"path"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/location/unix"
	"lockback/core/machine/artifact"
)

var xinetdDaemon = program{"xinetd", []string{"xinetd"}, []string{"xinetd.service"}}

// xinetdAccepts is the rule of includedir in xinetd.conf(5): no dots, and no names that end in a tilde.
func xinetdAccepts(name string) bool {
	return !strings.Contains(name, ".") && !strings.HasSuffix(name, "~")
}

// readXinetd reports the services of xinetd, each a block of xinetd.conf(5).
func readXinetd(s *location.Survey, places []location.Place) {
	disabled := map[string]bool{} // by a list of the defaults
	content, _ := s.ReadFile("/etc/xinetd.conf", 1<<20)
	if list, ok := (part.Setting{Head: "defaults", Key: "disabled"}).Value(content); ok {
		for _, name := range strings.Fields(list) {
			disabled[name] = true
		}
	}
	s.Each(places, func(f location.Found) {
		if f.Dir != "" && !xinetdAccepts(path.Base(f.Path)) {
			return
		}
		content, ok := s.File(f.Path)
		if !ok {
			return
		}
		nth := map[string]int{}
		for _, block := range xinetdBlocks(content) {
			name, get := strings.TrimPrefix(block.head, "service "), block.settings
			setting := part.Setting{File: f.Path, Head: block.head, Nth: nth[block.head], Key: "disable"}
			nth[block.head]++
			item := named(name, strings.TrimSpace(get["server"]+" "+get["server_args"]), append([]string{get["server"]},
				strings.Fields(get["server_args"])...))
			if get["server"] == "" {
				item.Argv = nil // xinetd's own, or another machine's
			}
			item.State, item.When, item.Source = autostart.Enabled, "when something connects to "+name,
				autostart.Source{Path: f.Path, Line: block.line}
			item.Artifacts, item.Switcher = unix.Files(f.Path), xinetdSwitch{setting}
			switch id := get["id"]; {
			case get["disable"] == "yes":
				item.State, item.Mode = autostart.Disabled, "disable = yes"
			case disabled[name] || id != "" && disabled[id]:
				item.State, item.Mode = autostart.Disabled, "in the list disabled of /etc/xinetd.conf"
				item.Switcher = location.NoSwitch{
					Why: "the list disabled of /etc/xinetd.conf has it; remove it there", Of: setting}
			}
			s.Add(fmt.Sprintf("%s\x00%s\x00%d", f.Key, block.head, setting.Nth), item)
		}
	})
}

// xinetdBlock is one service of a file: its head and line, and what is set in it.
type xinetdBlock struct {
	head     string
	line     int
	settings map[string]string
}

// xinetdBlocks are the services of a file, xinetd.conf(5).
func xinetdBlocks(content []byte) []xinetdBlock {
	var blocks []xinetdBlock
	inside, number := false, 0
	for line := range strings.Lines(string(content)) {
		number++
		line = strings.TrimSpace(line)
		words := strings.Fields(strings.TrimSuffix(line, "{"))
		switch key, value, sets := strings.Cut(line, "="); {
		case !inside && len(words) == 2 && words[0] == "service":
			blocks = append(blocks, xinetdBlock{strings.Join(words, " "), number, map[string]string{}})
			inside = true
		case line == "}":
			inside = false
		case inside && sets && !strings.HasPrefix(line, "#"):
			blocks[len(blocks)-1].settings[strings.TrimRight(strings.TrimSpace(key), "+-")] = strings.TrimSpace(value)
		}
	}
	return blocks
}

// xinetdSwitch is the setting disable in the block of a service.
type xinetdSwitch struct{ part.Setting }

// Word is [autostart.StateValue].
func (xinetdSwitch) Word() autostart.Switch { return autostart.StateValue }

// Part is the setting.
func (x xinetdSwitch) Part() part.Part { return x.Setting }

// Plan sets it to yes or no, where it does not read so.
func (x xinetdSwitch) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	edits, errs := x.PlanGroup(images, want, []location.Switcher{x})
	return edits, errs[0]
}

// Group is the file that the service stands in.
func (x xinetdSwitch) Group() artifact.Artifact { return x.In() }

// PlanGroup switches several services of the file.
func (x xinetdSwitch) PlanGroup(images location.Images, want location.Want, group []location.Switcher) ([]location.Edit,
	[]error) {
	return unix.InOnePass(images, want, x.In(), len(group), func(image artifact.Image) (artifact.Image, []error,
		error) {
		if image.Kind != artifact.Regular {
			return image, nil, fmt.Errorf("%w: %s is not a file", location.ErrNoSwitch, x.File)
		}
		line := "\tdisable\t\t= no"
		if want.State == autostart.Disabled {
			line = "\tdisable\t\t= yes"
		}
		settings := make([]part.Setting, len(group))
		for k, other := range group {
			settings[k] = other.(xinetdSwitch).Setting
		}
		set, there := part.SetAll(image, settings, line, want.Now)
		return set, unix.Gone(there, "the service is no longer in %s; list again", x.File), nil
	})
}
