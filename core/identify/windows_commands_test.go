package identify_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/core/identify"
	"lockback/core/location"
	"lockback/core/location/table"
	"lockback/core/machine"
	"lockback/core/machine/registry"
	"lockback/internal/testkit"
)

// What a command of a Windows machine really starts: the path, and whether it is
// there. An empty path means that it cannot be known.
func TestWindowsCommands(t *testing.T) {
	root := testkit.WindowsDisk(t, testkit.Keys{
		`Microsoft\Windows\CurrentVersion\App Paths\tide.exe`: {regf.NewText("", `"C:\Tide\bin\tide.exe"`)},
	}, testkit.Keys{
		`ControlSet002\Control\Session Manager\Environment`: {regf.NewExpand("TIDE", `%SystemDrive%\Tide`),
			regf.NewExpand("Path", `%SystemRoot%\system32;"C:\Tide\bin\";relative`)},
	}, testkit.Keys{
		`Environment`: {regf.NewExpand("GAUGE", `%USERPROFILE%\gauge`), regf.NewExpand("Path",
			`%USERPROFILE%\gauge;C:\Elsewhere`)},
		`Software\Microsoft\Windows\CurrentVersion\App Paths\mine.exe`: {regf.NewText("", `C:\Tide\mine.exe`)},
	}, map[string]string{
		`Windows\System32\cmd.exe`: "", `Windows\System32\rundll32.exe`: "", `Windows\System32\wscript.exe`: "",
		`Windows\System32\mshta.exe`:   "",
		`Windows\System32\msiexec.exe`: "", `Windows\System32\svchost.exe`: "", `Windows\explorer.exe`: "",
		`Windows\System32\shell.dll`: "", `Windows\SysWOW64\shell.dll`: "",
		`Windows\System32\WindowsPowerShell\v1.0\powershell.exe`: "", `Windows\System32\drivers\gauge.sys`: "",
		`Program Files\Tide Works\tide.exe`: "", `Program Files\Tide Works\run me.vbs`: "",
		`Tide\bin\tide.exe`: "", `Tide\tide.dll`: "", `Tide\mine.exe`: "", `Windows\System32\pcalua.exe`: "",
		`Tide\start.ps1`: "", `Tide\tide.jar`: "", `Tide\setup.msi`: "", `Program Files\Java\bin\javaw.exe`: "",
		`Users\ines\gauge\gauge.exe`: "", `My.exe`: "",
	})
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	require.Equal(t, "Windows 11 Pro (build 22631)", m.Version)
	require.Equal(t, "BENCH", m.Name)
	require.Equal(t, "00112233-4455-6677-8899-aabbccddeeff", m.ID)
	ines, ok := m.UserNamed("ines")
	require.True(t, ok)
	const (
		there, gone, unknown = 1, 0, -1
	)
	for _, c := range []struct {
		line   string
		path   string
		exists int
	}{
		{`"C:\Program Files\Tide Works\tide.exe" --tray`, `C:\Program Files\Tide Works\tide.exe`, there},
		{`C:\Program Files\Tide Works\tide.exe --tray`, `C:\Program Files\Tide Works\tide.exe`, there},
		{`c:\PROGRAM files\tide works\TIDE.EXE`, `C:\Program Files\Tide Works\tide.exe`, there},
		{`C:\Program Files\Gone Works\gone.exe -a b`, `C:\Program Files\Gone Works\gone.exe`, gone},
		{`C:\gone`, `C:\gone`, gone},
		{`C:\My Works\tide.exe`, `C:\My.exe`, there}, // what an unquoted path with a blank is taken for
		{`"C:\Program Files\Tide Works\tide"`, `C:\Program Files\Tide Works\tide.exe`, there},
		{`%TIDE%\bin\tide.exe`, `C:\Tide\bin\tide.exe`, there},
		{`%GAUGE%\gauge.exe`, `C:\Users\ines\gauge\gauge.exe`, there},
		{`%NOBODY%\gauge.exe`, `%NOBODY%\gauge.exe`, unknown},
		{`tide.exe /q`, `C:\Tide\bin\tide.exe`, there}, // App Paths
		{`tide /q`, `C:\Tide\bin\tide.exe`, there},
		{`gauge.exe /tray`, `C:\Users\ines\gauge\gauge.exe`, there}, // the user's own PATH
		{`mine.exe`, `C:\Tide\mine.exe`, there},                     // and their own App Paths
		{`C:\Windows\Sysnative\shell.dll`, `C:\Windows\System32\shell.dll`, there},
		{`C:\Tide.\\bin \tide.exe.`, `C:\Tide\bin\tide.exe`, there},
		{`C:\Windows\System32\..\..\Tide\bin\tide.exe`, `C:\Tide\bin\tide.exe`, there},
		{`\\?\C:\Tide\bin\tide.exe`, `C:\Tide\bin\tide.exe`, there},
		{`\\?\UNC\server\share\tide.exe`, `\\server\share\tide.exe`, unknown},
		{`\\?\Volume{5a17abcd-0000-0000-0000-100000000000}\tide.exe`,
			`\\?\Volume{5a17abcd-0000-0000-0000-100000000000}\tide.exe`, unknown},
		{`\Device\HarddiskVolume3\Tide\tide.exe`, `\\?\Device\HarddiskVolume3\Tide\tide.exe`, unknown},
		{`\??\GLOBALROOT\Device\x.sys`, `\\?\GLOBALROOT\Device\x.sys`, unknown},
		{`C:\Tide`, `C:\Tide`, unknown}, // Explorer shows a folder
		{`https://tide.example/a`, ``, unknown},
		{`ms-settings:about`, ``, unknown},
		{`rundll32.exe /d tide.dll,Start`, `tide.dll`, gone},
		{`rundll32.exe /d C:\Tide\tide.dll,Start`, `C:\Tide\tide.dll`, there},
		{`rundll32.exe -sta {5A17ABCD-1887-4002-8314-000000000002}`, ``, unknown},
		{`rundll32.exe javascript:"\..\mshtml,RunHTMLApplication "`, ``, unknown},
		{`rundll32.exe shell.dll,ShellExec_RunDLL C:\Tide\bin\tide.exe`, `C:\Tide\bin\tide.exe`, there},
		{`rundll32 shell.dll,ShellExec_RunDLL ?0x1?C:\gone.exe`, ``, unknown},
		{`rundll32.exe advpack.dll,LaunchINFSection C:\Program Files\Tide Works\run me.vbs,Start,,1`,
			`C:\Program Files\Tide Works\run me.vbs`, there},
		{`rundll32.exe url.dll,FileProtocolHandler https://tide.example`, ``, unknown},
		{`pcalua.exe -a "C:\Tide\bin\tide.exe" -c x`, `C:\Tide\bin\tide.exe`, there},
		{`cmd.exe /cC:\Tide\bin\tide.exe`, `C:\Tide\bin\tide.exe`, there},
		{`powershell.exe -fil C:\Tide\start.ps1`, `C:\Tide\start.ps1`, there},
		{`\SystemRoot\System32\drivers\gauge.sys`, `C:\Windows\System32\drivers\gauge.sys`, there},
		{`\??\C:\Windows\System32\drivers\gauge.sys`, `C:\Windows\System32\drivers\gauge.sys`, there},
		{`System32\drivers\gauge.sys`, `C:\Windows\System32\drivers\gauge.sys`, there},
		{`E:\Backup\backup.exe`, `E:\Backup\backup.exe`, unknown},
		{`\\server\share\x.exe`, `\\server\share\x.exe`, unknown},
		{`C:\PROGRA~1\TIDEWO~1\x.exe`, `C:\PROGRA~1\TIDEWO~1\x.exe`, unknown},

		{`rundll32.exe C:\Tide\tide.dll,Start`, `C:\Tide\tide.dll`, there},
		{`rundll32 "C:\Tide\tide.dll",Start x`, `C:\Tide\tide.dll`, there},
		{`rundll32.exe shell.dll,Control_RunDLL x`, `C:\Windows\System32\shell.dll`, there},
		{`rundll32.exe shell,Control_RunDLL`, `C:\Windows\System32\shell.dll`, there},
		{`regsvr32 /s C:\Tide\tide.dll`, `C:\Tide\tide.dll`, there},
		{`wscript.exe //B "C:\Program Files\Tide Works\run me.vbs" x`, `C:\Program Files\Tide Works\run me.vbs`, there},
		{`mshta "javascript:close()"`, ``, unknown},
		{`cmd /c start "" /min "C:\Tide\bin\tide.exe" --x`, `C:\Tide\bin\tide.exe`, there},
		{`cmd.exe /d /c C:\Tide\bin\tide.exe & del x`, `C:\Tide\bin\tide.exe`, there},
		{`cmd /c ""C:\Program Files\Tide Works\tide.exe" "x""`, `C:\Program Files\Tide Works\tide.exe`, there},
		{`cmd /c "start /min C:\Tide\bin\tide.exe"`, `C:\Tide\bin\tide.exe`, there},
		{`cmd /c "call C:\Tide\bin\tide.exe"`, `C:\Tide\bin\tide.exe`, there},
		{`cmd /k echo hello`, ``, unknown},
		{`cmd`, `C:\Windows\System32\cmd.exe`, there},
		{`powershell -ExecutionPolicy Bypass -File C:\Tide\start.ps1`, `C:\Tide\start.ps1`, there},
		{`powershell -w hidden C:\Tide\start.ps1`, `C:\Tide\start.ps1`, there},
		{`powershell -NoProfile -EncodedCommand SQBuAA==`, ``, unknown},
		{`powershell -c "iwr x"`, ``, unknown},
		{`msiexec /i C:\Tide\setup.msi /qn`, `C:\Tide\setup.msi`, there},
		{`msiexec /x {5A17ABCD-1887-4001-8314-000000000001}`, `C:\Windows\System32\msiexec.exe`, there},
		{`explorer.exe C:\Tide\bin\tide.exe`, `C:\Tide\bin\tide.exe`, there},
		{`explorer.exe`, `C:\Windows\explorer.exe`, there},
		{`"C:\Program Files\Java\bin\javaw.exe" -Xmx64m -jar C:\Tide\tide.jar`, `C:\Tide\tide.jar`, there},
		{`C:\Windows\System32\svchost.exe -k netsvcs`, `C:\Windows\System32\svchost.exe`, there},
		// enough is enough
		{`cmd /c cmd /c cmd /c cmd /c cmd /c cmd /c cmd /c cmd /c x`, `C:\Windows\System32\cmd.exe`, there},
		{`"`, ``, unknown}, {``, ``, unknown}, {`   `, ``, unknown}, {`a<b>c`, ``, unknown},
	} {
		item := &location.Item{Entry: autostart.Entry{Location: "windows.run"}, CommandLine: c.line, For: &ines}
		identify.Annotate(m.Reader(nil), nil, []*location.Item{item})
		require.Equal(t, c.path, item.Target.Path, c.line)
		switch c.exists {
		case unknown:
			require.Nil(t, item.Target.Exists, c.line)
		default:
			require.NotNil(t, item.Target.Exists, c.line)
			require.Equal(t, c.exists == there, *item.Target.Exists, c.line)
			require.Equal(t, c.exists == gone, slices.Contains(item.Problems, autostart.TargetMissing), c.line)
		}
	}
	narrow := &location.Item{CommandLine: `C:\Windows\System32\shell.dll`, Narrow: true}
	identify.Annotate(m.Reader(nil), nil, []*location.Item{narrow})
	require.Equal(t, `C:\Windows\SysWOW64\shell.dll`, narrow.Target.Path, "where a 32-bit program finds it")
	// What one of them found is not taken for the other, whoever comes first.
	var both []*location.Item
	for k := range 64 {
		both = append(both, &location.Item{CommandLine: `C:\Windows\System32\shell.dll`, Narrow: k%2 == 0})
	}
	identify.Annotate(m.Reader(nil), nil, both)
	for _, item := range both {
		require.Equal(t, item.Narrow, item.Target.Path == `C:\Windows\SysWOW64\shell.dll`, item.Target.Path)
	}
}

