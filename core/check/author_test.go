package check

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/format/windata"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/snapshot"
)

// Two programs in one folder have something in common only where nobody else's lie.
func TestFolderOf(t *testing.T) {
	for program, folder := range map[string]string{
		"/opt/kelpline/bin/updater": "/opt/kelpline/bin", "/usr/lib/kelpline/care": "/usr/lib/kelpline",
		"/home/ines/.speed/keeper":                      "/home/ines/.speed",
		`C:\Program Files\Kelpline\a.exe`:               `c:\program files\kelpline`,
		`C:\ProgramData\tuner\tuner.exe`:                `c:\programdata\tuner`,
		"/Library/Application Support/Kelpline/updater": "/library/application support/kelpline",
		"/usr/bin/x": "", "/usr/sbin/x": "", "/home/ines/bin/x": "", "/usr/local/bin/x": "", "/etc/cron.daily/x": "",
		"/etc/x": "", "/usr/libexec/x": "", "/usr/lib/systemd/systemd-x": "",
		`C:\Windows\System32\drivers\x.sys`: "", `C:\Windows\x.exe`: "", `C:\Program Files\x.exe`: "",
		`C:\Program Files (x86)\x.exe`: "", `C:\ProgramData\x.exe`: "",
		"/System/Library/CoreServices/x": "", "/Library/PrivilegedHelperTools/x": "", "x": "", "": "", "/x": "",
	} {
		require.Equal(t, folder, folderOf(program), program)
	}
}

// What two entries have in common is said by the strongest that holds.
func TestKin(t *testing.T) {
	entry := func(maker, product, program string) *autostart.Entry {
		return &autostart.Entry{Target: autostart.Target{Path: program},
			Known: &autostart.Known{Maker: autostart.Maker{Name: maker}, Product: autostart.Product{Name: product}}}
	}
	akin := func(a, b *autostart.Entry) string { return kinOf(a).common(kinOf(b)) }
	require.Equal(t, "product", akin(entry("M", "P", "/opt/a/x"), entry("M", "P", "/opt/a/y")))
	require.Equal(t, "maker", akin(entry("M", "P", "/opt/a/x"), entry("M", "Q", "/opt/a/y")))
	require.Equal(t, "folder", akin(entry("", "", "/opt/a/x"), entry("M", "Q", "/opt/A/y")))
	require.Empty(t, akin(entry("", "", "/usr/bin/x"), entry("", "", "/usr/bin/y")))
	require.Empty(t, akin(entry("", "", ""), entry("", "", "")))
}

