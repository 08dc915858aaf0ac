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
	_, out := b.boot(t,
		"printf 'MESSAGE_ID=ae8f7b866b0347b9af31fe1c80b127c0\nMESSAGE=forged\nUNIT=tidewatch.service\nCPU_USAGE_NSEC=1973000000\n' | logger --journald", "lockback list --all --format json > /opt/gullrock/list.json",
		"for u in cron dbus systemd-journald systemd-logind; do systemctl show -p "+
			"Id,MemoryCurrent,CPUUsageNSec,InactiveExitTimestampMonotonic,ActiveEnterTimestampMonotonic $u.service "+
			"| tr '\\n' ' '; echo; done",
		"lockback snapshot > /dev/null", "lockback figures --format json > /opt/gullrock/figures.json",
		"lockback figures",
		"systemd-analyze time",
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
			require.InDelta(t, float64(field("MemoryCurrent")/1024), float64(e.Cost.Memory),
				float64(field("MemoryCurrent")/1024)/4+2048, e.Name)
			// systemd itself leaves it out where it was not told to count
			if spent := field("CPUUsageNSec"); spent > 0 {
				require.InDelta(t, float64(spent/1e6), float64(e.Cost.CPU), float64(spent/1e6)/4+200, e.Name)
			}
			require.Equal(t, (field("ActiveEnterTimestampMonotonic")-field("InactiveExitTimestampMonotonic"))/1000,
				e.Cost.Start, e.Name)
		}
	}
	require.GreaterOrEqual(t, compared, 3, out)
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
