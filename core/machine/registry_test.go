package machine_test

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/regf"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/machine/registry"
	"lockback/internal/testkit"
)

const tideKey = `HKLM\SOFTWARE\Tide Works\Gauge`

func tideDisk(t testing.TB) (*machine.Machine, string) {
	t.Helper()
	root := testkit.WindowsDisk(t, testkit.Keys{
		`Tide Works\Gauge`: {regf.NewText("first", "1"), regf.NewText("second", "2"),
			regf.NewText("third", "3"), regf.NewText("", "default")},
		`Tide Works\Gauge\Sub\Deeper`: {regf.NewNumber("n", 7), regf.NewList("l", "a", "b")},
	}, nil, testkit.Keys{`Environment`: {regf.NewExpand("TIDE", `%USERPROFILE%\tide`)}}, nil)
	m, err := machine.Open(root)
	require.NoError(t, err)
	t.Cleanup(func() { m.Close() })
	return m, root
}

func commit(t testing.TB, m *machine.Machine) {
	t.Helper()
	require.NoError(t, m.Commit("token", func(string) {}))
}

// Each kind of artifact: read, taken away, written to the disk, put back, and the
// same as before. One that was not committed is as if nothing had been.
func TestArtifactsOfTheRegistry(t *testing.T) {
	t.Parallel()
	for _, a := range []artifact.Artifact{artifact.RegistryValue(tideKey, "second"), artifact.RegistryValue(tideKey,
		""), artifact.RegistryTree(tideKey),
		artifact.RegistryTree(tideKey + `\Sub`), artifact.RegistryValue(`HKU\S-1-5-21-1-2-3-1001\Environment`,
			"TIDE")} {
		t.Run(a.Name, func(t *testing.T) {
			m, root := tideDisk(t)
			hives := testkit.ExportAll(t, root)
			before, err := m.Image(a)
			require.NoError(t, err)
			require.NotEqual(t, artifact.Absent, before.Kind)
			gone := artifact.Image{Kind: artifact.Absent}
			require.NoError(t, m.Writable(a, before, gone))
			require.NoError(t, m.Set(a, gone, "x"))
			now, err := m.Image(a)
			require.NoError(t, err)
			require.Equal(t, artifact.Absent, now.Kind)
			require.Empty(t, testkit.Changed(hives, testkit.ExportAll(t, root)), "nothing is written before the commit")
			m.Abandon()
			now, err = m.Image(a)
			require.NoError(t, err)
			require.True(t, now.Same(before))

			require.NoError(t, m.Set(a, gone, "x"))
			commit(t, m)
			require.NotEmpty(t, testkit.Changed(hives, testkit.ExportAll(t, root)))
			require.NoError(t, m.Set(a, before, "x"))
			commit(t, m)
			now, err = m.Image(a)
			require.NoError(t, err)
			require.True(t, now.Same(before))
			require.Equal(t, before.Place, now.Place, "among the others where it was")
			require.Empty(t, testkit.Changed(hives, testkit.ExportAll(t, root)))
		})
	}
}

