package linux

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/unitfile"
	"lockback/core/location"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/parallel"
)

// startable are the kinds of units that start programs by themselves, with the
// stage they do it in (empty: the location's own).
var startable = map[string]autostart.Stage{
	".service": "", ".socket": autostart.Event, ".path": autostart.Event, ".timer": autostart.Schedule,
}

func readSystemUnits(s *location.Survey) {
	set := loadUnits(s, systemUnits, systemUnitFiles(s))
	addUnits(s, set, set.names(), nil)
	skipImages(s)
}

func readUserUnits(s *location.Survey) {
	parsed := newParsedFiles()
	everyone := loadUnits(s, userUnits, parsed)
	addUnits(s, everyone, everyone.names(), nil)
	for _, u := range s.Machine.Users {
		p := userUnits.forHome(u.Home)
		own := false
		for _, dir := range []string{".config/systemd/user", ".config/systemd/user.control",
			".local/share/systemd/user"} {
			_, err := s.Stat(path.Join(u.Home, dir))
			s.Skip(path.Join(u.Home, dir), err)
			own = own || err == nil
		}
		if !own {
			continue
		}
		set := loadUnits(s, p, parsed)
		theirs := slices.DeleteFunc(set.names(), func(name string) bool { return !set.ownedBy(name, u.Home) })
		s.Adjusting(lingering(s, u), func(s *location.Survey) { addUnits(s, set, theirs, &u) })
	}
}

// ownedBy reports whether a file or link of the unit lies in the home: only then
// is it an entry of that user's and not everyone's.
func (set *unitSet) ownedBy(name, home string) bool {
	inHome := func(file string) bool { return strings.HasPrefix(file, home+"/") }
	return slices.ContainsFunc(set.sources[name], func(u unitSource) bool { return inHome(u.path) }) ||
		slices.ContainsFunc(set.byUnit[name], func(l unitLink) bool {
			return inHome(l.path) &&
				(l.name == name || l.dest() == name)
		})
}

// names lists the units that can be entries, in the order of names: those with a
// file, and the instances that links name. Aliases are not units of their own.
func (set *unitSet) names() []string {
	var names []string
	seen := map[string]bool{}
	add := func(name string) {
		if _, ok := startable[unitfile.Suffix(name)]; ok && !seen[name] && !unitfile.IsTemplate(name) {
			seen[name] = true
			names = append(names, name)
		}
	}
	for name := range set.sources {
		if _, alias := set.aliases[name]; !alias {
			add(name)
		}
	}
	for _, l := range set.links {
		if real := set.real(l.name); l.kind != "" && l.target != "/dev/null" {
			add(real)
		}
	}
	for name := range set.reached {
		add(name)
	}
	slices.Sort(names)
	return names
}

// addUnits reports units. They are looked at side by side and reported in order.
func addUnits(s *location.Survey, set *unitSet, names []string, user *account.User) {
	items := make([]*location.Item, len(names))
	parallel.Each(len(names), func(k int) { items[k] = set.item(s, names[k], user) })
	for k, item := range items {
		if item != nil {
			s.Add(names[k], item)
		}
	}
}

