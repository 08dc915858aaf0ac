//go:build unix

package cli_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A typing error is named, with what may have been meant, and nothing is done.
func TestTypingErrors(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	p.OK(t, "snapshot")
	for _, c := range []struct {
		words string
		args  []string
	}{
		{`stage cannot be "sign-n"; did you mean sign-in? (it is one of boot,`, []string{"list", "stage=sign-n"}},
		{`problem cannot be "target-mising"; did you mean target-missing?`, []string{"list", "problem=target-mising"}},
		{`switch cannot be "parc"; did you mean park?`, []string{"list", "switch!=parc"}},
		{`location cannot be "linux.crn"; did you mean linux.cron.periodic, linux.cron.system or linux.cron.user?`,
			[]string{"list", "location=linux.crn"}},
		{`location cannot be "windows.*" (it is one of linux.modules,`, []string{"disable", "location=windows.*",
			"--yes"}},
		{`for cannot be "inez"; did you mean ines? (it is one of root, ines, bram)`, []string{"list", "for=inez"}},
		{`no user "inez"; did you mean ines?`, []string{"disable", "Kelpline Assistant", "--for", "inez", "--yes"}},
		{`entries have no field "stat"; did you mean state`, []string{"list", "--sort", "stat"}},
		{`entries have no field "comand"; did you mean command`, []string{"list", "--columns", "handle,comand"}},
		{`a list cannot be grouped by "plase"; did you mean place? (it is one of stage, place, maker, product, none)`,
			[]string{"list", "--group", "plase"}},
		{`location cannot be "linux.crn"; did you mean`, []string{"restore", "S1", "--only", "location=linux.crn",
			"--yes"}},
		{`user cannot be "inez"; did you mean ines? (it is one of root, ines, bram)`, []string{"list", "user=inez"}},
		{`unknown field "usr" in "usr=ines"; did you mean user?`, []string{"show", "usr=ines"}},
		{`"Fogbel"; it occurs in gp7tpfj sync (command), aczxbut fogbell-index.service (name), ufloywb Fogbell ` +
			`Notifier (name), ryvfm3c Fogbell Sync (name), vqj32fe example.fogbell.Index (name), ps5thmz Fogbell ` +
			`Clipper (name), z6dj4d2 fogbell.py (name). Give the handles`, []string{"disable", "Fogbel", "--yes"}},
		{`"Fogbel Sync"; did you mean "Fogbell Sync"?`, []string{"disable", "Fogbel Sync", "--yes"}},
		{`unknown command "restor" for "lockback"; did you mean restore?`, []string{"restor"}},
		{`the names choose 1 entry and the fields 5 entries, but fields narrow names down, and nothing is both`,
			[]string{"disable", "product=fogbell", "Tide Chart", "--yes"}},
		{"unknown flag: --dry; did you mean --dry-run?", []string{"undo", "--dry"}},
		{`unknown format "jsn"; did you mean json?`, []string{"list", "--format", "jsn"}},
	} {
		p.Fails(t, 2, c.words, c.args...)
	}
}

// A handle may be shortened to a beginning that no other has, and typed in capitals.
func TestShortHandles(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	list, _ := p.List(t, "--all")
	others := map[string]int{}
	for _, e := range list.Entries {
		others[e.Handle[:3]]++
	}
	const sync = "ryvfm3c"
	require.Equal(t, 1, others[sync[:3]])
	for _, word := range []string{sync, strings.ToUpper(sync), sync[:3], "RYV", "ryvfm3"} {
		require.Contains(t, p.OK(t, "show", word), "Fogbell Sync", word)
	}
	p.OK(t, "snapshot")
	p.OK(t, "disable", "RYV", "--yes")
	p.OK(t, "restore", "S1", "--only", "Ryvf", "--yes")
	_, now := p.List(t)
	require.Equal(t, "enabled", now["Fogbell Sync/ines"].State)
	p.Fails(t, 2, "no entry has the handle or name", "disable", "ryvfm3cc", "--yes")
	p.Fails(t, 2, "nothing has", "show", "ryvfm3cc")
}

// That nothing is found is an answer for whoever looks, and an error for who would do something.
func TestNothingFound(t *testing.T) {
	t.Parallel()
	p := workshop(t)
	for _, words := range [][]string{{"no-such-name"}, {"user=ines", "stage=boot"}, {"dbus.service"}} {
		var list struct {
			Entries []any
			Machine struct{ Name string }
		}
		p.JSON(t, &list, append([]string{"list"}, words...)...)
		require.Equal(t, "workshop-box", list.Machine.Name)
		require.NotNil(t, list.Entries)
		require.Empty(t, list.Entries)
		said := p.Run(t, append([]string{"list"}, words...)...)
		require.Zero(t, said.Code)
		require.Len(t, strings.Split(strings.TrimSpace(said.Err), "\n"), 1, said.Err)
		for _, command := range []string{"disable", "enable", "show"} {
			if command != "show" || words[0] != "dbus.service" { // show looks at parts of the system too
				p.Fails(t, 2, "", append([]string{command}, words...)...)
			}
		}
	}
	// What is found beside a word that is not is shown.
	require.Contains(t, p.OK(t, "list", "Fogbell Sync", "no-such-name"), "/opt/fogbell/sync --tray")
}
