package macos

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/launchd"
	"lockback/core/format/plist"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/core/machine/files"
	"lockback/core/parallel"
)

// jobFile is one job's property list.
type jobFile struct {
	path    string
	job     launchd.Job
	command string // what it runs, and when, in words: an agent of everyone counts once for each user
	when    string
	// broken says why it could not be understood, ignored why launchd passes it
	// over; both are empty of one that counts.
	broken, ignored string
	insecure        bool
}

// jobFolder is a folder of jobs: daemons, or agents of everyone or of one
// person.
type jobFolder struct {
	path   string
	agents bool
	user   *account.User
	there  bool
	err    error // why it could not be read
	unread map[string]error
	files  []*jobFile
}

// jobFolders reads all folders of jobs, in the order in which launchd does: of two
// jobs of one name the first one counts.
func (d *disk) jobFolders(s *location.Survey) []*jobFolder {
	d.jobsOnce.Do(func() {
		for _, folder := range append(cryptexFolders(s), "/System/Library", "/Library/Apple/System/Library",
			"/Library") {
			d.jobs = append(d.jobs, &jobFolder{path: folder + "/LaunchDaemons"},
				&jobFolder{path: folder + "/LaunchAgents", agents: true})
		}
		for _, h := range homes(s) {
			d.jobs = append(d.jobs, &jobFolder{path: path.Join(h.path, "Library/LaunchAgents"), agents: true,
				user: h.user})
		}
		for _, f := range d.jobs {
			f.read(s)
		}
	})
	return d.jobs
}

// cryptexes are what macOS 13 and later bring a part of themselves in, so that it can be renewed alone.
const cryptexes = "/System/Cryptexes"

// cryptexFolders are the folders called Library of the cryptexes that are here; on a disk they mostly are not.
func cryptexFolders(s *location.Survey) (folders []string) {
	for _, name := range []string{"App", "OS"} {
		if _, err := s.Stat(path.Join(cryptexes, name)); err == nil {
			folders = append(folders, path.Join(cryptexes, name, "System/Library"))
		}
	}
	return folders
}

// read reads a folder's jobs, shared out among the processors.
func (f *jobFolder) read(s *location.Survey) {
	entries, err := s.ReadDir(f.path)
	if f.err = err; err != nil {
		return
	}
	f.there = true
	for _, e := range entries {
		if !e.IsDir() && strings.HasSuffix(strings.ToLower(e.Name()), ".plist") && !strings.HasPrefix(e.Name(), ".") {
			f.files = append(f.files, &jobFile{path: path.Join(f.path, e.Name())})
		}
	}
	errs := make([]error, len(f.files))
	parallel.Each(len(f.files), func(k int) { errs[k] = f.files[k].read(s, f.user) })
	f.unread = map[string]error{}
	for k, err := range errs {
		if err != nil {
			f.unread[f.files[k].path] = err
		}
	}
	f.files = slices.DeleteFunc(f.files, func(j *jobFile) bool { return f.unread[j.path] != nil })
}

// read reads one job. What launchd would not load says so.
func (j *jobFile) read(s *location.Survey, u *account.User) error {
	content, info, err := s.ReadFileInfo(j.path, files.MaxFileSize)
	if err != nil {
		if files.IsMissing(err) {
			j.broken = leadsNowhere
			return nil
		}
		if errors.Is(err, files.ErrTooLarge) {
			j.broken = machine.Reason(err)
			return nil
		}
		return err
	}
	doc, err := plist.Parse(content)
	if err != nil {
		j.broken = err.Error()
		return nil
	}
	j.job = launchd.Parse(doc.Dict())
	j.command, j.when = strings.Join(j.job.Command(), " "), j.job.When()
	switch {
	case j.job.Label == "":
		j.ignored = "it has no Label"
	case len(j.job.Command()) == 0:
		j.ignored = "it names no program"
	default:
		j.ignored = dubious(s, info, u)
	}
	// A person's own group counts as the person where nobody else is in it, which
	// cannot be known here; what all may write is beyond doubt.
	j.insecure = info.Mode()&0o002 != 0
	return nil
}