// A name of the system's counts only with a program in the system's own folders.
func TestPartsOfWindows(t *testing.T) {
	m, err := machine.Open(testkit.WindowsDisk(t, nil, nil, nil, map[string]string{`Windows\System32\dnsrslvr.dll`: "",
		`Temp\dnsrslvr.dll`: ""}))
	require.NoError(t, err)
	defer m.Close()
	for _, c := range []struct {
		service, line string
		user          string
		part          bool
	}{
		{"Dnscache", `C:\Windows\System32\dnsrslvr.dll`, "", true},
		{"dnscache", `%SystemRoot%\system32\DNSRSLVR.dll`, "", true},
		{"Dnscache", `C:\Temp\dnsrslvr.dll`, "", false},
		{"Tide", `C:\Windows\System32\dnsrslvr.dll`, "", false},
		{"DnscacheX", `C:\Windows\System32\dnsrslvr.dll`, "", false},
		{"Dnscach", `C:\Windows\System32\dnsrslvr.dll`, "", false},
		{"XDnscache", `C:\Windows\System32\dnsrslvr.dll`, "", false},
		{"Dnscache", `C:\Windows\System32\dnsrslvr.dll`, "ines", false},
	} {
		item := &location.Item{Row: table.Row("windows.services"), Entry: autostart.Entry{Location: "windows.services",
			User: c.user, Source: autostart.Source{Path: registry.KeyCCS + `\Services\` + c.service}},
			CommandLine: c.line}
		identify.Annotate(m.Reader(nil), nil, []*location.Item{item})
		require.Equal(t, c.part, item.OSPart, c.line)
		require.Equal(t, c.part, item.Guarded != "", c.line)
	}
}

func FuzzWindowsCommand(f *testing.F) {
	m, err := machine.Open(testkit.WindowsDisk(f, nil, nil, nil, nil))
	require.NoError(f, err)
	for _, line := range []string{`"C:\a b.exe" x`, `cmd /c start "" x`, `rundll32 a,b`, `powershell -f x`} {
		f.Add(line)
	}
	f.Fuzz(func(t *testing.T, line string) {
		identify.Annotate(m.Reader(nil), nil, []*location.Item{{CommandLine: line}})
	})
}