// item describes one unit, if something starts it, started it, or could.
func (set *unitSet) item(s *location.Survey, name string, user *account.User) *location.Item {
	mode := set.mode(name)
	by := set.pulledBy(name, nil)
	state := autostart.Disabled
	source, found := set.source(name, false)
	switch {
	case !found && !slices.ContainsFunc(set.byUnit[name], func(l unitLink) bool {
		return l.kind != "" &&
			l.name == name
	}):
		return nil // named as a dependency, and not installed
	case (mode == "generated" || mode == "enabled-runtime") && set.ofScript(name):
		return nil // an entry of its own, where the script is
	case strings.HasPrefix(mode, "masked"):
	case len(by) > 0, strings.HasPrefix(mode, "enabled") && set.aliased(name):
		state = autostart.Enabled
	case (mode == "static" || mode == "transient" || mode == "indirect") && !set.install(name).any():
		return nil // only ever started by something else
	}
	item := &location.Item{
		Entry: autostart.Entry{Name: name, Stage: startable[unitfile.Suffix(name)], State: state, Mode: mode},
	}
	if user != nil {
		item.User = autostart.Text(user.Name)
	}
	if !found {
		// A link is left of a unit that is gone.
		link := set.byUnit[name][slices.IndexFunc(set.byUnit[name], func(l unitLink) bool {
			return l.kind != "" &&
				l.name == name
		})]
		item.Source.Path, item.Mode, item.State = link.path, "not-found", autostart.Disabled
		item.Problems = []string{autostart.TargetMissing}
		if why := otherInit(s); why != "" { // it was left when systemd went
			item.Problems = []string{autostart.Ignored}
		}
	}
	sw := newUnitSwitch(set, name, user)
	item.Switcher = sw
	below, ok := set.source(name, true)
	if ok {
		source = below
	}
	if found {
		item.Source.Path = source.path
	}
	f, dropIns := set.file(name)
	started := set.describe(name, f, item)
	item.When = when(name, f)
	if events := eventsOf(by); item.When == "" && events != "" {
		item.Stage, item.When = autostart.Event, "with "+events
	}
	if len(by) == 0 && item.When == "" && state == autostart.Enabled {
		item.Stage, item.When = autostart.Event, "when something asks for it as "+
			strings.Join(set.install(name).aliases, ", ")
	}
	item.Facts = func() []location.Fact { return append(set.facts(name, f, by, dropIns), signsIn(s, name)...) }

	if script := path.Join("/etc/init.d", strings.TrimSuffix(name, ".service")); !ok &&
		strings.HasPrefix(mode, "masked") && strings.HasPrefix(item.Source.Path, "/etc/") {
		for _, script := range []string{script, script + ".sh"} {
			if has(s, script) { // a package masks what it has a script of
				item.Argv, item.ProgramDecides = []string{script}, true
			}
		}
	}

	item.Artifacts = func() []artifact.Artifact { return sw.artifacts(s, source, found, started, dropIns) }
	item.Handle = s.Handle(item.User, name)
	return item
}

// ofScript reports whether a generator made the unit of what has an entry of its own: a script of runlevels, a quadlet,
// a sign-in entry, rc.local.
func (set *unitSet) ofScript(name string) bool {
	f, _ := set.file(name)
	runs, source := f.Last("Service", "ExecStart"), f.Last("Unit", "SourcePath")
	return strings.HasPrefix(source, "/etc/init.d/") || strings.Contains(source, "/containers/systemd/") ||
		strings.HasSuffix(source, ".desktop") || strings.HasPrefix(runs, "/etc/rc.local ") ||
		strings.HasPrefix(runs, "/etc/rc.d/rc.local ")
}

// eventTargets are the targets that something else than the start of the machine or of a session
// starts, systemd.special(7), without their ending.
var eventTargets = map[string]bool{"suspend": true, "hibernate": true, "hybrid-sleep": true,
	"suspend-then-hibernate": true, "sleep": true,
	"shutdown": true, "reboot": true, "poweroff": true, "halt": true, "kexec": true, "soft-reboot": true, "final": true,
	"umount": true, "exit": true,
	"rescue": true, "emergency": true, "system-update": true, "system-update-pre": true, "ctrl-alt-del": true,
	"kbrequest": true, "sigpwr": true, "factory-reset": true,
	"printer": true, "bluetooth": true, "smartcard": true, "sound": true, "usb-gadget": true,
	"storage-target-mode": true,
	"initrd":              true, "initrd-fs": true, "initrd-root-device": true, "initrd-root-fs": true,
	"initrd-usr-fs": true, "initrd-switch-root": true}

// eventsOf names what starts a unit, where that are events alone.
func eventsOf(by []string) string {
	for _, name := range by {
		if bare, ok := strings.CutSuffix(name, ".target"); !ok || !eventTargets[bare] {
			return ""
		}
	}
	return strings.Join(by, ", ")
}

