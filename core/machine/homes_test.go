//go:build unix

package machine_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/machine"
	"lockback/internal/testkit"
)

// Nobody is skipped in silence: whose home is elsewhere is named, and who has a home and no account
// is a user all the same.
func TestHomesAndAccounts(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "files of other users")
	open := func(files map[string]string, owners map[string]int) *machine.Machine {
		root := t.TempDir()
		for name, text := range files {
			file := filepath.Join(root, name)
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
			require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		}
		for name, uid := range owners {
			require.NoError(t, os.MkdirAll(filepath.Join(root, name), 0o755))
			require.NoError(t, os.Chown(filepath.Join(root, name), uid, uid))
		}
		m, err := machine.Open(root)
		require.NoError(t, err)
		t.Cleanup(func() { m.Close() })
		return m
	}
	names := func(m *machine.Machine) (all []string) {
		for _, u := range m.Users {
			all = append(all, u.Name+" "+u.Home)
		}
		return all
	}
	const passwd = "root:x:0:0::/root:/bin/sh\nines:x:1000:1000::/home/ines:/bin/bash\nbram:x:1001:1001::/srv/bram:/bin/sh\ngauge:x:1002:1002::/nowhere:/usr/sbin/nologin\n"
	m := open(map[string]string{"etc/passwd": passwd, "root/x": ""}, map[string]int{"home/ines": 1000, "srv/bram": 1001,
		"home/vera": 20481, "home/shared": 1000, "home/backup": 0, "home/low": 999, "home/odd:name": 20482,
		"home/nobody": 65534})
	require.Equal(t, []string{"root /root", "ines /home/ines", "bram /srv/bram", "gauge /nowhere", "vera /home/vera"},
		names(m))
	require.Equal(t, 20481, m.Users[4].UID)
	require.Empty(t, m.MissingHomes())

	m = open(map[string]string{"etc/passwd": passwd, "etc/fstab": "# a comment\nUUID=1 / ext4 defaults 0 1\nUUID=2 " +
		"/home btrfs subvol=@home 0 0\n"}, map[string]int{"home/bram2": 1001})
	require.Equal(t, []machine.MissingHome{
		{Path: "/home/ines", Reason: "the home of ines is not on this disk; what starts for ines is not listed " +
			"(/etc/fstab mounts /home; mount it there too)"},
		{Path: "/srv/bram", Reason: "the home of bram is not on this disk; what starts for bram is not listed"},
	}, m.MissingHomes())
	m = open(map[string]string{"etc/passwd": passwd +
		"a:x:1003:1::/home/a:/bin/sh\nb:x:1004:1::/home/b:/bin/sh\nc:x:1005:1::/home/c:/bin/sh\nd:x:1006:1::/home/d:/bin/sh\ne:x:1007:1::/home/e:/bin/sh\n"}, nil)
	require.Equal(t, machine.MissingHome{Path: "/home", Reason: "the homes of ines, a, b, c, d and 1 more are not " +
		"on this disk; what starts for them is not listed"}, m.MissingHomes()[0])

	// A copy that does not show its owners tells nobody's home.
	m = open(map[string]string{"etc/passwd": passwd}, map[string]int{"etc": 1000, "home/ines": 1000, "srv/bram": 1001,
		"home/vera": 20481})
	require.Len(t, names(m), 4)
}
