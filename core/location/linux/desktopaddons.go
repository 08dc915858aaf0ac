package linux

import (
	"encoding/json"
	"path"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/gvdb"
	"lockback/core/format/inifile"
	"lockback/core/location"
	"lockback/core/location/unix"
)

// addOn is a kind of extension that a desktop loads from folders, each with a file that describes it.
type addOn struct {
	system, own []string // the folders of folders, below a home the own ones
	describes   string   // the file
	when        string
	why         string // it has no switch
	// on reports which of a user's are turned on.
	on func(s *location.Survey, home string) (map[string]bool, error)
}

// The extensions of GNOME Shell, of Cinnamon and of KDE's window manager.
var (
	shellExtensions = addOn{[]string{"/usr/share/gnome-shell/extensions", "/usr/local/share/gnome-shell/extensions"},
		[]string{".local/share/gnome-shell/extensions"}, "metadata.json", "loaded into GNOME Shell",
		"GNOME keeps what is turned on in its own database; gnome-extensions disable, or its settings, turn it off",
		gnomeExtensions}
	cinnamonExtensions = addOn{[]string{"/usr/share/cinnamon/extensions", "/usr/share/cinnamon/applets",
		"/usr/share/cinnamon/desklets"},
		[]string{".local/share/cinnamon/extensions", ".local/share/cinnamon/applets", ".local/share/cinnamon/desklets"},
		"metadata.json", "loaded into Cinnamon", "Cinnamon's own settings turn it off", cinnamonAddOns}
	kwinScripts = addOn{[]string{"/usr/share/kwin/scripts"}, []string{".local/share/kwin/scripts"}, "metadata.json",
		"loaded into KDE's window manager", "KDE's own settings, Window Management, turn it off", kwinPlugins}
)

// Word is [autostart.Report].
func (addOn) Word() autostart.Switch { return autostart.Report }

// Read reports the extensions: those of everyone as they are for the users who have turned them on.
func (a addOn) Read(s *location.Survey, _ []location.Place) {
	on := map[string][]string{} // an extension, to the users who have it on
	own := make([]map[string]bool, len(s.Machine.Users))
	for k := range s.Machine.Users {
		u := &s.Machine.Users[k]
		var err error
		if own[k], err = a.on(s, u.Home); err != nil {
			s.Skip(u.Home, err)
		}
		for id := range own[k] {
			on[id] = append(on[id], u.Name)
		}
	}
	for _, dir := range a.system {
		for _, e := range s.Dir(dir) {
			users := on[e.Name()]
			slices.Sort(users)
			item := a.item(s, path.Join(dir, e.Name()), e.Name(), len(users) > 0)
			if item == nil {
				continue
			}
			if len(users) > 0 {
				item.Mode = "on for " + namesOf(users)
			}
			s.Add(path.Join(dir, e.Name()), item)
		}
	}
	for k := range s.Machine.Users {
		u := &s.Machine.Users[k]
		for _, below := range a.own {
			dir := path.Join(u.Home, below)
			for _, e := range s.Dir(dir) {
				if item := a.item(s, path.Join(dir, e.Name()), e.Name(), own[k][e.Name()]); item != nil {
					item.User, item.For = autostart.Text(u.Name), u
					s.Add("~/"+path.Join(below, e.Name()), item)
				}
			}
		}
	}
}

// item is the item of one extension; nil if nothing describes one.
func (a addOn) item(s *location.Survey, dir, id string, on bool) *location.Item {
	file := path.Join(dir, a.describes)
	content, err := s.ReadFile(file, 1<<20)
	if err != nil {
		s.Skip(file, err)
		return nil
	}
	var about struct {
		Name    string `json:"name"`
		KPlugin struct{ Name string }
	}
	bad := json.Unmarshal(content, &about)
	item := named(about.Name+about.KPlugin.Name, "", nil)
	if item.Name == "" {
		item.Name = id
	}
	item.SystemName, item.When = id, a.when
	item.Source, item.Artifacts, item.Switcher = autostart.Source{Path: file}, unix.Files(file),
		location.NoSwitch{Why: a.why}
	item.State = autostart.Disabled
	if on {
		item.State = autostart.Enabled
	}
	if bad != nil {
		item.Problems = []string{autostart.Unparsable}
	}
	return item
}

// dconfOf is what a user has set in dconf; nil if nothing is.
func dconfOf(s *location.Survey, home string) (*gvdb.Table, error) {
	content, err := s.ReadFile(path.Join(home, ".config/dconf/user"), 16<<20)
	if err != nil {
		s.Skip(path.Join(home, ".config/dconf/user"), err)
		return nil, nil
	}
	if len(content) == 0 {
		return nil, nil
	}
	return gvdb.Parse(content)
}

// gnomeExtensions are what GNOME Shell loads: what is in the list of those turned on, and in no list of those
// turned off, unless all are turned off.
func gnomeExtensions(s *location.Survey, home string) (map[string]bool, error) {
	table, err := dconfOf(s, home)
	if table == nil {
		return nil, err
	}
	on := map[string]bool{}
	if all, _ := table.Bool("/org/gnome/shell/disable-user-extensions"); all {
		return on, nil
	}
	list, _ := table.Strings("/org/gnome/shell/enabled-extensions")
	off, _ := table.Strings("/org/gnome/shell/disabled-extensions")
	for _, id := range list {
		if !slices.Contains(off, id) {
			on[id] = true
		}
	}
	return on, nil
}

// cinnamonAddOns are what Cinnamon loads. Applets and desklets stand in their lists with their place, as
// panel1:left:0:name@maker:3 does.
func cinnamonAddOns(s *location.Survey, home string) (map[string]bool, error) {
	table, err := dconfOf(s, home)
	if table == nil {
		return nil, err
	}
	on := map[string]bool{}
	for _, key := range []string{"enabled-extensions", "enabled-applets", "enabled-desklets"} {
		list, _ := table.Strings("/org/cinnamon/" + key)
		for _, text := range list {
			for word := range strings.SplitSeq(text, ":") {
				on[word] = true
			}
		}
	}
	return on, nil
}

// kwinPlugins are the scripts that a user's settings of KWin turn on.
func kwinPlugins(s *location.Survey, home string) (map[string]bool, error) {
	content, err := s.ReadFile(path.Join(home, ".config/kwinrc"), 1<<20)
	if err != nil {
		s.Skip(path.Join(home, ".config/kwinrc"), err)
		return nil, nil
	}
	on := map[string]bool{}
	for _, section := range inifile.Parse(content) {
		for _, k := range section.Keys {
			if id, ok := strings.CutSuffix(k.Name, "Enabled"); ok && section.Name == "Plugins" && k.Value == "true" {
				on[id] = true
			}
		}
	}
	return on, nil
}
