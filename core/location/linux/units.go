package linux

import (
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"lockback/core/format/unitfile"
	"lockback/core/location"
	"lockback/core/machine/files"
	"lockback/core/parallel"
)

// unitPath is systemd's search path for one of its managers, systemd.unit(5).
type unitPath struct {
	control string   // the persistent folder that comes before all others
	config  string   // where an administrator's files and links go
	runtime string   // the same, gone with the next start
	above   []string // folders before config
	below   []string // folders after it
	global  string   // for a user's manager: config of everyone's
	roots   []string // the units that the manager starts by itself
}

var systemUnits = unitPath{
	control: "/etc/systemd/system.control",
	above:   []string{"/run/systemd/system.control", "/run/systemd/transient", "/run/systemd/generator.early"},
	config:  "/etc/systemd/system",
	runtime: "/run/systemd/system",
	below: []string{"/etc/systemd/system.attached", "/run/systemd/system", "/run/systemd/system.attached",
		"/run/systemd/generator",
		"/usr/local/lib/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system",
		"/run/systemd/generator.late"},
	roots: []string{"default.target", "sysinit.target", "basic.target", "timers.target", "sockets.target",
		"paths.target"},
}

var userUnits = unitPath{
	config:  "/etc/systemd/user",
	runtime: "/run/systemd/user",
	below: []string{"/run/systemd/user", "/usr/local/share/systemd/user", "/usr/share/systemd/user",
		"/usr/local/lib/systemd/user", "/usr/lib/systemd/user", "/lib/systemd/user"},
	roots: []string{"default.target", "basic.target", "timers.target", "sockets.target", "paths.target"},
}

// forHome is the search path of the manager of the person with that home.
func (p unitPath) forHome(home string) unitPath {
	return unitPath{
		control: path.Join(home, ".config/systemd/user.control"),
		config:  path.Join(home, ".config/systemd/user"),
		below:   append([]string{p.config, path.Join(home, ".local/share/systemd/user")}, p.below...),
		global:  p.config,
		roots:   p.roots,
	}
}

// places lists the folders, the one that wins first.
func (p unitPath) places() []string {
	var dirs []string
	if p.control != "" {
		dirs = append(dirs, p.control)
	}
	dirs = append(append(dirs, p.above...), p.config)
	return append(dirs, p.below...)
}

// unitLink is a symbolic link among the units: an alias at the top of a folder,
// or a dependency in NAME.wants, NAME.requires or NAME.upholds.
type unitLink struct {
	path   string
	dir    int    // index of the search folder
	parent string // of a dependency: the unit that wants it; else empty
	kind   string // "wants", "requires", "upholds"; empty for an alias
	name   string // the link's own name
	target string // as it is written
}

func (l unitLink) dest() string { return path.Base(l.target) }

// unitSource is one file of a unit's name in one search folder.
type unitSource struct {
	path   string
	dir    int
	masked bool
	link   string // the target, where it is a link to a file of the same name
}

// unitSet is all the units that one manager sees.
type unitSet struct {
	path     unitPath
	dirs     []string
	sources  map[string][]unitSource // a name's files, the one that wins first
	aliases  map[string]string       // a link's name, to the unit it stands for
	links    []unitLink
	byUnit   map[string][]unitLink // a unit's name, to the links that bear it, lead to it or stand for it
	dropIns  map[string][]string   // NAME.d, to the drop-ins in it by name, each the one that wins
	parsed   *parsedFiles
	installs sync.Map // a unit, to its install
	presets  []presetRule
	reached  map[string][]string // units that start by themselves, to what names them in a dependency key

	view location.View
	read func(file string) ([]byte, bool) // reports what cannot be read
}

// dependencyKeys of [Unit] that start other units, systemd.unit(5).
var dependencyKeys = []string{"Wants", "Requires", "BindsTo", "Upholds"}

