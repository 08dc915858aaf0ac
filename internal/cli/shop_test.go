//go:build unix

package cli_test

import (
	"bytes"
	"crypto/md5"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/internal/cli"
	"lockback/internal/testkit"
	"lockback/internal/testkit/draw"
)

// within runs the program in this process: of three hundred machines, starting it would be most of the time.
func within(t *testing.T, p testkit.Program, args ...string) string {
	t.Helper()
	var out, errs bytes.Buffer
	code := cli.Main(append([]string{"--root", p.Root, "--store", p.Store, "--quiet"}, args...),
		cli.Streams{In: strings.NewReader(""), Out: &out, Err: &errs})
	require.Zero(t, code, "%v: %s", args, errs.String())
	return out.String()
}

// software is a program of the shop's machines: of a package, or of nobody.
type software struct {
	name    string
	entries int
	parcel  string
}

// shopMachine builds a small Linux disk with some programs, whose folders differ from machine to machine where no
// package says otherwise.
func shopMachine(t *testing.T, dir string, n int, has []software) {
	t.Helper()
	files := map[string]string{
		"etc/os-release": "ID=debian\nVERSION_ID=12\nPRETTY_NAME=\"Debian GNU/Linux 12\"\n",
		"etc/machine-id": fmt.Sprintf("%032x\n", n+1), "etc/hostname": fmt.Sprintf("desk-%03d\n", n),
		"etc/passwd": "root:x:0:0:root:/root:/bin/sh\n", "usr/bin/true": "#!/bin/sh\n",
	}
	status := ""
	for _, s := range has {
		path := fmt.Sprintf("opt/%s/%s", s.parcel, s.name)
		text := "#!/bin/sh\n# " + s.name + "\n"
		if s.parcel == "" {
			path = fmt.Sprintf("srv/tools%d/%s", n%7, s.name)
		} else {
			status += fmt.Sprintf("Package: %s\nStatus: install ok installed\nVersion: 1.%d\nArchitecture: "+
				"amd64\nMaintainer: Tidewatch Instruments <post@tidewatch.example>\nDescription: tide\n\n", s.parcel, n)
			files["var/lib/dpkg/info/"+s.parcel+".list"] = "/" + path + "\n"
			files["var/lib/dpkg/info/"+s.parcel+".md5sums"] = fmt.Sprintf("%x  %s\n", md5.Sum([]byte(text)), path)
		}
		files[path] = text
		for k := range s.entries {
			files[fmt.Sprintf("etc/xdg/autostart/%s-%d.desktop", s.name, k)] = fmt.Sprintf(
				"[Desktop Entry]\nType=Application\nName=%s\nExec=/%s --part %d\n", s.name, path, k)
		}
	}
	files["var/lib/dpkg/status"] = status
	for name, text := range files {
		full := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o755))
	}
}

