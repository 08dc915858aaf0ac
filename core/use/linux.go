package use

import (
	"encoding/xml"
	"net/url"
	"path"
	"strconv"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/desktopentry"
	"lockback/core/format/sqlitefile"
	"lockback/core/location"
	"lockback/core/machine/account"
	"lockback/core/machine/files"
)

// Bounds of a person's list.
const (
	maxList    = 8 << 20 // bytes
	maxEntries = 20_000
)

func (u *Uses) linux() {
	for k := range u.machine.Users {
		user := &u.machine.Users[k]
		name := autostart.Text(user.Name)
		// GNOME's shell keeps when each application was last in front.
		if text, err := u.machine.ReadFile(path.Join(user.Home, ".local/share/gnome-shell/application_state"),
			maxList); err == nil {
			for id, at := range ParseApplicationState(text) {
				u.add(u.ofDesktopFile(id, user), autostart.Use{Last: at, User: name, Basis: "GNOME's list of " + name})
			}
		}
		u.plasma(user)
		// Every program of GTK and most others note which files they opened.
		if text, err := u.machine.ReadFile(path.Join(user.Home, ".local/share/recently-used.xbel"),
			maxList); err == nil {
			for command, use := range ParseRecentlyUsed(text) {
				use.User, use.Basis = name, "the list of recent files of "+name
				u.add(u.ofCommand(command), use)
			}
		}
	}
}

// plasmaDatabase is where the activity manager of Plasma counts what a person opens.
const plasmaDatabase = ".local/share/kactivitymanagerd/resources/database"

// plasma reads when a person last started each application from Plasma's menu, its runner or its
// bar of tasks: rows of ResourceScoreCache for each activity and place to start from, with the time
// in seconds (ResourceScoreCache.cpp of kactivitymanagerd).
func (u *Uses) plasma(user *account.User) {
	file, size, err := u.machine.OpenFile(path.Join(user.Home, plasmaDatabase))
	if err != nil || size > maxDatabase {
		return
	}
	defer file.Close()
	db, err := sqlitefile.Open(file, size)
	if err != nil {
		return
	}
	defer db.Close()
	if db.Tables("ResourceScoreCache") != nil {
		return
	}
	rows, err := db.Rows(`SELECT targettedResource, max(lastUpdate) FROM ResourceScoreCache WHERE `+
		`targettedResource LIKE 'applications:%' AND length(targettedResource) < 300 AND typeof(lastUpdate) = `+
		`'integer' GROUP BY targettedResource LIMIT ?`, int64(maxEntries))
	if err != nil {
		return
	}
	name := autostart.Text(user.Name)
	for _, row := range rows {
		resource, ok1 := row[0].(string)
		at, ok2 := row[1].(int64)
		if ok1 && ok2 && at > 0 && at < 1<<40 {
			u.add(u.ofDesktopFile(strings.TrimPrefix(resource, "applications:"), user),
				autostart.Use{Last: time.Unix(at, 0).UTC(), User: name, Basis: "Plasma's list of " + name})
		}
	}
}

// maxDatabase is how large such a database may be, in bytes.
const maxDatabase = 64 << 20

// applicationFolders hold the desktop files of applications.
func applicationFolders(user *account.User) []string {
	return []string{path.Join(user.Home, ".local/share/applications"), "/usr/local/share/applications",
		"/usr/share/applications", "/var/lib/flatpak/exports/share/applications", "/var/lib/snapd/desktop/applications"}
}

// ofDesktopFile is the program of an application's desktop file.
func (u *Uses) ofDesktopFile(id string, user *account.User) string {
	if strings.ContainsAny(id, "/\x00") {
		return ""
	}
	for _, folder := range applicationFolders(user) {
		text, err := u.machine.ReadFile(path.Join(folder, id), files.MaxFileSize)
		if err != nil {
			continue
		}
		entry, err := desktopentry.Parse(text)
		if err != nil {
			return ""
		}
		command, _ := entry.Get("Exec")
		if words := desktopentry.SplitExec(command); len(words) > 0 {
			return u.ofCommand(words[0])
		}
		return ""
	}
	return ""
}

// ofCommand is the program that a command's first word names.
func (u *Uses) ofCommand(command string) string {
	words := strings.Fields(strings.Trim(command, `'"`))
	if len(words) == 0 {
		return ""
	}
	file, _, err := location.FindProgram(u.machine, strings.Trim(words[0], `'"`))
	if err != nil {
		return ""
	}
	return file
}

// ParseApplicationState reads GNOME's list: when each application was last seen, by the name of its
// desktop file. What cannot be read is left out.
func ParseApplicationState(text []byte) map[string]time.Time {
	var list struct {
		Applications []struct {
			ID   string `xml:"id,attr"`
			Seen string `xml:"last-seen,attr"`
		} `xml:"context>application"`
	}
	if err := xml.Unmarshal(text, &list); err != nil || len(list.Applications) > maxEntries {
		return nil
	}
	all := map[string]time.Time{}
	for _, a := range list.Applications {
		if seconds, err := strconv.ParseInt(a.Seen, 10, 64); err == nil && seconds > 0 && seconds < 1<<40 {
			all[a.ID] = time.Unix(seconds, 0).UTC()
		}
	}
	return all
}

// ParseRecentlyUsed reads the list of recent files, "Recent File Storage" of freedesktop.org in the
// form of XBEL: which program opened one when, and how often, by the program's command.
func ParseRecentlyUsed(text []byte) map[string]autostart.Use {
	var list struct {
		Bookmarks []struct {
			Applications []struct {
				Command  string `xml:"exec,attr"`
				Modified string `xml:"modified,attr"`
				Count    int    `xml:"count,attr"`
			} `xml:"info>metadata>applications>application"`
		} `xml:"bookmark"`
	}
	if err := xml.Unmarshal(text, &list); err != nil || len(list.Bookmarks) > maxEntries {
		return nil
	}
	all := map[string]autostart.Use{}
	for _, b := range list.Bookmarks {
		for _, a := range b.Applications {
			at, err := time.Parse(time.RFC3339, a.Modified)
			if err != nil {
				continue
			}
			command, err := url.PathUnescape(a.Command)
			if err != nil {
				command = a.Command
			}
			use := all[command]
			if use.Count += max(a.Count, 0); at.After(use.Last) {
				use.Last = at.UTC()
			}
			all[command] = use
		}
	}
	return all
}