// loadUnits reads the names in all search folders. Files are parsed when they
// are asked for.
func loadUnits(s *location.Survey, p unitPath, parsed *parsedFiles) *unitSet {
	set := &unitSet{path: p, sources: map[string][]unitSource{}, aliases: map[string]string{},
		dropIns: map[string][]string{},
		parsed:  parsed, view: s.View, read: s.File}
	inSearchPath := map[string]bool{}
	for _, dir := range p.places() {
		if full, err := s.Resolve(dir); err != nil {
			s.Skip(dir, err)
		} else if !inSearchPath[full] {
			inSearchPath[full] = true
			set.dirs = append(set.dirs, dir)
		}
	}
	var parsing sync.WaitGroup
	for k, dir := range set.dirs {
		entries := s.Dir(dir)
		var files []string
		for _, e := range entries {
			if e.Type().IsRegular() && unitfile.Valid(e.Name()) {
				full := dir + "/" + e.Name()
				set.sources[e.Name()] = append(set.sources[e.Name()], unitSource{path: full, dir: k})
				files = append(files, full)
			}
		}
		// Reading and parsing is most of the work: it begins while the links
		// are looked at.
		if len(files) > 0 {
			parsing.Go(func() { set.parseAll(files) })
		}
		for _, e := range entries {
			switch full := dir + "/" + e.Name(); {
			case e.IsDir():
				set.loadFolder(s, k, e.Name(), full)
			case e.Type()&fs.ModeSymlink != 0 && unitfile.Valid(e.Name()):
				set.loadLink(s, k, e.Name(), full)
			}
		}
	}
	parsing.Wait()
	// A file of no size masks its unit like a link to /dev/null, systemd.unit(5).
	for _, sources := range set.sources {
		for k := range sources {
			sources[k].masked = sources[k].masked || set.parsed.isEmpty(sources[k].path)
		}
	}
	set.loadPresets(s)
	set.byUnit = make(map[string][]unitLink, len(set.links))
	for _, l := range set.links {
		dest, real := l.dest(), set.real(l.name)
		set.byUnit[l.name] = append(set.byUnit[l.name], l)
		if dest != l.name {
			set.byUnit[dest] = append(set.byUnit[dest], l)
		}
		if real != l.name && real != dest {
			set.byUnit[real] = append(set.byUnit[real], l)
		}
	}
	set.reach()
	return set
}

// loadFolder reads NAME.wants and its like, and NAME.d.
func (set *unitSet) loadFolder(s *location.Survey, dir int, name, full string) {
	at := strings.LastIndexByte(name, '.')
	if at < 0 {
		return
	}
	switch parent, kind := name[:at], name[at+1:]; kind {
	case "wants", "requires", "upholds":
		for _, e := range s.Dir(full) {
			if e.Type()&fs.ModeSymlink == 0 || !unitfile.Valid(e.Name()) {
				continue
			}
			at := full + "/" + e.Name()
			target, err := s.Readlink(at)
			if err != nil {
				s.Skip(at, err)
				continue
			}
			set.links = append(set.links, unitLink{at, dir, parent, kind, e.Name(), target})
		}
	case "d":
		have := set.dropIns[name]
		for _, e := range s.Dir(full) {
			same := func(file string) bool { return path.Base(file) == e.Name() }
			if strings.HasSuffix(e.Name(), ".conf") && !slices.ContainsFunc(have, same) {
				have = append(have, path.Join(full, e.Name()))
			}
		}
		slices.SortFunc(have, func(a, b string) int { return strings.Compare(path.Base(a), path.Base(b)) })
		set.dropIns[name] = have
	}
}

// loadLink reads a link at the top of a search folder: a mask, an alias, or a
// unit that was linked from elsewhere.
func (set *unitSet) loadLink(s *location.Survey, dir int, name, full string) {
	target, err := s.Readlink(full)
	if err != nil {
		s.Skip(full, err)
		return
	}
	set.links = append(set.links, unitLink{path: full, dir: dir, name: name, target: target})
	resolved := target
	if target != "/dev/null" { // which a mounted disk may not have
		if resolved, err = s.Resolve(full); files.IsMissing(err) {
			resolved = linkTarget(full, target)
		} else if err != nil {
			s.Skip(full, err)
			return
		}
	}
	switch base := path.Base(resolved); {
	case resolved == "/dev/null":
		set.sources[name] = append(set.sources[name], unitSource{path: full, dir: dir, masked: true})
	case base == name || !unitfile.Valid(base):
		set.sources[name] = append(set.sources[name], unitSource{path: full, dir: dir, link: target})
	default:
		if _, taken := set.aliases[name]; !taken && len(set.sources[name]) == 0 {
			set.aliases[name] = base
		}
	}
}