// A shop of three hundred machines in one record: what it tells of a program on the next machine is what a model
// counts, and what was noted on one machine is known on the next.
func TestShop(t *testing.T) {
	t.Parallel()
	machines := 300
	if !draw.Long() {
		machines = 100
	}
	r := rand.New(rand.NewPCG(15, 300))
	store := filepath.Join(t.TempDir(), "record.db")
	var all []software
	for k := range 24 {
		s := software{name: fmt.Sprintf("tide%02d", k), entries: 1 + k%2, parcel: fmt.Sprintf("tide-%02d", k)}
		if k%4 == 3 {
			s.parcel = ""
		}
		all = append(all, s)
	}
	type counts struct{ seen, kept, off int }
	model := map[string]*counts{}
	for _, s := range all {
		model[s.name] = &counts{}
	}
	for n := range machines {
		p := testkit.Program{Root: t.TempDir(), Store: store}
		var has []software
		for _, s := range all {
			if r.IntN(3) > 0 {
				has = append(has, s)
			}
		}
		shopMachine(t, p.Root, n, has)
		off := map[string]bool{}
		turn := []string{"disable", "--yes"}
		for _, s := range has {
			switch {
			case r.IntN(4) == 0:
				off[s.name] = true
				turn = append(turn, s.name+"*")
			case s.entries > 1 && r.IntN(16) == 0: // one of its two entries: it is kept
				var l testkit.List
				require.NoError(t, json.Unmarshal([]byte(within(t, p, "list", "name="+s.name, "--format", "json")), &l))
				turn = append(turn, l.Entries[0].Handle)
			}
			if len(turn) > 6 {
				break
			}
		}
		if len(turn) == 2 {
			turn = []string{"snapshot"}
		}
		within(t, p, turn...)
		if n%50 == 7 && len(off) > 0 { // what was turned on again is kept
			for name := range off {
				within(t, p, "enable", "name="+name, "--yes")
			}
			clear(off)
		}
		for _, s := range has {
			c := model[s.name]
			c.seen++
			if off[s.name] {
				c.off++
			} else {
				c.kept++
			}
		}
		require.NoError(t, os.RemoveAll(p.Root))
		if n == 41 { // it is worked on again, and has all of them on now
			for name := range off {
				model[name].off--
				model[name].kept++
			}
			for _, s := range all {
				if !slices.Contains(has, s) {
					model[s.name].seen++
					model[s.name].kept++
				}
			}
			shopMachine(t, p.Root, n, all)
			within(t, p, "note", "name=tide00", "--verdict", "spare", "-m", "nobody reads it")
			within(t, p, "note", "name=tide03", "--role", "device", "-m", "the gauge at the pier")
			within(t, p, "note", "name=tide05", "--machine", "-m", "needed here, ask Ines")
		}
	}
	next := testkit.Program{Root: t.TempDir(), Store: store}
	shopMachine(t, next.Root, machines+5, all)
	var up struct {
		Programs []struct {
			Entry  testkit.Entry
			Others struct{ Machines, Kept, Off int } `json:"other_machines"`
		}
	}
	require.NoError(t, json.Unmarshal([]byte(within(t, next, "lookup", "name=tide*", "--format", "json")), &up))
	require.Len(t, up.Programs, len(all))
	for _, program := range up.Programs {
		c := model[program.Entry.Name]
		require.Equal(t, *c, counts{program.Others.Machines, program.Others.Kept, program.Others.Off},
			program.Entry.Name)
		require.Positive(t, c.off)
	}
	// Its notes are known on the next machine, and what was of the one machine is not.
	var l testkit.List
	require.NoError(t, json.Unmarshal([]byte(within(t, next, "list", "--format", "json")), &l))
	for _, e := range l.Entries {
		switch e.Name {
		case "tide00":
			require.Len(t, e.Notes, 1)
			require.Equal(t, "nobody reads it", e.Notes[0].Text)
			require.True(t, e.Notes[0].Proven)
			require.Equal(t, "spare", e.Verdict)
		case "tide03": // of no package, in another folder: by its names
			require.Len(t, e.Notes, 1)
			require.False(t, e.Notes[0].Proven)
			require.Equal(t, "device", e.Role)
		default:
			require.Empty(t, e.Notes, e.Name)
		}
	}
	require.Contains(t, within(t, next, "review", "--format", "csv"), "your note calls it spare")
	// of one entry, and of two, of which one may be off
	for _, name := range []string{"tide00", "tide01", "tide03", "tide05"} {
		next.In = "go " + name + "\nquit\n"
		c := model[name]
		require.Contains(t, next.OK(t, "review", "--plain"),
			fmt.Sprintf("on %d other machines: kept on %d, off on %d", c.seen, c.kept, c.off))
	}
	// A program that changed is not the package's any more, and the note on that does not speak for it.
	require.NoError(t, os.WriteFile(filepath.Join(next.Root, "opt/tide-00/tide00"),
		[]byte("#!/bin/sh\nexec something else\n"), 0o755))
	require.NotContains(t, within(t, next, "list", "tide00"), "nobody reads it")
}