// A script that makes an entry is told from one that only has to do with it.
func TestSigns(t *testing.T) {
	unit := &autostart.Entry{SystemName: "tidewatch.service",
		Source: autostart.Source{Path: "/etc/systemd/system/tidewatch.service"},
		Target: autostart.Target{Path: "/opt/tidewatch/bin/tidewatch"}}
	app := &autostart.Entry{SystemName: "bell.desktop",
		Source: autostart.Source{Path: "/home/ines/.config/autostart/bell.desktop"},
		Target: autostart.Target{Path: "/opt/bell/bell"}}
	shell := &autostart.Entry{SystemName: ".bashrc", Source: autostart.Source{Path: "/home/ines/.bashrc", Line: 7},
		Target: autostart.Target{Path: "/home/ines/.bashrc"}}
	sole := &autostart.Entry{SystemName: "bram", Source: autostart.Source{Path: "/var/spool/cron/crontabs/bram",
		Line: 1}, Target: autostart.Target{Path: "/opt/bell/bell"}}
	line := &autostart.Entry{SystemName: "ines", Source: autostart.Source{Path: "/var/spool/cron/crontabs/ines",
		Line: 3}, Target: autostart.Target{Path: "/opt/bell/bell"}}
	value := &autostart.Entry{SystemName: "Bell",
		Source: autostart.Source{Path: `HKCU\Software\Microsoft\Windows\CurrentVersion\Run`, Key: "Bell"},
		Target: autostart.Target{Path: `C:\Program Files\Bell\bell.exe`}}
	agent := &autostart.Entry{SystemName: "example.bell",
		Source: autostart.Source{Path: "/Library/LaunchAgents/example.bell.plist"},
		Target: autostart.Target{Path: "/Library/Bell/bell"}}
	task := &autostart.Entry{SystemName: `\Bell\Update`,
		Source: autostart.Source{Path: `C:\Windows\System32\Tasks\Bell\Update`},
		Target: autostart.Target{Path: `C:\Program Files\Bell\bell.exe`}}
	service := &autostart.Entry{SystemName: "BellSvc",
		Source: autostart.Source{Path: `HKLM\SYSTEM\CurrentControlSet\Services\BellSvc`},
		Target: autostart.Target{Path: `C:\Program Files\Bell\svc.exe`}}
	script := &autostart.Entry{SystemName: "belld", Source: autostart.Source{Path: "/etc/init.d/belld"},
		Target: autostart.Target{Path: "/etc/init.d/belld"}}
	for _, c := range []struct {
		entry         *autostart.Entry
		text          string
		named, folder bool
	}{
		{unit, "systemctl enable tidewatch", true, false},
		{unit, "/usr/bin/systemctl --now enable tidewatch.service || true", true, false},
		{unit, "systemctl \\\n  enable \\\n  tidewatch", true, false},
		{unit, "systemctl unmask tidewatch && systemctl start tidewatch", true, false},
		{unit, "systemctl restart tidewatch.service", false, false},
		{unit, "if systemctl is-active -q tidewatch; then exit; fi", false, false},
		{unit, "systemctl disable --now tidewatch.service", false, false},
		{unit, "systemctl enable tidewatch-log.service", false, false},
		{unit, "# systemctl enable tidewatch.service", false, false},
		{unit, "echo tidewatch is here", false, false},
		{unit, "ln -s /usr/lib/systemd/system/tidewatch.service /etc/systemd/system/multi-user.target.wants/", true,
			true},
		{unit, "cp /opt/x/*.service /etc/systemd/system/", false, true},
		{app, "cp /opt/bell/bell.desktop ~/.config/autostart/", true, true},
		{app, "cp /opt/bell/fogbell.desktop $XDG_CONFIG_HOME/autostart/", false, false},
		{app, "cp /opt/bell/* ~/.config/autostart", false, true},
		{app, "/opt/bell/bell &", false, false},
		{line, "(crontab -l; echo '@reboot /opt/bell/bell') | crontab -", true, false},
		{line, "/opt/bell/bell --check", false, false},
		{line, "cp /root/saved /var/spool/cron/crontabs/ines", false, false}, // whose lines are many's
		{sole, "cp /root/saved /var/spool/cron/crontabs/bram", true, true},
		{sole, "echo '@reboot /opt/bell/bell' | crontab -", true, false},
		{shell, ". ~/.bashrc", false, false},
		{value, `reg add HKCU\Software\Microsoft\Windows\CurrentVersion\Run /v Bell /d "C:\x.exe" /f`, true, true},
		{value, `reg delete HKCU\Software\Microsoft\Windows\CurrentVersion\Run /v Bell /f`, false, false},
		{value, "REG.EXE ADD \"%KEY%\" ^\r\n /v %N% /d \"C:\\Program Files\\Bell\\bell.exe\"", true, false},
		{value, "New-ItemProperty -Path $run -Name 'Bell' -Value $exe", true, false},
		{value, "@start bell", false, false},
		{task, `schtasks /create /f /tn Bell\Update /xml %~dp0\bell.xml`, true, false},
		{task, `schtasks /change /tn "\Bell\Update" /enable`, true, false},
		{task, `schtasks /change /tn "\Bell\Update" /disable`, false, false},
		{task, `schtasks /change /tn "\Chart\Update" /enable`, false, false},
		{task, `schtasks /run /tn "\Bell\Update"`, false, false},
		{service, `sc config BellSvc start= auto`, true, false},
		{service, `sc config BellSvc start= disabled`, false, false},
		{service, `%SystemRoot%\System32\sc.exe config BellSvc start=delayed-auto`, true, false},
		{service, `sc stop BellSvc`, false, false},
		{service, `Set-Service BellSvc -StartupType Automatic`, true, false},
		{service, `Set-Service BellSvc -StartupType Disabled`, false, false},
		{agent, "launchctl bootstrap gui/501 /Library/LaunchAgents/example.bell.plist", true, true},
		{agent, "launchctl enable system/example.bell", true, false},
		{agent, "launchctl bootout gui/501/example.bell", false, false},
		{script, "update-rc.d belld defaults", true, false},
		{script, "update-rc.d belld remove", false, false},
		{script, "service belld start", false, false},
		{script, "install -m 755 belld /etc/init.d/belld", true, true},
	} {
		f := signsOf(c.entry, c.entry == line).find(newScript(c.text))
		require.Equal(t, mention{c.named, c.folder}, f, c.text)
	}
}

