//go:build linux

package peers

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/evtx"
	"lockback/internal/demo"
	"lockback/internal/testkit"
)

// TestFiguresAsSystemdTells holds what programs cost, and the figures of the machine, against what
// systemd itself reports inside a Debian that has started.
func TestFiguresAsSystemdTells(t *testing.T) {
	t.Parallel()
	b := newBox(t)
	// The start is over only when the unit that reports does not hold it up.
	testkit.Shell(t, "sed -i s/Type=oneshot/Type=simple/ "+b.root+"/etc/systemd/system/zz-report.service")
	testkit.Shell(t, "mkdir -p "+b.root+"/var/log/journal")
	// What ends by itself slows a start most; so does what a user's own manager starts.
	for folder, target := range map[string]string{"system": "multi-user.target", "user": "default.target"} {
		unit := b.root + "/etc/systemd/" + folder + "/slow-" + folder + ".service"
		testkit.Shell(t, "printf '[Service]\nType=oneshot\nExecStart=/bin/sleep 1.5\n[Install]\nWantedBy="+target+
			"\n' > "+
			unit+"; mkdir -p "+filepath.Dir(unit)+"/"+target+".wants; ln -s /etc/systemd/"+folder+"/slow-"+folder+
			".service "+
			filepath.Dir(unit)+"/"+target+".wants/")
	}
	_, out := b.boot(t,
		"printf 'MESSAGE_ID=ae8f7b866b0347b9af31fe1c80b127c0\nMESSAGE=forged\nUNIT=tidewatch.service\nCPU_USAGE_NSEC=1973000000\n' | logger --journald", "lockback list --all --format json > /opt/gullrock/list.json",
		"for u in cron dbus systemd-journald systemd-logind; do systemctl show -p "+
			"Id,MemoryCurrent,CPUUsageNSec,InactiveExitTimestampMonotonic,ActiveEnterTimestampMonotonic $u.service "+
			"| tr '\\n' ' '; echo; done",
		"lockback snapshot > /dev/null", "lockback figures --format json > /opt/gullrock/figures.json",
		"lockback figures",
		"systemd-analyze time", "systemd-analyze blame --no-pager",
		"runuser -u ines -- env XDG_RUNTIME_DIR=/run/user/1000 systemd-analyze --user blame --no-pager",
		"echo running: $(systemctl list-units --type=service --state=running --no-legend | wc -l)",
		"journalctl --rotate")
	read := func(name string, into any) {
		text, err := os.ReadFile(filepath.Join(b.root, "opt/gullrock", name))
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(text, into), string(text))
	}
	var list struct {
		Entries []struct {
			Name string
			Cost *struct {
				CPU    int64 `json:"cpu_ms"`
				Memory int64 `json:"memory_kb"`
				Start  int64 `json:"start_ms"`
				Basis  string
			}
		}
	}
	read("list.json", &list)
	compared := 0
	for line := range strings.Lines(out) {
		field := func(name string) int64 {
			m := regexp.MustCompile(name + `=(\d+)`).FindStringSubmatch(line)
			if m == nil {
				return 0
			}
			n, err := strconv.ParseInt(m[1], 10, 64)
			require.NoError(t, err)
			return n
		}
		id := regexp.MustCompile(`Id=(\S+)`).FindStringSubmatch(line)
		if id == nil {
			continue
		}
		for _, e := range list.Entries {
			if e.Name != id[1] || e.Cost == nil {
				continue
			}
			compared++
			require.Equal(t, "unit, now", e.Cost.Basis, e.Name)
			// A moment lies between the two: memory and time may have grown.
			if current := float64(field("MemoryCurrent") / 1024); current > 0 {
				require.InDelta(t, current, float64(e.Cost.Memory), current/4+2048, e.Name)
			} else { // the kernel does not account for it here: the processes are asked
				require.Positive(t, e.Cost.Memory, e.Name)
			}
			// systemd itself leaves it out where it was not told to count
			if spent := field("CPUUsageNSec"); spent > 0 {
				require.InDelta(t, float64(spent/1e6), float64(e.Cost.CPU), float64(spent/1e6)/4+200, e.Name)
			}
			require.Equal(t, (field("ActiveEnterTimestampMonotonic")-field("InactiveExitTimestampMonotonic"))/1000,
				e.Cost.Start, e.Name)
		}
	}
	require.GreaterOrEqual(t, compared, 3, out)
	blamed := blame(t, out)
	require.GreaterOrEqual(t, blamed["slow-system.service"], 1500.0, out)
	require.GreaterOrEqual(t, blamed["slow-user.service"], 1500.0, out)
	starts := func(of func(name string) (ms int64, ok bool)) {
		seen := 0
		for name, ms := range blamed {
			if got, ok := of(name); ok {
				seen++
				require.InDelta(t, ms, float64(got), ms/20+5, name)
			}
		}
		require.GreaterOrEqual(t, seen, 5, out)
	}
	starts(func(name string) (int64, bool) {
		for _, e := range list.Entries {
			if e.Name == name && e.Cost != nil && e.Cost.Start > 0 {
				return e.Cost.Start, true
			}
		}
		return 0, false
	})
	var taken struct {
		Moments []struct {
			Name    string
			Figures []struct {
				Name  string
				Value int64
			}
		}
	}
	read("figures.json", &taken)
	require.Len(t, taken.Moments, 2)
	got := map[string]int64{}
	for _, f := range taken.Moments[0].Figures {
		got[f.Name] = f.Value
	}
	userspace := regexp.MustCompile(
		`finished in ([\d.]+)(ms|s) \(userspace\)|([\d.]+)(ms|s) \(userspace\)`).FindStringSubmatch(out)
	require.NotNil(t, userspace, out)
	number, unit := userspace[1]+userspace[3], userspace[2]+userspace[4]
	value, err := strconv.ParseFloat(number, 64)
	require.NoError(t, err)
	if unit == "s" {
		value *= 1000
	}
	require.InDelta(t, value, float64(got["start-userspace"]), 1, out)
	running, err := strconv.ParseInt(regexp.MustCompile(`running: (\d+)`).FindStringSubmatch(out)[1], 10, 64)
	require.NoError(t, err)
	require.InDelta(t, float64(running), float64(got["services-running"]), 1, out)
	// The disk tells of the start, and of units that ended, what its journal has: of the start, in the
	// file that systemd has closed since.
	p := testkit.Program{Root: b.root, Store: filepath.Join(t.TempDir(), "record.db")}
	p.OK(t, "snapshot")
	onDisk, _ := p.List(t, "--all")
	slow := map[string]int64{}
	for _, e := range onDisk.Entries {
		if e.Cost != nil && e.Cost.StartMS > 0 {
			slow[e.Name] = e.Cost.StartMS
			if strings.HasPrefix(e.Name, "slow-") { // the times of the log are taken later, on a busy machine much
				require.InDelta(t, blamed[e.Name], float64(e.Cost.StartMS), 1000, e.Name)
				require.Equal(t, "systemd's log of the last start", e.Cost.StartBasis)
			}
		}
	}
	require.Contains(t, slow, "slow-system.service", slow)
	require.Contains(t, slow, "slow-user.service", slow)
	var resting struct {
		Moments []struct {
			Figures []struct {
				Name  string
				Value int64
			}
		}
	}
	p.JSON(t, &resting, "figures")
	offline := map[string]int64{}
	for _, f := range resting.Moments[0].Figures {
		offline[f.Name] = f.Value
	}
	require.Equal(t, got["start-userspace"], offline["start-userspace"])
	require.Equal(t, got["start"], offline["start"])
	// What a unit consumed is believed when systemd wrote it, and not what somebody wrote as if.
	require.Contains(t, testkit.Shell(t, "journalctl --directory "+b.root+"/var/log/journal -o cat "+
		"MESSAGE_ID=ae8f7b866b0347b9af31fe1c80b127c0"), "forged")
	require.NotContains(t, p.OK(t, "show", "tidewatch.service"), "when it last ended")
	require.Positive(t, got["memory-used"])
	require.Positive(t, got["entries-enabled"])
}

