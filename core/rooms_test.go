// Package core_test holds the rooms of docs/architecture.md to their arrows.
package core_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// mayImport says, for each room, which other rooms of the project it may know.
// The first row whose pattern fits a package counts.
var mayImport = []struct{ room, allowed string }{
	{`core/(autostart|parallel)`, `^$`},
	{`core/format/windata`, `^$`},
	{`core/format/launchd`, `core/format/plist`}, // a job is a property list
	{`core/format/(authenticode|codesign)`, `core/format/cms`},
	{`core/format/rpmdb`, `core/format/sqlitefile`},
	{`core/format/.*`, `core/format/windata`}, // what formats of one system have in common
	{`core/machine/artifact`, `core/format/(regf|windata)`},
	{`core/machine/account`, `^$`},
	{`core/machine/files`, `core/machine/artifact`},
	{`core/machine/registry`, `core/(machine/(artifact|files)|format/(regf|windata))`},
	{`core/machine/mac`, `core/(machine/(artifact|account|files)|format/plist)`},
	{`core/machine/win`, `core/(machine/(artifact|account|files|registry)|format/taskxml)`},
	{`core/machine`, `core/(machine/.*|format/journal)`},
	{`core/location/part`, `core/(machine(/.*)?|format/.*)`},
	{`core/location`, `core/(autostart|parallel|machine(/.*)?|location/part)`},
	{`core/location/browser`, `core/(autostart|machine(/.*)?|location|format/.*)`},
	{`core/location/unix`, `core/(autostart|machine(/.*)?|location(/part)?|format/.*)`},
	{`core/location/table`, `core/(autostart|location|location/(linux|macos|windows))`},
	{`core/location/.*`, `core/(autostart|parallel|machine(/.*)?|location(/unix|/part|/browser)?|format/.*)`},
	{`core/program`, `core/(autostart|parallel|machine(/.*)?|format/.*)`},
	{`core/catalogue`, `core/autostart`},
	{`core/identify`, `core/(autostart|parallel|machine(/.*)?|location(/table)?|program|catalogue|format/.*)`},
	{`core/(cost|use|figures)`, `core/(autostart|machine(/.*)?|location|cost|format/.*)`},
	{`core/inventory`, `core/(autostart|parallel|machine(/.*)?|location(/.*)?|program|identify|catalogue|cost|use)`},
	{`core/note`, `core/(autostart|catalogue|location/table)`},
	{`core/review`, `core/(autostart|location)`},
	{`core/product`, `core/(autostart|machine(/.*)?|location)`},
	{`core/difference`, `core/(autostart|machine(/.*)?|format/(crontab|plist))`},
	{`core/snapshot`, `core/(autostart|parallel|machine(/.*)?|difference|figures|location(/part|/table)?|inventory)`},
	{`core/change`, `core/(autostart|machine(/.*)?|location(/part|/table)?|program|inventory|snapshot)`},
	{`core/starts`, `core/(machine(/.*)?|cost|format/.*)`},
	{`core/culprit`, `^$`},
	{`core/check`,
		`core/(autostart|machine(/.*)?|location(/table)?|program|cost|snapshot|change|format/(journal|taskcache|windata))`},
	{`core/store`, `core/(autostart|machine(/.*)?|program|note|figures|snapshot|change)`},
	{`core/work(/.*)?`, `core/.*`},
	{`internal/page`, `(core/.*|internal/view)`},
	{`internal/view`, `core/(autostart|location(/table)?)`},
	{`internal/demo`, `core/format/.*`},
	{`internal/screen`, `internal/view`},
	{`internal/cli`, `(core/.*|internal/(view|page|screen|demo))`},
	{`internal/peers/killed`, `internal/cli`}, // it is the program, with a flaw
	{`internal/(bench.*|testkit(/.*)?|recordtest|peers.*|campaign)`, `(core/.*|internal/demo)`},
	{`internal/reference`, `(core/.*|internal/(cli|page))`},
	{`internal/sentences`, `none`},
	{`cmd/lockback`, `internal/cli`},
}

// notForCore are packages that print, prompt, or read flags.
var notForCore = regexp.MustCompile(`^(flag|log|github\.com/spf13/.*|github\.com/jedib0t/.*|golang\.org/x/term)$`)

// noWriting is how a location could come by more than the [machine.Reader] that it is given.
var noWriting = regexp.MustCompile(
	`machine\.(Open|Machine\b)|files\.(Open|Files\b)|registry\.Registry\b|\bos\.|\bexec\.|\bsyscall\.|\bunix\.(Open|Write|Unlink|Rename|Mkdir|Chmod)`)

func TestRooms(t *testing.T) {
	for _, goos := range []string{"linux", "darwin", "windows"} {
		t.Run(goos, func(t *testing.T) { testRooms(t, goos) })
	}
}

func testRooms(t *testing.T, goos string) {
	list := exec.Command("go", "list", "-e", "-json=ImportPath,Imports,Dir,GoFiles", "lockback/...")
	list.Env = append(os.Environ(), "GOOS="+goos, "CGO_ENABLED=0")
	out, err := list.Output()
	require.NoError(t, err)
	checked := 0
	for d := json.NewDecoder(strings.NewReader(string(out))); d.More(); {
		var p struct {
			ImportPath, Dir  string
			Imports, GoFiles []string
		}
		require.NoError(t, d.Decode(&p))
		room := strings.TrimPrefix(p.ImportPath, "lockback/")
		allowed := ""
		for _, row := range mayImport {
			if regexp.MustCompile("^" + row.room + "$").MatchString(room) {
				allowed = "^" + row.allowed + "$"
				break
			}
		}
		if room == "core" {
			continue // this test
		}
		require.NotEmpty(t, allowed, "%s stands in no room of docs/architecture.md", room)
		checked++
		for _, i := range p.Imports {
			if other, ours := strings.CutPrefix(i, "lockback/"); ours {
				require.Regexp(t, allowed, other, "%s imports %s", room, other)
			}
			if strings.HasPrefix(room, "core/") {
				require.NotRegexp(t, notForCore, i, "%s imports %s", room, i)
			}
		}
		if strings.HasPrefix(room, "core/location") || room == "core/identify" {
			for _, file := range p.GoFiles {
				text, err := os.ReadFile(filepath.Join(p.Dir, file))
				require.NoError(t, err)
				text = regexp.MustCompile(`(?m)//.*$`).ReplaceAll(text, nil)
				require.NotRegexp(t, noWriting, string(text), "%s could write", file)
			}
		}
	}
	require.Greater(t, checked, 12)
}