// The names of units in which apps run are those of the document, made from the file's.
func TestAppOf(t *testing.T) {
	for unit, want := range map[string]string{
		`app-fogbell\x2dsync@autostart.service`: "fogbell-sync", `app-gnome-fogbell\x2dsync-4711.scope`: "fogbell-sync",
		`app-fogbell\x2dsync-4711.scope`:     "fogbell-sync",
		`app-\x2e\xc3\xb6@autostart.service`: ".ö", "app-bell.service": "", "fogbell-sync.service": "",
		`app-a-b-c-d.scope`: "",
	} {
		require.Equal(t, want, appOf(unit), unit)
	}
}

// A start counts where it was shortly before; of so many that everything was started, none is named for that alone.
func TestStartedBefore(t *testing.T) {
	at := time.Date(2026, 3, 14, 9, 26, 53, 0, time.UTC)
	for before, want := range map[time.Duration]bool{0: true, time.Minute: true, 2*time.Minute + 59*time.Second: true,
		3 * time.Minute: false, -time.Second: true, -2 * time.Second: false} {
		_, ok := candidate{ran: []time.Time{at.Add(-time.Hour), at.Add(-before)}}.ranBefore(at)
		require.Equal(t, want, ok, before)
	}
	var f finder
	g := &Finding{Entry: &autostart.Entry{Handle: "x"}, At: at}
	for n := 1; n <= 4; n++ {
		f.candidates = append(f.candidates, candidate{Entry: &autostart.Entry{Handle: string(rune('a' + n))},
			ran: []time.Time{at.Add(-time.Second)}})
		by := f.authors(g, signs{})
		if n > 3 {
			require.Empty(t, by)
			continue
		}
		require.Len(t, by, n)
		require.Equal(t, Author{Entry: by[0].Entry, Why: "it was started 1s before that"}, by[0])
	}
}

// A program for the processor is looked through for names in one byte a letter and in two.
func TestLook(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(root, "etc"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/os-release"), []byte("ID=debian\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "etc/a"),
		append([]byte("\x7fELF\x00\x00one.Desktop\x00update\x00"), windata.Encode(`Two Bells\Bell\Update`)...), 0o755))
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	f := finder{Input: Input{Machine: m}, sought: []string{"xdg/one.desktop", "two bells", "three.desktop",
		"bell/update", "chart/update"}, scripts: map[string]*script{}, inside: map[string]map[string]bool{}}
	for name, want := range map[string]bool{"xdg/one.desktop": true, "two bells": true, "three.desktop": false,
		"bell/update": true, "chart/update": false} {
		require.Equal(t, want, f.holds("/etc/a", signs{names: []string{name}}), name)
	}
	require.False(t, f.holds("/etc/none", signs{names: []string{"two bells"}}))
	require.False(t, f.holds("/etc/os-release", signs{names: []string{"two bells"}}), "a text")
}