// artifacts lists what decides the unit: its files and drop-ins, what it
// triggers, the links that start it, those its [Install] section would make, and
// the masks that would switch it off for everyone or for one user.
func (sw unitSwitch) artifacts(s *location.Survey, source unitSource, found bool, started string,
	dropIns []string) []artifact.Artifact {
	var list []artifact.Artifact
	set, name := sw.set, sw.name
	listed := map[string]bool{}
	artifact := func(files ...string) {
		for _, file := range files {
			if !listed[file] {
				listed[file] = true
				list = append(list, artifact.File(file))
			}
		}
	}
	for _, u := range set.sources[name] {
		artifact(u.path)
	}
	if found {
		artifact(source.path)
		if source.link != "" && sw.user == nil {
			// What a user's own link leads to is looked at, and never written.
			if full, err := s.Reach(source.path, true); err == nil {
				artifact(full)
			}
		}
	}
	artifact(dropIns...)
	if started != name {
		if u, ok := set.source(started, true); ok {
			artifact(u.path)
		}
	}
	for _, l := range set.byUnit[name] {
		if l.kind != "" && (l.name == name || set.real(l.name) == name) || l.kind == "" && l.dest() == name {
			artifact(l.path)
		}
	}
	for _, l := range sw.wanted() {
		artifact(path.Dir(l), l)
	}
	artifact(path.Dir(sw.maskAt), sw.maskAt)
	if sw.user == nil && set.path.control == "" {
		for _, u := range s.Machine.Users {
			mask := path.Join(u.Home, ".config/systemd/user", name)
			artifact(path.Join(u.Home, ".config"), path.Join(u.Home, ".config/systemd"), path.Dir(mask), mask)
		}
	}
	if sw.user != nil {
		artifact(path.Dir(path.Dir(sw.maskAt)))
	}
	return list
}

// aliased reports whether the unit is enabled by another name that its [Install]
// section asks for. That is what enables a unit that no dependency does; of a
// dependency that leads to /dev/null, systemctl also says enabled, but it starts
// nothing.
func (set *unitSet) aliased(name string) bool {
	aliases := set.install(name).aliases
	return slices.ContainsFunc(set.byUnit[name], func(l unitLink) bool {
		dir := set.dirs[l.dir]
		return l.kind == "" && l.dest() == name && slices.Contains(aliases, l.name) &&
			(dir == set.path.config || dir == set.path.global || strings.HasPrefix(dir, "/run/"))
	})
}

// describe fills in what the unit starts, itself or through the unit that it
// triggers, and returns that unit.
func (set *unitSet) describe(name string, f unitfile.File, item *location.Item) string {
	started, own := name, f
	if key, ok := map[string]string{".timer": "Timer", ".path": "Path",
		".socket": "Socket"}[unitfile.Suffix(name)]; ok {
		field := "Unit"
		if key == "Socket" {
			field = "Service"
		}
		if started = unitfile.Expand(f.Last(key, field), name); started == "" {
			bare := strings.TrimSuffix(name, unitfile.Suffix(name))
			started = bare + ".service"
			if key == "Socket" && (f.Last(key, "Accept") == "yes" || f.Last(key, "Accept") == "true") {
				started = bare + "@.service"
			}
		}
		started = set.real(started)
		f, _ = set.file(started)
	}
	commands := unitCommands(f, "Service", started)
	if unitfile.Suffix(name) == ".socket" {
		commands = append(commands, unitCommands(own, "Socket", name)...)
	}
	if len(commands) == 0 {
		return started
	}
	main := slices.IndexFunc(commands, func(l location.Line) bool { return l.Key == "ExecStart" })
	main = max(main, 0)
	item.Command, item.Argv = commands[main].Text, commands[main].Argv
	if len(commands) > 1 {
		item.Lines = slices.Delete(commands, main, main+1)
	}
	return started
}

// execKeys are the keys whose commands a unit runs, in the order in which it runs them, systemd.service(5) and
// systemd.socket(5).
var execKeys = []string{"ExecCondition", "ExecStartPre", "ExecStart", "ExecStartPost", "ExecReload", "ExecStop",
	"ExecStopPre", "ExecStopPost"}

// unitCommands are all commands of a section of a unit, its drop-ins merged.
func unitCommands(f unitfile.File, section, name string) []location.Line {
	var all []location.Line
	for _, key := range execKeys {
		for _, text := range f.All(section, key) {
			text = unitfile.Expand(text, name)
			for _, argv := range unitfile.SplitCommands(text) {
				all = append(all, location.Line{Key: key, Text: text, Argv: argv})
			}
		}
	}
	return all
}

