package inventory_test

import (
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/location/table"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/internal/demo"
)

// Over all rows of all systems: turned off for one user, an entry is refused, or every other user's state stays as it
// was.
func TestForOneUserTouchesNobodyElse(t *testing.T) {
	switched := 0
	for _, name := range []string{"workshop-box", "ticket-desk-pc", "archive-mac"} {
		root := filepath.Join(t.TempDir(), name)
		require.NoError(t, demo.BuildMachine(name, root))
		m, err := machine.Open(root)
		require.NoError(t, err)
		defer m.Close()
		reader := m.Reader(nil)
		inv := inventory.Take(m, nil)
		for _, item := range inv.Items {
			for k := range m.Users {
				user := &m.Users[k]
				edits, err := item.Plan(m, location.Want{State: autostart.Disabled, User: user,
					Now: time.Unix(1773480413, 0)})
				if err != nil {
					refused := errors.Is(err, location.ErrNotPerUser) || errors.Is(err, location.ErrNoSwitch)
					require.True(t, refused || item.User == user.Name, "%s %s for %s: %v", item.Location, item.Name,
						user.Name, err)
					continue
				}
				if item.User == user.Name || item.State == autostart.Disabled {
					continue // it is theirs alone
				}
				require.Empty(t, item.User, "%s %s is not of %s", item.Location, item.Name, user.Name)
				require.NotEqual(t, "windows", m.OS, "a registry cannot be read as it would be: %s %s", item.Location,
					item.Name)
				images := map[artifact.Artifact]artifact.Image{}
				for _, e := range edits {
					images[e.Artifact] = e.Image
				}
				after := map[string]*location.Item{}
				items, _, _ := location.RunOn(reader.Planned(images), reader, table.Of(m.OS))
				for _, then := range items {
					after[then.Handle] = then
				}
				for _, other := range inv.Items {
					if other.User == user.Name || other.State != autostart.Enabled {
						continue
					}
					then := after[other.Handle]
					require.NotNil(t, then, "%s %s for %s took %s away", item.Location, item.Name, user.Name,
						other.Name)
					require.Equal(t, autostart.Enabled, then.State, "%s %s for %s turned %s off", item.Location,
						item.Name, user.Name, other.Name)
				}
				switched++
			}
		}
	}
	require.Greater(t, switched, 10)
}