// dubious tells why launchd does not trust a file: launchctl(1) wants it to be
// root's, or the person's whose agent it is, and nobody else to write to it.
func dubious(s *location.Survey, info fs.FileInfo, u *account.User) string {
	uid, _ := files.Owner(info)
	switch {
	case uid < 0 || !s.Machine.KeepsOwners:
		return ""
	case u == nil && uid != 0:
		return "not owned by root"
	case u != nil && uid != u.UID && uid != 0:
		return "not owned by " + u.Name
	case info.Mode()&0o022 != 0:
		return "others may write to it"
	}
	return ""
}

// report tells of a folder what the location must know: that it is there, and
// what in it could not be read.
func (f *jobFolder) report(s *location.Survey) {
	s.Skip(f.path, f.err)
	if f.there {
		s.Found()
	}
	for file, err := range f.unread {
		s.Skip(file, err)
	}
}

func (d *disk) readDaemons(s *location.Survey) {
	for _, name := range []string{"App", "OS"} {
		_, err := s.Stat(path.Join(cryptexes, name))
		s.Skip(path.Join(cryptexes, name), err)
	}
	known := map[string]string{}
	for _, f := range d.jobFolders(s) {
		if f.agents {
			continue
		}
		f.report(s)
		for _, j := range f.files {
			d.addJob(s, j, nil, known)
		}
	}
}

// readAgents reports an agent once for each user whom it concerns: each has a
// switch of their own.
func (d *disk) readAgents(s *location.Survey) {
	folders := d.jobFolders(s)
	for _, f := range folders {
		if f.agents {
			f.report(s)
		}
	}
	for _, h := range homes(s) {
		known := map[string]string{}
		for _, f := range folders {
			// Root signs in to no desktop; what is in root's own folder says otherwise.
			if !f.agents || f.user != nil && f.user != h.user || f.user == nil && h.user.UID == 0 {
				continue
			}
			for _, j := range f.files {
				if !atLoginWindow(j) {
					s.Adjusting(func(item *location.Item) { item.Everyones = f.user == nil },
						func(s *location.Survey) { d.addJob(s, j, h.user, known) })
				}
			}
		}
	}
	for _, f := range folders {
		if !f.agents || f.user != nil {
			continue
		}
		for _, j := range f.files {
			if atLoginWindow(j) {
				s.Adjusting(func(item *location.Item) {
					item.When = "at the login window, " + item.When
					fixed(item, "it runs at the login window, which has no database of its own")
				}, func(s *location.Survey) { d.addJob(s, j, nil, map[string]string{}) })
			}
		}
	}
}

// atLoginWindow reports whether an agent runs before anyone has signed in only.
func atLoginWindow(j *jobFile) bool {
	return len(j.job.Sessions) > 0 && !slices.ContainsFunc(j.job.Sessions,
		func(t string) bool { return t != "LoginWindow" })
}

// domain is the label in its kind of session: what runs behind a sign-in without a desktop has a domain of its own,
// and takes no label from others.
func (j *jobFile) domain() string {
	if slices.Contains(j.job.Sessions, "Background") && !slices.Contains(j.job.Sessions, "Aqua") {
		return "background " + j.job.Label
	}
	return j.job.Label
}

// kindStages are the stages of what starts by an event or at a time.
var kindStages = map[launchd.Kind]autostart.Stage{launchd.OnSchedule: autostart.Schedule,
	launchd.OnEvent: autostart.Event, launchd.OnRequest: autostart.Event}

// loaded says in people's words when a job is loaded: an agent at sign-in, a daemon at startup.
func loaded(when string, agent bool) string {
	if rest, ok := strings.CutPrefix(when, "at load"); ok {
		if agent {
			return "at sign-in" + rest
		}
		return "at startup" + rest
	}
	return when
}

