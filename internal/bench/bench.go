// Package bench makes the large machine that the figures of docs/performance.md
// are measured on, and measures. See bench_test.go.
package bench

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// Size is how much a made-up machine holds.
type Size struct {
	Units, Desktop, CronLines int
}

// Large is the size that the promises on speed are given for.
var Large = Size{Units: 2000, Desktop: 500, CronLines: 2000}

// Build makes a Linux root of that size in an existing folder.
func Build(root string, size Size) error {
	b := builder{root: root}
	b.file("etc/os-release", "PRETTY_NAME=\"Gullrock Linux\"\n")
	b.file("etc/debian_version", "12\n")
	b.file("etc/machine-id", "00112233445566778899aabbccddeeff\n")
	b.file("etc/hostname", "large\n")
	b.file("etc/passwd", "root:x:0:0::/root:/bin/sh\nines:x:1000:1000::/home/ines:/bin/sh\n")
	for _, target := range []string{"default", "multi-user", "timers", "sockets"} {
		b.file("usr/lib/systemd/system/"+target+".target", "[Unit]\nDescription="+target+"\n")
	}
	for k := range size.Units {
		name := fmt.Sprintf("tide-%04d", k)
		text := fmt.Sprintf("# made for measuring\n[Unit]\nDescription=Tide gauge "+
			"%d\nAfter=network.target\nDocumentation=man:tide(8)\n\n", k)
		switch k % 10 {
		case 8:
			b.file("usr/lib/systemd/system/"+name+".timer",
				text+"[Timer]\nOnCalendar=hourly\n\n[Install]\nWantedBy=timers.target\n")
			b.link("etc/systemd/system/timers.target.wants/"+name+".timer", "/usr/lib/systemd/system/"+name+".timer")
		case 9:
			b.file("usr/lib/systemd/system/"+name+".socket",
				text+"[Socket]\nListenStream=/run/x\n\n[Install]\nWantedBy=sockets.target\n")
		default:
			b.file("usr/lib/systemd/system/"+name+".service",
				text+fmt.Sprintf("[Service]\nType=simple\nExecStart=/opt/tide/bin/tide-%d --gauge "+
					"%d\nRestart=on-failure\nUser=tide\n\n[Install]\nWantedBy=multi-user.target\n", k%50, k))
			if k%2 == 0 {
				b.link("etc/systemd/system/multi-user.target.wants/"+name+".service", "/usr/lib/systemd/system/"+name+
					".service")
			}
		}
	}
	for k := range 50 {
		b.file(fmt.Sprintf("opt/tide/bin/tide-%d", k), "#!/bin/sh\n")
	}
	for k := range size.Desktop {
		dir := "etc/xdg/autostart/"
		if k%2 == 0 {
			dir = "home/ines/.config/autostart/"
		}
		b.file(fmt.Sprintf("%sfog-%04d.desktop", dir, k),
			fmt.Sprintf("[Desktop Entry]\nType=Application\nName=Fog %d\nName[de]=Nebel %d\nComment=Rings the "+
				"bell\nExec=/opt/tide/bin/tide-%d --tray\nIcon=bell\nTerminal=false\n", k, k, k%50))
	}
	var lines strings.Builder
	for k := range size.CronLines {
		fmt.Fprintf(&lines, "%d %d * * * root /opt/tide/bin/tide-%d --line %d > /dev/null 2>&1\n", k%60, k%24, k%50, k)
		if (k+1)%100 == 0 || k == size.CronLines-1 {
			b.file(fmt.Sprintf("etc/cron.d/lines-%02d", k/100), lines.String())
			lines.Reset()
		}
	}
	return b.err
}

type builder struct {
	root string
	err  error
	made map[string]bool
}

func (b *builder) at(name string) string {
	name = filepath.Join(b.root, name)
	dir := filepath.Dir(name)
	if b.made == nil {
		b.made = map[string]bool{}
	}
	if b.err == nil && !b.made[dir] {
		b.made[dir] = true
		b.err = os.MkdirAll(dir, 0o755)
	}
	return name
}

func (b *builder) file(name, text string) {
	if name = b.at(name); b.err == nil {
		b.err = os.WriteFile(name, []byte(text), 0o644)
	}
}

func (b *builder) link(name, target string) {
	if name = b.at(name); b.err == nil {
		b.err = os.Symlink(target, name)
	}
}