// real follows aliases to the unit's own name.
func (set *unitSet) real(name string) string {
	for range 8 {
		to, ok := set.aliases[name]
		if !ok {
			if t, instance, is := unitfile.Template(name); is {
				if to, ok := set.aliases[t]; ok && unitfile.IsTemplate(to) {
					suffix := unitfile.Suffix(to)
					return strings.TrimSuffix(to, suffix) + instance + suffix
				}
			}
			return name
		}
		name = to
	}
	return name
}

// source returns the file that decides a name, masked ones skipped where
// below is true.
func (set *unitSet) source(name string, below bool) (unitSource, bool) {
	candidates := set.sources[name]
	if t, _, ok := unitfile.Template(name); ok && !slices.ContainsFunc(candidates,
		func(u unitSource) bool { return !u.masked }) {
		candidates = append(slices.Clone(candidates), set.sources[t]...)
	}
	for _, c := range candidates {
		if !below || !c.masked {
			return c, true
		}
	}
	return unitSource{}, false
}

// file parses what decides a unit, its drop-ins merged.
func (set *unitSet) file(name string) (unitfile.File, []string) {
	source, ok := set.source(name, true)
	if !ok {
		return unitfile.File{}, nil
	}
	f := set.parse(source.path)
	dropIns := set.dropInsOf(name)
	if len(dropIns) == 0 {
		return f, nil
	}
	f.Assignments = slices.Clone(f.Assignments)
	for _, d := range dropIns {
		f.Merge(set.parse(d))
	}
	return f, dropIns
}

// parsedFiles are unit files by path, each parsed once.
type parsedFiles struct {
	mu    sync.Mutex
	files map[string]unitfile.File
	empty map[string]bool // those of no size at all
}

func newParsedFiles() *parsedFiles {
	return &parsedFiles{files: map[string]unitfile.File{}, empty: map[string]bool{}}
}

// systemUnitFiles are those of the system's units: what asks for a daemon's unit looks at them, too.
func systemUnitFiles(s *location.Survey) *parsedFiles {
	return s.Shared("files of the system's units", func() any { return newParsedFiles() }).(*parsedFiles)
}

// load returns a parsed file, which is read unless it was; ok is false where it cannot be.
func (p *parsedFiles) load(view location.View, file string) (f unitfile.File, ok bool) {
	if f, ok = p.get(file); ok {
		return f, true
	}
	content, err := view.ReadFile(file, files.MaxFileSize)
	if err != nil {
		return unitfile.File{}, false
	}
	return p.put(file, content), true
}

// isEmpty reports whether a file that was read has no size.
func (p *parsedFiles) isEmpty(file string) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.empty[file]
}

func (p *parsedFiles) get(file string) (unitfile.File, bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	f, ok := p.files[file]
	return f, ok
}

func (p *parsedFiles) put(file string, content []byte) unitfile.File {
	f := unitfile.Parse(content)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.files[file] = f
	if len(content) == 0 {
		p.empty[file] = true
	}
	return f
}

// unreadable keeps that a file cannot be read: that is reported once.
func (p *parsedFiles) unreadable(file string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.files[file] = unitfile.File{}
}

// parse returns a parsed file. One that cannot be read is reported, once, and
// empty.
func (set *unitSet) parse(file string) unitfile.File {
	f, ok := set.parsed.get(file)
	if !ok {
		if content, readable := set.read(file); readable {
			return set.parsed.put(file, content)
		}
		set.parsed.unreadable(file)
	}
	return f
}

// parseAll reads and parses files side by side: it is most of an inventory's
// work. What cannot be read is left for parse to report.
func (set *unitSet) parseAll(files []string) {
	parallel.Each(len(files), func(k int) { set.parsed.load(set.view, files[k]) })
}

// dropInsOf lists the drop-ins of a unit in the order in which they apply: by
// name, whatever folder they lie in; of one name, the most specific folder's
// wins (foo-bar@x.service.d, foo-bar@.service.d, foo-.service.d, service.d).
func (set *unitSet) dropInsOf(name string) []string {
	if len(set.dropIns) == 0 {
		return nil
	}
	suffix := unitfile.Suffix(name)
	folders := []string{name + ".d"}
	bare := strings.TrimSuffix(name, suffix)
	if t, _, ok := unitfile.Template(name); ok {
		folders = append(folders, t+".d")
		bare, _, _ = strings.Cut(bare, "@")
	}
	for at := strings.LastIndexByte(strings.TrimSuffix(bare, "-"), '-'); at > 0; at = strings.LastIndexByte(bare[:at],
		'-') {
		folders = append(folders, bare[:at+1]+suffix+".d")
	}
	folders = append(folders, strings.TrimPrefix(suffix, ".")+".d")
	var all []string
	for _, folder := range folders {
		for _, file := range set.dropIns[folder] {
			if !slices.ContainsFunc(all, func(have string) bool { return path.Base(have) == path.Base(file) }) {
				all = append(all, file)
			}
		}
	}
	slices.SortStableFunc(all, func(a, b string) int { return strings.Compare(path.Base(a), path.Base(b)) })
	return all
}

