package location

import (
	"cmp"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/core/machine/files"
)

// Place is where a location looks: a file, the files of a folder, those of an override chain, or
// a key of the registry. A path that begins with ~/ stands in every home, a key that begins with
// HKCU in the registry of every user.
type Place struct {
	Path string
	// Words tell of places that no path can name; Path is empty then.
	Words string
	// Packaged says that only the system's own packages put files there.
	Packaged bool
	// Values are the values of a key that are meant; all where there are none.
	Values []string
	// Folder says that the files in it are meant, those whose names end in Suffix.
	Folder bool
	Suffix string
	// Chain are the folders that Path lies in, of which the first one that has a name decides;
	// the others are the vendors'. A link to /dev/null, or a file of no size, masks
	// the name.
	Chain []string
}

// At are single files.
func At(files ...string) []Place {
	places := make([]Place, len(files))
	for k, file := range files {
		places[k].Path = file
	}
	return places
}

// In are the files of folders.
func In(folders ...string) []Place {
	places := At(folders...)
	for k := range places {
		places[k].Folder = true
	}
	return places
}

// Chain is the usual override chain of systemd and its kin: a folder in /etc, /run,
// /usr/local/lib and /usr/lib.
func Chain(folder, suffix string) []Place {
	return []Place{{Path: folder, Folder: true, Suffix: suffix, Chain: []string{"/etc", "/run", "/usr/local/lib",
		"/usr/lib"}}}
}

// Packaged marks those of some places where only the system's own packages put files.
func Packaged(places []Place, packaged ...string) []Place {
	for k := range places {
		places[k].Packaged = slices.Contains(packaged, places[k].Path)
	}
	return places
}

// Values are some values of a key.
func Values(key string, names ...string) []Place { return []Place{{Path: key, Values: names}} }

// InWords is a place that can only be described in words: code of the location's own finds it.
func InWords(words string) []Place { return []Place{{Words: words}} }

// String names the place for a person.
func (p Place) String() string {
	if p.Words != "" {
		return p.Words
	}
	text := p.Path
	separator := ": "
	for _, name := range p.Values {
		text += separator + cmp.Or(name, "(default)")
		separator = ", "
	}
	if len(p.Chain) > 0 {
		text = "{" + strings.Join(p.Chain, ",") + "}/" + text
	}
	if p.Suffix != "" {
		text += "/*" + p.Suffix
	}
	return text
}

// Found is a file of a place.
type Found struct {
	Path string
	Dir  string // of the place, as it is declared; empty for a single file
	User *account.User
	// Own is where the administrator's file of a chain stands, or would stand, and Vendor the
	// one that decides without it; both are empty outside chains, and Vendor where nothing is
	// behind.
	Own, Vendor string
	// Masked is what masks the file; empty if nothing does.
	Masked string
	// Foreign says that a user's own file has this one read, which is not the user's: what is in it is
	// listed, and not changed because of that.
	Foreign bool
	// Section is that of the file which a line stands in, in brackets as it is written there;
	// empty before the first.
	Section string
	// Key identifies the file, wherever in its chain it is read from.
	Key string
}

// Each visits the files of places. One that several single files, or a chain, lead to is visited
// once; in a folder every name counts, wherever it leads. What cannot be read is reported.
func (s *Survey) Each(places []Place, visit func(Found)) {
	seen := map[string]int{} // the place that a file was first found in
	for n, p := range places {
		if p.Path == "" {
			continue // only words, see [InWords]
		}
		once := func(f Found) {
			full, err := s.Resolve(f.Path)
			first, before := seen[full]
			if err == nil && before && first != n && (!p.Folder || len(p.Chain) > 0) {
				return
			}
			seen[full] = n
			visit(f)
		}
		home, personal := strings.CutPrefix(p.Path, "~")
		switch {
		case len(p.Chain) > 0:
			s.eachOfChain(p, once)
		case !personal:
			for _, file := range s.Expand("/", p.Path, p.Folder) {
				s.eachIn(p, Found{Path: file, Key: file}, once)
			}
		default:
			for k := range s.Machine.Users {
				u := &s.Machine.Users[k]
				if !s.mayHave(u, home) {
					continue
				}
				for _, file := range s.Expand(u.Home, home, p.Folder) {
					s.eachIn(p, Found{Path: path.Join(u.Home, file), Key: path.Join("~", file), User: u}, once)
				}
			}
		}
	}
}

// maxMatches is how many folders a place with patterns may stand for.
const maxMatches = 1000

