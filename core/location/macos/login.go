package macos

import (
	"errors"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/bookmark"
	"lockback/core/format/keyedarchive"
	"lockback/core/format/plist"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/machine/mac"
)

// Where login items were kept before macOS 13, below a home.
const (
	// since 10.13
	agentDatabase = "Library/Application Support/com.apple.backgroundtaskmanagementagent/backgrounditems.btm"
	oldLoginItems = "Library/Preferences/com.apple.loginitems.plist"
)

// listed is one login item as some list has it.
type listed struct {
	name, path string
	hidden     bool
	off        bool
	key        string // in the list
	broken     error
}

// readLoginItems reports what opens when a person signs in, from the newest list
// that knows the person. An older one is taken over when they sign in next.
func (d *disk) readLoginItems(s *location.Survey) {
	b := d.backgroundItems(s)
	release := s.Machine.Release()
	if b.there || !release.Before(ventura) {
		s.Skip(b.file, b.err)
	}
	if b.there {
		s.Found()
	}
	for _, u := range people(s) {
		if d.askLoginItems(s, u) {
			continue
		}
		if list, known := b.loginItems(u); known && !release.Before(ventura) {
			addLoginItems(s, u, b.file, "", list)
			continue
		}
		const takenOver = "older list, taken over at sign-in"
		later := ""
		if b.there {
			later = takenOver
		}
		if file := path.Join(u.Home, agentDatabase); !release.Before(highSierra) && exists(s, file) {
			addLoginItems(s, u, file, later, readAgentDatabase(s, file))
			continue
		}
		if file := path.Join(u.Home, oldLoginItems); exists(s, file) {
			if later == "" && !release.Before(highSierra) && release != (mac.Release{}) {
				later = takenOver
			}
			addLoginItems(s, u, file, later, readOldLoginItems(s, file))
		}
	}
}

// loginItems are the records of a person that open at sign-in. An app that only
// holds helpers is not one itself.
func (b *background) loginItems(u *account.User) (items []listed, known bool) {
	ids := idsOf(u)
	for _, id := range ids {
		known = known || id != "" && b.known[id]
	}
	for _, r := range b.records {
		if !slices.Contains(ids, r.person) || r.kind&(typeApp|typeUser) == 0 ||
			r.kind&(typeAgent|typeDaemon|typeLoginItem) != 0 || !r.enabled() && r.embedded > 0 || r.path == "" &&
			r.kind&typeApp == 0 {
			continue
		}
		items = append(items, listed{name: r.name, path: r.path, key: r.identifier, hidden: r.disposition&isHidden != 0,
			off: !r.enabled() || !r.allowed()})
	}
	return items, known
}

// readAgentDatabase reads the list of macOS 10.13 to 12.
func readAgentDatabase(s *location.Survey, file string) []listed {
	content, err := s.ReadFile(file, files.MaxImageSize)
	if err != nil {
		s.Skip(file, err)
		return nil
	}
	s.Found()
	archive, err := openArchive(content, file)
	if err != nil {
		s.Skip(file, err)
		return nil
	}
	return parseAgentDatabase(archive)
}

// parseAgentDatabase finds its items: it has containers that hold them, and each
// has a bookmark.
func parseAgentDatabase(a *keyedarchive.Archive) []listed {
	var items []listed
	top := a.Top("backgroundItems")
	if !top.Exists() {
		top = a.Top("root")
	}
	for _, container := range top.Field("allContainers").List() {
		for _, o := range container.Field("internalItems").List() {
			items = append(items, fromBookmark(o.Field("name").Text(), bookmarkOf(o.Field("bookmark"))))
		}
	}
	return items
}

// bookmarkOf is the data of a bookmark: an NSData, or an object that holds one.
func bookmarkOf(o keyedarchive.Object) []byte {
	if data := o.Data(); data != nil {
		return data
	}
	return o.Field("data").Data()
}

// fromBookmark makes an item of its bookmark.
func fromBookmark(name string, data []byte) listed {
	place, err := bookmark.Parse(data)
	item := listed{name: name, path: place.Path, broken: err}
	if item.name == "" {
		item.name = strings.TrimSuffix(path.Base(place.Path), ".app")
	}
	return item
}

// readOldLoginItems reads the list before 10.13: names, and aliases.
func readOldLoginItems(s *location.Survey, file string) []listed {
	doc, ok := readPlist(s, file)
	if !ok {
		return nil
	}
	var items []listed
	for _, session := range []string{"SessionItems", "privilegedlist"} {
		for _, dict := range doc.Dict().Dict(session).Dicts("CustomListItems") {
			data := dict.Data("Alias")
			if data == nil {
				data = dict.Data("Bookmark")
			}
			item := fromBookmark(dict.Text("Name"), data)
			properties := dict.Dict("CustomItemProperties")
			item.hidden = properties.Bool("com.apple.LSSharedFileList.ItemIsHidden") ||
				properties.Bool("com.apple.loginitem.HideOnLaunch")
			items = append(items, item)
		}
	}
	return items
}

