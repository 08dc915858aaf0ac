//go:build unix

package cli_test

import (
	"bytes"
	"database/sql"
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/internal/demo"
	"lockback/internal/testkit"
)

// signedProgram is a signed program of the museum.
func signedProgram(t *testing.T) []byte {
	t.Helper()
	content, err := os.ReadFile(filepath.Join(testkit.Project(), "core/format/peimage/testdata/sync.exe"))
	require.NoError(t, err)
	return content
}

// Programs that are cut, that lie about sizes, or are gigantic: each is told in a line of evidence
// at most, soon, and the list is whole.
func TestDamagedProgramsAreListed(t *testing.T) {
	t.Parallel()
	good := signedProgram(t)
	const directories = 64 + 24 + 112
	change := func(at int, value uint32) string {
		b := bytes.Clone(good)
		binary.LittleEndian.PutUint32(b[at:], value)
		return string(b)
	}
	files := map[string]string{
		"good.exe": string(good), "cut.exe": string(good[:700]), "head.exe": string(good[:70]), "empty.exe": "",
		"text.exe":       "not a program",
		"signatures.exe": change(directories+8*4+4, 0xfffffff0), "place.exe": change(directories+8*4, 0xfffffff0),
		"sections.exe":  change(64+6, 0xffff),
		"resources.exe": change(directories+8*2, 0x2058), "optional.exe": change(64+20, 0xffff),
		"offset.exe": change(60, 0xfffffff0),
	}
	var run []regf.Value
	disk := map[string]string{}
	for name, content := range files {
		disk[`Program Files\Tide\`+name] = content
		run = append(run, regf.NewText(name, `"C:\Program Files\Tide\`+name+`"`))
	}
	run = append(run, regf.NewText("huge.exe", `"C:\Program Files\Tide\huge.exe"`))
	root := testkit.WindowsDisk(t, testkit.Keys{`Microsoft\Windows\CurrentVersion\Run`: run,
		`Microsoft\SystemCertificates\ROOT\Certificates\00`: {regf.Value{Name: "Blob", Type: regf.Binary,
			Data: []byte("\x20\x00\x00\x00\x01\x00\x00\x00\xff\xff\xff\xff")}}}, nil, nil, disk)
	huge := filepath.Join(root, "Program Files/Tide/huge.exe")
	require.NoError(t, os.WriteFile(huge, good, 0o644))
	require.NoError(t, os.Truncate(huge, 64<<30))
	catalogues := filepath.Join(root, "Windows/System32/CatRoot/{F750E6C3-38EE-11D1-85E5-00C04FC295EE}")
	require.NoError(t, os.MkdirAll(filepath.Join(catalogues, "folder.cat"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(catalogues, "damaged.cat"), bytes.Repeat([]byte("\x30\x80"), 1<<20),
		0o644))
	p := testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
	began := time.Now()
	_, entries := p.List(t)
	require.Less(t, time.Since(began), 5*time.Minute)
	for name := range files {
		require.Contains(t, entries, name)
	}
	require.Equal(t, autostart.ByUnanchored, entries["good.exe"].Maker.Basis)
	for _, name := range []string{"signatures.exe", "place.exe", "huge.exe"} {
		require.Contains(t, entries[name].Problems, autostart.SignatureInvalid, name)
	}
	require.Contains(t, p.OK(t, "show", "name=sections.exe"), "not read")
}

// A database of packages that is damaged makes the list no shorter, and nothing in it unproven
// counts as a part of the system.
func TestDamagedPackageDatabase(t *testing.T) {
	t.Parallel()
	for what, spoil := range map[string]func(dir string) error{
		"large": func(dir string) error { return os.Truncate(filepath.Join(dir, "status"), 100<<20) },
		"binary": func(dir string) error {
			return os.WriteFile(filepath.Join(dir, "status"), bytes.Repeat([]byte{0, 0xff, '\n'}, 1000), 0o644)
		},
		"lists": func(dir string) error { return os.RemoveAll(filepath.Join(dir, "info")) },
		"loop": func(dir string) error {
			if err := os.Remove(filepath.Join(dir, "status")); err != nil {
				return err
			}
			return os.Symlink("status", filepath.Join(dir, "status"))
		},
	} {
		p := workshop(t)
		before, _ := p.List(t, "--all")
		require.NoError(t, spoil(filepath.Join(p.Root, "var/lib/dpkg")), what)
		after, entries := p.List(t, "--all")
		require.Len(t, after.Entries, len(before.Entries), what)
		if what == "loop" {
			continue // as if there were none: names and places decide
		}
		require.False(t, entries["dbus.service"].OSPart, what)
		require.Empty(t, entries["Fogbell Sync/ines"].Maker.Name, what)
	}
}

// What bears a name of the system's is told from what is the system's.
func TestImpostors(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	for name, text := range map[string]string{
		"usr/lib/systemd/system/systemd-kelpline.service": "[Service]\nExecStart=/usr/bin/kelp\n",
		"usr/bin/kelp": "#!/bin/sh\n",
		"usr/lib/systemd/system/multi-user.target.d/10.conf": "[Unit]\nWants=systemd-kelpline.service mail.service\n",
		"etc/systemd/system/mail.service":                    "[Service]\nExecStart=/opt/mail/dbus-daemon\n",
		"opt/mail/dbus-daemon":                               "#!/bin/sh\n",
		"usr/lib/systemd/system/cron.service.d/10.conf":      "[Service]\nExecStartPost=/opt/kelp\n",
	} {
		file := filepath.Join(p.Root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o755))
	}
	_, entries := p.List(t)
	require.Contains(t, entries["systemd-kelpline.service"].Problems, autostart.Impostor)
	require.Empty(t, entries["systemd-kelpline.service"].Guarded, "nothing protects it")
	require.Contains(t, entries["mail.service"].Problems, autostart.Impostor)
	require.Contains(t, entries, "cron.service", "a part that somebody adds to is shown")
	desk := museum(t, "ticket-desk-pc")
	before, _ := desk.List(t)
	for _, e := range before.Entries {
		require.NotContains(t, strings.ToLower(e.Name), "spooler")
	}
	require.NoError(t, os.WriteFile(filepath.Join(desk.Root, "Windows/System32/spoolsv.exe"), signedProgram(t), 0o644))
	_, entries = desk.List(t)
	require.Contains(t, entries["Spooler"].Problems, autostart.Impostor)
}

// What a service says it is for tells its role, and protects it only where its program is vouched
// for.
func TestRolesOfServices(t *testing.T) {
	t.Parallel()
	service := func(group, image string) []regf.Value {
		return []regf.Value{regf.NewText("DisplayName", group), regf.NewExpand("ImagePath", image),
			regf.NewNumber("Type", 0x10), regf.NewNumber("Start", 2), regf.NewText("Group", group)}
	}
	root := testkit.WindowsDisk(t, nil, testkit.Keys{
		`ControlSet002\Services\good`: service("FSFilter Anti-Virus", `C:\Program Files\Tide\good.exe`),
		`ControlSet002\Services\bad`:  service("AudioGroup", `C:\Program Files\Tide\bad.exe`),
		`ControlSet002\Services\sly`:  service("Pointer Class", `C:\Program Files\Tide\bad.exe`),
		`ControlSet002\Services\Reader`: {regf.NewText("DisplayName", "Label reader"), regf.NewNumber("Type", 1),
			regf.NewNumber("Start", 3), regf.NewText("Group", "Base")},
		`ControlSet002\Services\bus`: {regf.NewText("DisplayName", "Tide bus"), regf.NewNumber("Type", 1),
			regf.NewNumber("Start", 3), regf.NewText("Group", "Network")},
		`ControlSet002\Enum\USB\VID_1887\5&1`: {regf.NewText("Service", "READER"), regf.NewText("ClassGUID",
			"{745A17A0-74D3-11D0-B6FE-00A0C90F57DA}")},
		`ControlSet002\Enum\USB\VID_1888\5&2`: {regf.NewText("Service", "bus"), regf.NewText("ClassGUID",
			"{00000000-74D3-11D0-B6FE-00A0C90F57DA}")},
	}, nil, map[string]string{`Program Files\Tide\good.exe`: string(
		signedProgram(t)), `Program Files\Tide\bad.exe`: "MZ"})
	p := testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
	list, _ := p.List(t)
	guards := map[string]string{}
	for _, e := range list.Entries {
		guards[e.Name+" "+e.Role] = e.Guarded
	}
	require.Equal(t, map[string]string{"FSFilter Anti-Virus security": "it protects the machine",
		"AudioGroup sound": "", "Pointer Class input": "",
		"Label reader input": "a driver: without it the machine may not start, or a device not work",
		"Tide bus network":   "a driver: without it the machine may not start, or a device not work"}, guards)
}

// What vouches for a program does so while it is whole: the seal of an app, a catalogue.
func TestWhatVouchesMustBeWhole(t *testing.T) {
	t.Parallel()
	mac := museum(t, "archive-mac")
	_, entries := mac.List(t)
	require.Equal(t, autostart.BySignature, entries["Gullrock Catalogue/mirela"].Maker.Basis)
	info := filepath.Join(mac.Root, "Applications/Gullrock Catalogue.app/Contents/Info.plist")
	content, err := os.ReadFile(info)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(info, append(content, '\n'), 0o644))
	_, entries = mac.List(t)
	require.Contains(t, entries["Gullrock Catalogue/mirela"].Problems, autostart.SignatureInvalid)

	desk := museum(t, "ticket-desk-pc")
	_, entries = desk.List(t)
	require.Equal(t, autostart.Maker{Name: "Lampwick Labels", Basis: autostart.BySignature},
		entries["Lampwick label spool"].Maker)
	catalogue := filepath.Join(desk.Root,
		"Windows/System32/CatRoot/{F750E6C3-38EE-11D1-85E5-00C04FC295EE}/lampwick.cat")
	content, err = os.ReadFile(catalogue)
	require.NoError(t, err)
	content[bytes.Index(content, []byte("Gullrock catalogue"))] ^= 1 // the list is not what was signed
	require.NoError(t, os.WriteFile(catalogue, content, 0o644))
	_, entries = desk.List(t)
	require.Equal(t, autostart.ByVersionResource, entries["Lampwick label spool"].Maker.Basis)
}

// The list of installed products tells whose a program is that lies in the folder of one, and no
// product has the system's folders for itself.
func TestInstalledProducts(t *testing.T) {
	t.Parallel()
	product := func(name, folder string) []regf.Value {
		return []regf.Value{regf.NewText("DisplayName", name), regf.NewText("Publisher", "Saltmarsh Ledgers"),
			regf.NewText("DisplayVersion", "12.1"), regf.NewText("InstallDate", "20260314"),
			regf.NewText("InstallLocation", folder), regf.NewText("UninstallString",
				`"C:\Program Files\Salt\remove.exe" /all`)}
	}
	const key = `Microsoft\Windows\CurrentVersion\Uninstall\`
	root := testkit.WindowsDisk(t, testkit.Keys{
		key + "Salt": product("Saltmarsh Ledger", `C:\Program Files\Salt\`), key + "Sly": product("Everything",
			`C:\Windows\System32`), key + "Root": product("All", `C:\`), key + "Programs": product("More",
			`"C:\Program Files"`),
		`Microsoft\Windows\CurrentVersion\Run`: {regf.NewText("tray", `"C:\Program Files\Salt\bin\tray.exe"`),
			regf.NewText("other", `C:\Windows\System32\other.exe`),
			regf.NewText("third", `"C:\Program Files\Third\third.exe"`)},
	}, nil, nil, map[string]string{
		`Program Files\Salt\bin\tray.exe`: "MZ", `Windows\System32\other.exe`: "MZ",
		`Program Files\Third\third.exe`: "MZ"})
	p := testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
	_, entries := p.List(t)
	require.Equal(t, autostart.Product{Name: "Saltmarsh Ledger", Version: "12.1", Installed: "2026-03-14"},
		entries["tray"].Product)
	require.Equal(t, autostart.Maker{Name: "Saltmarsh Ledgers", Basis: autostart.ByReceipt}, entries["tray"].Maker)
	require.Contains(t, p.OK(t, "show", "name=tray"), "remove.exe")
	for _, name := range []string{"other", "third"} {
		require.Empty(t, entries[name].Product.Name, name)
	}
}

// TestComponents looks at products of the Windows Installer, which say about each file whose it is, and
// not in which folder they lie. What the record has of a program ends with the product.
func TestComponents(t *testing.T) {
	t.Parallel()
	const data, code, ledger = `Microsoft\Windows\CurrentVersion\Installer\UserData\S-1-5-18\`, "B97ED28BB13D2F348AC2FC23B2A19A90", `C:\Program Files\Salt\tray.exe`
	files := map[string]string{`Program Files\Salt\tray.exe`: "MZ", `Program Files\Salt\shared.exe`: "MZ",
		`Program Files\Salt\other.exe`: "MZ"}
	keys := testkit.Keys{
		`Microsoft\Windows\CurrentVersion\Run`: {regf.NewText("tray", ledger), regf.NewText("shared",
			`C:\Program Files\Salt\shared.exe`), regf.NewText("other", `C:\Program Files\Salt\other.exe`)},
		data + `Components\DCBA71A5788120243841000000002020`: {regf.NewText(code, strings.ToUpper(ledger))},
		data + `Components\DCBA71A5788120243841000000002021`: {regf.NewText(code,
			`C?\Program Files\Salt\shared.exe`)},
		// of a product that is not there
		data + `Components\DCBA71A5788120243841000000002022`: {regf.NewText("00000000B13D2F348AC2FC23B2A19A90",
			`C:\Program Files\Salt\other.exe`)},
		data + `Products\` + code + `\InstallProperties`: {regf.NewText("DisplayName", "Saltmarsh Ledger"),
			regf.NewText("Publisher", "Saltmarsh Ledgers"), regf.NewText("DisplayVersion", "12.1.0"),
			regf.NewText("UninstallString", "MsiExec.exe /I{B82DE79B}")},
		`Microsoft\Windows\CurrentVersion\Uninstall\{B82DE79B}`: {regf.NewText("DisplayName", "Saltmarsh Ledger"),
			regf.NewText("InstallLocation", `C:\Program Files\Salt\`), regf.NewText("UninstallString",
				"MsiExec.exe /I{B82DE79B}")},
	}
	p := testkit.Program{Root: testkit.WindowsDisk(t, keys, nil, nil, files), Store: filepath.Join(t.TempDir(),
		"record.db")}
	check := func(p testkit.Program) {
		_, entries := p.List(t)
		for _, name := range []string{"tray", "shared"} {
			require.Equal(t, autostart.Product{Name: "Saltmarsh Ledger", Version: "12.1.0"}, entries[name].Product,
				name)
			require.Equal(t, 1, strings.Count(p.OK(t, "show", "name="+name), "MsiExec.exe"), name)
		}
		require.Equal(t, autostart.Product{Name: "Saltmarsh Ledger"}, entries["other"].Product,
			"the folder alone says so")
	}
	check(p)
	p.OK(t, "snapshot")
	check(p)
	for name := range keys {
		if strings.HasPrefix(name, data) || strings.Contains(name, "Uninstall") {
			delete(keys, name)
		}
	}
	hive, err := os.ReadFile(filepath.Join(testkit.WindowsDisk(t, keys, nil, nil, nil),
		"Windows/System32/config/SOFTWARE"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(p.Root, "Windows/System32/config/SOFTWARE"), hive, 0o644))
	_, entries := p.List(t)
	require.Empty(t, entries["tray"].Product.Name)
}

// TestPerformanceLog looks at what Windows wrote down about its starts: what held them up, and how long
// they took. Of several events the newest counts, wherever it lies; what another wrote does not.
func TestPerformanceLog(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 3, 12, 8, 5, 0, 0, time.UTC)
	event := func(id uint16, when time.Time, name, path string, took uint32) demo.LoggedEvent {
		return demo.LoggedEvent{ID: id, Time: when, Data: []demo.Datum{{Name: "Name", Value: name},
			{Name: "TotalTime", Value: took}, {Name: "Path", Value: path}}}
	}
	start := func(when time.Time, took, desktop uint32) demo.LoggedEvent {
		return demo.LoggedEvent{ID: 100, Time: when, Data: []demo.Datum{{Name: "BootTime", Value: took},
			{Name: "MainPathBootTime", Value: desktop}}}
	}
	const tray, logs = `C:\Program Files\Salt\tray.exe`, `Windows\System32\winevt\Logs\`
	disk := func(provider string) testkit.Program {
		root := testkit.WindowsDisk(t, testkit.Keys{
			`Microsoft\Windows\CurrentVersion\Run`: {regf.NewText("tray", tray),
				regf.NewText("other", `C:\Program Files\Salt\tide.exe`)},
		}, testkit.Keys{`ControlSet002\Services\Tide`: {regf.NewText("ImagePath", `C:\Program Files\Salt\tide.exe`),
			regf.NewNumber("Type", 0x10), regf.NewNumber("Start", 2)}}, nil, map[string]string{
			`Program Files\Salt\tray.exe`: "MZ", `Program Files\Salt\tide.exe`: "MZ",
			logs + `Microsoft-Windows-Diagnostics-Performance%4Operational.evtx`: string(demo.EventLog(provider,
				event(101, at, "tray.exe", strings.ToUpper(tray), 8000), event(101, at.Add(-time.Hour), "tray.exe",
					tray, 9000), event(103, at, "TIDE", "", 7000), event(102, at, "x", tray, 6000),
				start(at, 61_000, 20_000), start(at.Add(-time.Hour), 71_000, 30_000)))})
		return testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
	}
	p := disk("Microsoft-Windows-Diagnostics-Performance")
	_, entries := p.List(t)
	log := func(took int64) *autostart.Cost {
		return &autostart.Cost{StartMS: took, StartBasis: "Windows' performance log"}
	}
	require.Equal(t, log(8000), entries["tray"].Cost)
	require.Equal(t, log(7000), entries["Tide"].Cost)
	require.Nil(t, entries["other"].Cost, "the service took long, not whatever starts the same program")
	require.Contains(t, p.OK(t, "show", "name=tray"), "took 8.0 s to start (Windows' performance log)")
	figures := func(p testkit.Program) (all []string) {
		for _, row := range strings.Split(strings.TrimSpace(p.OK(t, "figures", "--format", "csv")), "\n")[1:] {
			if f := strings.Split(row, ","); f[2] != "entries-enabled" {
				all = append(all, f[0]+" "+f[2]+" "+f[3])
			}
		}
		return all
	}
	p.OK(t, "snapshot")
	both := []string{"last-start 1773302700", "start 61000", "start-desktop 20000"}
	var want []string
	for _, moment := range []string{"S1 ", "now "} {
		for _, f := range both {
			want = append(want, moment+f)
		}
	}
	require.Equal(t, want, figures(p))
	require.Contains(t, p.OK(t, "figures"), "All are from the same start")
	forged := disk("Gullrock")
	_, entries = forged.List(t)
	require.Nil(t, entries["tray"].Cost)
	forged.OK(t, "snapshot")
	require.Empty(t, figures(forged))
}

// TestLastUsedInPlasma looks at what Plasma keeps of the programs that a person starts: the latest of
// several rows counts. A database that would never end, or is none, tells nothing.
func TestLastUsedInPlasma(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	home := filepath.Join(root, "home/ines")
	for name, text := range map[string]string{
		"etc/os-release": "ID=gullrock\n", "etc/machine-id": "00112233445566778899aabbccddeeff\n",
		"etc/passwd": "ines:x:1000:1000::/home/ines:/bin/sh\n", "opt/tide/board": "#!/bin/sh\n",
		"etc/xdg/autostart/board.desktop": "[Desktop Entry]\nType=Application\nName=Tide " +
			"board\nExec=/opt/tide/board --full\n",
		"usr/share/applications/tide.board.desktop": "[Desktop Entry]\nType=Application\nName=Tide " +
			"board\nExec=/opt/tide/board %U\n",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o755))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(home, ".local/share/kactivitymanagerd/resources"), 0o755))
	file := filepath.Join(home, ".local/share/kactivitymanagerd/resources/database")
	p := testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
	const table = "(usedActivity TEXT, initiatingAgent TEXT, targettedResource TEXT, scoreType INTEGER, " +
		"cachedScore FLOAT, firstUpdate INTEGER, lastUpdate INTEGER)"
	const rows = "INSERT INTO R VALUES ('a', 'org.kde.plasma.kickoff', 'applications:tide.board.desktop', 0, 1.0, " +
		"1773000000, 1773215000), ('b', 'org.kde.krunner', 'applications:tide.board.desktop', 0, 1.0, 1773000000, " +
		"1773100000)," +
		"('a', 'x', 'applications:../../../etc/passwd', 0, 1.0, 1, 1773900000), ('a', 'x', 'applications:tide.board.desktop', 0, 1.0, 1, 'late'), ('a', 'x', '/home/ines/tide.board.desktop', 0, 1.0, 1, 1773900000)"
	for _, c := range []struct {
		statements []string
		want       string
	}{
		{[]string{"CREATE TABLE ResourceScoreCache" + table, strings.Replace(rows, "INTO R", "INTO ResourceScoreCache",
			1)}, "last used on 2026-03-11"},
		{[]string{"CREATE TABLE Other" + table}, ""},
		{[]string{"CREATE VIEW ResourceScoreCache AS WITH RECURSIVE e(n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM " +
			"e) SELECT 'applications:tide.board.desktop' AS targettedResource, 1773215000 AS lastUpdate FROM e"}, ""},
		{nil, ""},
	} {
		require.NoError(t, os.RemoveAll(file))
		require.NoError(t, os.WriteFile(file, []byte("none"), 0o600))
		if c.statements != nil {
			require.NoError(t, os.Remove(file))
			db, err := sql.Open("sqlite", file)
			require.NoError(t, err)
			for _, s := range c.statements {
				_, err := db.Exec(s)
				require.NoError(t, err)
			}
			require.NoError(t, db.Close())
		}
		said := p.OK(t, "show", "name=Tide board")
		if c.want == "" {
			require.NotContains(t, said, "last used", c.statements)
		} else {
			require.Contains(t, said, c.want+" by ines (Plasma's list of ines)")
		}
	}
}
