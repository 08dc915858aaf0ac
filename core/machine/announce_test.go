package machine

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Which service managers must hear of which files.
func TestWhoIsTold(t *testing.T) {
	m := &Machine{Live: true, Users: []User{{Name: "root", Home: "/root"}, {Name: "ines", UID: 1000, Home: "/home/ines"}, {Name: "bram", UID: 1001, Home: "/home/bram"}}}
	const system = "the system's service manager"
	of := func(name string) string { return "the service manager of " + name }
	for file, want := range map[string][]string{
		"/etc/systemd/system/a.service":             {system},
		"/etc/systemd/system.control/a.service":     {system},
		"/usr/lib/systemd/system/x.wants/a.service": {system},
		"/etc/systemd/user/a.service":               {of("root"), of("ines"), of("bram")},
		"/home/ines/.config/systemd/user/a.service": {of("ines")},
		"/home/bram/.config/autostart/bell.desktop": {of("bram")},
		"/etc/crontab":  nil,
		"/etc/rc.local": nil,
		"/home/inesother/.config/autostart/x.desktop": nil,
	} {
		var told []string
		for _, manager := range m.managersOf([]string{file}) {
			told = append(told, manager.String())
		}
		require.Equal(t, want, told, file)
	}
	both := m.managersOf([]string{"/home/bram/.config/systemd/user/a.service", "/etc/systemd/system/a.service", "/etc/systemd/system/b.service"})
	require.Len(t, both, 2)
	mounted := &Machine{Users: m.Users}
	require.Empty(t, mounted.Announce([]string{"/etc/systemd/system/a.service"}))
	require.NoError(t, mounted.Confirm("linux.systemd.system", "a.service", "", "whatever"))
}