// Expand returns the paths below a folder that a pattern stands for: each element that has a * is
// matched against the names of its folder; only folders are meant before the last one, and there where
// folders says so. Most patterns have none, and are returned as they are.
func (s *Survey) Expand(dir, pattern string, folders bool) []string {
	if !strings.Contains(pattern, "*") {
		return []string{pattern}
	}
	found := []string{""}
	elements := strings.Split(strings.Trim(pattern, "/"), "/")
	for n, element := range elements {
		var next []string
		for _, f := range found {
			if !strings.Contains(element, "*") {
				next = append(next, f+"/"+element)
				continue
			}
			entries, err := s.ReadDir(path.Join(dir, f))
			if err != nil && !files.IsMissing(err) {
				s.Skip(path.Join(dir, f), err)
			}
			for _, e := range entries {
				matches, _ := path.Match(element, e.Name())
				if matches && (n == len(elements)-1 && !folders || s.isFolder(path.Join(dir, f, e.Name()), e)) {
					next = append(next, f+"/"+e.Name())
				}
			}
		}
		if found = next; len(found) > maxMatches {
			s.Skip(path.Join(dir, pattern), fmt.Errorf("%w: more than %d places", files.ErrTooLarge, maxMatches))
			found = found[:maxMatches]
		}
	}
	return found
}

// isFolder reports whether an element of a folder is one itself, or a link to one.
func (s *Survey) isFolder(file string, e fs.DirEntry) bool {
	if e.Type()&fs.ModeSymlink == 0 {
		return e.IsDir()
	}
	info, err := s.Stat(file)
	return err == nil && info.IsDir()
}

// mayHave reports whether something can be at a place of a user's home: it is not where the home has nothing of the
// name that the place begins with. Of each home that is read once, for all places in it.
func (s *Survey) mayHave(u *account.User, place string) bool {
	if s.Machine.OS != "linux" { // elsewhere names differ in their letters
		return true
	}
	first, _, _ := strings.Cut(strings.TrimPrefix(place, "/"), "/")
	if strings.Contains(first, "*") {
		return true
	}
	names := s.Shared("names in "+u.Home, func() any {
		entries, err := s.ReadDir(u.Home)
		if err != nil && !files.IsMissing(err) {
			return map[string]bool(nil) // whoever asks for more is told why
		}
		names := make(map[string]bool, len(entries))
		for _, e := range entries {
			names[e.Name()] = true
		}
		return names
	}).(map[string]bool)
	return names == nil || names[first]
}

// eachIn visits a file, or those of a folder.
func (s *Survey) eachIn(p Place, at Found, visit func(Found)) {
	if !p.Folder {
		if _, err := s.Lstat(at.Path); err != nil {
			s.Skip(at.Path, err)
			return
		}
		visit(at)
		return
	}
	for _, e := range s.Dir(at.Path) {
		if strings.HasSuffix(e.Name(), p.Suffix) && !e.IsDir() {
			in := at
			in.Dir, in.Path, in.Key = at.Key, path.Join(at.Path, e.Name()), path.Join(at.Key, e.Name())
			visit(in)
		}
	}
}

// eachOfChain visits, of each name in a chain, the file that decides; of a name that is
// masked, the one that the mask stands before.
func (s *Survey) eachOfChain(p Place, visit func(Found)) {
	var names []string
	has := map[string][]string{} // a name, to its files, the deciding one first
	for _, root := range p.Chain {
		dir := path.Join(root, p.Path)
		for _, e := range s.Dir(dir) {
			if !strings.HasSuffix(e.Name(), p.Suffix) || e.IsDir() {
				continue
			}
			if has[e.Name()] == nil {
				names = append(names, e.Name())
			}
			has[e.Name()] = append(has[e.Name()], path.Join(dir, e.Name()))
		}
	}
	slices.Sort(names)
	for _, name := range names {
		f := Found{Dir: p.Path, Key: path.Join(p.Path, name)}
		for _, root := range p.Chain {
			if !strings.HasPrefix(root, "/run") { // which is gone with the next start
				f.Own = path.Join(root, p.Path, name)
				break
			}
		}
		for _, file := range has[name] {
			switch masks := s.masks(file); {
			case masks && f.Path == "" && f.Masked == "":
				f.Masked = file
			case masks:
			case f.Path == "":
				f.Path = file
			}
			if file != f.Own && !s.masks(file) && f.Vendor == "" {
				f.Vendor = file
			}
		}
		if f.Path != "" {
			visit(f)
		}
	}
}