// addJob reports a job for a person, or for the system. Known are the labels that
// were taken already, with the files that took them.
func (d *disk) addJob(s *location.Survey, j *jobFile, u *account.User, known map[string]string) {
	name := j.job.Label
	if name == "" {
		name = strings.TrimSuffix(path.Base(j.path), ".plist")
	}
	item := newItem(u, name, j.command, j.path)
	item.Argv = j.job.Command()
	if root := j.job.RootFolder; root != "" && len(item.Argv) > 0 && path.IsAbs(item.Argv[0]) {
		item.Argv = []string{path.Join(root, item.Argv[0])} // all that it names is looked for below that
	}
	if item.Source.Key = j.job.Label; j.broken == "" {
		item.Stage, item.When = kindStages[j.job.Kind()], loaded(j.when, u != nil)
	}
	if j.insecure {
		item.Problems = append(item.Problems, autostart.Insecure)
	}
	if strings.HasPrefix(j.path, appleFolder) && !strings.HasPrefix(j.job.Label, "com.apple.") {
		item.Foreign = true
		item.Problems = append(item.Problems, autostart.NotDefault)
	}
	db := d.databaseOf(s, u)
	rec, listed := d.backgroundItems(s).forFile(j.path, u)
	item.Artifacts = artifacts(j.path, db.file)
	if u != nil && strings.HasPrefix(j.path, u.Home+"/") { // a home may have had neither of the folders
		item.Artifacts = artifacts(j.path, db.file, path.Dir(j.path), path.Dir(path.Dir(j.path)))
	}
	item.AddFacts(func() []location.Fact { return jobFacts(j, rec) })
	if listed && rec.developer != "" {
		item.Known = &autostart.Known{Maker: autostart.Maker{Name: autostart.Text(rec.developer),
			Basis: autostart.ByReceipt}}
	}
	first, taken := known[j.domain()]
	switch {
	case j.broken != "":
		notUnderstood(item, j)
	case j.ignored != "":
		ignored(item, j.ignored)
		fixed(item, "launchd does not load it: "+j.ignored)
	case taken:
		ignored(item, "another file has its label")
		fixed(item, "launchd loads only one job of this label, and takes "+first)
		item.AddFacts(func() []location.Fact {
			return []location.Fact{{Name: "same label", Value: first,
				Basis: first}}
		})
	default:
		if known[j.domain()] = j.path; len(j.job.Limits) > 0 {
			// Whether it is loaded on this Mac cannot be known: it may leave its label to the next file.
			item.Mode = "on some Macs only"
			delete(known, j.domain())
		}
		o := override{database: db, label: j.job.Label}
		isOff, decided := db.off[j.job.Label]
		switch {
		case listed && !rec.allowed():
			off(item, "turned off in System Settings")
			o.refused = "System Settings > General > Login Items turned it off, and only that turns it on"
		case isOff:
			off(item, "disabled in launchd's database")
		case !decided && j.job.Disabled:
			off(item, "disabled in its own file")
			delete(known, j.domain()) // it is not loaded, and leaves the label to the next file
		}
		if decided && isOff != j.job.Disabled && ofSystem(j.path) && !(isOff && offByMacOS[j.job.Label]) {
			item.Problems = append(item.Problems, autostart.NotDefault)
		}
		item.Switcher = o
	}
	s.Add(key(u, j.path), item)
}

// appleFolder is where macOS keeps what it updates by itself. It lies on the data volume, which a mounted disk does not
// guard, and all that Apple has there is called com.apple.
const appleFolder = "/Library/Apple/"

// offByMacOS are the jobs of its own that macOS itself names as disabled in launchd's database of a new Mac, as
// its users have shown their databases; none of them guards anything.
var offByMacOS = map[string]bool{"com.apple.CSCSupportd": true, "com.apple.ftpd": true,
	"com.apple.mdmclient.daemon.runatboot": true, "com.apple.relatived": true, "com.apple.telnetd": true}