// facts tells a person how the unit is started.
func (set *unitSet) facts(name string, f unitfile.File, by, dropIns []string) []location.Fact {
	var facts []location.Fact
	add := func(name, value, basis string) {
		if value != "" {
			facts = append(facts, location.Fact{Name: name, Value: value, Basis: basis})
		}
	}
	if description := f.Last("Unit", "Description"); description != "" {
		facts = append(facts, location.Fact{Kind: autostart.FactDescription, Value: description, Basis: "unit file"})
	}
	add("started by", strings.Join(by, ", "), "links and dependency keys")
	for _, key := range []struct{ section, key, name string }{
		{"Timer", "OnCalendar", "schedule"}, {"Timer", "OnBootSec", "after start of the machine"},
		{"Timer", "OnUnitActiveSec", "again after"},
		{"Socket", "ListenStream", "listens on"}, {"Path", "PathExists", "when there is"}, {"Path", "PathChanged",
			"when it changes"},
		{"Service", "Restart", "restarted"}, {"Service", "User", "runs as"},
	} {
		add(key.name, strings.Join(f.All(key.section, key.key), ", "), key.key+"=")
	}
	add("changed by", strings.Join(dropIns, ", "), "drop-ins")
	add("preset", set.preset(name), "preset files")
	var triggers []string
	for _, suffix := range []string{".timer", ".socket", ".path"} {
		other := strings.TrimSuffix(name, unitfile.Suffix(name)) + suffix
		if _, ok := set.sources[other]; ok && other != name && unitfile.Suffix(name) == ".service" {
			triggers = append(triggers, other)
		}
	}
	add("can also be started by", strings.Join(triggers, ", "), "units of the same name")
	return facts
}

// unitSwitch enables and disables a unit by links, as systemctl does.
type unitSwitch struct {
	set    *unitSet
	name   string
	user   *account.User // whose manager it is; nil for everyone's
	links  []string      // what an administrator's enabling has made
	pulled bool          // it still starts without them
	maskAt string
}

func newUnitSwitch(set *unitSet, name string, user *account.User) unitSwitch {
	sw := unitSwitch{set: set, name: name, user: user, maskAt: set.path.config + "/" + name}
	gone := map[string]bool{}
	links := set.byUnit[name]
	_, _, instance := unitfile.Template(name)
	if instance || !set.install(name).any() {
		// An instance, and a unit without an [Install] section, start by their
		// links only: without them nothing would be left in sight to switch on
		// again. They are masked instead.
		links = nil
	}
	for _, l := range links {
		if dir := set.dirs[l.dir]; dir != set.path.config && dir != set.path.runtime || l.target == "/dev/null" {
			continue
		}
		enables := l.kind != "" && (l.name == name || l.dest() == name || set.real(l.name) == name)
		alias := l.kind == "" && l.dest() == name && l.name != name
		if enables || alias {
			sw.links = append(sw.links, l.path)
			gone[l.path] = true
		}
	}
	sw.pulled = len(set.pulledBy(name, gone)) > 0
	// A file of the administrator's own is in the mask's place: the folder
	// before it overrides that too.
	for _, u := range set.sources[name] {
		if u.path == sw.maskAt && !u.masked && set.path.control != "" {
			sw.maskAt = path.Join(set.path.control, name)
		}
	}
	return sw
}

// wanted are the links that the unit's [Install] section asks for.
func (sw unitSwitch) wanted() []string {
	var links []string
	in := sw.set.install(sw.name)
	for _, l := range in.links {
		links = append(links, path.Join(sw.set.path.config, l))
	}
	for _, a := range in.aliases {
		if a != sw.name {
			links = append(links, path.Join(sw.set.path.config, a))
		}
	}
	return links
}

func (sw unitSwitch) owner() (uid, gid int) {
	if sw.user != nil {
		return sw.user.UID, sw.user.GID
	}
	return 0, 0
}

// Word is what would be done: a mask where taking links away is not enough.
func (sw unitSwitch) Word() autostart.Switch {
	if len(sw.links) == 0 || sw.pulled {
		return autostart.Mask
	}
	return autostart.Unlink
}

// Stop is systemctl's, systemctl(1).
func (sw unitSwitch) Stop() []string {
	switch {
	case sw.user != nil && !files.Privileged(): // who is not root has their own only
		return []string{"systemctl", "--user", "stop", sw.name}
	case sw.user != nil:
		return []string{"systemctl", "--user", "--machine=" + sw.user.Name + "@.host", "stop", sw.name}
	case sw.set.path.control == "":
		return []string{"systemctl", "--user", "stop", sw.name} // each user for themself
	}
	return []string{"systemctl", "stop", sw.name}
}

