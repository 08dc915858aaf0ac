package webextension

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestReads(t *testing.T) {
	require.Equal(t, Manifest{"Tide Table", "1.2"}, ParseManifest([]byte(`{"name": "Tide Table", "version": "1.2", `+
		`"permissions": ["tabs"]}`)))
	require.Equal(t, Manifest{"", "2"}, ParseManifest([]byte(`{"name": "__MSG_appName__", "version": "2"}`)))
	require.Empty(t, ParseManifest([]byte(`{"name": "Tide Ta`)).Name)
	addons, err := ParseAddons([]byte(`{"addons": [{"id": "a@gullrock.example", "version": "3", "active": true, ` +
		`"location": "app-profile", "defaultLocale": {"name": "Fog"}}, {"id": "b@x", "location": "app-builtin"}]}`))
	require.NoError(t, err)
	require.Equal(t, []string{"Fog", "b@x"}, []string{addons[0].Name(), addons[1].Name()})
	require.Equal(t, []bool{false, true}, []bool{addons[0].BuiltIn(), addons[1].BuiltIn()})
	_, err = ParseAddons([]byte(`[`))
	require.Error(t, err)
	require.Equal(t, "/opt/host", HostPath([]byte(`{"name": "x", "path": "/opt/host"}`)))
	require.Empty(t, HostPath([]byte(`{"path": 5}`)))
}

func TestPreferences(t *testing.T) {
	settings, err := ParsePreferences([]byte(`{"extensions": {"settings": {
		"on": {"state": 1, "location": 1, "manifest": {"name": "Tide", "version": "2"}},
		"off": {"state": 0}, "reasons": {"disable_reasons": 1}, "list": {"disable_reasons": [4, 8]}, "none": {"disable_reasons": [], "state": 1},
		"unpacked": {"location": 4, "path": "/opt/tide", "manifest": {"name": "__MSG_name__"}}, "forced": {"location": 9}, "odd": {"location": 1e300, "state": "0", "path": 5}, "text": "x"}}}`))
	require.NoError(t, err)
	require.Equal(t, map[string]Setting{"on": {Origin: 1, Name: "Tide", Version: "2"}, "off": {Off: true},
		"reasons": {Off: true}, "list": {Off: true}, "none": {},
		"unpacked": {Origin: Unpacked, Path: "/opt/tide"}, "forced": {Origin: Policy}, "odd": {}}, settings)
	require.True(t, settings["forced"].ByPolicy())
	_, err = ParsePreferences([]byte(`{"extensions": {"settings": [`))
	require.Error(t, err)
	settings, err = ParsePreferences([]byte(`{}`))
	require.NoError(t, err)
	require.Empty(t, settings)
}

func TestPolicies(t *testing.T) {
	for content, want := range map[string][]Forced{
		`{"ExtensionInstallForcelist": ["b;https://b.example", "a", "a"]}`:                                                                                           {{"a", ""}, {"b", "https://b.example"}},
		`{"ExtensionSettings": {"*": {"installation_mode": "allowed"}, "c": {"installation_mode": "normal_installed"}}}`:                                             {{"c", ""}},
		`{"ExtensionSettings": "{\"d\": {\"installation_mode\": \"force_installed\", \"update_url\": \"u\"}}"}`:                                                      {{"d", "u"}},
		`{"policies": {"Extensions": {"Install": ["https://e.example"]}, "ExtensionSettings": {"f": {"installation_mode": "force_installed", "install_url": "i"}}}}`: {{"", "https://e.example"}, {"f", "i"}},
		`{}`: nil,
	} {
		forced, err := ParsePolicy([]byte(content))
		require.NoError(t, err, content)
		require.Equal(t, want, forced, content)
	}
	for _, content := range []string{`[`, `{"ExtensionSettings": 5}`, `{"ExtensionSettings": "{"}`,
		`{"ExtensionInstallForcelist": {}}`} {
		_, err := ParsePolicy([]byte(content))
		require.Error(t, err, content)
	}
	require.Equal(t, "/x.crx", ExternalFrom([]byte(`{"external_crx": "/x.crx", "external_version": "1"}`)))
	require.Equal(t, "u", ExternalFrom([]byte(`{"external_update_url": "u"}`)))
}

func FuzzReads(f *testing.F) {
	f.Add([]byte(`{"extensions": {"settings": {"a": {"state": 0, "disable_reasons": [1]}}}, "ExtensionSettings": ` +
		`"{}", "policies": {"Extensions": {"Install": ["x"]}}}`))
	f.Fuzz(func(t *testing.T, content []byte) {
		settings, err := ParsePreferences(content)
		require.True(t, err == nil || settings == nil)
		forced, err := ParsePolicy(content)
		require.True(t, err == nil || forced == nil)
		ParseManifest(content)
		HostPath(content)
		ExternalFrom(content)
		if _, err := ParseAddons(content); err != nil {
			return
		}
	})
}