// leadsNowhere is why a file that a folder or a record names cannot be read: there is none.
const leadsNowhere = "it leads to no file"

// notUnderstood marks an item whose file this program does not understand. Whether launchd, which reads more,
// does cannot be known; one that is not there starts nothing.
func notUnderstood(item *location.Item, j *jobFile) {
	if !slices.Contains(item.Problems, autostart.Unparsable) {
		item.Problems = append(item.Problems, autostart.Unparsable)
	}
	if j.broken == leadsNowhere {
		ignored(item, leadsNowhere)
	} else if item.State == autostart.Enabled {
		item.Mode = "lockback cannot parse its file; launchd may still read it"
	}
	fixed(item, "its file is not understood: "+j.broken)
}

// jobFacts tells what else is known about a job.
func jobFacts(j *jobFile, rec record) []location.Fact {
	if j.broken != "" {
		return []location.Fact{{Name: "cannot be read", Value: autostart.Text(j.broken), Basis: j.path}}
	}
	var facts []location.Fact
	for _, row := range []struct{ name, value string }{
		{"runs as", j.job.UserName}, {"in sessions of type", strings.Join(j.job.Sessions, ", ")},
		{"in folder", j.job.Folder}, {"below", j.job.RootFolder},
		{"belongs to", strings.Join(j.job.Associated, ", ")},
	} {
		if row.value != "" {
			facts = append(facts, location.Fact{Name: row.name, Value: row.value, Basis: j.path})
		}
	}
	for _, k := range slices.Sorted(maps.Keys(j.job.Environment)) {
		facts = append(facts, location.Fact{Name: "environment", Value: k + "=" + j.job.Environment[k], Basis: j.path})
	}
	return append(facts, rec.facts()...)
}

// app is an application with what it brings along.
type app struct {
	path    string
	user    *account.User // in whose folder it lies
	info    []byte        // its Info.plist
	err     error
	helpers []helper
	unread  map[string]error // folders in it that could not be read
}

// appPlace is a folder that was looked through for apps.
type appPlace struct {
	path string
	err  error
}

// helper is a job or login item inside an app.
type helper struct {
	file  string // the job's property list, or the bundle
	agent bool   // runs for a person, not for the system
	login bool   // a login item: an app inside the app
	label string // by which launchd knows it; empty where it has none
	start string // what a login item starts: its executable, or the bundle where that is not told
	job   *jobFile
	err   error // why it could not be read
}

// helperFolders are where an app keeps them, below Contents/Library.
var helperFolders = []struct {
	name, ending string
	agent, login bool
}{{"LaunchDaemons", ".plist", false, false}, {"LaunchAgents", ".plist", true, false}, {"LoginItems", ".app", true,
	true}}

// applications reads all apps, those one folder down too.
func (d *disk) applications(s *location.Survey) []*app {
	d.appsOnce.Do(func() {
		places := []root{{"/Applications", nil}}
		for _, h := range homes(s) {
			places = append(places, root{path.Join(h.path, "Applications"), h.user})
		}
		for _, p := range places {
			d.findApps(s, p, true)
		}
		parallel.Each(len(d.apps), func(k int) { d.apps[k].read(s) })
	})
	return d.apps
}

// findApps finds the apps in a folder. Nothing is reported here: which location
// asks first is chance.
func (d *disk) findApps(s *location.Survey, p root, deeper bool) {
	entries, err := s.ReadDir(p.path)
	d.appPlaces = append(d.appPlaces, appPlace{p.path, err})
	for _, e := range entries {
		full := path.Join(p.path, e.Name())
		switch {
		case strings.HasPrefix(e.Name(), "."):
		case strings.HasSuffix(strings.ToLower(e.Name()), ".app"):
			d.apps = append(d.apps, &app{path: full, user: p.user})
		case e.IsDir() && deeper:
			d.findApps(s, root{full, p.user}, false)
		}
	}
}

