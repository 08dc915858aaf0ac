package program

import (
	"encoding/xml"
	"path"
	"regexp"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/machine"
	"lockback/core/machine/files"
)

// flatpakFile is a file of an app that Flatpak installed, for everyone or for one user: below
// app/ID/.../files, flatpak-metadata(5), or the command for the host that it made beside them.
var flatpakFile = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(.*/flatpak/app/([^/]+)/(?:current|[^/]+/[^/]+)/[^/]+)/(?:files|export/bin)/`)
})

// flatpaks tells what apps of Flatpak say about themselves in their description, AppStream's
// metainfo. Whether they are as they were delivered is not compared.
func flatpaks(m *machine.Reader, programs []*File) {
	for _, f := range programs {
		match := flatpakFile().FindStringSubmatch(f.Path)
		if match == nil {
			continue
		}
		e := Evidence{Basis: autostart.ByPackage, Source: "app " + match[2] + " (Flatpak)", Product: match[2],
			Notes: []Note{{Name: "not compared", Text: "Flatpak keeps its sums in a store of its own"}}}
		for _, name := range []string{"share/metainfo/" + match[2] + ".metainfo.xml", "share/appdata/" + match[2] +
			".appdata.xml", "share/metainfo/" + match[2] + ".appdata.xml"} {
			content, err := m.ReadFile(path.Join(match[1], "files", name), files.MaxFileSize)
			if err != nil {
				continue
			}
			var about appStream
			if err := xml.Unmarshal(content, &about); err == nil {
				about.tell(&e)
			}
			break
		}
		f.Evidence = append(f.Evidence, e)
	}
}

// appStream is the description of an app, "Component Metadata" of AppStream's specification.
type appStream struct {
	Names     []localText `xml:"name"`
	Summaries []localText `xml:"summary"`
	Developer []localText `xml:"developer_name"`
	Maker     struct {
		Names []localText `xml:"name"`
	} `xml:"developer"`
	Releases []struct {
		Version string `xml:"version,attr"`
	} `xml:"releases>release"`
}

type localText struct {
	Language string `xml:"lang,attr"`
	Text     string `xml:",chardata"`
}

// plain is the text in no particular language.
func plain(texts []localText) string {
	for _, t := range texts {
		if t.Language == "" {
			return strings.TrimSpace(t.Text)
		}
	}
	return ""
}

func (a appStream) tell(e *Evidence) {
	e.Product = firstOf(plain(a.Names), e.Product)
	e.Description = plain(a.Summaries)
	e.Maker = firstOf(plain(a.Maker.Names), plain(a.Developer))
	if len(a.Releases) > 0 {
		e.Version = a.Releases[0].Version
	}
}

// snapImage is the file of a snap: its name and revision.
var snapImage = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`^/var/lib/snapd/snaps/([^/]+)_([^_/]+)\.snap$`)
})

// snapAssertions is where snapd keeps what the store signed about its snaps.
const snapAssertions = "/var/lib/snapd/assertions/asserts-v0"

// snaps tells who published snaps, as the store's assertions say. Their signatures are not checked.
func snaps(m *machine.Reader, files []*File) {
	var publishers map[string]string
	for _, f := range files {
		match := snapImage().FindStringSubmatch(f.Path)
		if match == nil {
			continue
		}
		if publishers == nil {
			publishers = snapPublishers(m)
		}
		f.Kind = "snap"
		f.Evidence = append(f.Evidence, Evidence{Basis: autostart.ByPackage, Source: "snap " + match[1],
			Product: match[1], Version: "revision " + match[2], Maker: publishers[match[1]],
			Notes: []Note{{Name: "not compared", Text: "the signatures of the store are not checked"}}})
	}
}

// maxAssertions is how many snaps are looked at.
const maxAssertions = 1000

// snapPublishers are who published which snap, by its name.
func snapPublishers(m *machine.Reader) map[string]string {
	publishers := map[string]string{}
	dir := snapAssertions + "/snap-declaration/16"
	entries, _ := m.ReadDir(dir)
	for _, e := range entries[:min(len(entries), maxAssertions)] {
		declaration := assertion(m, path.Join(dir, e.Name(), "active"))
		account := assertion(m, path.Join(snapAssertions, "account", declaration["publisher-id"], "active"))
		if name := declaration["snap-name"]; name != "" {
			publishers[name] = firstOf(account["display-name"], account["username"])
		}
	}
	return publishers
}

// assertion reads the headings of an assertion, up to the empty line.
func assertion(m *machine.Reader, name string) map[string]string {
	content, err := m.ReadFile(name, files.MaxFileSize)
	if err != nil {
		return nil
	}
	all := map[string]string{}
	for line := range strings.Lines(string(content)) {
		key, value, ok := strings.Cut(strings.TrimRight(line, "\n"), ": ")
		if !ok {
			if strings.TrimSpace(line) == "" {
				break
			}
			continue
		}
		all[key] = value
	}
	return all
}
