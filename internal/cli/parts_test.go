//go:build unix

package cli_test

import (
	"bytes"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/format/plist"
	"lockback/core/format/regf"
	"lockback/core/inventory"
	"lockback/core/location/part"
	"lockback/core/machine"
	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

// sharing is an entry that has only a part of an artifact.
type sharing struct {
	machine, handle, name string
	part                  part.Part
}

// sharings are those of the museum's computers, one for each place.
func sharings(t *testing.T) map[string]sharing {
	all := map[string]sharing{}
	for _, name := range []string{"ticket-desk-pc", "archive-mac", "archive-mac 10.9", "workshop-box"} {
		m, err := machine.Open(build(t, name).Root)
		require.NoError(t, err)
		for _, i := range inventory.Take(m, nil).Items {
			p := i.Can.Part
			if p == nil || i.State != autostart.Enabled || i.Switch == autostart.Report {
				continue
			}
			key := fmt.Sprintf("%s %T %s", i.Location, p, i.Source.Key)
			if name == "archive-mac 10.9" || strings.HasPrefix(i.Location, "macos.launch") ||
				strings.HasPrefix(i.Location, "macos.embedded") {
				key = i.Location // one is enough
			}
			if all[key].part == nil {
				all[key] = sharing{name, i.Handle, i.Name, p}
			}
		}
		m.Close()
	}
	return all
}

// build is one of the museum's computers, with another version of its system where one is
// named.
func build(t *testing.T, name string) testkit.Program {
	name, version, _ := strings.Cut(name, " ")
	p := museum(t, name)
	if version != "" {
		editPlist(t, p.Root, "System/Library/CoreServices/SystemVersion.plist",
			func(doc *plist.Document) { require.NoError(t, doc.Set(version, "ProductVersion")) })
	}
	return p
}

// place is where a file or a hive of a machine lies on the disk.
func place(t *testing.T, root, name string) string {
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	full, err := m.Resolve(name)
	require.NoError(t, err)
	return filepath.Join(root, full)
}

// hiveOf is the hive file of a registry key, with the path of the key in it.
func hiveOf(t *testing.T, root, key string) (file, inside string) {
	for prefix, at := range map[string][2]string{
		`HKLM\SOFTWARE\`:                                      {"Windows/System32/config/SOFTWARE", ""},
		`HKLM\SYSTEM\CurrentControlSet\`:                      {"Windows/System32/config/SYSTEM", `ControlSet001\`},
		`HKU\S-1-5-21-1887042190-3141592653-2718281828-1001\`: {"Users/odile/NTUSER.DAT", ""},
	} {
		if rest, ok := strings.CutPrefix(key, prefix); ok {
			return filepath.Join(root, at[0]), at[1] + rest
		}
	}
	t.Fatalf("in which hive is %s?", key)
	return "", ""
}

// value reads or writes a value of a hive, as somebody else's program would.
func value(t *testing.T, root string, i part.Item, change func(regf.Value) regf.Value) regf.Value {
	file, inside := hiveOf(t, root, i.Key)
	content, err := os.ReadFile(file)
	require.NoError(t, err)
	h, err := regf.Open(bytes.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	k, err := h.Key(inside)
	require.NoError(t, err)
	v, err := k.Value(i.Value)
	if change == nil {
		if err != nil {
			return regf.Value{}
		}
		return v
	}
	v = change(v)
	v.Name = i.Value
	require.NoError(t, h.SetValue(k, v))
	h.Seal(time.Now())
	var b bytes.Buffer
	_, err = h.WriteTo(&b)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o644))
	return v
}

const stranger = "stranger"

// lineFile is the file that a line stands in now: the vendor's where nothing stands before it.
func lineFile(t *testing.T, root string, p part.Line) string {
	if p.Vendor != "" {
		if _, err := os.Lstat(filepath.Join(root, p.File)); err != nil {
			return place(t, root, p.Vendor)
		}
	}
	return place(t, root, p.File)
}

// addStranger puts somebody else's item into the artifact of a part.
func addStranger(t *testing.T, root string, p part.Part) {
	switch p := p.(type) {
	case part.Line:
		line := map[string]string{"/etc/crontab": "@daily root /opt/stranger\n",
			"/etc/cron.d/kelpline":      "@daily root /opt/stranger\n",
			"/private/etc/launchd.conf": "setenv stranger 1\n"}[p.File]
		if line == "" {
			line = "@daily /opt/stranger\n"
		}
		file := lineFile(t, root, p)
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, append([]byte(line), content...), 0o644))
	case part.Word:
		file := place(t, root, p.File)
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, append([]byte("/opt/stranger.so "), content...), 0o644))
	case part.Setting:
		file := place(t, root, p.File)
		content, err := os.ReadFile(file)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, append([]byte("service stranger\n{\n\tdisable = no\n\tserver = "+
			"/opt/else\n}\n"), content...), 0o644))
	case part.Item:
		value(t, root, p, func(v regf.Value) regf.Value {
			if p.Separators == "" {
				return regf.NewList("", append(v.Strings(), stranger)...)
			}
			return regf.NewText("", strings.TrimLeft(strings.TrimRight(v.Text(), ", ")+",stranger", ","))
		})
	case part.Property:
		editPlist(t, root, p.File, func(doc *plist.Document) {
			at := p.Path
			var now any
			if root := doc.Dict(); len(at) == 1 {
				now = root[at[0]]
			}
			switch items := now.(type) {
			case []any:
				require.NoError(t, doc.Set(append(slices.Clone(items),
					map[string]any{"Path": "/Applications/stranger.app"}), at...))
			default:
				require.NoError(t, doc.Set(true, stranger))
			}
		})
	}
}

func editPlist(t *testing.T, root, name string, edit func(*plist.Document)) {
	file := filepath.Join(root, name)
	doc := plist.New(map[string]any{})
	if content, err := os.ReadFile(file); err == nil {
		doc, err = plist.Parse(content)
		require.NoError(t, err)
	}
	edit(doc)
	content, err := doc.Bytes()
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, content, 0o644))
}

// hasStranger looks for it, once and whole.
func hasStranger(t *testing.T, root string, p part.Part) bool {
	switch p := p.(type) {
	case part.Line:
		content, err := os.ReadFile(lineFile(t, root, p))
		require.NoError(t, err)
		return bytes.Count(content, []byte(stranger)) == 1 &&
			!bytes.Contains(content, []byte("#lockback:off @daily")) &&
			!bytes.Contains(content, []byte("#lockback:off setenv stranger"))
	case part.Word:
		content, err := os.ReadFile(place(t, root, p.File))
		require.NoError(t, err)
		return strings.Count(string(content), stranger) == 1 && slices.Contains(part.Words(content), "/opt/stranger.so")
	case part.Setting:
		content, err := os.ReadFile(place(t, root, p.File))
		require.NoError(t, err)
		return bytes.Count(content, []byte("service stranger\n{\n\tdisable = no\n\tserver = /opt/else\n}\n")) == 1 &&
			bytes.Count(content, []byte(stranger)) == 1
	case part.Item:
		return slices.Contains(part.SplitList(value(t, root, p, nil), p.Separators), stranger)
	case part.Property:
		content, err := os.ReadFile(filepath.Join(root, p.File))
		require.NoError(t, err)
		doc, err := plist.Parse(content)
		require.NoError(t, err)
		return doc.Dict().Bool(stranger) || slices.ContainsFunc(doc.Dict().Dicts(p.Path[0]),
			func(d plist.Dict) bool { return d.Text("Path") == "/Applications/stranger.app" })
	}
	return false
}

// A stranger's item in the artifact that an entry has a part of survives all that can be done
// with the entry; and the entry comes back all the same.
func TestStrangersStay(t *testing.T) {
	t.Parallel()
	all := sharings(t)
	locations := map[string]bool{}
	var alike atomic.Int32 // lines that one and the same switch turns off
	keys := slices.Sorted(maps.Keys(all))
	for _, key := range keys {
		locations[strings.Fields(key)[0]] = true
	}
	for _, key := range draw.Some(t, keys, 40) {
		s := all[key]
		t.Run(strings.NewReplacer("/", "|", `\`, "|").Replace(key), func(t *testing.T) {
			began := func(t *testing.T) testkit.Program {
				p := build(t, s.machine)
				p.OK(t, "snapshot")
				return p
			}
			state := func(p testkit.Program) string {
				list, _ := p.List(t, "--all", s.handle)
				require.Len(t, list.Entries, 1, s.name)
				return list.Entries[0].State
			}
			off := func(t *testing.T) testkit.Program {
				p := began(t)
				p.OK(t, "disable", s.handle, "--all", "--guarded", "--yes")
				require.Equal(t, "disabled", state(p))
				addStranger(t, p.Root, s.part)
				require.True(t, hasStranger(t, p.Root, s.part))
				return p
			}
			t.Parallel()
			ways := [][]string{{"restore", "S1", "--only", s.handle}, {"enable", s.handle, "--all"}, {"restore", "S1"}}
			if line, ok := s.part.(part.Line); ok && line.Vendor == "" && !line.Joined && s.machine == "workshop-box" {
				if alike.Add(1) > 3 {
					ways = ways[:1] // the others are the same code
				}
			}
			for _, way := range ways {
				p := off(t)
				p.OK(t, append(way, "--yes")...)
				require.Equal(t, "enabled", state(p), "%s", way)
				require.True(t, hasStranger(t, p.Root, s.part), "%s", way)
			}
			p := off(t)
			p.Fails(t, 5, "", "undo", "--yes")
			require.True(t, hasStranger(t, p.Root, s.part))

			p = began(t)
			addStranger(t, p.Root, s.part)
			before := testkit.Tree(t, p.Root)
			p.OK(t, "disable", s.handle, "--all", "--guarded", "--yes")
			require.Equal(t, "disabled", state(p))
			require.True(t, hasStranger(t, p.Root, s.part))
			p.OK(t, "undo", "--yes")
			require.Equal(t, "enabled", state(p))
			require.Empty(t, slices.DeleteFunc(testkit.Differences(before, testkit.Tree(t, p.Root)),
				func(d string) bool {
					return strings.Contains(d, "NTUSER") || strings.Contains(d, "config") ||
						strings.Contains(d, "odile")
				}))
			require.True(t, hasStranger(t, p.Root, s.part))
		})
	}
	for _, id := range []string{"windows.boot-execute", "windows.load-run", "windows.terminal-server",
		"windows.winlogon", "windows.lsa", "windows.network-providers",
		"macos.launch-daemons", "macos.launch-agents", "macos.embedded-jobs", "macos.rc", "macos.login-hooks",
		"macos.reopen", "macos.cron", "linux.cron.system", "linux.cron.user", "linux.udev", "linux.xinetd",
		"linux.preload"} {
		require.True(t, locations[id], "no entry of %s shares anything", id)
	}
}

// The shell of a till: a kiosk program took the place of another one meanwhile.
func TestKioskStays(t *testing.T) {
	t.Parallel()
	for _, way := range [][]string{{"restore", "S1", "--only", "tuner.exe"}, {"restore", "S1"},
		{"enable", "tuner.exe"}} {
		p := ticketDesk(t)
		shell := part.Item{Key: `HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Winlogon`, Value: "Shell",
			Separators: ","}
		p.OK(t, "snapshot")
		p.OK(t, "disable", "tuner.exe", "--yes")
		require.Equal(t, "explorer.exe", value(t, p.Root, shell, nil).Text())
		value(t, p.Root, shell, func(regf.Value) regf.Value { return regf.NewText("", "explorer.exe,kiosk.exe") })
		p.OK(t, append(way, "--yes")...)
		items := part.SplitList(value(t, p.Root, shell, nil), ",")
		slices.Sort(items)
		require.Equal(t, []string{"explorer.exe", "kiosk.exe", `C:\ProgramData\tuner\tuner.exe /shell`},
			[]string{items[1], items[2], items[0]}, "%s", way)
	}
}

// A line comes back into a crontab that was deleted, with its owner and rights.
func TestLineOfADeletedTable(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	file := filepath.Join(p.Root, "var/spool/cron/crontabs/ines")
	info, err := os.Stat(file)
	require.NoError(t, err)
	list, _ := p.List(t, "location=linux.cron.user", "--all")
	require.NoError(t, os.Remove(file))
	p.OK(t, "restore", "S1", "--only", list.Entries[0].Handle, "--yes")
	again, err := os.Stat(file)
	require.NoError(t, err)
	require.Equal(t, info.Mode(), again.Mode())
	now, _ := p.List(t, "location=linux.cron.user", "--all")
	require.Len(t, now.Entries, 1)
	require.Equal(t, list.Entries[0].Handle, now.Entries[0].Handle)

	// Of a table that is still there, one line is gone.
	p = workshop(t)
	p.OK(t, "snapshot")
	const table = "etc/cron.d/kelpline"
	whole := read(t, p, table)
	list, _ = p.List(t, "location=linux.cron.system", "source=/etc/cron.d/kelpline", "--all")
	lines := strings.SplitAfter(whole, "\n")
	line := list.Entries[0].Source.Line
	write(t, p, table, strings.Join(slices.Delete(slices.Clone(lines), line-1, line), ""))
	out := p.OK(t, "restore", "S1", "--only", list.Entries[0].Handle, "--yes")
	require.Contains(t, out, "had been removed from /etc/cron.d/kelpline and is put back")
	require.Equal(t, whole, read(t, p, table))
}

// A line of a vendor's file is turned off by a copy before it, in a folder that was not there;
// a stranger's line in the copy, and an update of the vendor's file, survive what comes.
func TestOverrideOfAVendorsFile(t *testing.T) {
	t.Parallel()
	const vendor, own = "usr/lib/modules-load.d/salt.conf", "etc/modules-load.d/salt.conf"
	begin := func(t *testing.T) (testkit.Program, testkit.Picture) {
		p := workshop(t)
		require.NoError(t, os.RemoveAll(filepath.Join(p.Root, "etc/modules-load.d")))
		write(t, p, vendor, "# devices\nsaltkey\ntide-gauge\n")
		before := testkit.Tree(t, p.Root)
		p.OK(t, "snapshot")
		p.OK(t, "disable", "tide-gauge", "--guarded", "--yes")
		require.Equal(t, "# devices\nsaltkey\n#lockback:off tide-gauge\n", read(t, p, own))
		return p, before
	}
	for _, way := range [][]string{{"undo"}, {"enable", "tide-gauge"}, {"restore", "S1"}, {"restore", "S1", "--only",
		"tide-gauge"}} {
		p, before := begin(t)
		p.OK(t, append(way, "--yes")...)
		require.NoFileExists(t, filepath.Join(p.Root, own), "%s", way)
		if way[0] == "restore" && len(way) == 2 || way[0] == "undo" {
			testkit.Same(t, before, testkit.Tree(t, p.Root))
		}
		_, byName := p.List(t)
		require.Equal(t, "enabled", byName["tide-gauge"].State, "%s", way)

		// Somebody switched another line off in the copy.
		p, _ = begin(t)
		write(t, p, own, "# devices\n#saltkey\n#lockback:off tide-gauge\nnew\n")
		if r := p.Run(t, append(way, "--yes")...); way[0] != "undo" {
			require.Zero(t, r.Code, r.Err)
			require.Equal(t, "# devices\n#saltkey\ntide-gauge\nnew\n", read(t, p, own), "%s", way)
		} else {
			require.Equal(t, 5, r.Code)
			require.Equal(t, "# devices\n#saltkey\n#lockback:off tide-gauge\nnew\n", read(t, p, own))
		}

		// The vendor's file came with an update.
		p, _ = begin(t)
		write(t, p, vendor, "# devices\nsaltkey\ntide-gauge\nsaltkey2\n")
		p.OK(t, append(way, "--yes")...)
		_, byName = p.List(t)
		require.Equal(t, "enabled", byName["tide-gauge"].State, "%s", way)
		require.Equal(t, "# devices\nsaltkey\ntide-gauge\nsaltkey2\n", read(t, p, vendor))
	}
}

func write(t *testing.T, p testkit.Program, name, content string) {
	file := filepath.Join(p.Root, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(content), 0o644))
}

func read(t *testing.T, p testkit.Program, name string) string {
	content, err := os.ReadFile(filepath.Join(p.Root, name))
	require.NoError(t, err)
	return string(content)
}

// A value that the system has itself, and that was led elsewhere, is turned off by giving it
// its own content again, which is another entry.
func TestHijackedDefault(t *testing.T) {
	t.Parallel()
	p := ticketDesk(t)
	at := part.Item{Key: `HKLM\SYSTEM\CurrentControlSet\Control`, Value: "ServiceControlManagerExtension"}
	value(t, p.Root, at, func(regf.Value) regf.Value { return regf.NewExpand("", `C:\ProgramData\tuner\scext.dll`) })
	p.OK(t, "snapshot")
	states := func() map[string]bool {
		all := map[string]bool{}
		list, _ := p.List(t, "location=windows.boot-verify", "--all")
		for _, e := range list.Entries {
			if e.Name == "scext.dll" {
				all[e.State+" "+e.Command] = true
			}
		}
		return all
	}
	require.Len(t, states(), 1)
	p.OK(t, "disable", "scext.dll", "--yes")
	require.Equal(t, "scext.dll", value(t, p.Root, at, nil).Text())
	now := states()
	require.Len(t, now, 2)
	require.Contains(t, now, "enabled scext.dll")
	p.OK(t, "restore", "S1", "--yes")
	require.Equal(t, `C:\ProgramData\tuner\scext.dll`, value(t, p.Root, at, nil).Text())
	p.OK(t, "compare", "S1")
}
