package cli_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/internal/demo"
	"lockback/internal/testkit"
)

// mounted are the machines of the documents, by where these have them.
var mounted = map[string]string{"/mnt/laptop": "office-laptop", "/mnt/mac": "gallery-mac", "/mnt/linux": "reading-room",
	"/mnt/second": "second"}

// happens are what a document says that happens between commands, in a comment.
var happens = map[string]func(dir string) error{
	"the updater is back": func(dir string) error { return demo.UpdaterIsBack(filepath.Join(dir, "office-laptop")) },
	"restart":             func(dir string) error { return demo.RestartLaptop(filepath.Join(dir, "office-laptop")) },
	"a second laptop":     func(dir string) error { return demo.SecondLaptop(filepath.Join(dir, "second")) },
}

// bench is a folder with the machines of a document, and their record.
type bench struct {
	t   *testing.T
	dir string
}

func newBench(t *testing.T) bench {
	b := bench{t, fmt.Sprintf("/tmp/gullrock-%08d", rand.IntN(100_000_000))} // as long each time
	require.NoError(t, os.Mkdir(b.dir, 0o700))
	t.Cleanup(func() { os.RemoveAll(b.dir) })
	for _, machine := range mounted {
		if machine != "second" {
			require.NoError(t, demo.BuildMachine(machine, filepath.Join(b.dir, machine)))
		}
	}
	return b
}

// run runs a command line of a document as a shell would, and returns what it printed, with the document's paths.
func (b bench) run(line string) string {
	var out bytes.Buffer
	for path, machine := range mounted {
		line = strings.ReplaceAll(line, path+" ", filepath.Join(b.dir, machine)+" ")
	}
	cmd := exec.Command("sh", "-c", line)
	cmd.Dir, cmd.Stdout, cmd.Stderr = b.dir, &out, &out
	cmd.Env = []string{"PATH=" + filepath.Dir(testkit.Built(b.t)) + ":" + os.Getenv("PATH"), "HOME=/nonexistent", "TZ=UTC",
		"COLUMNS=110", "LOCKBACK_BY=Ines", "LOCKBACK_STORE=" + filepath.Join(b.dir, "record.db")}
	err := cmd.Run()
	if _, exited := err.(*exec.ExitError); err != nil && !exited {
		require.NoError(b.t, err)
	}
	require.Contains(b.t, []int{0, 3}, cmd.ProcessState.ExitCode(), "%s: %s", line, out.String())
	text := out.String()
	for path, machine := range mounted {
		text = strings.ReplaceAll(text, filepath.Join(b.dir, machine), path)
	}
	text = strings.ReplaceAll(text, b.dir+"/record.db", "/root/record.db")
	today := regexp.MustCompile(time.Now().UTC().Format(time.DateOnly) + ` \d\d:\d\d`)
	text = today.ReplaceAllString(text, "2026-11-25 10:30")
	return strings.ReplaceAll(text, time.Now().UTC().Format(time.DateOnly), "2026-11-25")
}

// shown is a document with the outputs that its commands have now. A block of the kind "console" is run line by line,
// each chapter on fresh machines; "console 12" shows the first 12 lines of each output.
func shown(t *testing.T, text string) string {
	var all []string
	var b *bench
	lines := strings.Split(text, "\n")
	for k := 0; k < len(lines); k++ {
		line := lines[k]
		all = append(all, line)
		if strings.HasPrefix(line, "## ") {
			b = nil
		}
		event, isEvent := strings.CutPrefix(line, "<!-- happens: ")
		kind, isBlock := strings.CutPrefix(line, "```console")
		if !isEvent && !isBlock {
			continue
		}
		if b == nil {
			fresh := newBench(t)
			b = &fresh
		}
		if isEvent {
			event = strings.TrimSuffix(event, " -->")
			require.Contains(t, happens, event)
			require.NoError(t, happens[event](b.dir))
			continue
		}
		most, _ := strconv.Atoi(strings.TrimSpace(kind))
		for k++; lines[k] != "```"; k++ {
			command, ok := strings.CutPrefix(lines[k], "$ ")
			if !ok {
				continue
			}
			all = append(all, lines[k])
			out := strings.Split(strings.TrimRight(b.run(command), "\n"), "\n")
			if most > 0 && len(out) > most {
				out = append(out[:most], "[...]")
			}
			if strings.Join(out, "") != "" {
				all = append(all, out...)
			}
		}
		all = append(all, "```")
	}
	return strings.Join(all, "\n")
}

// Every command in the documents for technicians runs on the example machines, and prints what they show;
// LOCKBACK_GOLDEN=write writes their outputs again.
func TestDocuments(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"guide.md", "rescue.md", "faq.md"} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			file := filepath.Join(testkit.Project(), "docs", name)
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			now := shown(t, string(text))
			if os.Getenv("LOCKBACK_GOLDEN") == "write" {
				require.NoError(t, os.WriteFile(file, []byte(now), 0o644))
				return
			}
			require.Equal(t, string(text), now)
		})
	}
}