// masks reports whether a file of a chain is there only to hide the ones behind it.
func (s *Survey) masks(file string) bool {
	info, err := s.Lstat(file)
	if err != nil {
		return false
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		target, _ := s.Readlink(file)
		return target == "/dev/null"
	}
	return info.Mode().IsRegular() && info.Size() == 0
}

// holds reports whether a path is that of the place, or lies in it.
func holds(place, file string) bool {
	if strings.Contains(place, "*") {
		elements, pattern := strings.Split(file, "/"), strings.Split(place, "/")
		if len(elements) < len(pattern) {
			return false
		}
		matches, _ := path.Match(place, strings.Join(elements[:len(pattern)], "/"))
		return matches
	}
	rest, ok := strings.CutPrefix(file, place)
	return ok && (rest == "" || rest[0] == '/')
}

// Packaged reports whether a file lies where only the system's own packages put files.
func (l Location) Packaged(file string) bool { return heldBy(l.packaged(), file) }

// packaged are the paths of the places where only the system's own packages put files.
func (l Location) packaged() []string {
	var paths []string
	for _, r := range l.readings() {
		for _, p := range r.Places {
			if p.Packaged {
				paths = append(paths, p.Path)
			}
		}
	}
	return paths
}

// heldBy reports whether a file lies at one of some paths, or in it.
func heldBy(paths []string, file string) bool {
	return slices.ContainsFunc(paths, func(p string) bool { return holds(p, file) })
}

// Daemons are those of a running system that must be notified after files were changed, by the rows
// of its table: the system's first, then people's in their order.
func Daemons(users []account.User, table []Location, files []string) []machine.Daemon {
	homes := map[string]string{} // a home, to whose it is
	for _, u := range users {
		homes[u.Home] = u.Name
	}
	notified := map[machine.Daemon]bool{}
	for _, file := range files {
		user, below, inHome := "", "", false
		for dir := path.Dir(file); dir != "/" && dir != "." && !inHome; dir = path.Dir(dir) {
			if user, inHome = homes[dir]; inHome {
				below = "~" + file[len(dir):]
			}
		}
		for _, l := range table {
			if l.Notify.Daemon == "" {
				continue
			}
			for _, p := range l.Places {
				switch everyone := l.Notify.Everyone; {
				case inHome && holds(p.Path, below):
					notified[machine.Daemon{Kind: l.Notify.Daemon, User: user}] = true
				case holds(p.Path, file) && !everyone:
					notified[machine.Daemon{Kind: l.Notify.Daemon}] = true
				case holds(p.Path, file):
					for _, u := range users {
						notified[machine.Daemon{Kind: l.Notify.Daemon, User: u.Name}] = true
					}
				}
			}
		}
	}
	var list []machine.Daemon
	for _, kind := range []machine.DaemonKind{machine.ServiceManager, machine.Preferences} {
		for _, u := range append([]account.User{{}}, users...) {
			if d := (machine.Daemon{Kind: kind, User: u.Name}); notified[d] {
				list = append(list, d)
			}
		}
	}
	return list
}

// Form is how the files of places are read into entries, and how those are switched.
type Form interface {
	// Word is what the switch of its entries is called.
	Word() autostart.Switch
	// Read reports the entries.
	Read(*Survey, []Place)
}

// Code is the form of what is peculiar: code of the location's own reads it.
type Code struct {
	Shows  autostart.Switch   // what the switch of its entries is called
	Others []autostart.Switch // the other switches that some of its entries have
	Reader func(*Survey, []Place)
}

// Word is what the code says that it is.
func (c Code) Word() autostart.Switch { return c.Shows }

// Read reports what the code finds.
func (c Code) Read(s *Survey, places []Place) { c.Reader(s, places) }

// Reporting is a form whose entries are listed, compared and restored, but have no switch.
type Reporting struct {
	Form
	Why string // there is none
}

// Word is [autostart.Report].
func (Reporting) Word() autostart.Switch { return autostart.Report }

// Read reports what the form finds.
func (r Reporting) Read(s *Survey, places []Place) {
	s.Adjusting(func(item *Item) {
		if _, none := item.Switcher.(NoSwitch); !none {
			item.Switcher = NoSwitch{Why: r.Why, Of: Capabilities(item.Switcher).Part}
		}
	}, func(s *Survey) { r.Form.Read(s, places) })
}

// Alone makes a reader of one that knows its places by itself.
func Alone(read func(*Survey)) func(*Survey, []Place) {
	return func(s *Survey, _ []Place) { read(s) }
}