// PerUser reports whether the unit is one of every user's manager: a mask in one user's folder is theirs alone.
func (sw unitSwitch) PerUser() bool { return sw.user == nil && sw.set.path.control == "" }

func (sw unitSwitch) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	if want.User != nil {
		sw.user = want.User
		sw.maskAt = path.Join(want.User.Home, ".config/systemd/user", sw.name)
		return sw.mask(images, want)
	}
	if want.State == autostart.Disabled {
		var edits []location.Edit
		for _, l := range sw.links {
			edits = append(edits, location.Edit{Artifact: artifact.File(l),
				Image: artifact.Image{Kind: artifact.Absent}})
		}
		if !sw.pulled && !want.Hold {
			return edits, nil
		}
		mask, err := sw.mask(images, want)
		return append(edits, mask...), err
	}
	return sw.enable(images, want)
}

// Holds is the mask: neither systemctl enable nor the scripts of packages take it away.
func (sw unitSwitch) Holds() string {
	return "it is masked; systemctl enable and packages leave that alone, and systemctl unmask removes it"
}

// mask makes or removes the link to /dev/null.
func (sw unitSwitch) mask(images location.Images, want location.Want) ([]location.Edit, error) {
	a := artifact.File(sw.maskAt)
	image, err := images.Image(a)
	if err != nil {
		return nil, err
	}
	isMask := image.Kind == artifact.Symlink && image.Target == "/dev/null"
	if want.State == autostart.Enabled {
		if isMask {
			return []location.Edit{{Artifact: a, Image: artifact.Image{Kind: artifact.Absent}}}, nil
		}
		return nil, nil
	}
	if isMask {
		return nil, nil
	}
	if image.Kind != artifact.Absent {
		return nil, fmt.Errorf("%w: an administrator's unit is in the way at %s; switch that entry instead",
			location.ErrNoSwitch, sw.maskAt)
	}
	uid, gid := sw.owner()
	return []location.Edit{{Artifact: a, Image: artifact.NewLink("/dev/null", uid, gid, want.Now)}}, nil
}

// enable takes a mask away, and makes the links that [Install] asks for where
// nothing else starts the unit.
func (sw unitSwitch) enable(images location.Images, want location.Want) ([]location.Edit, error) {
	source, ok := sw.set.source(sw.name, true)
	if !ok {
		return nil, fmt.Errorf("%w: the unit file is gone", location.ErrNoSwitch)
	}
	var edits []location.Edit
	for _, u := range sw.set.sources[sw.name] {
		if !u.masked {
			continue
		}
		if dir := sw.set.dirs[u.dir]; dir != sw.set.path.config && dir != sw.set.path.control &&
			dir != sw.set.path.runtime {
			return nil, fmt.Errorf("%w: it is masked by the vendor at %s", location.ErrNoSwitch, u.path)
		}
		edits = append(edits, location.Edit{Artifact: artifact.File(u.path),
			Image: artifact.Image{Kind: artifact.Absent}})
	}
	for _, l := range sw.set.byUnit[sw.name] {
		// A dependency that was masked by itself.
		if l.kind != "" && l.name == sw.name && l.target == "/dev/null" && sw.set.dirs[l.dir] == sw.set.path.config {
			edits = append(edits, location.Edit{Artifact: artifact.File(l.path),
				Image: artifact.Image{Kind: artifact.Absent}})
		}
	}
	if sw.pulled {
		return edits, nil
	}
	links := sw.wanted()
	if len(links) == 0 && len(edits) == 0 {
		return nil, fmt.Errorf("%w: the unit has no [Install] section that says what should start it",
			location.ErrNoSwitch)
	}
	uid, gid := sw.owner()
	for _, l := range links {
		image, err := images.Image(artifact.File(l))
		if err != nil {
			return nil, err
		}
		if image.Kind != artifact.Absent && image.Target != "/dev/null" {
			continue
		}
		edits = append(edits, location.Edit{Artifact: artifact.File(l), Image: artifact.NewLink(source.path, uid, gid,
			want.Now)})
	}
	return edits, nil
}