// addLoginItems reports a user's list. On a disk it is not switched: the format
// is not documented, and macOS keeps it in memory while it runs.
func addLoginItems(s *location.Survey, u *account.User, file, mode string, list []listed) {
	for _, l := range list {
		item := loginItemOf(u, file, l)
		if mode != "" && item.State == autostart.Enabled {
			item.Mode = mode
		}
		fixed(item, "only the running Mac changes the list of login items; switch it there, or in System "+
			"Settings > General > Login Items")
		s.Add(key(nil, l.path, l.name), item)
	}
}

func loginItemOf(u *account.User, file string, l listed) *location.Item {
	name := l.name
	if name == "" {
		name = "(no name)"
	}
	item := newItem(u, strings.TrimSuffix(name, ".app"), l.path, file)
	item.Source.Key = l.key
	if l.hidden {
		item.Mode = "hidden"
	}
	if l.path != "" {
		item.Argv = []string{l.path}
	}
	if l.off {
		off(item, "turned off in System Settings")
	}
	if l.broken != nil {
		item.Problems = append(item.Problems, autostart.Unparsable)
		item.AddFacts(func() []location.Fact {
			return []location.Fact{{Name: "cannot be parsed", Value: l.broken.Error(), Basis: file}}
		})
	}
	return item
}

// askLoginItems asks the running system for the list of a person. That nobody can
// be asked, because the person is not signed in, leaves the list on the disk.
func (d *disk) askLoginItems(s *location.Survey, u *account.User) bool {
	items, err := s.Machine.LoginItems(*u)
	if err != nil {
		if !errors.Is(err, mac.ErrNoLoginItems) && !errors.Is(err, files.ErrNeedsRights) &&
			!errors.Is(err, mac.ErrNotSignedIn) {
			s.Skip("login items of "+u.Name, &fs.PathError{Op: "ask", Path: u.Name, Err: err})
		}
		return false
	}
	s.Found()
	file := path.Join(u.Home, agentDatabase)
	if b := d.backgroundItems(s); b.there || !s.Machine.Release().Before(ventura) {
		file = b.file
	}
	for _, i := range items {
		item := loginItemOf(u, file, listed{name: i.Name, path: i.Path, hidden: i.Hidden})
		if i.Path == "" {
			// System Events takes one in by its path only, and has lost that of an app which is gone.
			item.Problems = append(item.Problems, autostart.TargetMissing)
			fixed(item, "its app is gone, so that it could not be brought back; take it out in System Settings > "+
				"General > Login Items")
		} else {
			a := mac.LoginItemOf(*u, i.Path)
			item.Switcher = location.Park{Artifact: a}
			item.Artifacts = func() []artifact.Artifact { return []artifact.Artifact{artifact.File(file), a} }
			if i.Hidden && !s.Machine.Release().Before(ventura) {
				item.Loses = "it is not kept that it opens hidden: macOS 13 and later do not take that back"
			}
		}
		s.Add(key(nil, i.Path, i.Name), item)
	}
	return true
}

// hooks are the keys of the sign-in window that run a program.
var hooks = []struct{ key, when string }{{"LoginHook", "before sign-in, as root"},
	{"LogoutHook", "after sign-out, as root"}}

func readLoginHooks(s *location.Survey) {
	places := append([]root{{"/", nil}}, homes(s)...)
	for _, p := range places {
		for _, name := range []string{"com.apple.loginwindow.plist", "loginwindow.plist"} {
			file := path.Join(p.path, "Library/Preferences", name)
			doc, ok := readPlist(s, file)
			if !ok {
				continue
			}
			for _, h := range hooks {
				command := doc.Dict().Text(h.key)
				if command == "" {
					continue
				}
				u := p.user
				if u != nil && u.UID == 0 {
					u = nil // root's preferences are those of the window itself
				}
				item := newItem(u, h.key, command, file)
				item.Source.Key, item.When, item.Argv = h.key, h.when, []string{command}
				if _, _, err := location.FindProgram(s, command); err != nil && strings.Contains(command, " ") {
					item.Argv = strings.Fields(command)
				}
				if u != nil {
					ignored(item, "hooks are read from root's preferences only")
				}
				item.Switcher = plistPart{part.Property{File: file, Path: []string{h.key}}}
				s.Add(key(p.user, file, h.key), item)
			}
			s.Adjusting(func(item *location.Item) {
				if path.Base(file) == "loginwindow.plist" && !s.Machine.Release().Before(snowLeopard) {
					ignored(item, "not read since Mac OS X 10.6")
				}
			}, func(s *location.Survey) {
				for k, d := range doc.Dict().Dicts("AutoLaunchedApplicationDictionary") {
					addAppOf(s, p.user, file, "AutoLaunchedApplicationDictionary", k, d, "")
				}
			})
		}
	}
}