// reach finds the units that start by themselves: what the manager's
// root units depend on, by links and by dependency keys.
func (set *unitSet) reach() {
	set.reached = map[string][]string{}
	byParent := map[string][]string{}
	for _, l := range set.effective() {
		byParent[set.real(l.parent)] = append(byParent[set.real(l.parent)], l.name)
	}
	done := map[string]bool{}
	queue := slices.Clone(set.path.roots)
	for len(queue) > 0 {
		name := set.real(queue[0])
		queue = queue[1:]
		if done[name] {
			continue
		}
		done[name] = true
		if source, ok := set.source(name, false); !ok || source.masked {
			continue
		}
		queue = append(append(queue, set.dependencies(name)...), byParent[name]...)
		if t, _, ok := unitfile.Template(name); ok {
			queue = append(queue, byParent[t]...)
		}
	}
	set.reachFromTargets(done)
}

// reachFromTargets adds what targets name that something else starts: a device, a sleep, a session
// that is chosen. Their links count wherever they are; so do the keys of their files and drop-ins.
func (set *unitSet) reachFromTargets(done map[string]bool) {
	var targets []string
	add := func(name string) {
		if name = set.real(name); unitfile.Suffix(name) == ".target" && !unitfile.IsTemplate(name) && !done[name] {
			done[name] = true
			targets = append(targets, name)
		}
	}
	for name := range set.sources {
		add(name)
	}
	for folder := range set.dropIns {
		add(strings.TrimSuffix(folder, ".d")) // an instance may have no file of its own
	}
	slices.Sort(targets)
	for _, name := range targets {
		if source, ok := set.source(name, false); !ok || source.masked {
			continue
		}
		set.dependencies(name)
	}
}

// dependencies are the units that a unit's keys name; each is reached by it from now on.
func (set *unitSet) dependencies(name string) (all []string) {
	f, _ := set.file(name)
	for _, key := range dependencyKeys {
		for _, dep := range f.List("Unit", key) {
			dep = unitfile.Expand(dep, name)
			set.reached[set.real(dep)] = append(set.reached[set.real(dep)], dep+"\x00"+name)
			all = append(all, dep)
		}
	}
	return all
}

// effective returns the dependency links that count: of one name in one folder
// name, the first in the search path, unless it is masked.
func (set *unitSet) effective() []unitLink {
	var links []unitLink
	seen := map[string]bool{}
	for _, l := range set.links {
		key := l.parent + "\x00" + l.kind + "\x00" + l.name
		if l.kind == "" || seen[key] {
			continue
		}
		seen[key] = true
		if l.target != "/dev/null" {
			links = append(links, l)
		}
	}
	return links
}

// pulledBy names the units that start this one once the given links are gone.
func (set *unitSet) pulledBy(name string, gone map[string]bool) []string {
	var by []string
	for _, l := range set.byUnit[name] {
		if l.kind == "" || gone[l.path] || l.target == "/dev/null" || set.real(l.name) != name {
			continue
		}
		masked := slices.ContainsFunc(set.byUnit[l.name], func(m unitLink) bool {
			return m.dir < l.dir && m.parent == l.parent && m.kind == l.kind && m.name == l.name &&
				m.target == "/dev/null" && !gone[m.path]
		})
		if !masked && !slices.Contains(by, l.parent) {
			by = append(by, l.parent)
		}
	}
	for _, r := range set.reached[name] {
		as, from, _ := strings.Cut(r, "\x00")
		if as != name && slices.ContainsFunc(set.byUnit[as], func(l unitLink) bool {
			return l.kind == "" &&
				l.name == as && gone[l.path]
		}) {
			continue // named by an alias that is gone
		}
		if !slices.Contains(by, from) {
			by = append(by, from)
		}
	}
	return by
}

