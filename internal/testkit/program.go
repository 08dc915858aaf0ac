// Package testkit is what the tests of several packages share: the built
// program, pictures as a whole file trees, and the real systems that judge us.
package testkit

import (
	"bytes"
	"encoding/json"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
)

// Project is the folder of go.mod.
func Project() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Dir(filepath.Dir(filepath.Dir(file)))
}

// builtIn is the folder of the built program.
var builtIn string

var build = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "lockback-built-")
	if err != nil {
		return "", err
	}
	builtIn = dir
	bin := filepath.Join(dir, "lockback")
	cmd := exec.Command("go", "build", "-o", bin, "./cmd/lockback")
	cmd.Dir, cmd.Env = Project(), append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return string(out), err
	}
	return bin, nil
})

// Main runs the tests of a package that uses [Built], and takes away what was built. It is called from TestMain.
func Main(m *testing.M) {
	code := m.Run()
	for _, dir := range []string{builtIn, machines.dir, winePrefix.dir} {
		if dir != "" {
			os.RemoveAll(dir)
		}
	}
	os.Exit(code)
}

// Built builds the program once and returns its path.
func Built(t testing.TB) string {
	t.Helper()
	bin, err := build()
	require.NoError(t, err, bin)
	return bin
}

// Run is the outcome of one run of the built program.
type Run struct {
	Code     int
	Out, Err string
}

// Program runs the built program on a mounted root with a record of its own.
type Program struct {
	Root, Store string
	// Prefix is put before the command, such as a program that drops rights.
	Prefix []string
	// Env is added to a nearly empty environment.
	Env []string
	// In is what stands on the standard input.
	In string
	// Process wants the built program where [Inside] would serve.
	Process bool
}

// Inside runs the program within the test's own process; nil: every run is one of the built program. Tests that are
// about output set it, because a process for each command takes a third of their time. A run with a prefix, an
// environment, or Process set is one of the built program all the same.
var Inside func(args []string, in io.Reader, out, errs io.Writer) (code int)

// Run runs the program.
func (p Program) Run(t testing.TB, args ...string) Run {
	t.Helper()
	var where []string
	if p.Root != "" {
		where = append(where, "--root", p.Root)
	}
	if p.Store != "" {
		where = append(where, "--store", p.Store)
	}
	args = append(where, args...)
	var out, errs bytes.Buffer
	if Inside != nil && !p.Process && len(p.Prefix) == 0 && len(p.Env) == 0 {
		code := Inside(args, strings.NewReader(p.In), &out, &errs)
		Said(out.String(), errs.String())
		return Run{code, out.String(), errs.String()}
	}
	line := append(append(append([]string{}, p.Prefix...), Built(t)), args...)
	cmd := exec.Command(line[0], line[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(p.In), &out, &errs
	cmd.Env = append([]string{"PATH=" + os.Getenv("PATH"), "HOME=/nonexistent"}, p.Env...)
	err := cmd.Run()
	if _, exited := err.(*exec.ExitError); err != nil && !exited {
		require.NoError(t, err)
	}
	Said(out.String(), errs.String())
	return Run{cmd.ProcessState.ExitCode(), out.String(), errs.String()}
}

// Said adds to the file that LOCKBACK_SAID names what the program printed, see internal/sentences.
func Said(texts ...string) {
	name := os.Getenv("LOCKBACK_SAID")
	if name == "" {
		return
	}
	f, err := os.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return
	}
	defer f.Close()
	f.WriteString(strings.Join(texts, "\n") + "\n")
}

// OK runs the program and wants it to succeed.
func (p Program) OK(t testing.TB, args ...string) string {
	t.Helper()
	r := p.Run(t, args...)
	require.Zero(t, r.Code, "%v: %s%s", args, r.Out, r.Err)
	return r.Out
}

// Fails runs the program, wants that exit code and one clear line of error that
// holds all the words.
func (p Program) Fails(t testing.TB, code int, words string, args ...string) Run {
	t.Helper()
	r := p.Run(t, args...)
	require.Equal(t, code, r.Code, "%v: %s%s", args, r.Out, r.Err)
	last := ""
	for line := range strings.Lines(r.Err) {
		require.NotContains(t, line, "goroutine ")
		last = line
	}
	require.True(t, strings.HasPrefix(last, "lockback: "), "%v: %q", args, r.Err)
	require.Contains(t, p.Short(last), words)
	return r
}

// Short is a text with the commands that it suggests as they would be without the options of the program.
func (p Program) Short(text string) string {
	return strings.ReplaceAll(text, "lockback --root "+p.Root+" --store "+p.Store+" ", "lockback ")
}

// JSON runs the program and decodes what it printed.
func (p Program) JSON(t testing.TB, into any, args ...string) {
	t.Helper()
	out := p.OK(t, append(args, "--format", "json")...)
	require.NoError(t, json.Unmarshal([]byte(out), into), out)
}

// Entry is what tests look at of an entry in JSON.
type Entry struct {
	Handle, Location, Place, Stage, Scope, User, Name, State, Mode, When, Command string
	Target                                                                        struct {
		Path   string
		Exists *bool
	}
	Source struct {
		Path string
		Key  string
		Line int
	}
	Maker    autostart.Maker
	Product  autostart.Product
	OSPart   bool `json:"os_part"`
	Role     string
	Verdict  string
	Caution  string
	Notes    []autostart.Note
	OSBasis  string `json:"os_basis"`
	Guarded  string
	Switch   string
	Problems []string
	Cost     *autostart.Cost
}

// Told is [Told] of the entry.
func (e Entry) ModeOrTime() string {
	return ModeOrTime(autostart.Entry{Mode: e.Mode, When: e.When, Stage: autostart.Stage(e.Stage)})
}

// List is the JSON of list.
type List struct {
	Entries []Entry
	LeftOut int `json:"left_out"`
	Unread  []struct{ Location, Path, Reason string }
}

// List lists all entries, by name and user.
func (p Program) List(t testing.TB, args ...string) (List, map[string]Entry) {
	t.Helper()
	var l List
	p.JSON(t, &l, append([]string{"list"}, args...)...)
	byName := map[string]Entry{}
	for _, e := range l.Entries {
		key := e.Name
		if e.User != "" {
			key += "/" + e.User
		}
		byName[key] = e
	}
	return l, byName
}
