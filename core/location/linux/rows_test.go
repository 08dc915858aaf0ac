//go:build linux

package linux_test

import (
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/linux"
	"lockback/core/machine/artifact"
)

// rowCase is a disk, and what is read from it in one location: a name (and whose it is), to its state, switch and
// what is told of it. Of each location the corner cases stand here that its own program knows.
type rowCase struct {
	location string
	files    map[string]string
	want     map[string]string
}

// programs makes files of programs, so that runners are there.
func programs(names ...string) map[string]string {
	files := map[string]string{}
	for _, name := range names {
		files["usr/bin/"+name] = "#!"
	}
	return files
}

var rowCases = []rowCase{
	{"linux.udev", map[string]string{
		"etc/udev/rules.d/10-own.rules": "# RUN+=\"/opt/no\"\nKERNEL==\"a*\", RUN+=\"/opt/one %k\"\nKERNEL==\"b\", " +
			"\\\n  ATTR{x}==\"{\", \\\n# between\n  RUN{program}+=\"/opt/two\", SYMLINK+=\"two\", " +
			"MODE=\"0660\"\nRUN{builtin}+=\"kmod load x\"\n" +
			"LABEL=\"end\", PROGRAM==\"/opt/three\"\nENV{SYSTEMD_WANTS}+=\"tide.service\"\nENV{SYSTEMD_WANTS}==\"asked.service\"\nIMPORT{program}=\"name-only --x\"\nRUN+=\"$env{x} y\"\nNAME=\"unclosed\n",
		"usr/lib/udev/rules.d/50-vendor.rules": "RUN+=\"/opt/v1\"\nGOTO=\"x\"\nPROGRAM==\"/opt/v2\"\n",
		"usr/lib/udev/rules.d/51-quiet.rules":  "SYMLINK+=\"x\"\n",
		"usr/lib/udev/rules.d/52-masked.rules": "RUN+=\"/opt/m\"\n", "etc/udev/rules.d/52-masked.rules": "-> /dev/null",
		"usr/lib/udev/name-only": "#!",
	}, map[string]string{
		"one":             "enabled comment when a device appears or changes",
		"two":             "enabled comment the rule also sets SYMLINK, MODE",
		"three":           "enabled report when a device appears or changes",
		"tide.service":    "enabled comment when a device appears or changes",
		"name-only":       "enabled comment when a device appears or changes",
		"$env{x}":         "enabled comment when a device appears or changes",
		"50-vendor.rules": "enabled mask when a device appears or changes", "52-masked.rules": "disabled mask masked",
	}},
	{"linux.kernel-args", map[string]string{
		"etc/default/grub": "# GRUB_CMDLINE_LINUX=\"init=/opt/no\"\nGRUB_CMDLINE_LINUX_DEFAULT='quiet " +
			"systemd.run=\"/opt/run\" splash'\nGRUB_CMDLINE_LINUX=\"init=/sbin/init " +
			"systemd.wants=tide.service\"\nGRUB_TIMEOUT=3\nGRUB_INIT_TUNE=\"init=/opt/none\"\n",
		"etc/default/grub.d/50.cfg": "GRUB_CMDLINE_LINUX=\"$GRUB_CMDLINE_LINUX modules_load=tide\"\n",
		"boot/grub/grub.cfg": "menuentry a {\n\tlinux /vmlinuz root=/dev/x ro " +
			"init=/opt/shell\n}\nmenuentry b {\n\tlinux /old root=/dev/x init=/opt/shell\n}\n",
		"boot/loader/entries/a.conf":       "title a\noptions root=x rd.break\noptions rw rdinit=/opt/early\n",
		"etc/kernel/cmdline":               "root=x initrd=y\n",
		"boot/loader/entries/note.conf.no": "options init=/opt/no\n",
	}, map[string]string{
		"systemd.run=":               "enabled report once the boot loader's menu is rebuilt",
		"systemd.wants=tide.service": "enabled report once the boot loader's menu is rebuilt",
		"modules_load=tide":          "enabled report once the boot loader's menu is rebuilt",
		"init=/opt/shell":            "enabled report", "rd.break": "enabled report",
		"rdinit=/opt/early": "enabled report",
	}},
	{"linux.initramfs", map[string]string{
		"etc/initramfs-tools/hooks/tide": "#!", "etc/initramfs-tools/hooks/not.exec": "",
		"etc/initramfs-tools/hooks/bad~": "#!", "etc/initramfs-tools/scripts/init-top/early": "#!",
		"etc/initramfs-tools/scripts/init-top/ORDER": "#!", "etc/initramfs-tools/scripts/functions": "#!",
		"etc/dracut.conf.d/d.conf": "add_dracutmodules+=\" tide \"\nadd_drivers+=\"\"\nhostonly=\"yes\"\n",
		"usr/bin/dracut":           "#!", "etc/mkinitcpio.conf": "MODULES=(bell)\nBINARIES=()\nCOMPRESSION=\"zstd\"\n",
	}, map[string]string{
		"tide": "enabled report before the system itself starts", "not.exec": "disabled report not executable",
		"early":   "enabled report before the system itself starts",
		"MODULES": "disabled report ignored: mkinitcpio is not installed",
	}},
	{"linux.openrc", map[string]string{
		"sbin/init": "-> /sbin/openrc-init", "sbin/openrc-init": "#!", "etc/init.d/tide": "#!", "etc/init.d/bell": "#!",
		"etc/init.d/notes": "text", "etc/runlevels/default/tide": "-> /etc/init.d/tide",
		"etc/runlevels/boot/tide": "-> /etc/init.d/tide", "etc/runlevels/boot/gone": "-> /etc/init.d/gone",
		"etc/local.d/lamp.start": "#!", "etc/local.d/lamp.stop": "#!", "etc/local.d/off.start": "text",
	}, map[string]string{
		"tide": "enabled unlink in runlevel boot, in runlevel default", "bell": "disabled unlink",
		"gone": "enabled unlink dangling link", "lamp.start": "enabled unexec",
		"off.start": "disabled unexec not executable",
	}},
	{"linux.runit", merged(programs("runsvdir"), map[string]string{
		"etc/sv/tide/run": "#!", "etc/sv/tide/log/run": "#!", "etc/sv/bell/run": "#!", "etc/sv/bell/down": "",
		"etc/sv/none/note": "", "etc/sv/plain/run": "text", "etc/sv/.hidden/run": "#!",
		"etc/service": "-> runit/runsvdir/current", "etc/runit/runsvdir/current": "-> default",
		"etc/runit/runsvdir/default/tide": "-> /etc/sv/tide", "etc/runit/runsvdir/default/bell": "-> /etc/sv/bell",
		"etc/runit/runsvdir/default/none":    "-> /etc/sv/none",
		"etc/runit/runsvdir/default/plain":   "-> /etc/sv/plain",
		"etc/runit/runsvdir/default/.hidden": "-> /etc/sv/.hidden",
		"etc/runit/runsvdir/default/gone":    "-> /etc/sv/gone",
	}), map[string]string{
		"tide": "enabled down-file", "bell": "disabled down-file down",
		"none":  "disabled down-file ignored: it has no program run",
		"plain": "disabled down-file ignored: it has no program run", "gone": "disabled report dangling link",
	}},
	{"linux.containers", merged(programs("dockerd", "lxc-autostart"), map[string]string{
		"var/lib/docker/containers/a1/hostconfig.json": `{"RestartPolicy":{"Name":"always"}}`,
		"var/lib/docker/containers/a1/config.v2.json":  `{"Name":"/tide","Config":{"Image":"tide:1"}}`,
		"var/lib/docker/containers/b2/hostconfig.json": `{"RestartPolicy":{"Name":"no"}}`,
		"var/lib/docker/containers/c3/hostconfig.json": `{"RestartPolicy":{"Name":"unless-stopped"}}`,
		"var/lib/docker/containers/c3/config.v2.json":  `{"Name":"/bell","HasBeenManuallyStopped":true}`,
		"var/lib/docker/containers/d4/hostconfig.json": `{"RestartPolicy":{"Name":"on-failure"}}`,
		"var/lib/docker/containers/e5/hostconfig.json": `{"broken`,
		"var/lib/lxc/web/config":                       "lxc.start.auto = 1\n",
		"var/lib/lxc/old/config":                       "lxc.start.auto = 0\n# lxc.start.auto = 1\n",
		"var/lib/lxc/off/config":                       "#lockback:off lxc.start.auto=1\n",
		"etc/libvirt/qemu/till.xml":                    "<domain/>", "etc/libvirt/qemu/idle.xml": "<domain/>",
		"etc/libvirt/qemu/autostart/till.xml":   "-> /etc/libvirt/qemu/till.xml",
		"etc/libvirt/qemu/networks/default.xml": "<network/>",
	}), map[string]string{
		"tide": "enabled report restart policy always",
		"bell": "disabled report stopped by hand, restart policy unless-stopped",
		"d4":   "enabled report restart policy on-failure", "e5": "enabled report",
		"web": "enabled comment", "off": "disabled comment",
		"machine till": "disabled unlink ignored: libvirt is not installed", "machine idle": "disabled unlink",
	}},
	{"linux.login-shell", merged(programs("zsh"), map[string]string{
		"etc/profile.d/a.sh": "x", "etc/profile.d/b.csh": "x", "etc/profile.d/c.txt": "x", "etc/profile.d/.d.sh": "x",
		"etc/profile.d/e.sh.dpkg-old": "x", "etc/bash_completion.d/f": "x", "etc/fish/conf.d/g.fish": "x",
		"home/ines/.profile": "x", "home/ines/.bash_profile": "x", "home/ines/.bash_login": "x",
		"home/ines/.zshrc": "x", "home/bram/.bashrc": "same\n", "etc/skel/.bashrc": "same\n",
	}), map[string]string{
		"a.sh": "enabled park", "b.csh": "disabled park ignored: csh is not installed",
		"c.txt": "disabled report ignored: only names that end in .sh are read",
		"f":     "enabled park when a shell is opened", "g.fish": "disabled park ignored: fish is not installed",
		".profile/ines":      "enabled report bash reads ~/.bash_profile in its place",
		".bash_profile/ines": "enabled report when somebody signs in with a shell",
		".bash_login/ines":   "disabled report ignored: bash reads ~/.bash_profile in its place",
		".zshrc/ines":        "enabled report when zsh is opened",
		".bashrc/bram":       "enabled report when a shell is opened",
	}},
	{"linux.display-manager", merged(programs("lightdm", "sddm", "greetd"), map[string]string{
		"etc/X11/default-display-manager":         "/usr/sbin/lightdm\n",
		"etc/lightdm/lightdm.conf":                "[LightDM]\ndisplay-setup-script=/opt/no\n[Seat:*]\n#session-setup-script=/opt/no\ndisplay-setup-script=/opt/screen -x\ngreeter-session=x\n",
		"usr/share/lightdm/lightdm.conf.d/v.conf": "[SeatDefaults]\ngreeter-setup-script=/opt/vendor\n",
		"etc/sddm.conf":                           "[X11]\nDisplayCommand=/opt/other\n",
		"etc/greetd/config.toml": "[initial_session]\ncommand = " +
			"\"/opt/kiosk\"\n[default_session]\ncommand = \"agreety\"\n", "etc/gdm3/Init/Default": "#!",
		"etc/gdm3/Init/Default.sample": "#!",
	}), map[string]string{
		"screen": "enabled comment before the sign-in screen", "vendor": "enabled report before the sign-in screen",
		"other":   "disabled comment ignored: another display manager starts: lightdm",
		"kiosk":   "disabled comment ignored: another display manager starts: lightdm",
		"agreety": "disabled report ignored: another display manager starts: lightdm",
		"Default": "disabled unexec ignored: another display manager starts: lightdm",
	}},
	{"linux.compositor", merged(programs("labwc", "i3", "sway", "Hyprland", "niri", "wayfire", "openbox", "lxsession",
		"xfce4-session"), map[string]string{
		"etc/i3/config": "exec /opt/everyone\n",
		"home/ines/.config/i3/config": "set $t /opt/term\nbindsym $mod+x exec /opt/no\nfor_window [class=\"x\"] " +
			"exec /opt/no\nexec --no-startup-id /opt/one\nexec_always \\\n  /opt/two --x\nmode \"m\" {\n  bindsym " +
			"x exec /opt/no\n  exec /opt/no\n}\nexec $t\ninclude more.conf\ninclude /root/secret\ninclude /etc/others\n", "etc/others": "exec /opt/foreign\n",
		"home/ines/.config/i3/more.conf": "exec /opt/three\ninclude config\n", "root/secret": "exec /opt/no\n",
		"home/bram/.config/sway/config": "exec {\n  /opt/four\n  /opt/five --y\n}\nexec swaybg\n",
		"home/bram/.config/hypr/hyprland.conf": "exec-once = [workspace 2 silent] /opt/six\nexec = " +
			"/opt/seven\nbind = SUPER, x, exec, /opt/no\nplugin {\n  exec-once = /opt/no\n}\nsource = " +
			"~/.config/hypr/more.conf\n",
		"home/bram/.config/hypr/more.conf": "exec-shutdown = /opt/eight\n",
		"home/bram/.config/niri/config.kdl": "spawn-at-startup \"/opt/nine\" \"--a b\"\n/-spawn-at-startup " +
			"\"/opt/no\"\n// spawn-at-startup \"/opt/no\"\nbinds {\n  Mod+T { spawn \"/opt/no\"; }\n}\n",
		"etc/xdg/labwc/autostart": "/opt/l1 &\n", "home/bram/.config/labwc/autostart": "/opt/l2 &\n",
		"home/bram/.config/wayfire.ini":                                        "[core]\nx = /opt/no\n[autostart]\nten = /opt/ten\nautostart_wf_shell = false\n",
		"home/bram/.config/openbox/autostart":                                  "if true; then\n  /opt/no\nfi\n/opt/eleven &\nexport X=1\n(/opt/no; /opt/no)\n/opt/a; /opt/b\ncat <<EOF\n/opt/no\nEOF\n",
		"etc/xdg/lxsession/LXDE/autostart":                                     "@/opt/twelve --a\n# @/opt/no\n/opt/thirteen\n",
		"etc/xdg/xfce4/xfconf/xfce-perchannel-xml/xfce4-session.xml":           "<channel><property name=\"Failsafe\"><property name=\"Count\" value=\"2\"/><property name=\"Client0_Command\" type=\"array\"><value type=\"string\" value=\"xfwm4\"/></property><property name=\"Client1_Command\"/></property></channel>",
		"home/ines/.config/xfce4/xfconf/xfce-perchannel-xml/xfce4-session.xml": "<broken",
		"home/ines/.fluxbox/startup":                                           "/opt/no-fluxbox\nexec fluxbox\n",
	}), map[string]string{
		"everyone": "enabled comment not for ines", "one/ines": "enabled comment",
		"two/ines": "enabled comment at sign-in, and when the window manager reads its settings again",
		"$t/ines":  "enabled comment", "three/ines": "enabled comment", "foreign/ines": "enabled report",
		"four/bram": "enabled comment", "five/bram": "enabled comment", "swaybg/bram": "enabled comment",
		"six/bram": "enabled comment", "seven/bram": "enabled comment at sign-in, and when the compositor reads " +
			"its settings again", "eight/bram": "enabled comment at sign-out",
		"nine/bram": "enabled report", "l1": "enabled comment not for bram", "l2/bram": "enabled comment",
		"ten/bram": "enabled comment", "eleven/bram": "enabled comment", "twelve": "enabled comment",
		"thirteen": "enabled comment", "xfwm4": "enabled report",
		"no-fluxbox/ines": "disabled comment ignored: fluxbox is not installed",
		"fluxbox/ines":    "disabled report ignored: fluxbox is not installed",
	}},
	{"linux.sessions", map[string]string{
		"usr/share/xsessions/a.desktop": "[Desktop Entry]\nExec=/opt/desk\n[Desktop Action x]\nExec=/opt/no\n",
		"usr/share/xsessions/d.desktop": "[Desktop Entry]\nExec=default\n",
		"usr/share/xsessions/n.txt":     "[Desktop Entry]\nExec=/opt/no\n",
	}, map[string]string{
		"a": "enabled report when somebody chooses this session",
		"d": "enabled report when somebody chooses this session"}},
	{"linux.logrotate", merged(programs("logrotate"), map[string]string{
		"etc/logrotate.d/tide": "/var/log/a {\n  daily\n  postrotate\n    # comment\n    /opt/one\n    /opt/no\n  " +
			"endscript\n  prerotate\n    /opt/two\n  endscript\n}\n/var/log/b {\n  weekly\n}\n",
	}), map[string]string{
		"tide: one": "enabled report when a log is rotated", "tide: two": "enabled report before a log is rotated"}},
	{"linux.dbus", map[string]string{
		"usr/share/dbus-1/system-services/a.service":                             "[D-BUS Service]\nName=org.a\nExec=/opt/a\nUser=root\n",
		"usr/share/dbus-1/system-services/b.service":                             "[D-BUS Service]\nName=org.b\nExec=/bin/false\nSystemdService=b.service\n",
		"usr/local/share/dbus-1/services/c.service":                              "[D-BUS Service]\nName=org.c\nExec=/opt/c\n",
		"usr/share/dbus-1/services/other-name.service":                           "[D-BUS Service]\nName=org.c\nExec=/opt/c2\n",
		"usr/share/dbus-1/services/d.service":                                    "[D-BUS Service]\nName=org.d\nExec=/opt/d\n",
		"usr/local/share/dbus-1/services/d.service":                              "# lockback:off\n[D-BUS Service]\nName=org.d\nExec=/bin/false\n",
		"home/ines/.local/share/dbus-1/services/e.service":                       "[D-BUS Service]\nName=org.e\nExec=/opt/e\n",
		"home/ines/.local/share/flatpak/exports/share/dbus-1/services/f.service": "[D-BUS Service]\nName=org.f\nExec=/usr/bin/flatpak run f\n",
		"usr/share/dbus-1/services/bad.service":                                  "Name=org.no\n",
		"usr/share/dbus-1/services/note.txt":                                     "[D-BUS Service]\nName=org.no\nExec=/opt/no\n",
	}, map[string]string{
		"org.a": "enabled mask when something asks for org.a", "org.b": "enabled report by b.service",
		"org.c": "disabled report ignored: /usr/local/share/dbus-1/services/c.service comes before it",
		"org.d": "disabled mask overridden", "org.e/ines": "enabled park when something asks for org.e",
		"org.f/ines": "enabled report when something asks for org.f", "bad.service": "enabled report",
	}},
	{"linux.network-lines", merged(programs("ifup", "wg-quick", "openvpn"), map[string]string{
		"etc/network/interfaces": "iface a inet dhcp\n  up /opt/up \\\n    --now\n  # up /opt/no\n  post-down " +
			"/opt/down\n  update x\nsource interfaces.d/*\nsource /home/ines/x\n",
		"etc/network/interfaces.d/one": "iface b inet manual\n  pre-up /opt/sourced\n", "home/ines/x": "up /opt/no\n",
		"etc/wireguard/h.conf": "[Interface]\nPostUp = /opt/wg %i\nPreDown=/opt/wgdown\n[Peer]\nPostUp = /opt/no\n",
		"etc/openvpn/client/v.conf": "remote x\nup \"/opt/vpn up\"\n; down /opt/no\nscript-security 2\nplugin " +
			"/opt/lib.so\n",
	}), map[string]string{
		"up":      "enabled comment when a network interface is brought up",
		"down":    "enabled comment after a network interface was taken down",
		"sourced": "enabled comment before a network interface is brought up",
		"wg":      "enabled comment when the tunnel h is brought up",
		"wgdown":  "enabled comment before the tunnel h is taken down",
		"vpn":     "enabled comment when a tunnel is brought up", "lib.so": "enabled comment with the tunnel",
	}},
	{"linux.xinetd", merged(programs("xinetd"), map[string]string{
		"etc/xinetd.conf": "defaults\n{\n  disabled = bell other\n}\nincludedir /etc/xinetd.d\n",
		"etc/xinetd.d/tide": "service tide\n{\n  server = /opt/tided\n  server_args = -x\n}\nservice tide {\n  " +
			"disable = yes\n  server = /opt/tided2\n}\n",
		"etc/xinetd.d/bell":    "service bell\n{\n  server=/opt/belld\n}\n",
		"etc/xinetd.d/no.dots": "service no\n{\n  server=/opt/no\n}\n",
	}), map[string]string{
		"tide": "disabled state-value disable = yes",
		"bell": "disabled report in the list disabled of /etc/xinetd.conf",
	}},
	{"linux.package-hooks", merged(programs("apt-get", "pacman", "dnf"), map[string]string{
		"etc/apt/apt.conf.d/50a": "APT::Update::Post-Invoke-Success {\n  \"/opt/one\";\n  // " +
			"\"/opt/no\";\n};\nDPkg\n{\n  Post-Invoke { \"/opt/two || true\"; };\n};\nDPkg::Pre-Install-Pkgs " +
			"{\"/opt/three\";};\nAPT::Periodic::Enable \"1\";\n",
		"etc/apt/apt.conf.d/b.bak":  "DPkg::Post-Invoke {\"/opt/no\";};\n",
		"etc/dpkg/dpkg.cfg.d/c":     "post-invoke=\"/opt/four x\"\nno-debsig\n--status-logger=/opt/five\n",
		"etc/kernel/postinst.d/six": "#!", "etc/kernel/postinst.d/no.dots": "#!",
		"etc/pacman.d/hooks/seven.hook": "[Trigger]\nExec = /opt/no\n[Action]\nExec = /opt/seven --a\n",
		"etc/dnf/plugins/eight.conf":    "[main]\nenabled = 1\n", "etc/dnf/plugins/nine.conf": "[main]\nenabled=0\n",
	}), map[string]string{
		"one":   "enabled report when software is installed or removed",
		"two":   "enabled report when software is installed or removed",
		"three": "enabled report when software is installed or removed",
		"four":  "enabled report when software is installed or removed",
		"five":  "enabled report when software is installed or removed",
		"six":   "enabled report when a kernel is installed or removed",
		"seven": "enabled report when software is installed or removed",
		"eight": "enabled report when software is installed or removed",
	}},
	{"linux.mail", merged(programs("sendmail", "procmail"), map[string]string{
		"etc/aliases":        "a: root\nb: \"|/opt/one --x\"\nc: someone, \"|/opt/two\"\n# d: |/opt/no\n",
		"home/ines/.forward": "\\ines, |/opt/three\n", "home/bram/.procmailrc": ":0\n* ^Subject\n| /opt/four -y\n",
	}), map[string]string{
		"one": "enabled comment when mail arrives for b", "two": "enabled comment when mail arrives for c",
		"three/ines": "enabled comment when mail arrives", "four/bram": "enabled report when mail arrives",
	}},
	{"linux.pam", map[string]string{
		"etc/pam.d/login": "@include common\nauth required pam_unix.so\n-session optional pam_gone.so\nsession " +
			"optional pam_gone2.so\nauth [success=1 default=ignore] \\\n  pam_exec.so quiet /opt/one x\nsession " +
			"include other\n", "etc/pam.d/su": "auth required pam_unix.so nullok\naccount required /opt/own.so\n",
		"usr/lib/x86_64-linux-gnu/security/pam_unix.so": "lib", "etc/pam.conf": "login auth required pam_never.so\n",
	}, map[string]string{
		"pam_unix.so":  "enabled report when somebody signs in or is asked for a password",
		"pam_gone2.so": "enabled report when somebody signs in or is asked for a password",
		"one":          "enabled report when somebody uses login",
		"own.so":       "enabled report when somebody signs in or is asked for a password",
		"pam_never.so": "disabled report ignored: PAM reads /etc/pam.d instead",
	}},
	{"linux.python", map[string]string{
		"usr/local/lib/python3.11/dist-packages/a.pth":                  "/opt/lib\nimport one\n",
		"usr/lib/python3/dist-packages/b.pth":                           "import two; two.go()\n",
		"home/ines/.local/lib/python3.12/site-packages/c.pth":           "import\tthree\n",
		"etc/python3.11/sitecustomize.py":                               "x",
		"home/bram/.local/lib/python3.9/site-packages/usercustomize.py": "x",
	}, map[string]string{
		"a": "enabled comment at every start of Python", "b": "enabled report at every start of Python",
		"c/ines":                "enabled comment at every start of Python",
		"sitecustomize.py":      "enabled park at every start of Python",
		"usercustomize.py/bram": "enabled park at every start of Python",
	}},
	{"linux.cron.periodic", merged(programs("crond"), map[string]string{"etc/periodic/15min/tide": "#!",
		"etc/periodic/daily/no.dots": "#!", "etc/periodic/weekly/off": "text", "etc/cron.daily/with.dots": "#!",
		"etc/cron.daily/left.rpmsave": "#!"}),
		map[string]string{"tide": "enabled unexec every 15 minutes", "off": "disabled unexec not executable",
			"with.dots": "enabled unexec every day"}},
	{"linux.sudo", map[string]string{"etc/sudo.conf": "# Plugin no /opt/no.so\nPlugin tide_audit /opt/audit.so " +
		"x=1\nDebug sudo /x all\n"}, map[string]string{"tide_audit": "enabled report loaded into sudo"}},
	{"linux.browser", map[string]string{
		"home/ines/.config/chromium/Default/Extensions/abcdefghijklmnopabcdefghijklmnop/1.0_0/manifest.json":                       `{"name":"Tide","version":"1.0"}`,
		"home/ines/.var/app/org.example.Web/config/chromium/Default/Extensions/bbcdefghijklmnopabcdefghijklmnop/2_0/manifest.json": `{"name":"Bell","version":"2"}`,
		"home/bram/snap/web/common/.mozilla/firefox/x.default/extensions.json":                                                     `{"addons":[{"id":"lamp@x","version":"3","type":"extension","active":false,"location":"app-profile","defaultLocale":{"name":"Lamp"}}]}`,
		"etc/chromium/policies/managed/p.json":                                                                                     `{"ExtensionInstallForcelist":["cccc;https://x"],"ExtensionSettings":{"*":{"installation_mode":"allowed"},"dddd":{"installation_mode":"force_installed","update_url":"https://y"}}}`,
		"etc/firefox/policies/policies.json":                                                                                       `{"policies":{"ExtensionSettings":{"eeee@x":{"installation_mode":"force_installed"}}}}`, "etc/opt/edge/policies/managed/bad.json": "{",
		"home/ines/.mozilla/native-messaging-hosts/host.json": `{"path":"/opt/host"}`,
		"usr/lib/mozilla/native-messaging-hosts/v.json":       `{"path":"/opt/v"}`,
	}, map[string]string{
		"Tide/ines": "enabled report Chromium extension 1.0", "Bell/ines": "enabled report Chromium extension 2",
		"Lamp/bram": "disabled report Firefox extension 3", "cccc": "enabled report forced by a policy",
		"dddd": "enabled report forced by a policy", "eeee@x": "enabled report forced by a policy",
		"bad.json": "enabled park", "host/ines": "enabled park native messaging host",
		"v": "enabled report native messaging host",
	}},
	{"linux.kde.modules", map[string]string{
		"usr/lib/x86_64-linux-gnu/qt5/plugins/kf5/kded/tide.so":   "lib",
		"home/ines/.config/kded5rc":                               "[Module-tide]\nautoload=false\n",
		"home/ines/.local/share/kwin/scripts/tiles/metadata.json": `{"KPlugin":{"Name":"Tiles"}}`,
		"home/ines/.config/kwinrc":                                "[Plugins]\ntilesEnabled=true\n",
		"usr/share/kwin/scripts/bell/metadata.json":               `{"KPlugin":{"Name":"Bell"}}`,
	}, map[string]string{"tide": "enabled report not for ines", "Tiles/ines": "enabled report loaded into KDE's " +
		"window manager", "Bell": "disabled report loaded into KDE's window manager"}},
	{"linux.file-manager", map[string]string{"home/ines/.local/share/nemo-python/extensions/a.py": "x",
		"usr/share/nautilus-python/extensions/b.py": "x", "usr/share/nautilus-python/extensions/c.txt": "x"},
		map[string]string{"a.py/ines": "enabled park loaded into the file manager",
			"b.py": "enabled report loaded into the file manager"}},
}

