package starts_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/machine"
	"lockback/core/starts"
)

// The clock tells of starts, unless the starts tell themselves apart.
func TestSinceAMoment(t *testing.T) {
	noon := time.Date(2026, 5, 1, 12, 0, 0, 0, time.UTC)
	const one, two = "0123456789abcdef0123456789abcdef", "fedcba9876543210fedcba9876543210"
	for _, c := range []struct {
		what          string
		made, now     string        // the starts
		later         time.Duration // the change after the last start, by the clock
		boots, signIn int
		known         bool
	}{
		{"restarted, by the clock", "", "", -time.Hour, 1, 1, true},
		{"not restarted, by the clock", "", "", time.Minute, 0, 0, true},
		{"the same start, though the clock was set forward", one, one, -time.Hour, 0, 1, true},
		{"another start, though the clock was set back", one, two, time.Hour, 1, 1, true},
		{"made on the disk by a rescue system whose clock was ahead", machine.Mounted, one, time.Hour, 1, 1, true},
		{"made on the disk of a Windows machine that runs now", machine.Mounted, "", time.Hour, 1, 1, true},
		{"made and seen on the disk", machine.Mounted, machine.Mounted, time.Minute, 0, 0, true},
		{"its log tells of another start", machine.Mounted + one, machine.Mounted + two, time.Hour, 1, 1, true},
		{"its log may have ended", machine.Mounted + one, machine.Mounted + one, -time.Hour, 1, 1, true},
		{"its log may have ended before the change", one, machine.Mounted + two, time.Minute, 0, 0, true},
	} {
		s := starts.Starts{Boots: []time.Time{noon.Add(-48 * time.Hour), noon}, Now: starts.Moment{Time: noon,
			Boot: c.now},
			SignIns: map[string][]time.Time{"ines": {noon.Add(-47 * time.Hour), noon.Add(30 * time.Second)},
				"olaf": {noon.Add(-40 * time.Hour)}}}
		m := starts.Moment{Time: noon.Add(c.later), Boot: c.made}
		n, known := s.BootsSince(m)
		require.Equal(t, []any{c.boots, c.known}, []any{n, known}, c.what)
		require.Equal(t, c.signIn, s.SignInsSince("ines", m), c.what)
		require.Equal(t, c.signIn, s.SignInsSince("", m), c.what)
		require.Zero(t, s.SignInsSince("olaf", m), c.what)
	}
	_, known := starts.Starts{}.BootsSince(starts.Moment{Time: noon})
	require.False(t, known)
	n, known := starts.Starts{Now: starts.Moment{Boot: two}}.BootsSince(starts.Moment{Time: noon, Boot: one})
	require.Equal(t, []any{1, true}, []any{n, known}, "nothing notes starts, and still it was another one")
}
