package identify

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/format/plist"
	"lockback/core/location"
	"lockback/core/location/macos"
	"lockback/core/location/table"
	"lockback/core/machine"
	"lockback/core/machine/account"
)

// What commands on a Mac really start.
func TestMacCommands(t *testing.T) {
	root := t.TempDir()
	put := func(name string, content any) {
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		b, isText := []byte(nil), false
		if s, ok := content.(string); ok {
			b, isText = []byte(s), true
		}
		if !isText {
			var err error
			b, err = plist.New(content).Bytes()
			require.NoError(t, err)
		}
		require.NoError(t, os.WriteFile(file, b, 0o755))
	}
	put("System/Library/CoreServices/SystemVersion.plist", map[string]any{"ProductVersion": "14.0"})
	put("Applications/Tide Table.app/Contents/Info.plist", map[string]any{"CFBundleExecutable": "Tide",
		"CFBundleIdentifier": "org.gullrock.tide"})
	put("Applications/Tide Table.app/Contents/MacOS/Tide", "x")
	put("Applications/Hollow.app/Contents/Info.plist", map[string]any{"CFBundleExecutable": "Gone"})
	put("Applications/Plain.app/x", "")
	put("Users/ines/Applications/Hers.app/Contents/Info.plist", map[string]any{"CFBundleExecutable": "hers"})
	put("Users/ines/Applications/Hers.app/Contents/MacOS/hers", "x")
	put("usr/bin/tide", "x")
	put("opt/script.sh", "x")
	put("opt/folder/x", "x")
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	ines := &account.User{Name: "ines", Home: "/Users/ines"}
	const tide = "/Applications/Tide Table.app/Contents/MacOS/Tide"
	yes, no := "there ", "missing "
	for _, row := range []struct {
		argv []string
		want string
	}{
		{[]string{"/opt/script.sh", "-x"}, yes + "/opt/script.sh"}, {[]string{"/OPT/Script.SH"},
			yes + "/opt/script.sh"}, {[]string{"/opt/none"}, no + "/opt/none"}, {[]string{"tide"},
			yes + "/usr/bin/tide"}, {[]string{"nothing"}, no + "nothing"},
		{[]string{"/Applications/Tide Table.app"}, yes + tide}, {[]string{"/Applications/Tide Table.app/"}, yes + tide},
		{[]string{"/Applications/Hollow.app"}, no + "/Applications/Hollow.app/Contents/MacOS/Gone"},
		{[]string{"/Applications/Plain.app"}, yes + "/Applications/Plain.app"}, {[]string{"/Applications/None.app"},
			no + "/Applications/None.app"}, {[]string{"/opt/folder"}, no + "/opt/folder"},
		{[]string{"/usr/bin/open", "-a", "Tide Table"}, yes + tide},
		{[]string{"open", "-g", "-a", "/Applications/Tide Table.app", "--args", "x"}, yes + tide},
		{[]string{"open", "-b", "ORG.gullrock.tide"}, yes + tide},
		{[]string{"open", "-a", "Hers"}, yes + "/Users/ines/Applications/Hers.app/Contents/MacOS/hers"},
		{[]string{"open", "-a", "Nowhere"}, ""}, {[]string{"open", "-b", "org.none"}, ""},
		{[]string{"open", "https://gullrock.example"}, ""},
		{[]string{"open", "-W", "/opt/script.sh"}, yes + "/opt/script.sh"},
		{[]string{"open", "--env", "A=b", "/opt/script.sh"}, yes + "/opt/script.sh"}, {[]string{"open"}, ""},
		{[]string{"open", "--args", "/x"}, ""},
		{[]string{"/bin/sh", "-c", "sleep 5; open -a 'Tide Table'"}, yes + tide},
		{[]string{"/bin/sh", "-c", "/opt/script.sh & wait"}, yes + "/opt/script.sh"},
		{[]string{"/bin/zsh", "/opt/script.sh"}, yes + "/opt/script.sh"}, {[]string{"/bin/sh", "-c", "$X"}, ""},
		{[]string{"/usr/bin/osascript", "/opt/script.sh"}, yes + "/opt/script.sh"},
		{[]string{"/usr/bin/caffeinate", "-t", "5", "/opt/script.sh"}, yes + "/opt/script.sh"},
		{[]string{"/usr/bin/arch", "-arm64", "/opt/script.sh"}, yes + "/opt/script.sh"},
		{[]string{"/Volumes/Archive/x"}, "unknown /Volumes/Archive/x"}, {[]string{"~/x"}, "unknown ~/x"},
		{[]string{"a/b"}, "unknown a/b"}, {nil, ""}, {[]string{""}, "unknown "}, {[]string{"/x\x00y"}, ""},
	} {
		item := &location.Item{Argv: row.argv, For: ines}
		(&macFinder{machine: m.Reader(nil)}).findAll(item)
		got := item.Target
		word := "unknown "
		if got.Exists != nil {
			word = map[bool]string{true: yes, false: no}[*got.Exists]
		}
		if row.want == "" {
			word = ""
		}
		require.Equal(t, row.want, word+got.Path, "%q", row.argv)
	}
}

// Names that only look like the system's are not taken for its parts.
func TestPartsOfMacOS(t *testing.T) {
	for _, row := range []struct {
		at, name, source, target string
		part                     bool
		guarded                  string
	}{
		{"macos.launch-daemons", "com.apple.configd", "/System/Library/LaunchDaemons/x.plist", "/usr/libexec/configd",
			true, "start"},
		{"macos.launch-daemons", "org.cups.cupsd", "/System/Library/LaunchDaemons/x.plist", "/usr/sbin/cupsd", true,
			""},
		{"macos.launch-daemons", "com.apple.configd", "/System/Library/LaunchDaemons/x.plist", "/usr/local/bin/configd",
			false, ""},
		{"macos.launch-daemons", "com.apple.configd", "/Library/LaunchDaemons/x.plist", "/usr/libexec/configd", false,
			""},
		{"macos.launch-agents", "com.apple.Dock.agent", "/System/Library/LaunchAgents/x.plist", "", true, "screen"},
		{"macos.launch-agents", "com.apple.Dock.agent", "/Users/ines/Library/LaunchAgents/x.plist", "", false, ""},
		{"macos.periodic", "110.clean-tmps", "/private/etc/periodic/daily/110.clean-tmps", "", true, ""},
		{"macos.periodic", "110.clean-tmps", "/usr/local/etc/periodic/daily/110.clean-tmps", "", false, ""},
		{"macos.periodic", "500.ours", "/private/etc/periodic/daily/500.ours", "", false, ""},
		{"macos.cron", "com.apple.x", "/System/x", "", false, ""},
	} {
		names := macNames(&location.Item{Row: table.Row(row.at), Packaged: packaged(macos.Locations(), row.at,
			row.source),
			Entry: autostart.Entry{Location: row.at, Name: row.name, Source: autostart.Source{Path: row.source},
				Target: autostart.Target{Path: row.target}}})
		r := catalogue.Of("macos").Find(catalogue.Subject{Location: row.at, Names: names})
		require.Equal(t, row.part, r != nil, "%v", row)
		if r != nil {
			require.Equal(t, row.guarded, r.Protect, "%v", row)
		}
	}
}
