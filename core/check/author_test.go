package check

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
)

// Two programs in one folder have something in common only where nobody else's lie.
func TestFolderOf(t *testing.T) {
	for program, folder := range map[string]string{
		"/opt/kelpline/bin/updater": "/opt/kelpline/bin", "/usr/lib/kelpline/care": "/usr/lib/kelpline", "/home/ines/.speed/keeper": "/home/ines/.speed",
		`C:\Program Files\Kelpline\a.exe`: `c:\program files\kelpline`, `C:\ProgramData\tuner\tuner.exe`: `c:\programdata\tuner`,
		"/Library/Application Support/Kelpline/updater": "/library/application support/kelpline",
		"/usr/bin/x": "", "/usr/sbin/x": "", "/home/ines/bin/x": "", "/usr/local/bin/x": "", "/etc/cron.daily/x": "", "/etc/x": "", "/usr/libexec/x": "", "/usr/lib/systemd/systemd-x": "",
		`C:\Windows\System32\drivers\x.sys`: "", `C:\Windows\x.exe`: "", `C:\Program Files\x.exe`: "", `C:\Program Files (x86)\x.exe`: "", `C:\ProgramData\x.exe`: "",
		"/System/Library/CoreServices/x": "", "/Library/PrivilegedHelperTools/x": "", "x": "", "": "", "/x": "",
	} {
		require.Equal(t, folder, folderOf(program), program)
	}
}

// What two entries have in common is said by the strongest that holds.
func TestAkin(t *testing.T) {
	entry := func(maker, product, program string) *autostart.Entry {
		return &autostart.Entry{Target: autostart.Target{Path: program}, Known: &autostart.Known{Maker: autostart.Maker{Name: maker}, Product: autostart.Product{Name: product}}}
	}
	require.Equal(t, "product", akin(entry("M", "P", "/opt/a/x"), entry("M", "P", "/opt/a/y")))
	require.Equal(t, "maker", akin(entry("M", "P", "/opt/a/x"), entry("M", "Q", "/opt/a/y")))
	require.Equal(t, "folder", akin(entry("", "", "/opt/a/x"), entry("M", "Q", "/opt/A/y")))
	require.Empty(t, akin(entry("", "", "/usr/bin/x"), entry("", "", "/usr/bin/y")))
	require.Empty(t, akin(entry("", "", ""), entry("", "", "")))
}
