//go:build unix

package location_test

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// A location tells what reading it gave, and entries that look the same are told apart by the order in which they
// stand.
func TestWhatCameOfReading(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "etc/empty"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/os-release"), nil, 0o644))
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	twice := func(s *location.Survey) {
		for range 2 {
			s.Add("same key", &location.Item{Entry: autostart.Entry{Name: "twin\xff"}, Switcher: location.Park{},
				Artifacts: func() []artifact.Artifact { return nil }})
		}
		s.Add("same key", &location.Item{Entry: autostart.Entry{Name: "other", User: "ines", Stage: autostart.Event},
			Switcher: location.NoSwitch{}, Effect: location.AtOnce})
	}
	code := func(read func(*location.Survey)) location.Form {
		return location.Code{Shows: autostart.Park, Reader: location.Alone(read)}
	}
	items, unread, reports := location.Run(m.Reader(nil), []location.Location{
		{ID: "x.read", Stage: autostart.Boot, Effect: location.WithinMinute, Form: code(twice)},
		{ID: "x.empty", Form: code(func(s *location.Survey) { s.Dir("/etc/empty") })},
		{ID: "x.absent", Form: code(func(s *location.Survey) { s.Dir("/etc/absent"); s.File("/etc/absent/file") })},
		{ID: "x.unread", Form: code(func(s *location.Survey) {
			s.Skip("/b", errors.New("why"))
			s.Skip("/a", fs.ErrPermission)
			s.File("/etc")
		})},
	})
	var statuses []location.Status
	for _, r := range reports {
		statuses = append(statuses, r.Status)
	}
	require.Equal(t, []location.Status{location.Read, location.Empty, location.Absent, location.StatusUnread}, statuses)
	require.Equal(t, "/a: permission denied (and 2 more)", reports[3].Reason)
	require.Len(t, unread, 3)
	require.Len(t, items, 3)
	require.NotEqual(t, items[0].Handle, items[1].Handle)
	require.Equal(t, `twin\xff`, items[0].Name)
	require.Equal(t, []any{autostart.Boot, autostart.Park, autostart.ForSystem, location.AtNextStart},
		[]any{items[0].Stage, items[0].Switch, items[0].Scope, items[0].Effect})
	require.Equal(t, []any{autostart.Event, autostart.Report, autostart.ForUser, location.AtOnce},
		[]any{items[2].Stage, items[2].Switch, items[2].Scope, items[2].Effect})
	require.NotEqual(t, items[0].Handle, items[2].Handle)
}

func TestFindProgram(t *testing.T) {
	root := t.TempDir()
	for _, name := range []string{"etc/os-release", "usr/bin/tool", "usr/local/bin/tool", "opt/x/run"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, filepath.Dir(name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), nil, 0o755))
	}
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	for word, want := range map[string]string{"tool": "/usr/local/bin/tool", "/opt/x/../x/run": "/opt/x/run"} {
		file, info, err := location.FindProgram(m, word)
		require.NoError(t, err)
		require.Equal(t, want, file)
		require.True(t, info.Mode().IsRegular())
	}
	for word, want := range map[string]error{"gone": fs.ErrNotExist, "/opt/gone": fs.ErrNotExist,
		"x/run": fs.ErrInvalid, "": fs.ErrInvalid} {
		_, _, err := location.FindProgram(m, word)
		require.ErrorIs(t, err, want, word)
	}
}

// A home that cannot be read is told once; what cannot be read in it for another reason is told besides.
func TestAHomeThatCannotBeReadIsToldOnce(t *testing.T) {
	root := t.TempDir()
	for name, content := range map[string]string{"etc/os-release": "",
		"etc/passwd": "ines:x:1000:1000::/home/ines:/bin/sh\nbram:x:1001:1001::/home/bram:/bin/sh\n",
		"home/ines":  "no folder", "home/bram/x": ""} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(content), 0o644))
	}
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	places := []string{"/home/ines/.profile", "/home/ines/.config/a", "/home/ines/other", "/home/ines2/x",
		"/home/bram/large"}
	_, unread, _ := location.Run(m.Reader(nil),
		[]location.Location{{ID: "test", Form: location.Code{Reader: func(s *location.Survey, _ []location.Place) {
			_, home := s.ReadDir("/home/ines")
			for _, place := range places {
				err := home
				if place == "/home/ines/other" || place == "/home/bram/large" {
					err = files.ErrTooLarge
				}
				s.Skip(place, err)
			}
		}}}})
	reported := map[string]string{}
	for _, u := range unread {
		reported[u.Path] = u.Location
	}
	require.Equal(t, map[string]string{"/home/ines": "", "/home/ines/other": "test", "/home/ines2/x": "test",
		"/home/bram/large": "test"}, reported)
}

// A field of an item that has the name of one of the entry would hide it, and compile.
func TestItemHidesNoFieldOfItsEntry(t *testing.T) {
	t.Parallel()
	item := reflect.TypeFor[location.Item]()
	for _, field := range reflect.VisibleFields(reflect.TypeFor[autostart.Entry]()) {
		found, ok := item.FieldByName(field.Name)
		require.True(t, ok, field.Name)
		require.Equal(t, "Entry", item.Field(found.Index[0]).Name, field.Name)
	}
}

// The daemon of a location is told of files in its places, and of no others.
func TestDaemons(t *testing.T) {
	ines := account.User{Name: "ines", Home: "/home/ines"}
	table := []location.Location{{Places: location.In("/etc/tide", "~/.tide"), Notify: location.Notify{
		Daemon: machine.ServiceManager}}, {Places: location.In("/etc/reef"), Notify: location.Notify{
		Daemon: machine.ServiceManager, Everyone: true}}, {Places: location.In("/etc/plain")}}
	manager := func(user string) []machine.Daemon {
		return []machine.Daemon{{Kind: machine.ServiceManager, User: user}}
	}
	for file, want := range map[string][]machine.Daemon{"/etc/tide/a": manager(""),
		"/home/ines/.tide/a": manager("ines"),
		"/etc/reef/a":        manager("ines"), "/etc/plain/a": nil, "/opt/a": nil} {
		require.Equal(t, want, location.Daemons([]account.User{ines}, table, []string{file}), file)
	}
}
