package snapshot

import (
	"crypto/sha256"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
)

// An early snapshot has no word for the place of an entry, and says in its mode when it starts:
// neither is a change of the machine.
func TestEarlySnapshotsAreComparedByWhatTheyTell(t *testing.T) {
	early := autostart.Entry{Handle: "k7f3qa2", Name: "updater", State: autostart.Enabled, Mode: "*/10 * * * *"}
	now := early
	now.Place, now.Mode, now.When = "Crontabs of the system", "", "every 10 minutes"
	require.Empty(t, compareEntries(&early, &now, false))
	later := now
	later.When = "every 20 minutes"
	require.Equal(t, []Field{{Field: "when", From: "every 10 minutes", To: "every 20 minutes"}},
		compareEntries(&now, &later, false))
	early.State = autostart.Disabled
	require.Equal(t, []Field{{Field: "state", From: "disabled", To: "enabled"}}, compareEntries(&early, &now, false))
}

// A service that is off has no place that tells whether it would start by itself or when it is asked for: where it
// stands in the list then is no change of its own.
func TestStagesOfWhatIsOff(t *testing.T) {
	on := autostart.Entry{Handle: "k7f3qa2", Place: "p", State: autostart.Enabled, Stage: autostart.Event,
		When: "when a program asks for it"}
	off := on
	off.State, off.Stage, off.When = autostart.Disabled, autostart.System, "at startup"
	require.Equal(t, []Field{{Field: "state", From: "enabled", To: "disabled"}}, compareEntries(&on, &off, false))
	moved := on
	moved.Stage = autostart.System
	require.Equal(t, []Field{{Field: "stage", From: "event", To: "system"}}, compareEntries(&on, &moved, false))
}

// What was found wrong with programs is no change of the machine where an earlier snapshot never
// looked.
func TestProblemsOfEarlierSnapshots(t *testing.T) {
	earlier := autostart.Entry{Handle: "k7f3qa2", Place: "p", Problems: []string{autostart.TargetMissing}}
	now := earlier
	now.Problems = []string{autostart.TargetMissing, autostart.Changed}
	require.Empty(t, compareEntries(&earlier, &now, true))
	require.Equal(t, []Field{{Field: "problems", From: "target-missing", To: "target-missing, changed"}},
		compareEntries(&earlier, &now, false))
	head := "E\tk7f3qa2\t\t"
	at := func(body string) *line { return &line{raw: head + body, second: 9, third: 10} }
	require.False(t, at(string(appendEntry(nil, &Recorded{Entry: now}))).beforePrograms())
	require.True(t, at(strings.Repeat("x\t", beforePrograms-1)).beforePrograms())
}

// An entry of a section that both snapshots have alike is told of where an artifact of it changed, which stands in the
// section of another that names it as well.
func TestArtifactOfAnotherSection(t *testing.T) {
	section := func(key, text string) Section {
		return Section{Key: key, Digest: sha256.Sum256([]byte(text)), Text: []byte(text)}
	}
	entry := func(handle string) string {
		e := Recorded{Entry: autostart.Entry{Handle: handle, Location: "linux.rc-local", Name: handle,
			Problems: []string{}}}
		return string(appendEntry([]byte("E\t"+handle+"\t\"/shared\"\t"), &e)) + "\n"
	}
	const before, after = "A\tfile\t\"/shared\"\t{\"kind\":\"absent\"}\n", "A\tfile\t\"/shared\"\t{\"kind\":\"link\",\"target\":\"\\\"/x\\\"\"}\n"
	from := &Snapshot{Sections: []Section{section("a", entry("aaaaaaa")), section("b", before)}}
	to := &Snapshot{Sections: []Section{section("a", entry("aaaaaaa")), section("b", after)}}
	d, err := Compare(from, to)
	require.NoError(t, err)
	require.Len(t, d.Changed, 1)
	require.Equal(t, "aaaaaaa", d.Changed[0].Handle)
	d, err = Compare(from, from)
	require.NoError(t, err)
	require.True(t, d.Empty())
}
