package linux

import (
	"fmt"
	"path"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/location/unix"
	"lockback/core/machine"
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
		number := 0
		for line := range strings.Lines(string(content)) {
			number++
			words := strings.Fields(strings.TrimSuffix(strings.TrimSpace(line), "{"))
			if len(words) != 2 || words[0] != "service" {
				continue
			}
			head := strings.Join(words, " ")
			setting := part.Setting{File: f.Path, Head: head, Nth: nth[head]}
			nth[head]++
			get := func(key string) string {
				setting := setting
				setting.Key = key
				value, _ := setting.Value(content)
				return value
			}
			server, args := get("server"), get("server_args")
			item := named(words[1], strings.TrimSpace(server+" "+args), append([]string{server}, strings.Fields(args)...))
			if server == "" {
				item.Argv = nil // xinetd's own, or another machine's
			}
			item.State, item.When, item.Source = autostart.Enabled, "when something connects to "+words[1], autostart.Source{Path: f.Path, Line: number}
			setting.Key = "disable"
			item.Artifacts, item.Switcher = unix.Files(f.Path), xinetdSwitch{setting}
			switch id := get("id"); {
			case get("disable") == "yes":
				item.State, item.Mode = autostart.Disabled, "disable = yes"
			case disabled[words[1]] || id != "" && disabled[id]:
				item.State, item.Mode = autostart.Disabled, "in the list disabled of /etc/xinetd.conf"
				item.Switcher = location.NoSwitch{Why: "the list disabled of /etc/xinetd.conf has it; take it out there", Of: setting}
			}
			s.Add(fmt.Sprintf("%s\x00%s\x00%d", f.Key, head, setting.Nth), item)
		}
	})
}

// xinetdSwitch is the setting disable in the block of a service.
type xinetdSwitch struct{ part.Setting }

// Word is [autostart.StateValue].
func (xinetdSwitch) Word() autostart.Switch { return autostart.StateValue }

// Part is the setting.
func (x xinetdSwitch) Part() part.Part { return x.Setting }

// Plan sets it to yes or no, where it does not read so.
func (x xinetdSwitch) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	if want.User != nil {
		return nil, location.ErrNotPerUser
	}
	image, err := images.Image(x.In())
	if err != nil {
		return nil, err
	}
	if image.Kind != machine.Regular {
		return nil, fmt.Errorf("%w: %s is not a file", location.ErrNoSwitch, x.File)
	}
	line := "\tdisable\t\t= no"
	if want.State == autostart.Disabled {
		line = "\tdisable\t\t= yes"
	}
	set, ok := x.Set(image, line, want.Now)
	if !ok {
		return nil, fmt.Errorf("the service is no longer in %s; list again", x.File)
	}
	return []location.Edit{{Artifact: x.In(), Image: set}}, nil
}
