package machine

import (
	"testing"

	"lockback/core/machine/account"

	"github.com/stretchr/testify/require"
)

// A mounted machine has nobody who could be told or asked.
func TestNobodyIsTold(t *testing.T) {
	t.Parallel()
	mounted := &Machine{Users: []account.User{{Name: "ines", UID: 1000, Home: "/home/ines"}}}
	require.Empty(t, mounted.Announce([]Daemon{{Kind: ServiceManager}, {Kind: Preferences, User: "ines"}}))
	require.NoError(t, mounted.ConfirmUnit("a.service", "", "whatever"))
}
