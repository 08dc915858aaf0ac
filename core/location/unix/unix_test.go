package unix

import (
	"io/fs"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/format/crontab"
	"lockback/core/location"
	"lockback/core/machine/artifact"
)

// images are those of a plan.
type images map[string]artifact.Image

func (i images) Image(a artifact.Artifact) (artifact.Image, error) {
	if image, ok := i[a.Name]; ok {
		return image, nil
	}
	return artifact.Image{Kind: artifact.Absent}, nil
}

func (i images) set(t *testing.T, s location.Switcher, state autostart.State) error {
	t.Helper()
	edits, err := s.Plan(i, location.Want{State: state, Now: time.Unix(1700000000, 0)})
	for _, e := range edits {
		i[e.Artifact.Name] = e.Image
	}
	return err
}

// A script is switched by its bits; a link by a file that remembers it.
func TestUnexec(t *testing.T) {
	for _, mode := range []fs.FileMode{0o755, 0o700, 0o744, 0o511, 0o4755} {
		i := images{"/s": {Kind: artifact.Regular, Mode: mode, Content: []byte("#!/bin/sh\n")}}
		require.NoError(t, i.set(t, unexec{"/s"}, autostart.Disabled))
		require.Zero(t, i["/s"].Mode&0o111)
		require.Equal(t, mode&^0o111, i["/s"].Mode)
		require.NoError(t, i.set(t, unexec{"/s"}, autostart.Enabled))
		require.Equal(t, mode.Perm()&0o444>>2, i["/s"].Mode&0o111, "who may read it may run it")
	}
	for _, target := range []string{"/opt/tide", "../with blank", "new\nline", "#", "\"quoted\""} {
		i := images{"/s": {Kind: artifact.Symlink, Target: target, UID: 5, GID: 6}}
		require.NoError(t, i.set(t, unexec{"/s"}, autostart.Disabled))
		require.Equal(t, artifact.Regular, i["/s"].Kind)
		require.Zero(t, i["/s"].Mode&0o111)
		require.NoError(t, i.set(t, unexec{"/s"}, autostart.Enabled))
		require.Equal(t, []any{artifact.Symlink, target, 5, 6}, []any{i["/s"].Kind, i["/s"].Target, i["/s"].UID,
			i["/s"].GID})
	}
	i := images{"/s": {Kind: artifact.Regular, Content: []byte(linkMark + "not quoted\n")},
		"/d": {Kind: artifact.Folder}}
	require.ErrorIs(t, i.set(t, unexec{"/s"}, autostart.Enabled), location.ErrNoSwitch)
	require.ErrorIs(t, i.set(t, unexec{"/d"}, autostart.Disabled), location.ErrNoSwitch)
}

// A line is found again at its number, or anywhere once the table has changed.
func TestCronLine(t *testing.T) {
	const table = "# head\n@daily /opt/one\n@daily /opt/two\n@daily /opt/one\n"
	lines := crontab.Parse([]byte(table), false).Jobs()
	require.Len(t, lines, 3)
	i := images{"/t": {Kind: artifact.Regular, Content: []byte(table)}}
	require.NoError(t, i.set(t, &cronLine{&cronTable{"/t", false}, &lines[2]}, autostart.Disabled))
	require.Equal(t, "# head\n@daily /opt/one\n@daily /opt/two\n#lockback:off @daily /opt/one\n",
		string(i["/t"].Content))
	i["/t"] = artifact.Image{Kind: artifact.Regular, Content: []byte("@daily /opt/two\n")} // somebody else was here
	require.NoError(t, i.set(t, &cronLine{&cronTable{"/t", false}, &lines[1]}, autostart.Disabled))
	require.Equal(t, "#lockback:off @daily /opt/two\n", string(i["/t"].Content))
	require.ErrorContains(t, i.set(t, &cronLine{&cronTable{"/t", false}, &lines[0]}, autostart.Disabled),
		"no longer in /t")
	i["/t"] = artifact.Image{Kind: artifact.Symlink, Target: "/elsewhere"}
	require.ErrorIs(t, i.set(t, &cronLine{&cronTable{"/t", false}, &lines[0]}, autostart.Disabled),
		location.ErrNoSwitch)
}

// A line is named by the program that it is about.
func TestNamesOfLines(t *testing.T) {
	for command, want := range map[string]string{
		"/opt/tide --quiet": "tide", "test -x /usr/sbin/tide && /usr/sbin/tide": "tide",
		"\"/Library/My Tide/up dater\" -q": "up dater", "'/opt/a b/c'": "c",
		"cd / && run-parts --report /etc/cron.hourly": "cron.hourly", "echo hello > /dev/null": "echo",
		"/bin/sh -c '/opt/x'": "x", "(/opt/y)": "y",
		"test -x /usr/sbin/anacron || { cd / && run-parts --report /etc/cron.daily; }": "cron.daily",
		"test -e /run/systemd/system || MODE=1 /opt/scrub -A":                          "scrub", "test -e /a": "test",
		"tide": "tide", "\"unclosed /opt/z": "\"unclosed",
	} {
		l := crontab.Parse([]byte("@daily "+command+"\n"), false).Jobs()
		require.Len(t, l, 1, command)
		require.Equal(t, want, cronName(l[0]), command)
	}
	require.Equal(t, "a ", beforePercent("a %b"))
	require.Equal(t, `date +%F \x`, beforePercent(`date +\%F \x%in`))
	require.Equal(t, `a \\`, beforePercent(`a \\%b`), "the backslash is escaped, and not the percent sign")
	require.Equal(t, `a\`, beforePercent(`a\`))
}