func merged(a, b map[string]string) map[string]string {
	all := maps.Clone(a)
	maps.Copy(all, b)
	return all
}

// Each location reads what its own program would act on, and nothing else; and every switch that it has turns the
// entry off, so that it reads as off, and on again.
func TestRows(t *testing.T) {
	t.Parallel()
	for _, c := range rowCases {
		t.Run(c.location, func(t *testing.T) {
			m, items, unread := disk(t, merged(map[string]string{"usr/bin/sh": "#!"}, c.files))
			for _, u := range unread {
				require.Contains(t, []string{"/home/ines/.config/xfce4/xfconf/xfce-perchannel-xml/xfce4-session.xml"},
					u.Path, u.Reason)
			}
			got := states(items)
			maps.DeleteFunc(got, func(name, _ string) bool { return items[name].Location != c.location })
			require.Equal(t, c.want, got)
			for _, name := range slices.Sorted(maps.Keys(got)) {
				item := items[name]
				if item.Switch == autostart.Report || item.State == autostart.Disabled {
					continue
				}
				edits, err := item.Plan(m.Files, location.Want{State: autostart.Disabled, Now: time.Unix(1700000000,
					0)})
				require.NoError(t, err, name)
				require.NotEmpty(t, edits, name)
				images := map[artifact.Artifact]artifact.Image{}
				for _, e := range edits {
					images[e.Artifact] = e.Image
				}
				planned := m.Reader(nil).Planned(images)
				after, _, _ := location.RunOn(planned, m.Reader(nil), table(c.location))
				k := slices.IndexFunc(after, func(i *location.Item) bool { return i.Handle == item.Handle })
				if item.Can.Removes {
					require.Negative(t, k, "%s is taken away", name)
					continue
				}
				require.GreaterOrEqual(t, k, 0, "%s is still listed", name)
				require.Equal(t, autostart.Disabled, after[k].State, name)
				for _, other := range after {
					if was := items[strings.TrimSuffix(other.Name+"/"+other.User, "/")]; other.Handle != item.Handle &&
						was != nil && was.Handle == other.Handle {
						require.Equal(t, was.State, other.State, "%s changes with %s", other.Name, name)
					}
				}
				back, err := after[k].Plan(planned, location.Want{State: autostart.Enabled, Now: time.Unix(1700000000,
					0)})
				require.NoError(t, err, name)
				require.NotEmpty(t, back, "%s can be turned on again", name)
			}
		})
	}
}

// table is the row of one location.
func table(id string) []location.Location {
	rows := linux.Locations()
	k := slices.IndexFunc(rows, func(l location.Location) bool { return l.ID == id })
	return rows[k : k+1]
}
