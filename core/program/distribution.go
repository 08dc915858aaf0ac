package program

import (
	"bytes"
	"net/url"
	"path"
	"slices"
	"strings"

	"lockback/core/format/dpkg"
	"lockback/core/machine"
)

// distribution is the maker of a Linux system, as far as its packages tell: no database says which packages came from
// the distribution itself, so they are compared with those that certainly did.
type distribution struct {
	name      string          // what it calls itself, os-release(5)
	domains   map[string]bool // in whose names its people make packages
	addresses map[string]bool // of people who make its packages in another name
}

func distributionOf(m *machine.Reader) *distribution {
	release := m.OSRelease()
	d := &distribution{name: release["NAME"], domains: map[string]bool{}, addresses: map[string]bool{}}
	for _, key := range []string{"HOME_URL", "SUPPORT_URL", "BUG_REPORT_URL"} {
		if u, err := url.Parse(release[key]); err == nil {
			d.addDomain(u.Hostname())
		}
	}
	return d
}

// publicHosts are domains in which anybody has an address or a page.
var publicHosts = []string{"gmail.com", "googlemail.com", "outlook.com", "hotmail.com", "live.com", "yahoo.com",
	"gmx.de",
	"gmx.net", "gmx.com", "gmx.fr", "web.de", "mail.ru", "yandex.ru", "qq.com", "163.com", "protonmail.com",
	"proton.me",
	"posteo.de", "mailbox.org", "riseup.net", "disroot.org", "icloud.com", "free.fr", "sourceforge.net", "github.com",
	"github.io", "gitlab.com", "codeberg.org", "launchpad.net"}

// addDomain adds the domain that a host belongs to.
func (d *distribution) addDomain(host string) {
	if domain := organisation(host); domain != "" && !slices.Contains(publicHosts, domain) {
		d.domains[domain] = true
	}
}

// organisation is the part of a host's name that its owner registered: the last two labels, or three where the one
// before the last is a country's own, co.uk for example.
func organisation(host string) string {
	labels := strings.Split(strings.Trim(strings.ToLower(host), "."), ".")
	n := 2
	if len(labels) > 2 && len(labels[len(labels)-1]) == 2 && len(labels[len(labels)-2]) <= 3 {
		n = 3
	}
	if len(labels) < n {
		return ""
	}
	return strings.Join(labels[len(labels)-n:], ".")
}

// address is the address of a maker, "Ines Vermeer <ines@gullrock.example>", in small letters.
func address(maker string) string {
	_, rest, ok := strings.Cut(maker, "<")
	if !ok {
		return ""
	}
	a, _, _ := strings.Cut(rest, ">")
	return strings.ToLower(strings.TrimSpace(a))
}

// domain is the domain of an address, as [organisation] has it.
func domain(address string) string {
	return organisation(address[strings.LastIndexByte(address, '@')+1:])
}

// has reports whether a maker is one of the distribution's.
func (d *distribution) has(maker string) bool {
	a := address(maker)
	return a != "" && (d.addresses[a] || d.domains[domain(a)])
}

// certain takes the makers of packages that no system of the distribution is without. A domain counts where two of them
// have it; so does the same name below another of the usual endings, debian.net beside debian.org.
func (d *distribution) certain(makers []string) {
	count := map[string]int{}
	for _, maker := range makers {
		if a := address(maker); a != "" {
			d.addresses[a] = true
			count[domain(a)]++
		}
	}
	for name, n := range count {
		if n < 2 {
			continue
		}
		d.addDomain(name)
		if label, ending, ok := strings.Cut(name, "."); ok && slices.Contains(usualEndings, ending) && d.domains[name] {
			for _, other := range usualEndings {
				d.domains[label+"."+other] = true
			}
		}
	}
}

var usualEndings = []string{"org", "net", "com"}

// debianCore are packages that every system of Debian's family has.
var debianCore = []string{"base-files", "base-passwd", "bash", "coreutils", "dash", "debianutils", "dpkg",
	"gcc-12-base", "grep",
	"gzip", "hostname", "init-system-helpers", "libc6", "libc-bin", "login", "mount", "ncurses-base", "perl-base",
	"sed", "tar",
	"util-linux", "apt"}

// debianKept are packages of Debian's usual systems that people keep in a name of their own.
var debianKept = []string{"anacron", "chrony", "e2fsprogs", "initscripts", "kmod", "logrotate", "mdadm", "sysv-rc",
	"sysvinit-core", "sysvinit-utils"}

// findOfficial marks the packages that come from the distribution itself: by their makers, and because one that does
// needs them.
func (db *debian) findOfficial() {
	d := distributionOf(db.machine)
	var makers []string
	for _, name := range debianCore {
		if p := db.packages[name]; p != nil {
			makers = append(makers, p.Get("Maintainer"))
			p.official = true
		}
	}
	d.certain(makers)
	for _, name := range debianKept {
		if p := db.packages[name]; p != nil && p.Get("Origin") == "" {
			p.official = true
		}
	}
	virtual := map[string]bool{}
	for _, p := range db.packages {
		for name := range dpkg.Names(p.Get("Provides")) {
			virtual[name] = true
		}
	}
	// What an official package needs is official, and so is what else its makers made: until nothing is added.
	for grown := true; grown; {
		grown = false
		for name, p := range db.packages {
			if !p.official && p.Get("Origin") == "" && d.has(p.Get("Maintainer")) {
				p.official, grown = true, true
			}
			if !p.official || p.followed {
				continue
			}
			p.followed = true
			for _, needed := range db.needs.needs[name] {
				if q := db.packages[needed]; q != nil && !q.official && !virtual[needed] && q.Get("Origin") == "" {
					q.official, grown = true, true
					if a := address(q.Get("Maintainer")); a != "" {
						d.addresses[a] = true
					}
				}
			}
		}
	}
	db.distribution = d.name
}

// aptLists is where apt keeps the lists of what the repositories have, sources.list(5).
const aptLists = "/var/lib/apt/lists"

// maxAptList is the largest list that is read, in bytes: those of Debian's main part have 50 MB.
const maxAptList = 128 << 20

// askRepositories looks for packages of unknown makers in the lists of the repositories: one that has base-files is the
// distribution's own. What these do not have is somebody else's. Without lists, nothing is known.
func (db *debian) askRepositories() {
	var unknown []*debianPackage
	for _, p := range db.packages {
		if p.wanted && !p.official {
			p.foreign = p.Get("Origin") != "" && !strings.EqualFold(p.Get("Origin"), db.distribution)
			unknown = append(unknown, p)
		}
	}
	if len(unknown) == 0 {
		return
	}
	entries, _ := db.machine.ReadDir(aptLists)
	asked := false
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), "_Packages") {
			continue
		}
		list, err := db.machine.ReadFile(path.Join(aptLists, e.Name()), maxAptList)
		has := func(name string) bool {
			return bytes.Contains(list, []byte("\nPackage: "+name+"\n")) ||
				bytes.HasPrefix(list, []byte("Package: "+name+"\n"))
		}
		if err != nil || !has("base-files") {
			continue
		}
		asked = true
		for _, p := range unknown {
			p.official = p.official || has(p.Name)
		}
	}
	for _, p := range unknown {
		p.foreign = !p.official && (p.foreign || asked)
	}
}
