package testkit

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// Wine is a fresh Windows of Wine's, with the built program in it.
type Wine struct {
	Prefix string
	Drive  string // the folder that is its drive C
	// Env is added to the environment of what runs in it.
	Env []string
}

// processPrng is what programs built by Go want from a library that some Wines
// lack.
const processPrng = `#include <windows.h>
BOOLEAN NTAPI SystemFunction036(PVOID, ULONG);
__declspec(dllexport) BOOL WINAPI ProcessPrng(PBYTE data, SIZE_T size) { return SystemFunction036(data, size); }
`

// wines bounds how many prefixes live at a time: each is a small Windows of several processes.
var wines = make(chan struct{}, 2)

// winePrefix is the prefix that all others are copies of. The server of a copy is its own: its socket is named by the
// prefix's folder.
var winePrefix struct {
	sync.Mutex
	dir string // holds it; empty: not made yet
}

// NewWine returns a fresh prefix that says it is Windows 10. It is ended with the test.
func NewWine(t testing.TB) Wine {
	t.Helper()
	Need(t, "wine", "wineserver", "x86_64-w64-mingw32-gcc")
	wines <- struct{}{}
	t.Cleanup(func() { <-wines })
	original := wineOriginal(t)
	w := Wine{Prefix: filepath.Join(t.TempDir(), "prefix")}
	w.Drive = filepath.Join(w.Prefix, "drive_c")
	Copy(t, original, w.Prefix)
	// Its server has to be gone before the folder is: the next prefix may get the folder's number, and by that the
	// server's socket.
	t.Cleanup(func() { w.Settle(t) })
	w.Restart(t) // the first session lacks some services
	return w
}

// wineOriginal makes the prefix once. Where the machine is busy Wine may fail to start something of its own; then it is
// made again.
func wineOriginal(t testing.TB) string {
	t.Helper()
	winePrefix.Lock()
	defer winePrefix.Unlock()
	if winePrefix.dir != "" {
		return filepath.Join(winePrefix.dir, "prefix")
	}
	dir, err := os.MkdirTemp("", "lockback-wine-")
	require.NoError(t, err)
	source := filepath.Join(dir, "prng.c")
	require.NoError(t, os.WriteFile(source, []byte(processPrng), 0o600))
	w := Wine{Prefix: filepath.Join(dir, "prefix")}
	w.Drive = filepath.Join(w.Prefix, "drive_c")
	try := func() error {
		if err := os.Mkdir(w.Prefix, 0o700); err != nil {
			return err
		}
		defer w.Settle(t)
		if err := w.command("wineboot", "-i").Run(); err != nil { // into no pipe, see Run
			return fmt.Errorf("wineboot: %w", err)
		}
		library := filepath.Join(w.Drive, "windows/system32/bcryptprimitives.dll")
		if out, err := exec.Command("x86_64-w64-mingw32-gcc", "-shared", "-o", library, source,
			"-ladvapi32").CombinedOutput(); err != nil {
			return fmt.Errorf("mingw: %w: %s", err, out)
		}
		if err := w.command("wine", "winecfg", "-v", "win10").Run(); err != nil {
			return fmt.Errorf("winecfg: %w", err)
		}
		return nil
	}
	const tries = 3
	for k := range tries {
		if err = try(); err == nil {
			break
		}
		t.Logf("the prefix could not be made, try %d of %d: %v", k+1, tries, err)
		require.NoError(t, os.RemoveAll(w.Prefix))
	}
	require.NoError(t, err)
	w.Build(t, "./cmd/lockback", "lockback.exe")
	winePrefix.dir = dir
	return w.Prefix
}