// addAppOf reports an app of an array in a property list.
func addAppOf(s *location.Survey, u *account.User, file, name string, number int, d plist.Dict, mode string) {
	target := d.Text("Path")
	item := newItem(u, strings.TrimSuffix(path.Base(target), ".app"), target, file)
	item.Source.Key, item.Mode = name, mode
	if d.Bool("Hide") {
		item.Mode = strings.TrimPrefix(mode+", hidden", ", ")
	}
	if target == "" {
		item.Name, item.Problems = name+" "+strconv.Itoa(number+1), []string{autostart.Unparsable}
	} else {
		item.Argv = []string{target}
	}
	if element, err := part.NewElement(file, []string{name}, map[string]any(d)); err != nil {
		item.Switcher = location.NoSwitch{Why: err.Error()}
	} else {
		item.Switcher = plistPart{element}
	}
	s.Add(key(u, file, name, target), item)
}

// readReopen reports the apps that were open when the person signed out, and that
// open again. Preferences of another machine, which came with the home, do not
// count.
func readReopen(s *location.Survey) {
	for _, h := range homes(s) {
		dir := path.Join(h.path, "Library/Preferences/ByHost")
		for _, e := range s.Dir(dir) {
			id, ok := strings.CutPrefix(strings.TrimSuffix(e.Name(), ".plist"), "com.apple.loginwindow.")
			if !ok || !strings.HasSuffix(e.Name(), ".plist") || s.Machine.ID != "" &&
				!strings.EqualFold(id, s.Machine.ID) {
				continue
			}
			file := path.Join(dir, e.Name())
			doc, ok := readPlist(s, file)
			if !ok {
				continue
			}
			s.Adjusting(func(item *location.Item) {
				if s.Machine.Live {
					fixed(item, "macOS rewrites this list at sign-out; quit the app before, or turn off that "+
						"windows are opened again")
				}
				saves, known := preferenceOf(s, h.path, "com.apple.loginwindow.plist", "TALLogoutSavesState")
				if known && !saves {
					ignored(item, "apps are not opened again (TALLogoutSavesState)")
				}
			}, func(s *location.Survey) {
				for k, d := range doc.Dict().Dicts("TALAppsToRelaunchAtLogin") {
					addAppOf(s, h.user, file, "TALAppsToRelaunchAtLogin", k, d, "open at the last sign-out")
				}
			})
		}
	}
}

// preferenceOf is a yes or no of a user's preferences, and whether it is set.
func preferenceOf(s *location.Survey, home, file, name string) (yes, known bool) {
	content, err := s.ReadFile(path.Join(home, "Library/Preferences", file), files.MaxFileSize)
	if err != nil {
		return false, false
	}
	doc, err := plist.Parse(content)
	if err != nil {
		return false, false
	}
	yes, known = doc.Dict()[name].(bool)
	return yes, known
}

// Where an administrator's settings for many machines arrive.
const (
	managedFolder = "/Library/Managed Preferences"
	profileFolder = "/private/var/db/ConfigurationProfiles/Store"
	managedDomain = "com.apple.loginitems.managed"
)

// errProfileStore tells what is known about profiles all the same.
var errProfileStore = errors.New("the format of profiles is undocumented; what they set for sign-in is " +
	"read from " + managedFolder)

func readManaged(s *location.Survey) {
	read := func(u *account.User, file string) {
		if doc, ok := readPlist(s, file); ok {
			addManaged(s, u, file, doc.Dict())
		}
	}
	read(nil, path.Join(managedFolder, managedDomain+".plist"))
	for _, u := range people(s) {
		read(u, path.Join(managedFolder, u.Name, managedDomain+".plist"))
	}
	for _, e := range s.Dir(profileFolder) {
		file := path.Join(profileFolder, e.Name())
		if strings.EqualFold(path.Ext(e.Name()), ".binary") {
			s.Skip(file, &fs.PathError{Op: "read", Path: file, Err: errProfileStore})
		}
		if e.IsDir() || !slices.Contains([]string{".mobileconfig", ".profile", ".plist"}, path.Ext(e.Name())) {
			continue
		}
		doc, ok := readPlist(s, file)
		if !ok {
			continue
		}
		for _, payload := range doc.Dict().Dicts("PayloadContent") {
			if payload.Text("PayloadType") == managedDomain {
				addManaged(s, nil, file, payload)
			}
		}
	}
}

func addManaged(s *location.Survey, u *account.User, file string, d plist.Dict) {
	const name = "AutoLaunchedApplicationDictionary-managed"
	for k, entry := range d.Dicts(name) {
		s.Adjusting(func(item *location.Item) {
			fixed(item, "an administrator's profile sets it; remove it from the profile")
		},
			func(s *location.Survey) { addAppOf(s, u, file, name, k, entry, "managed") })
	}
}
