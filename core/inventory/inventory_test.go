//go:build unix

package inventory

import (
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/table"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/internal/demo"
)

// choices are the alternatives in a place: {a,b,...}.
var choices = regexp.MustCompile(`\{([^{}]*)\}`)

// patterns are the regular expressions of the paths that a place stands for; none if it is
// told in words.
func patterns(where string) []string {
	where, _, _ = strings.Cut(where, ": ")
	if !regexp.MustCompile(`^(/|~/|\{/|HK|C:)`).MatchString(where) {
		return nil
	}
	if m := choices.FindStringSubmatchIndex(where); m != nil && strings.Contains(where[m[2]:m[3]], ",") {
		var all []string
		for choice := range strings.SplitSeq(where[m[2]:m[3]], ",") {
			if choice != "..." {
				all = append(all, patterns(where[:m[0]]+choice+where[m[1]:])...)
			}
		}
		return all
	}
	if file, suffix, ok := strings.Cut(where, "/*."); ok && !strings.Contains(suffix, "/") {
		where = file // the folder is listed
	}
	where, _, _ = strings.Cut(where, `\*`) // keys below a key come from that
	p := regexp.QuoteMeta(where)
	p = strings.ReplaceAll(p, `\*`, `[^/\\]*`)
	p = strings.Replace(p, `HKCU\\Software\\Classes`, `HKU\\[^\\]*_Classes`, 1) // a hive of its own
	p = strings.Replace(p, `HKCU`, `HKU\\[^\\]*`, 1)
	if rest, personal := strings.CutPrefix(p, "~"); personal {
		p = `/.*` + rest
	}
	return []string{`(?i)^` + p + `([/\\]|$)`}
}

// Each location looks where it says that it does, and each entry shows the switch that acts.
func TestRowsAreTrue(t *testing.T) {
	spoken := 0 // places that are told in words
	for _, name := range []string{"ticket-desk-pc", "archive-mac", "workshop-box"} {
		root := filepath.Join(t.TempDir(), name)
		require.NoError(t, demo.BuildMachine(name, root))
		m, err := machine.Open(root)
		require.NoError(t, err)
		defer m.Close()
		ids := map[string]bool{}
		for _, row := range notLookedAt[m.OS] {
			require.True(t, strings.HasPrefix(row.ID, m.OS+".") && row.Title != "" && len(row.Where()) > 0, row.ID)
			require.False(t, ids[row.ID], "%s stands twice, or is read and said to be not looked at", row.ID)
			ids[row.ID] = true
		}
		for n := range table.Of(m.OS) {
			row := table.Of(m.OS)[n] // nothing is remembered from the others
			require.False(t, ids[row.ID], "%s stands twice", row.ID)
			ids[row.ID] = true
			var lock sync.Mutex
			seen := map[string]bool{}
			reader := m.Reader(func(place string) { lock.Lock(); seen[place] = true; lock.Unlock() })
			items, _, _ := location.Run(reader, []location.Location{row})
			require.NotEmpty(t, row.Where(), row.ID)
			require.NotEmpty(t, row.Title, row.ID)
			require.NotEmpty(t, items, "%s has no entry on an example machine", row.ID)
			for _, where := range row.Where() {
				all := patterns(where)
				if len(all) == 0 {
					spoken++
				}
				for _, pattern := range all {
					if before, _, some := strings.Cut(pattern, `[^/`); some {
						pattern = before[:strings.LastIndex(before, "/")] + `$` // the folder that has the names
					}
					if strings.HasPrefix(where, "/run/") {
						continue // a disk has nothing there
					}
					looked := slices.ContainsFunc(slices.Collect(maps.Keys(seen)),
						regexp.MustCompile(pattern).MatchString)
					if first, _, _ := strings.Cut(strings.TrimPrefix(where, "~/"), "/"); m.OS == "linux" &&
						strings.HasPrefix(where, "~/") && !homesHave(t, m, first) {
						looked = looked || seen["/home/ines"] // where nothing of that name is
					}
					require.True(t, looked, "%s says that it looks at %s, and does not: %s", row.ID, where, pattern)
				}
			}
			words := map[autostart.Switch]bool{}
			for _, i := range items {
				require.Equal(t, i.Word(), i.Switch, "%s %s", row.ID, i.Name)
				words[i.Switch] = true
			}
			delete(words, autostart.Report)
			for _, r := range append(row.Also, location.Reading{Form: row.Form}) {
				delete(words, r.Form.Word())
				if code, ok := r.Form.(location.Code); ok {
					for _, other := range code.Others {
						delete(words, other)
					}
				}
			}
			require.Empty(t, words, "%s switches by its forms only", row.ID)
			require.NotEmpty(t, row.Switch(), row.ID)
		}
	}
	require.Less(t, spoken, 12)
}