// What the scheduler notes of a task's last runs is no state; a value of the same
// name anywhere else is, and is recorded with its key.
func TestVolatileValuesAreTheSchedulersOnly(t *testing.T) {
	t.Parallel()
	const cache = `Microsoft\Windows NT\CurrentVersion\Schedule\TaskCache\Tasks\{1}`
	noted := []regf.Value{regf.NewText("Path", "x"), {Name: "DynamicInfo", Type: regf.Binary, Data: []byte{1}}}
	m, err := machine.Open(testkit.WindowsDisk(t, testkit.Keys{cache: noted, `Tide Works`: noted}, nil, nil, nil))
	require.NoError(t, err)
	defer m.Close()
	for key, kept := range map[string]bool{cache: false, `Tide Works`: true} {
		image, err := m.Image(artifact.RegistryTree(`HKLM\SOFTWARE\` + key))
		require.NoError(t, err)
		require.Equal(t, kept, bytes.Contains(image.Content, []byte("DynamicInfo")), key)
	}
}

// A key's time is put back when what is in it is the same again, and only then.
func TestTimesOfKeys(t *testing.T) {
	t.Parallel()
	m, _ := tideDisk(t)
	key, value := artifact.RegistryKeyOnly(tideKey), artifact.RegistryValue(tideKey, "second")
	before, err := m.Image(key)
	require.NoError(t, err)
	was, err := m.Image(value)
	require.NoError(t, err)
	require.NoError(t, m.Set(value, artifact.NewValue(regf.NewNumber("", 5)), "x"))
	require.NoError(t, m.RestoreTime(key, before))
	changed, err := m.Image(key)
	require.NoError(t, err)
	require.False(t, changed.ModTime.Equal(before.ModTime))
	require.NoError(t, m.Set(value, was, "x"))
	require.NoError(t, m.RestoreTime(key, before))
	commit(t, m)
	again, err := m.Image(key)
	require.NoError(t, err)
	require.True(t, again.ModTime.Equal(before.ModTime))
}

func TestRefusedInTheRegistry(t *testing.T) {
	t.Parallel()
	m, root := tideDisk(t)
	require.Error(t, m.Set(artifact.RegistryKeyOnly(tideKey), artifact.Image{Kind: artifact.Absent}, "x"),
		"a key that is not empty")
	require.Error(t, m.Set(artifact.RegistryValue(`HKLM\SOFTWARE\Nobody`, "x"),
		artifact.NewValue(regf.NewNumber("", 1)), "x"), "no such key")
	require.Error(t, m.Set(artifact.RegistryValue(`HKLM\NOWHERE\Nobody`, "x"), artifact.NewValue(regf.NewNumber("", 1)),
		"x"), "no such hive")
	require.NoError(t, m.Set(artifact.RegistryValue(`HKLM\SOFTWARE\Nobody`, "x"), artifact.Image{Kind: artifact.Absent},
		"x"), "it is so already")
	_, err := m.Registry.Key(`HKLM\SOFTWARE\Nobody`)
	require.ErrorIs(t, err, fs.ErrNotExist)
	// Something else writes the hive meanwhile.
	value := artifact.RegistryValue(tideKey, "first")
	require.NoError(t, m.Set(value, artifact.Image{Kind: artifact.Absent}, "x"))
	hive := filepath.Join(root, "Windows/System32/config/SOFTWARE")
	require.NoError(t, os.Chtimes(hive, time.Time{}, time.Now().Add(time.Hour)))
	require.ErrorIs(t, m.Commit("token", func(string) {}), registry.ErrChanged)
}

func TestNamesOfArtifacts(t *testing.T) {
	t.Parallel()
	for _, a := range []artifact.Artifact{artifact.File("/etc/x"), artifact.File(`C:\a b\"c"`),
		artifact.RegistryValue(tideKey, `a\\b\c`), artifact.RegistryTree(tideKey), artifact.RegistryKeyOnly(tideKey)} {
		back, err := artifact.ParseID(a.ID())
		require.NoError(t, err)
		require.Equal(t, a, back)
	}
	key, name := artifact.RegistryValue(tideKey, `a\\b`).Value()
	require.Equal(t, []string{tideKey, `a\\b`}, []string{key, name})
	for child, parent := range map[artifact.Artifact]artifact.Artifact{
		artifact.File(`C:\a\b`): artifact.File(`C:\a`), artifact.File(`C:\a`): artifact.File(`C:\`),
		artifact.File("/a"):                      artifact.File("/"),
		artifact.RegistryValue(tideKey, "x"):     artifact.RegistryKeyOnly(tideKey),
		artifact.RegistryTree(`HKLM\SOFTWARE\a`): artifact.RegistryKeyOnly(`HKLM\SOFTWARE`),
	} {
		got, ok := child.Parent()
		require.True(t, ok)
		require.Equal(t, parent, got)
	}
	for _, top := range []artifact.Artifact{artifact.File(`C:\`), artifact.File("/"), artifact.RegistryKeyOnly("HKLM"),
		artifact.RegistryKeyOnly(`HKLM\SOFTWARE`)} {
		_, ok := top.Parent()
		require.False(t, ok, top.Name)
	}
}

// Paths as Windows has them: any case, other drives, variables.
func TestPathsOfWindows(t *testing.T) {
	t.Parallel()
	root := testkit.WindowsDisk(t, nil, nil, testkit.Keys{`Environment`: {regf.NewExpand("GAUGE", `%APPDATA%\gauge`)}},
		map[string]string{`Users\ines\AppData\Roaming\Größe.TXT`: "x", `Program Files\x`: ""})
	m, err := machine.Open(root)
	require.NoError(t, err)
	defer m.Close()
	for _, name := range []string{`C:\Users\ines\AppData\Roaming\Größe.TXT`, `c:\USERS\INES\appdata\ROAMING\GRÖSSE.txt`,
		`C:\users\ines\appdata\roaming\gRÖßE.txt`} {
		content, err := m.ReadFile(name, 10)
		if name[3] == 'U' && name[4] == 'S' { // ß and SS are not the same name
			require.True(t, files.IsMissing(err), name)
			continue
		}
		require.NoError(t, err, name)
		require.Equal(t, "x", string(content))
	}
	require.Equal(t, `C:\Users\ines\AppData\Roaming`, m.Canonical(`c:\users\INES\appdata\ROAMING`))
	_, err = m.Stat(`D:\x`)
	require.ErrorIs(t, err, files.ErrOtherDrive)
	require.False(t, files.IsMissing(err))
	ines, _ := m.UserNamed("ines")
	for text, want := range map[string]string{`%gauge%\x`: `C:\Users\ines\AppData\Roaming\gauge\x`,
		`%SystemRoot%`: `C:\Windows`, `100%`: `100%`, `%%`: `%%`, `%x%y%windir%`: `%x%yC:\Windows`} {
		require.Equal(t, want, m.Expand(text, &ines), text)
	}
	require.Equal(t, `%gauge%`, m.Expand(`%gauge%`, nil))
}

func FuzzTreeImage(f *testing.F) {
	m, _ := tideDisk(f)
	image, err := m.Image(artifact.RegistryTree(tideKey))
	require.NoError(f, err)
	f.Add(image.Content)
	f.Fuzz(func(t *testing.T, content []byte) {
		// What a damaged record holds is refused, and the key stays.
		other := image
		other.Content = content
		a := artifact.RegistryTree(tideKey)
		err := m.Set(a, other, "x")
		if err == nil && !bytes.Equal(content, image.Content) {
			now, err := m.Image(a)
			require.NoError(t, err)
			require.NotEqual(t, artifact.Absent, now.Kind)
		}
		m.Abandon()
	})
}