// read reads an app's Info.plist, and finds what it brings along.
func (a *app) read(s *location.Survey) {
	a.unread = map[string]error{}
	contents := path.Join(a.path, "Contents")
	a.info, a.err = s.ReadFile(path.Join(contents, "Info.plist"), files.MaxFileSize)
	library := path.Join(contents, "Library")
	entries, err := s.ReadDir(library)
	if err != nil {
		a.unread[library] = err // it may be missing
		return
	}
	for _, f := range helperFolders {
		// The disk of a Mac takes names in any case for the same.
		at := slices.IndexFunc(entries, func(e fs.DirEntry) bool { return strings.EqualFold(e.Name(), f.name) })
		if at < 0 {
			continue
		}
		folder := path.Join(library, entries[at].Name())
		inside, err := s.ReadDir(folder)
		if err != nil {
			a.unread[folder] = err
		}
		for _, e := range inside {
			if strings.HasSuffix(strings.ToLower(e.Name()), f.ending) && !strings.HasPrefix(e.Name(), ".") {
				h := helper{file: path.Join(folder, e.Name()), agent: f.agent, login: f.login}
				h.read(s, a.user)
				a.helpers = append(a.helpers, h)
			}
		}
	}
}

// read finds the name by which launchd knows a helper: the Label of a job, the
// bundle's id of a login item.
func (h *helper) read(s *location.Survey, u *account.User) {
	if h.login {
		b := bundleAt(s, h.file)
		h.label, h.start = b.info.Text("CFBundleIdentifier"), cmp.Or(b.executable(), h.file)
		return
	}
	h.job = &jobFile{path: h.file}
	h.err = h.job.read(s, u)
	h.label = h.job.job.Label
}

// readEmbedded reports what apps bring along and register themselves.
func (d *disk) readEmbedded(s *location.Survey) {
	apps := d.applications(s)
	for _, p := range d.appPlaces {
		if s.Skip(p.path, p.err); p.err == nil {
			s.Found()
		}
	}
	for _, a := range apps {
		for folder, err := range a.unread {
			s.Skip(folder, err)
		}
		for _, h := range a.helpers {
			switch {
			case !h.agent:
				d.addHelper(s, a, h, nil)
			case a.user != nil:
				d.addHelper(s, a, h, a.user)
			default:
				d.addForPeople(s, a, h)
			}
		}
	}
	d.addRecorded(s, apps)
}

// addRecorded reports what the database of background items has and no folder that was looked through: helpers
// of apps that lie anywhere.
func (d *disk) addRecorded(s *location.Survey, apps []*app) {
	known := map[string]bool{}
	same := func(name string) string { return strings.ToLower(name) }
	for _, a := range apps {
		for _, h := range a.helpers {
			known[same(h.file)] = true
		}
	}
	for _, f := range d.jobFolders(s) {
		for _, j := range f.files {
			known[same(j.path)] = true
		}
	}
	for _, r := range d.backgroundItems(s).records {
		if r.kind&(typeAgent|typeDaemon|typeLoginItem) == 0 || r.path == "" || known[same(r.path)] {
			continue
		}
		var user *account.User
		for _, u := range people(s) {
			if slices.Contains(idsOf(u), r.person) {
				user = u
			}
		}
		if user == nil && r.kind&typeDaemon == 0 {
			continue // a person of another machine, or one that is gone
		}
		if r.kind&typeDaemon != 0 {
			if user = nil; known["daemon "+same(r.path)] {
				continue // it stands there once for each person
			}
			known["daemon "+same(r.path)] = true
		}
		h := helper{file: r.path, agent: r.kind&typeDaemon == 0, login: r.kind&typeLoginItem != 0}
		h.read(s, user)
		container := r.path
		if before, _, ok := strings.Cut(r.path, "/Contents/"); ok {
			container = before
		}
		d.addHelper(s, &app{path: container}, h, user)
	}
}

