//go:build unix

package bench

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// sizes are machines that somebody made large on purpose: of each, one that is as large as
// the promises on growth and memory are given for.
var sizes = []struct {
	name  string
	n     int
	build func(b *builder, n int)
	// chosen selects what is switched.
	chosen string
}{
	{"lines of one crontab", 60_000, func(b *builder, n int) {
		var lines strings.Builder
		for k := range n {
			fmt.Fprintf(&lines, "%d %d * * * root /opt/tide/%d\n", k%60, k%24, k)
		}
		b.file("etc/cron.d/tide", lines.String())
	}, "location=linux.cron.system"},
	{"entries in crontabs", 100_000, func(b *builder, n int) {
		var lines strings.Builder
		for k := range n {
			fmt.Fprintf(&lines, "%d %d * * * root /opt/tide/%d --gauge\n", k%60, k%24, k)
			if (k+1)%10_000 == 0 || k == n-1 {
				b.file(fmt.Sprintf("etc/cron.d/tide-%d", k/10_000), lines.String())
				lines.Reset()
			}
		}
	}, "location=linux.cron.system"},
	{"names in a unit", 78_000, func(b *builder, n int) {
		var unit strings.Builder
		unit.WriteString("[Service]\nExecStart=/opt/tide\n[Install]\nWantedBy=")
		for k := range n {
			fmt.Fprintf(&unit, "%05d.target ", k)
		}
		b.file("home/ines/.config/systemd/user/tide.service", unit.String())
		b.file("etc/cron.d/tide", "@daily root /opt/tide\n")
	}, "location=linux.cron.system"},
	{"large files in a home", 120, func(b *builder, n int) {
		for k := range n {
			name := fmt.Sprintf("home/ines/.config/systemd/user/tide-%d.service", k)
			b.file(name, "[Service]\nExecStart=/opt/tide\n")
			if b.err == nil {
				b.err = os.Truncate(filepath.Join(b.root, name), 16<<20)
			}
		}
		b.file("etc/cron.d/tide", "@daily root /opt/tide\n")
	}, "location=linux.cron.system"},
	{"people", 10_000, func(b *builder, n int) {
		var passwd strings.Builder
		passwd.WriteString("root:x:0:0::/root:/bin/sh\n")
		for k := range n {
			fmt.Fprintf(&passwd, "p%d:x:%d:%d::/home/p%d:/bin/sh\n", k, 2000+k, 2000+k, k)
		}
		b.file("etc/passwd", passwd.String())
		for k := range 10 {
			b.file(fmt.Sprintf("etc/xdg/autostart/tide-%d.desktop", k),
				"[Desktop Entry]\nType=Application\nName=Tide\nExec=/opt/tide\n")
		}
	}, "location=linux.xdg-autostart"},
	{"desktop files", 50_000, func(b *builder, n int) {
		for k := range n {
			b.file(fmt.Sprintf("etc/xdg/autostart/tide-%d.desktop", k),
				fmt.Sprintf("[Desktop Entry]\nType=Application\nName=Tide %d\nExec=/opt/tide\n", k))
		}
	}, "location=linux.xdg-autostart"},
}

// rounds is how often each command is run; the least time counts, for all that else runs on a
// machine only adds to it.
const rounds = 3

// BenchmarkSizes tells, for each command, how much more processor time twice the machine
// takes, and the peak memory of the larger one.
func BenchmarkSizes(b *testing.B) {
	program := testkit.Built(b)
	for _, s := range sizes {
		b.Run(strings.ReplaceAll(s.name, " ", "-"), func(b *testing.B) {
			var arenas [2]string // half the size, and all of it
			for k, n := range []int{s.n / 2, s.n} {
				arenas[k] = b.TempDir()
				require.NoError(b, os.Chmod(arenas[k], 0o700))
				made := builder{root: filepath.Join(arenas[k], "root")}
				require.NoError(b, os.Mkdir(made.root, 0o755))
				for name, text := range map[string]string{"etc/os-release": "PRETTY_NAME=\"Gullrock Linux\"\n",
					"etc/debian_version": "12\n", "etc/machine-id": "00112233445566778899aabbccddeeff\n",
					"etc/hostname": "large\n",
					"etc/passwd":   "root:x:0:0::/root:/bin/sh\nines:x:1000:1000::/home/ines:/bin/sh\n"} {
					made.file(name, text)
				}
				s.build(&made, n)
				require.NoError(b, made.err)
			}
			commands := [][]string{{"list", "--all"}, {"snapshot"}, {"disable", s.chosen, "--yes"}, {"undo", "--yes"},
				{"disable", s.chosen, "--yes"}, {"restore", "S1", "--yes"}, {"compare", "S1"}}
			took := make([][2]time.Duration, len(commands))
			peaks := make([]int64, len(commands))
			for range rounds {
				for c, args := range commands {
					for k, arena := range arenas {
						cmd := exec.Command(program, append([]string{"--root", filepath.Join(arena, "root"), "--store",
							filepath.Join(arena, "record.db")}, args...)...)
						out, err := cmd.CombinedOutput()
						if cmd.ProcessState.ExitCode() > 3 || cmd.ProcessState.ExitCode() == 2 {
							require.NoError(b, err, string(out[:min(len(out), 500)]))
						}
						spent := cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()
						if took[c][k] == 0 || spent < took[c][k] {
							took[c][k] = spent
						}
						peaks[c] = max(peaks[c], cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss<<10)
					}
				}
			}
			for c, args := range commands {
				b.ReportMetric(took[c][1].Seconds()/took[c][0].Seconds(), args[0]+"-growth")
				b.ReportMetric(float64(took[c][1].Milliseconds()), args[0]+"-ms")
				b.ReportMetric(float64(peaks[c])/(1<<20), args[0]+"-MiB")
			}
			b.ReportMetric(0, "ns/op")
		})
	}
}
