package demo

// galleryMac is a Mac as a technician meets it: Mirela's, in the gallery.
func galleryMac() []piece {
	const (
		daemons  = "/Library/LaunchDaemons/"
		agents   = "/Library/LaunchAgents/"
		launchd  = "/private/var/db/com.apple.xpc.launchd/"
		core     = "/System/Library/CoreServices/"
		support  = "/Library/Application Support/"
		kelpline = support + "Kelpline/"
		apps     = "/Applications/"
		everyone = "FFFFEEEE-DDDD-CCCC-BBBB-AAAAFFFFFFFE"
	)
	load := dict{"RunAtLoad": true}
	kept := dict{"KeepAlive": true}
	hourly := dict{"RunAtLoad": true, "StartInterval": uint64(3600)}
	pieces := []piece{
		link("/etc", "private/etc"), link("/var", "private/var"), link("/tmp", "private/tmp"),
		file("/private/tmp/.keep", ""),
		xmlList(core+"SystemVersion.plist", dict{"ProductName": "macOS", "ProductVersion": "14.4.1",
			"ProductBuildVersion": "23E224"}),
		xmlList("/Library/Preferences/SystemConfiguration/preferences.plist",
			dict{"System": dict{"System": dict{"ComputerName": "Gallery Mac"},
				"Network": dict{"HostNames": dict{"LocalHostName": "gallery-mac"}}}}),
		binaryList(
			"/Users/mirela/Library/Preferences/ByHost/com.apple.windowserver.1887C0DE-0314-4092-A653-5A17ABCDEF04"+
				".plist", dict{"DisplayResolutionEnabled": true}).of(mirela),
		account("root", "System Administrator", 0, "/var/root", "FFFFEEEE-DDDD-CCCC-BBBB-AAAA00000000"),
		account("mirela", "Mirela", mirela, "/Users/mirela", mirelasID),
		xmlList("/Library/Security/Trust Settings/Admin.plist", dict{"trustVersion": uint64(1),
			"trustList": dict{thumbprint(museumRoot()): dict{
				"trustSettings": list(dict{"kSecTrustSettingsResult": uint64(1)})}}}),

		launchJob("/System"+daemons+"com.apple.configd.plist", "com.apple.configd", words("/usr/libexec/configd"),
			kept),
		launchJob("/System"+agents+"com.apple.Dock.plist", "com.apple.Dock.agent",
			words(core+"Dock.app/Contents/MacOS/Dock"), dict{"KeepAlive": dict{"SuccessfulExit": false}}),
		mach("/usr/libexec/configd"), mach(core + "Dock.app/Contents/MacOS/Dock"), mach("/usr/bin/open"),
		mach("/bin/sh"),

		launchJob(daemons+"org.kelpline.updater.plist", "org.kelpline.updater", words(kelpline+"updater", "--quiet"),
			hourly),
		launchJob(daemons+"org.brinecast.helper.plist", "org.brinecast.helper",
			words("/Library/PrivilegedHelperTools/org.brinecast.helper"), kept),
		launchJob(daemons+"org.saltmarsh.licence.plist", "org.saltmarsh.licence", words(support+"Saltmarsh/licenced"),
			kept),
		launchJob(daemons+"org.tidewatch.gauge.plist", "org.tidewatch.gauge", words("/usr/local/bin/tidewatch",
			"--gauge"),
			dict{"WatchPaths": words("/Users/Shared/gauge")}),
		launchJob(daemons+"org.skerrywell.update.plist", "org.skerrywell.update", words(support+"Skerrywell/update"),
			hourly),
		launchJob(daemons+"org.gannetry.meeting.plist", "org.gannetry.meeting",
			words(apps+"Gannetry Chat.app/Contents/MacOS/meeting"), load),
		launchJob(agents+"org.fogbell.sync.plist", "org.fogbell.sync",
			words(apps+"Fogbell Sync.app/Contents/MacOS/Fogbell "+
				"Sync", "--agent"), dict{"RunAtLoad": true, "KeepAlive": dict{"SuccessfulExit": false}}),
		launchJob(agents+"org.lampwick.labels.plist", "org.lampwick.labels",
			words(apps+"Lampwick Labels.app/Contents/MacOS/Lampwick Labels"), load),
		launchJob(agents+"org.kelpline.agent.plist", "org.kelpline.agent", words(kelpline+"agent"), load),
		launchJob(agents+"org.marramgate.pdf.plist", "org.marramgate.pdf",
			words(apps+"Marramgate PDF.app/Contents/MacOS/quick"), load),
		launchJob("/Users/mirela"+agents+"com.apple.speedkeeper.plist", "com.apple.speedkeeper",
			words("/Users/mirela/Library/.speed/keeper", "-q"), dict{"RunAtLoad": true, "KeepAlive": true}).of(mirela),
		launchJob("/Users/mirela"+agents+"org.skerrywell.user.plist", "org.skerrywell.user",
			words(apps+"Skerrywell.app/Contents/MacOS/update", "--user"), hourly).of(mirela),
		launchJob("/Users/mirela"+agents+"org.limpetware.launcher.plist", "org.limpetware.launcher",
			words(apps+"Limpetware.app/Contents/MacOS/Limpetware", "--silent"), load).of(mirela),
		launchJob("/Users/mirela"+agents+"org.gullrock.tides.plist", "org.gullrock.tides",
			words("/usr/bin/open", "-g", "-a", "Tide Table"), dict{"StartInterval": uint64(900)}).of(mirela),
		mach("/Users/mirela/Library/.speed/keeper").of(mirela),
		binaryList(launchd+"disabled.plist", dict{"org.gannetry.meeting": true, "com.apple.ftpd": true}),
		binaryList("/private/var/db/com.apple.backgroundtaskmanagement/BackgroundItems-v13.btm",
			backgroundItems([]string{everyone, mirelasID}, map[string][]item{
				everyone: {{kind: 0x10010, disposition: 0xb, identifier: "16.org.kelpline.updater", name: "updater",
					developer: "Kelpline Software", team: "KELP1NE000", path: daemons + "org.kelpline.updater.plist"}},
				mirelasID: {
					{kind: 0x2, disposition: 0xb, identifier: "2.org.gannetry.chat", name: "Gannetry Chat",
						developer: "Gannetry", path: apps + "Gannetry Chat.app"},
					{kind: 0x2, disposition: 0xb, identifier: "2.org.tidewatch.table", name: "Tide Table",
						developer: "Tidewatch Instruments", path: apps + "Tide Table.app"},
					{kind: 0x2, disposition: 0xb, identifier: "2.org.brinecast.app", name: "Brinecast",
						developer: "Brinecast", path: apps + "Brinecast.app"},
				}})),
		file("/private/var/at/tabs/mirela", "# the gallery\n0 7 * * 1 /Users/mirela/bin/index --quiet\n").as(0o600),
		file("/Users/mirela/bin/index", "#!/bin/sh\n").as(0o755).of(mirela),
	}
	for _, program := range []string{kelpline + "updater", kelpline + "agent", support + "Saltmarsh/licenced",
		"/usr/local/bin/tidewatch", support + "Skerrywell/update", apps + "Gannetry Chat.app/Contents/MacOS/meeting",
		apps + "Marramgate PDF.app/Contents/MacOS/quick", apps + "Skerrywell.app/Contents/MacOS/update"} {
		pieces = append(pieces, mach(program))
	}
	for _, app := range [][3]string{{"Fogbell Sync", "org.fogbell.sync", "3.2"},
		{"Lampwick Labels", "org.lampwick.labels", "4.0"}, {"Gannetry Chat", "org.gannetry.chat", "5.1"},
		{"Tide Table", "org.tidewatch.table", "1.18"}, {"Limpetware", "org.limpetware.launcher", "2.90"}} {
		pieces = append(pieces, bundleOf(apps+app[0]+".app", app[1], app[2])...)
	}
	return pieces
}