// install is the [Install] section of a unit.
type install struct {
	aliases  []string
	links    []string // NAME.wants/UNIT and its like
	also     []string
	instance string // DefaultInstance
}

// any reports whether the section says how to enable the unit.
func (in install) any() bool { return len(in.links)+len(in.aliases) > 0 }

func (set *unitSet) install(name string) install {
	if in, ok := set.installs.Load(name); ok {
		return in.(install)
	}
	f, _ := set.file(name)
	section := f.Section("Install")
	in := install{also: section.List("Install", "Also"), instance: section.Last("Install", "DefaultInstance")}
	unit := name
	if unitfile.IsTemplate(name) && in.instance != "" {
		suffix := unitfile.Suffix(name)
		unit = strings.TrimSuffix(name, suffix) + in.instance + suffix
	}
	for _, a := range section.List("Install", "Alias") {
		in.aliases = append(in.aliases, unitfile.Expand(a, unit))
	}
	for _, key := range []struct{ name, kind string }{{"WantedBy", "wants"}, {"RequiredBy", "requires"},
		{"UpheldBy", "upholds"}} {
		for _, by := range section.List("Install", key.name) {
			in.links = append(in.links, unitfile.Expand(by, unit)+"."+key.kind+"/"+unit)
		}
	}
	set.installs.Store(name, in)
	return in
}

// mode words the state of a unit as systemctl is-enabled does.
func (set *unitSet) mode(name string) string {
	source, ok := set.source(name, false)
	if !ok {
		return "not-found"
	}
	dir := set.dirs[source.dir]
	switch {
	case source.masked && strings.HasPrefix(dir, "/run/"):
		return "masked-runtime"
	case source.masked:
		return "masked"
	case strings.HasPrefix(dir, "/run/systemd/generator"):
		return "generated"
	case dir == "/run/systemd/transient":
		return "transient"
	}
	in := set.install(name)
	if word := set.linkedAs(name, source, in, false); word != "" {
		return word
	}
	switch {
	case set.linkedAs(name, source, in, true) != "":
		return "indirect" // in use under a name that its [Install] section does not know
	case in.any():
		return "disabled"
	case len(in.also) > 0:
		return "indirect"
	}
	return "static"
}

// linkedAs words how links make a unit start, and is empty where none does. Links
// count under the names that the [Install] section knows, or under any.
func (set *unitSet) linkedAs(name string, source unitSource, in install, anyName bool) string {
	if len(set.byUnit[name]) == 0 {
		return ""
	}
	var inConfig, inRuntime, anywhere, linked, linkedRuntime bool
	for _, l := range set.byUnit[name] {
		dir := set.dirs[l.dir]
		runtime := strings.HasPrefix(dir, "/run/")
		found, sameName := enables(l, name, in, l.dir > source.dir && source.link == "", anyName)
		switch {
		case found && (dir == set.path.config || dir == set.path.global):
			inConfig = true
		case found && runtime:
			inRuntime = true
		case found:
			anywhere = true
		case sameName && dir == set.path.config:
			linked = true
		case sameName && runtime:
			linkedRuntime = true
		}
	}
	if inConfig {
		return "enabled"
	}
	_, _, isInstance := unitfile.Template(name)
	switch {
	case inRuntime:
		return "enabled-runtime"
	case anywhere && isInstance:
		return "static"
	case linked:
		return "linked"
	case linkedRuntime:
		return "linked-runtime"
	}
	return ""
}

// enables reports whether a link enables the unit, under a name that its
// [Install] section knows (or any), and whether it is one of the unit's own name.
// At the top of folders after the unit's own, that name does not count.
func enables(l unitLink, name string, in install, below, anyName bool) (found, sameName bool) {
	byName, byDest := l.name == name && (!below || l.kind != ""), l.dest() == name
	switch {
	case byName && byDest && l.kind == "":
		return false, true
	case byName || byDest:
		return anyName || knownName(l.name, name, in), false
	}
	return false, false
}

// knownName reports whether a link's name is one that the unit installs itself
// under.
func knownName(link, name string, in install) bool {
	if link == name || slices.Contains(in.aliases, link) {
		return true
	}
	template, instance, ok := unitfile.Template(link)
	if !ok {
		return false
	}
	if unitfile.IsTemplate(name) && in.instance != "" {
		return template == name && instance == in.instance || template == name
	}
	return template == name || slices.Contains(in.aliases, template)
}
