//go:build unix

package change_test

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/change"
	"lockback/core/format/taskxml"
	"lockback/core/inventory"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/internal/demo"
)

// On a running Windows machine a task starts later what a Run value or a shortcut started: the same program with the
// same line, however that was quoted. Where it is not sure what that is, nothing is done.
func TestDelayedByATask(t *testing.T) {
	t.Parallel()
	root := filepath.Join(t.TempDir(), "root")
	require.NoError(t, demo.BuildMachine("ticket-desk-pc", root))
	m, err := machine.Open(root)
	require.NoError(t, err)
	t.Cleanup(func() { m.Close() })
	m.Live = true // a plan only: nothing is applied, and no scheduler is asked
	e := &change.Engine{Machine: m, Now: func() time.Time { return time.Unix(1_800_000_001, 5) }}
	// started is what the task starts, or why there is none.
	started := func(item *location.Item) string {
		plan, err := e.Delay([]change.Delayed{{Item: item, By: 90 * time.Second}})
		if err != nil {
			return strings.ReplaceAll(err.Error(), `cannot delay "`+item.Name+`": cannot be delayed here: `,
				"")
		}
		require.Len(t, plan.Handles, 2, item.Name)
		for _, s := range plan.Steps {
			if s.Artifact.Kind == artifact.FileArtifact && strings.Contains(s.Artifact.Name, `\Tasks\`) {
				task, err := taskxml.Parse(s.After.Content)
				require.NoError(t, err)
				require.Len(t, task.Execs, 1, item.Name)
				require.Equal(t, []string{"LogonTrigger", "PT90S"}, []string{task.Triggers[0].Kind,
					task.Triggers[0].Delay})
				return task.Execs[0].Command + " | " + task.Execs[0].Arguments
			}
		}
		return "no task"
	}
	planned := map[string]string{}
	var notes location.Item
	for _, item := range inventory.Take(m, nil).Items {
		if item.Location == "windows.run" || item.Location == "windows.startup-folder" {
			planned[item.Name] = started(item)
		}
		if item.Name == "Fogbell Notes" {
			notes = *item
		}
	}
	for name, want := range map[string]string{
		"Kelpline Updater": `C:\Program Files (x86)\Kelpline\updater.exe | /quiet`, // no quotes around blanks
		"Fogbell Sync":     `C:\Program Files\Fogbell\Fogbell Sync.exe | --tray`,
		"SecurityHealth":   `C:\Windows\System32\SecurityHealthSystray.exe | `,
		"Gullrock Tickets": `C:\Program Files\Gullrock\tickets.exe | --full-screen`,
		"evening": `C:\Users\tomas\AppData\Roaming\Microsoft\Windows\Start ` +
			`Menu\Programs\Startup\evening.cmd | `,
		"timetable":          `what exactly it starts is not known`, // an address
		"Backup to drive":    `what exactly it starts is not known`, // a drive that is not there
		"Brinecast":          `what exactly it starts is not known`, // its program is gone
		"Fogbell Notes":      `C:\Program Files\Fogbell\notes.exe | --hidden`,
		"Tide Chart":         `C:\Users\odile\AppData\Local\TideChart\tidechart.exe | --corner`,
		"Saltmarsh Tray":     `C:\Program Files (x86)\Saltmarsh\tray.exe | `,
		"Kelpline Assistant": `C:\Program Files (x86)\Kelpline\assistant.exe | --tray`,
	} {
		require.Equal(t, want, planned[name], name)
	}
	for line, want := range map[string]string{
		`rundll32.exe "C:\Program Files\Fogbell\shell64.dll",Finish`: `C:\Windows\System32\rundll32.exe | ` +
			`"C:\Program Files\Fogbell\shell64.dll",Finish`,
		`"%ProgramFiles%\Fogbell\notes.exe" "a b"  c"d" \\"`: `C:\Program Files\Fogbell\notes.exe | "a b"  c"d" \\"`,
		`"C:\Program Files\Fogbell\notes.exe" %USERPROFILE%\x 5%`: `C:\Program Files\Fogbell\notes.exe | ` +
			`C:\Users\tomas\x 5%`,
		`"C:\Program Files\Fogbell\notes.exe" %NOWHERE%\x`: `what exactly it starts is not known`,
		`"C:\Program Files\Fogbell\shell64.dll"`:           `what exactly it starts is not known`,
	} {
		item := notes
		item.CommandLine = line
		require.Equal(t, want, started(&item), line)
	}
}