// A policy sets an entry where one of its preferences, or a value of its registry, is called as it.
func TestPolicies(t *testing.T) {
	value := signsOf(&autostart.Entry{SystemName: "Bell",
		Source: autostart.Source{Path: `HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Run`, Key: "Bell"}}, false)
	service := signsOf(&autostart.Entry{SystemName: "BellSvc",
		Source: autostart.Source{Path: `HKLM\SYSTEM\CurrentControlSet\Services\BellSvc`}}, false)
	shortcut := signsOf(&autostart.Entry{SystemName: "Bell & Co.lnk",
		Source: autostart.Source{Path: `C:\ProgramData\Microsoft\Windows\Start Menu\Programs\Startup\Bell & Co.lnk`}},
		false)
	task := signsOf(&autostart.Entry{SystemName: `\Bell\Update`,
		Source: autostart.Source{Path: `C:\Windows\System32\Tasks\Bell\Update`}}, false)
	const run = `<Registry name="Bell"><Properties action="U" hive="HKEY_LOCAL_MACHINE" ` +
		`key="SOFTWARE\Microsoft\Windows\CurrentVersion\Run" name="Bell" value="x"/></Registry>`
	registry := append([]byte("PReg\x01\x00\x00\x00"),
		windata.Encode("[Software\\Microsoft\\Windows\\CurrentVersion\\Run\x00;Bell\x00;\x01\x00;\x04\x00;x\x00]")...)
	for _, c := range []struct {
		file  string
		text  []byte
		signs signs
		want  bool
	}{
		{"Registry.xml", []byte(run), value, true},
		{"Registry.xml", []byte(strings.Replace(run, `action="U"`, `action="U" filter="a>b"`, 1)), value, true},
		{"Registry.xml", append([]byte{0xff, 0xfe}, windata.Encode(run)...), value, true},
		{"Registry.xml", []byte(strings.Replace(run, `"U"`, `"D"`, 1)), value, false},
		{"Registry.xml", []byte(strings.Replace(run, `name="Bell" v`, `name="Bells" v`, 1)), value, false},
		{"Registry.xml", []byte(strings.Replace(run, `\Run"`, `\Other"`, 1)), value, false},
		{"Registry.xml", []byte(strings.ReplaceAll(run, `"Bell"`, `"BellSvc"`)), service, false},
		{"Registry.xml", []byte(`<Properties action="U" hive="HKEY_LOCAL_MACHINE" ` +
			`key="SYSTEM\CurrentControlSet\Services\BellSvc" name="Start" value="2"/>`), service, true},
		{"Registry.pol", registry, value, true},
		{"Registry.pol", registry[:len(registry)-20], service, false},
		{"Services.xml", []byte(`<NTService name="BellSvc"><Properties startupType="AUTOMATIC" ` +
			`serviceName="BellSvc"/></NTService>`), service, true},
		{"Services.xml", []byte(`<NTService name="BellSvc"><Properties startupType="AUTOMATIC" ` +
			`serviceName="OtherSvc"/></NTService>`), service, false},
		{"Shortcuts.xml", []byte(`<Shortcut name="x"><Properties pidl="" targetPath="C:\x.exe" action="C" ` +
			`shortcutPath="%StartUpDir%\Bell &amp; Co"/></Shortcut>`), shortcut, true},
		{"ScheduledTasks.xml", []byte(`<TaskV2 name="Bell\Update"><Properties action="R" name="Bell\Update" ` +
			`runAs="x"><Task/></Properties></TaskV2>`), task, true},
		{"ScheduledTasks.xml", []byte(`<TaskV2 name="Chart\Update"><Properties action="R" name="Chart\Update" ` +
			`runAs="x"><Task/></Properties></TaskV2>`), task, false},
		{"example.plist", []byte("bplist00 example.bell.plist"),
			signs{names: []string{"launchagents/example.bell.plist"}}, true},
	} {
		require.Equal(t, c.want, policy{c.file, plain(policyText(c.text))}.sets(c.signs), "%s: %s", c.file, c.text)
	}
}

// Whatever stands in a file, only one that has the name sets an entry.
func FuzzPolicy(f *testing.F) {
	f.Add("Registry.xml", []byte(`<Properties action="U" key="CurrentVersion\Run" name="Bell"/>`))
	f.Add("Registry.pol", append([]byte("PReg\x01\x00\x00\x00"),
		windata.Encode("[CurrentVersion\\Run\x00;Bell\x00;")...))
	f.Fuzz(func(t *testing.T, file string, b []byte) {
		p := policy{file, plain(policyText(b))}
		if p.sets(signs{value: "bell", folder: "currentversion/run", names: []string{"bell.lnk"}}) {
			require.Contains(t, p.text, "bell")
		}
	})
}

// A program that was replaced needs a decision, unless both are proved to be of one maker, and nothing is worse.
func TestReplacedPrograms(t *testing.T) {
	t.Parallel()
	made := func(name, basis string, problems ...string) *location.Item {
		return &location.Item{Entry: autostart.Entry{Handle: "k7f3qa2", State: autostart.Enabled, Problems: problems,
			Known: &autostart.Known{Maker: autostart.Maker{Name: name, Basis: basis}}}}
	}
	signed, unproved := autostart.BySignature, autostart.ByVersionResource
	for name, c := range map[string]struct {
		was, is *location.Item
		wants   bool
	}{
		"an update":             {made("Kelpline", signed), made("Kelpline", signed), false},
		"another maker":         {made("Kelpline", signed), made("Fogbell", signed), true},
		"proved otherwise":      {made("Kelpline", signed), made("Kelpline", autostart.ByPackage), true},
		"only the file says so": {made("Kelpline", unproved), made("Kelpline", unproved), true},
		"nobody is known":       {made("", signed), made("", signed), true},
		"worse than it was":     {made("Kelpline", signed), made("Kelpline", signed, autostart.Insecure), true},
		"as bad as it was before": {made("Kelpline", signed, autostart.Insecure), made("Kelpline", signed,
			autostart.Insecure), false},
		"nothing is known before": {nil, made("Kelpline", signed), false},
	} {
		f := finder{earlier: map[string]*snapshot.Recorded{}}
		if c.was != nil {
			f.earlier[c.was.Handle] = &snapshot.Recorded{Entry: c.was.Entry}
		}
		g := f.changed(c.is, []snapshot.Field{{Field: "program"}})
		require.Equal(t, Replaced, g.Kind, name)
		require.Equal(t, c.wants, g.Wants, name)
	}
}
