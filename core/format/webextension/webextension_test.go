package webextension

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestReads(t *testing.T) {
	require.Equal(t, Manifest{"Tide Table", "1.2"}, ParseManifest([]byte(`{"name": "Tide Table", "version": "1.2", "permissions": ["tabs"]}`)))
	require.Equal(t, Manifest{"", "2"}, ParseManifest([]byte(`{"name": "__MSG_appName__", "version": "2"}`)))
	require.Empty(t, ParseManifest([]byte(`{"name": "Tide Ta`)).Name)
	addons, err := ParseAddons([]byte(`{"addons": [{"id": "a@gullrock.example", "version": "3", "active": true, "location": "app-profile", "defaultLocale": {"name": "Fog"}}, {"id": "b@x", "location": "app-builtin"}]}`))
	require.NoError(t, err)
	require.Equal(t, []string{"Fog", "b@x"}, []string{addons[0].Name(), addons[1].Name()})
	require.Equal(t, []bool{false, true}, []bool{addons[0].BuiltIn(), addons[1].BuiltIn()})
	_, err = ParseAddons([]byte(`[`))
	require.Error(t, err)
	require.Equal(t, "/opt/host", HostPath([]byte(`{"name": "x", "path": "/opt/host"}`)))
	require.Empty(t, HostPath([]byte(`{"path": 5}`)))
}