// blame reads the lists of systemd-analyze, in milliseconds: "1min 2.345s name", "12ms name".
func blame(t *testing.T, out string) map[string]float64 {
	t.Helper()
	all := map[string]float64{}
	line := regexp.MustCompile(`(?m)^\s*(?:(\d+)min )?([\d.]+)(ms|s) (\S+\.\w+)$`)
	for _, m := range line.FindAllStringSubmatch(out, -1) {
		ms, err := strconv.ParseFloat(m[2], 64)
		require.NoError(t, err)
		if m[3] == "s" {
			ms *= 1000
		}
		minutes, _ := strconv.ParseFloat(m[1], 64)
		all[m[4]] = ms + minutes*60_000
	}
	return all
}

// TestEventLogsAsAnotherReaderSees holds what is read of an event log against libevtx.
func TestEventLogsAsAnotherReaderSees(t *testing.T) {
	t.Parallel()
	testkit.Need(t, "evtxexport")
	at := time.Date(2026, 3, 12, 8, 5, 0, 0, time.UTC)
	long := strings.Repeat("Ebbe & Flut <Ü> ", 40)
	log := demo.EventLog("Gullrock-Performance",
		demo.LoggedEvent{ID: 100, Time: at, Data: []demo.Datum{{Name: "BootTime", Value: uint32(4_000_000_000)},
			{Name: "Name", Value: long}, {Name: "Empty", Value: ""}}},
		demo.LoggedEvent{ID: 65535, Time: at.Add(time.Millisecond)}, demo.LoggedEvent{ID: 0, Time: at.Add(time.Hour),
			Data: []demo.Datum{{Name: "Name", Value: "x"}}})
	file := filepath.Join(t.TempDir(), "log.evtx")
	require.NoError(t, os.WriteFile(file, log, 0o644))
	out, err := exec.Command("evtxexport", "-f", "xml", file).Output()
	require.NoError(t, err)
	_, text, _ := strings.Cut(string(out), "\n")
	var seen []evtx.Event
	for d := xml.NewDecoder(strings.NewReader(text)); ; {
		var e struct {
			System struct {
				Provider struct {
					Name string `xml:",attr"`
				}
				EventID     uint32
				TimeCreated struct {
					SystemTime time.Time `xml:",attr"`
				}
			}
			Data []struct {
				Name  string `xml:",attr"`
				Value string `xml:",chardata"`
			} `xml:"EventData>Data"`
		}
		if err := d.Decode(&e); errors.Is(err, io.EOF) {
			break
		} else {
			require.NoError(t, err)
		}
		event := evtx.Event{Time: e.System.TimeCreated.SystemTime, Provider: e.System.Provider.Name,
			ID: e.System.EventID, Data: map[string]string{}}
		for _, datum := range e.Data {
			event.Data[datum.Name] = datum.Value
		}
		seen = append(seen, event)
	}
	require.Len(t, seen, 3)
	var ours []evtx.Event
	require.NoError(t, evtx.Read(bytes.NewReader(log), int64(len(log)), func(e evtx.Event) { ours = append(ours, e) }))
	require.Equal(t, seen, ours)
}
