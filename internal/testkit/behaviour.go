package testkit

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
)

// ComeAndGo does with a machine what every machine must bear: everything that has
// a switch is turned off, and found off, and is still in the list; then an earlier
// state is restored, and what state tells of the machine is as it was. State reads
// the machine without any code of Lock Back.
func ComeAndGo(t *testing.T, root string, state func() map[string]string) {
	t.Helper()
	p := Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
	before := state()
	all, _ := p.List(t, "--all")
	p.OK(t, "snapshot")
	r := p.Run(t, "disable", "name=*", "--all", "--guarded", "--yes")
	if strings.Contains(r.Err, "no match can be turned off or on here") {
		return
	}
	require.Zero(t, r.Code, r.Err)
	list, _ := p.List(t, "--all")
	require.Len(t, list.Entries, len(all.Entries), "what is off stays in the list")
	for _, e := range list.Entries {
		require.True(t, e.State == "disabled" || e.Switch == "report", "%s %s still reads as on", e.Location, e.Name)
	}
	p.OK(t, "restore", "S1", "--yes")
	require.Empty(t, Changed(before, state()))
	p.OK(t, "compare", "S1")
}

// ModeOrTime is the mode of an entry, or where it has none, when it starts if that is not its stage's
// usual time.
func ModeOrTime(e autostart.Entry) string {
	if e.Mode == "" && e.When != e.Stage.When() {
		return e.When
	}
	return e.Mode
}