// Which daemons must hear of which files, by the rows.
func TestWhoIsTold(t *testing.T) {
	linux := []account.User{{Name: "root", Home: "/root"}, {Name: "ines", UID: 1000, Home: "/home/ines"},
		{Name: "bram", UID: 1001, Home: "/home/bram"}}
	mac := []account.User{{Name: "root", Home: "/private/var/root"}, {Name: "jonas", UID: 501, Home: "/Users/jonas"}}
	all := []string{"root", "ines", "bram"}
	for _, c := range []struct {
		os   string
		file string
		want []string // whose; the system's is ""
	}{
		{"linux", "/etc/systemd/system/a.service", []string{""}},
		{"linux", "/etc/systemd/system.control/a.service", []string{""}},
		{"linux", "/usr/lib/systemd/system/x.wants/a.service", []string{""}},
		{"linux", "/etc/systemd/user/a.service", all},
		{"linux", "/etc/xdg/autostart/bell.desktop", all},
		{"linux", "/home/ines/.config/systemd/user/a.service", []string{"ines"}},
		{"linux", "/home/ines/.config/systemd/user.control/a.service", []string{"ines"}},
		{"linux", "/home/bram/.config/autostart/bell.desktop", []string{"bram"}},
		{"linux", "/root/.config/autostart/bell.desktop", []string{"root"}},
		{"linux", "/home/inesother/.config/autostart/x.desktop", nil},
		{"linux", "/etc/systemd/systemx/a.service", nil},
		{"linux", "/etc/crontab", nil},
		{"linux", "/etc/rc.local", nil},
		{"macos", "/Library/Preferences/com.apple.loginwindow.plist", []string{""}},
		{"macos", "/Users/jonas/Library/Preferences/ByHost/com.apple.loginwindow.0A1B.plist", []string{"jonas"}},
		{"macos", "/Users/jonas/Library/Preferences/com.apple.FolderActionsDispatcher.plist", []string{"jonas"}},
		{"macos", "/Users/jonas/Library/Preferences/com.apple.loginitems.plist", []string{"jonas"}},
		{"macos", "/Users/jonas/Library/LaunchAgents/a.plist", nil},
	} {
		users, kind := linux, machine.ServiceManager
		if c.os == "macos" {
			users, kind = mac, machine.Preferences
		}
		var whose []string
		for _, d := range location.Daemons(users, table.Of(c.os), []string{c.file}) {
			require.Equal(t, kind, d.Kind)
			whose = append(whose, d.User)
		}
		require.Equal(t, c.want, whose, c.file)
	}
	both := location.Daemons(linux, table.Of("linux"), []string{"/home/bram/.config/systemd/user/a.service",
		"/etc/systemd/system/a.service", "/etc/systemd/system/b.service"})
	require.Equal(t, []machine.Daemon{{Kind: machine.ServiceManager}, {Kind: machine.ServiceManager, User: "bram"}},
		both)
}

// homesHave reports whether a home of the machine has a name.
func homesHave(t *testing.T, m *machine.Machine, name string) bool {
	for _, u := range m.Users {
		if _, err := m.Lstat(u.Home + "/" + name); err == nil {
			return true
		}
	}
	return false
}