// Build builds a program of the project for Windows into the root of drive C.
func (w Wine) Build(t testing.TB, what, name string) {
	t.Helper()
	cmd := exec.Command("go", "build", "-o", filepath.Join(w.Drive, filepath.FromSlash(name)), what)
	cmd.Dir, cmd.Env = Project(), append(os.Environ(), "CGO_ENABLED=0", "GOOS=windows", "GOARCH=amd64")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

func (w Wine) command(name string, args ...string) *exec.Cmd {
	cmd := exec.Command(name, args...)
	cmd.Dir = w.Prefix
	// Go's runtime suspends threads to have them give way. Wine stops the process for that, and on a busy machine it
	// was seen to stay stopped for ever; so no thread is suspended here.
	cmd.Env = append(os.Environ(), "WINEPREFIX="+w.Prefix, "WINEDEBUG=-all", "DISPLAY=", "GODEBUG=asyncpreemptoff=1")
	cmd.Env = append(cmd.Env, w.Env...)
	return cmd
}

// Run runs a program of the prefix's own side. What fails without a word is Wine itself, which was seen once on a busy
// machine, and is begun once more: our programs always say why they fail.
func (w Wine) Run(t testing.TB, name string, args ...string) Run {
	t.Helper()
	r := w.once(t, name, args...)
	if r.Code == 1 && r.Out == "" && r.Err == "" {
		t.Logf("Wine did not start %s %v", name, args)
		r = w.once(t, name, args...)
	}
	return r
}

func (w Wine) once(t testing.TB, name string, args ...string) Run {
	t.Helper()
	cmd := w.command(name, args...)
	// Into files: the prefix's services keep a pipe open that they were started
	// with, and nobody would see its end.
	read := func(f *os.File) string {
		defer f.Close()
		content, err := os.ReadFile(f.Name())
		require.NoError(t, err)
		return strings.ReplaceAll(string(content), "\r\n", "\n")
	}
	out, err := os.CreateTemp(t.TempDir(), "out")
	require.NoError(t, err)
	errs, err := os.CreateTemp(t.TempDir(), "err")
	require.NoError(t, err)
	cmd.Stdout, cmd.Stderr = out, errs
	err = cmd.Run()
	var exit *exec.ExitError
	require.True(t, err == nil || errors.As(err, &exit), "%v", err)
	return Run{cmd.ProcessState.ExitCode(), read(out), read(errs)}
}

// OK runs a program and wants it to succeed.
func (w Wine) OK(t testing.TB, name string, args ...string) string {
	t.Helper()
	r := w.Run(t, name, args...)
	require.Zero(t, r.Code, "%s %v: %s%s", name, args, r.Out, r.Err)
	return r.Out
}

// Lockback runs the built program inside.
func (w Wine) Lockback(t testing.TB, args ...string) string {
	t.Helper()
	return w.OK(t, "wine", append([]string{`C:\lockback.exe`}, args...)...)
}

// List lists the entries of the running Windows, by name and user.
func (w Wine) List(t testing.TB, args ...string) map[string]Entry {
	t.Helper()
	var l List
	require.NoError(t, json.Unmarshal([]byte(w.Lockback(t, append([]string{"list", "--format", "json"}, args...)...)),
		&l))
	byName := map[string]Entry{}
	for _, e := range l.Entries {
		key := e.Name
		if e.User != "" {
			key += "/" + e.User
		}
		byName[key] = e
	}
	return byName
}

// What Wine writes by itself: volatile keys, the devices that it finds and the names of its screens at each start, and
// the settings of its debugger where any program of its own ended badly.
var (
	wineVolatile = regexp.MustCompile(`(?i)\\(Control\\ServiceCurrent|Control\\DeviceClasses|CurrentControlSet\\Enum|` +
		`Hardware|Volatile Environment|Software\\Wine\\WineDbg)(\\|\]|$)`)
	wineScreen = regexp.MustCompile(`(?i)(Control\\+Video\\+)\{[0-9a-f-]*\}`)
	wineDate   = regexp.MustCompile(`^"DriverDateData"`)
)

// Registry is the whole registry as the prefix's own reg program exports it: a
// line for each key and value.
func (w Wine) Registry(t testing.TB) map[string]string {
	t.Helper()
	all := map[string]string{}
	for _, root := range []string{"HKLM", "HKU"} {
		w.OK(t, "wine", "reg", "export", root, `C:\export.reg`, "/y")
		content, err := os.ReadFile(filepath.Join(w.Drive, "export.reg"))
		require.NoError(t, err)
		require.NoError(t, os.Remove(filepath.Join(w.Drive, "export.reg")))
		section := ""
		for line := range strings.SplitSeq(wideToText(content), "\n") {
			line = wineScreen.ReplaceAllString(strings.TrimRight(line, "\r"), "$1")
			if strings.HasPrefix(line, "[") {
				section = line
			}
			if line != "" && !wineDate.MatchString(line) && !wineVolatile.MatchString(section) {
				all[section+" "+line] = line
			}
		}
	}
	return all
}

func wideToText(b []byte) string {
	var s strings.Builder
	for k := 0; k+1 < len(b); k += 2 {
		s.WriteRune(rune(b[k]) | rune(b[k+1])<<8)
	}
	return s.String()
}

// Restart ends the prefix and starts it again: services and sign-in entries run.
func (w Wine) Restart(t testing.TB) {
	t.Helper()
	w.Settle(t)
	// The server stays until it is ended: each start of it is a start of the
	// machine, which uses up what runs once.
	w.OK(t, "wineserver", "-p")
	w.OK(t, "wineboot")
}

// Settle ends all programs of the prefix.
func (w Wine) Settle(t testing.TB) {
	t.Helper()
	w.command("wineserver", "-k").Run()
	w.command("wineserver", "-w").Run()
}
