package linux

import (
	"path"
	"regexp"
	"strings"
	"sync"

	"lockback/core/location"
	"lockback/core/location/unix"
)

// periodicFolders are run by /etc/crontab, anacron or timers, with run-parts(8).
var periodicFolders = []string{"/etc/cron.hourly", "/etc/cron.daily", "/etc/cron.weekly", "/etc/cron.monthly"}

// period is how often what is in such a folder runs.
func period(dir string) string { return unix.Every[strings.TrimPrefix(path.Ext(dir), ".")] }

// busyboxFolders are those of Alpine.
var busyboxFolders = []string{"/etc/periodic/15min", "/etc/periodic/hourly", "/etc/periodic/daily",
	"/etc/periodic/weekly", "/etc/periodic/monthly"}

func busyboxPeriod(dir string) string { return unix.Every[path.Base(dir)] }

// runPartsAccepts is the rule of run-parts(8) without options: letters, digits,
// underscores and hyphens. It leaves out what package managers and editors put
// beside a script.
func runPartsAccepts(name string) bool { return runPartsName().MatchString(name) }

// anyMachine is a rule for names that is the same on all machines.
func anyMachine(accepts func(string) bool) func(*location.Survey, string) bool {
	return func(_ *location.Survey, name string) bool { return accepts(name) }
}

// periodicAccepts is the rule for the hourly to monthly folders: of Debian that of its run-parts,
// elsewhere that of crontabs' run-parts, a script of Fedora and its family: all but hidden names and
// what editors and rpm leave behind.
func periodicAccepts(s *location.Survey, name string) bool {
	if has(s, "/etc/debian_version") {
		return runPartsAccepts(name)
	}
	return cronieAccepts(name) && !endsIn(name, ",", ",v", ".swp", ".cfsaved")
}

// The names that run-parts takes: without options runPartsName; with --lsbsysinit one of the
// other three, but not what dpkg leaves behind. The manual has capitals and
// underscores in the last; the program of debianutils does not take them.
var (
	runPartsName     = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-zA-Z0-9_-]+$`) })
	assignedName     = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-z0-9]+$`) })
	hierarchicalName = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(
			`^_?([a-z0-9_.]+-)+[a-z0-9]+$`)
	})
	traditionalName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-z0-9][a-z0-9-]*$`) })
	leftBehind      = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\.dpkg-(old|dist|new|tmp)$`) })
)

// lsbAccepts is the rule of run-parts(8) with --lsbsysinit, which pam_motd(8) gives it.
func lsbAccepts(name string) bool {
	return !leftBehind().MatchString(name) && (assignedName().MatchString(name) ||
		hierarchicalName().MatchString(name) ||
		traditionalName().MatchString(name))
}

// generators are the folders of systemd's generators, systemd.generator(7): what is in /run comes first,
// and is gone with the next start.
func generators(folders ...string) []location.Place {
	var places []location.Place
	for _, folder := range folders {
		places = append(places, location.Place{Path: folder, Folder: true, Chain: []string{"/run/systemd",
			"/etc/systemd", "/usr/local/lib/systemd", "/usr/lib/systemd"}})
	}
	return places
}

// ofHomes are files of one ending in a folder of every home.
func ofHomes(folder, suffix string) []location.Place {
	places := location.In(folder)
	places[0].Suffix = suffix
	return places
}

// hookTime is when systemd runs what is in one of its folders.
func hookTime(dir string) string {
	if path.Base(dir) == "system-shutdown" {
		return "when the machine is turned off"
	}
	return "before and after sleep"
}

// dispatcherFolders are where NetworkManager looks for scripts, NetworkManager-dispatcher(8).
var dispatcherFolders = []string{"/etc/NetworkManager/dispatcher.d", "/etc/NetworkManager/dispatcher.d/pre-up.d",
	"/etc/NetworkManager/dispatcher.d/pre-down.d",
	"/usr/lib/NetworkManager/dispatcher.d", "/usr/lib/NetworkManager/dispatcher.d/pre-up.d",
	"/usr/lib/NetworkManager/dispatcher.d/pre-down.d"}

// dispatcherAccepts leaves out what package managers and editors leave behind, as NetworkManager does.
func dispatcherAccepts(name string) bool {
	return !strings.HasPrefix(name, ".") && !leftBehind().MatchString(name) && !endsIn(name, ".swp") &&
		!endsIn(name, rpmLeaves...)
}

// networkTime is when NetworkManager runs what is in one of its folders.
func networkTime(dir string) string {
	switch path.Base(dir) {
	case "pre-up.d":
		return "before a network connection is used"
	case "pre-down.d":
		return "before a network connection ends"
	}
	return "when a network connection changes"
}

// xsessionAccepts is the rule for the scripts of Debian's Xsession, which run-parts lists, and elsewhere
// for those of xinit, which end in .sh.
func xsessionAccepts(s *location.Survey, name string) bool {
	return runPartsAccepts(name) || strings.HasSuffix(name, ".sh")
}

// shellScript is the rule of startplasma(1) for what it reads into the session.
func shellScript(name string) bool { return strings.HasSuffix(name, ".sh") }

// atSignOut is when Plasma runs what is to end a session.
func atSignOut(string) string { return "at sign-out" }

// The folders of what acts on networks beside NetworkManager: interfaces(5), networkd-dispatcher(8),
// pppd(8), dhclient-script(8).
var (
	ifupdownFolders = []string{"/etc/network/if-pre-up.d", "/etc/network/if-up.d", "/etc/network/if-down.d",
		"/etc/network/if-post-down.d"}
	networkdFolders = []string{"/etc/networkd-dispatcher/routable.d", "/etc/networkd-dispatcher/carrier.d",
		"/etc/networkd-dispatcher/dormant.d", "/etc/networkd-dispatcher/no-carrier.d", "/etc/networkd-dispatcher/off.d",
		"/etc/networkd-dispatcher/degraded.d",
		"/etc/networkd-dispatcher/configuring.d", "/etc/networkd-dispatcher/configured.d"}
	pppFolders = []string{"/etc/ppp/ip-up.d", "/etc/ppp/ip-down.d", "/etc/ppp/ip-pre-up.d", "/etc/ppp/ipv6-up.d",
		"/etc/ppp/ipv6-down.d"}
	dhclientFolders = []string{"/etc/dhcp/dhclient-enter-hooks.d", "/etc/dhcp/dhclient-exit-hooks.d"}
)

// interfaceTime is when ifupdown runs what is in one of its folders.
func interfaceTime(dir string) string {
	return map[string]string{"if-pre-up.d": "before a network interface is brought up",
		"if-up.d":        "when a network interface is brought up",
		"if-down.d":      "when a network interface is taken down",
		"if-post-down.d": "after a network interface was taken down"}[path.Base(dir)]
}

// pppTime is when pppd runs what is in one of its folders.
func pppTime(dir string) string {
	if strings.HasSuffix(dir, "down.d") {
		return "when a dial-up connection ends"
	}
	return "when a dial-up connection begins"
}

// onLease words when dhclient reads its hooks.
func onLease(_ *location.Survey, _ location.Found, item *location.Item) {
	item.When = "when the network gives an address"
}

// powerTime is when pm-utils runs what is in one of its folders.
func powerTime(dir string) string {
	if path.Base(dir) == "power.d" {
		return "when the power supply changes"
	}
	return "before and after sleep"
}