// addForPeople reports a helper for everyone for whom it is registered, or once
// where it is for nobody.
func (d *disk) addForPeople(s *location.Survey, a *app, h helper) {
	forSomebody := false
	for _, u := range people(s) {
		if _, known := d.registered(s, h, u); known {
			d.addHelper(s, a, h, u)
			forSomebody = true
		}
	}
	if !forSomebody {
		d.addHelper(s, a, h, nil)
	}
}

// registered tells whether an app has registered a helper for a person, and
// whether that is known at all.
func (d *disk) registered(s *location.Survey, h helper, u *account.User) (on, known bool) {
	if rec, ok := d.backgroundItems(s).forHelper(h.file, h.label, u); ok {
		return rec.starts(), true
	}
	// Before there was such a list, a helper was on where launchd's database says
	// expressly that it is not disabled.
	isOff, known := d.databaseOf(s, u).off[h.label]
	return !isOff, known
}

// addHelper reports one helper of an app.
func (d *disk) addHelper(s *location.Survey, a *app, h helper, u *account.User) {
	label := h.label
	var item *location.Item
	if h.login {
		item = newItem(u, strings.TrimSuffix(path.Base(h.file), ".app"), h.file, h.file)
		item.Argv = []string{h.start}
		if label == "" {
			item.Problems = append(item.Problems, autostart.Unparsable)
		}
	} else {
		j := h.job
		if h.err != nil {
			s.Skip(h.file, h.err)
			return
		}
		if label == "" {
			label = strings.TrimSuffix(path.Base(h.file), ".plist")
		}
		command := slices.Clone(j.job.Command())
		if j.job.BundleProgram != "" && j.job.Program == "" && len(command) > 0 {
			command[0] = path.Join(a.path, j.job.BundleProgram)
		}
		item = newItem(u, label, strings.Join(command, " "), h.file)
		item.Argv, item.When, item.Stage = command, loaded(j.when, h.agent), kindStages[j.job.Kind()]
		item.AddFacts(func() []location.Fact { return jobFacts(j, record{}) })
		if j.broken != "" {
			notUnderstood(item, j)
		}
	}
	if !h.agent {
		if item.Stage == "" {
			item.Stage = autostart.System
		}
		item.Effect = location.AtNextStart
	}
	db := d.databaseOf(s, u)
	item.Source.Key = label
	item.Artifacts = artifacts(h.file, db.file)
	item.AddFacts(func() []location.Fact {
		return []location.Fact{{Name: "brought along by", Value: a.path, Basis: "its place"}}
	})
	if rec, ok := d.backgroundItems(s).forHelper(h.file, label, u); ok {
		if rec.developer != "" {
			item.Known = &autostart.Known{Maker: autostart.Maker{Name: autostart.Text(rec.developer),
				Basis: autostart.ByReceipt}}
		}
		item.AddFacts(rec.facts)
	}
	on, known := d.registered(s, h, u)
	isOff := db.off[label]
	o := override{database: db, label: label}
	if !on {
		o.refused = "only its own app, or System Settings > General > Login Items, can register it"
	}
	switch {
	case item.State == autostart.Disabled: // lockback cannot parse it
	case isOff:
		off(item, "disabled in launchd's database")
		o.refused = ""
	case !known:
		off(item, "not registered by its app")
	case !on:
		off(item, "turned off in System Settings")
	}
	item.Switcher = o
	switch {
	case h.job != nil && h.job.broken != "":
		notUnderstood(item, h.job)
	case label == "" || u == nil && h.agent:
		fixed(item, fmt.Sprintf("%s has not registered it for any user", path.Base(a.path)))
	}
	s.Add(key(u, h.file), item)
}
