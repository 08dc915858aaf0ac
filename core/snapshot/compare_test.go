package snapshot

import (
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
	require.Empty(t, compareEntries(&early, &now))
	later := now
	later.When = "every 20 minutes"
	require.Equal(t, []Field{{Field: "when", From: "every 10 minutes", To: "every 20 minutes"}}, compareEntries(&now, &later))
	early.State = autostart.Disabled
	require.Equal(t, []Field{{Field: "state", From: "disabled", To: "enabled"}}, compareEntries(&early, &now))
}
