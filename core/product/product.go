// Package product puts entries together by the installed product that their programs came with: what a technician
// takes off whole, with the way in which its own system takes it off.
//
//	products, without := product.Group(m, items)
//	for _, p := range products {
//		fmt.Println(p.Name, p.Version, len(p.Items), p.Uninstall)
//	}
package product

import (
	"cmp"
	"path"
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/machine"
)

// Product is something that was installed, with the entries whose programs came with it.
type Product struct {
	Name, Version string
	Maker         autostart.Maker
	// Installed is when, as [autostart.Product] has it, InstalledBy what installed it, in words: "dpkg". Both are
	// empty if that is not known.
	Installed, InstalledBy string
	// WithSystem says that it was installed on the day of the system itself: it came with the computer.
	WithSystem bool
	// Uninstall is the product's own way to be taken off: a command, or a sentence if there is no command. Empty
	// where none is known.
	Uninstall string
	Items     []*location.Item
	// Cost is what its programs cost together, each once; nil if nothing is known.
	Cost *autostart.Cost
	// Used is the last time that somebody started one of its programs by hand; the zero Use where none is known.
	Used autostart.Use
}

// installers are what installs products, by the words that the evidence of it ends in or holds, with the command
// that takes a product off again, apt(8), dnf(8), pacman(8), apk(8), flatpak(1) and snap(8). Of a machine with
// packages of rpm's, which program it has for that is looked for.
var installers = []struct{ ending, name, command string }{
	{"(dpkg)", "dpkg", "apt remove {}"},
	{"(rpm)", "rpm", ""},
	{"(pacman)", "pacman", "pacman -Rs {}"},
	{"(apk)", "apk", "apk del {}"},
	{"(Flatpak)", "Flatpak", "flatpak uninstall {}"},
	{"list of components", "the Windows Installer", ""},
	{"list of installed products", "an installer", ""},
}

// rpmCommands are the programs that take packages of rpm's off, the first that is there counts.
var rpmCommands = []struct{ program, command string }{{"/usr/bin/dnf", "dnf remove {}"},
	{"/usr/bin/dnf5", "dnf5 remove {}"}, {"/usr/bin/zypper", "zypper remove {}"}, {"/usr/bin/yum", "yum remove {}"},
	{"/bin/rpm", "rpm -e {}"}, {"/usr/bin/rpm", "rpm -e {}"}}

// Group puts items together, in the order of the products' names, and tells how many have no known product.
func Group(m *machine.Machine, items []*location.Item) (products []Product, without int) {
	at := map[[2]string]int{}
	for _, item := range items {
		known := item.Entry.Facts().Product
		if known.Name == "" {
			without++
			continue
		}
		id := [2]string{known.Name, known.Version}
		k, ok := at[id]
		if !ok {
			k = len(products)
			at[id] = k
			products = append(products, Product{Name: known.Name, Version: known.Version})
		}
		products[k].Items = append(products[k].Items, item)
	}
	born := m.Installed()
	for k := range products {
		products[k].describe(m, born)
	}
	slices.SortStableFunc(products, func(a, b Product) int {
		return cmp.Or(strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)), strings.Compare(a.Version,
			b.Version))
	})
	return products, without
}

// describe fills in what the product's items tell of it.
func (p *Product) describe(m *machine.Machine, born time.Time) {
	counted := map[string]bool{}
	for _, item := range p.Items {
		known := item.Entry.Facts()
		if known.Maker.Name != "" && (p.Maker.Name == "" || slices.Index(autostart.Bases,
			known.Maker.Basis) < slices.Index(autostart.Bases, p.Maker.Basis)) {
			p.Maker = known.Maker // of what is known about its programs, the surest
		}
		p.Installed = cmp.Or(p.Installed, known.Product.Installed)
		if len(item.Uses) > 0 && item.Uses[0].Last.After(p.Used.Last) {
			p.Used = item.Uses[0]
		}
		if item.Cost != nil && !counted[item.Target.Path] {
			counted[item.Target.Path] = true // several entries may start one program
			p.Cost = sum(p.Cost, item.Cost)
		}
		if p.InstalledBy == "" || p.Uninstall == "" {
			p.installer(m, item)
		}
	}
	p.WithSystem = !born.IsZero() && sameDay(p.Installed, born)
}

// installer finds out what installed the product of an item, and how it is taken off.
func (p *Product) installer(m *machine.Machine, item *location.Item) {
	if item.Facts == nil {
		return
	}
	for _, f := range item.Facts() {
		switch {
		case f.Kind == autostart.FactUninstalledBy && p.Uninstall == "":
			p.Uninstall = f.Value
		case f.Kind != autostart.FactProduct:
		case strings.HasPrefix(f.Basis, "snap "):
			p.InstalledBy, p.Uninstall = "snap", "snap remove "+quoted(strings.TrimPrefix(f.Basis, "snap "))
		case strings.HasPrefix(f.Basis, "/private/var/db/receipts/") && p.InstalledBy == "":
			p.InstalledBy = "an installer package"
		default:
			for _, by := range installers {
				if !strings.HasSuffix(f.Basis, by.ending) || p.InstalledBy != "" {
					continue
				}
				p.InstalledBy = by.name
				command := by.command
				if by.name == "rpm" {
					command = rpmCommand(m)
				}
				// "package NAME (dpkg)", "app ID (Flatpak)"
				if _, name, ok := strings.Cut(strings.TrimSuffix(f.Basis, " "+by.ending), " "); ok && command != "" {
					p.Uninstall = strings.Replace(command, "{}", quoted(name), 1)
				}
			}
		}
	}
	if app, _, ok := strings.Cut(item.Target.Path, ".app/"); ok && m.OS == "macos" && p.Uninstall == "" {
		p.Uninstall = "move " + path.Base(app) + ".app to the Trash, unless its maker has an uninstaller"
	}
}

func rpmCommand(m *machine.Machine) string {
	for _, c := range rpmCommands {
		if _, err := m.Stat(c.program); err == nil {
			return c.command
		}
	}
	return ""
}

// quoted is a name as a shell takes it for one word, whatever is in it: names come from the machine.
func quoted(name string) string {
	plain := func(c rune) bool {
		return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.ContainsRune("._+:@-", c)
	}
	ends := ""
	if strings.HasPrefix(name, "-") {
		ends = "-- " // it is no option
	} else if name != "" && strings.IndexFunc(name, func(c rune) bool { return !plain(c) }) < 0 {
		return name
	}
	return ends + "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
}

// sum adds what one more program costs. What comes from different sources is not added.
func sum(a, b *autostart.Cost) *autostart.Cost {
	if a == nil {
		c := *b
		c.Since = time.Time{}
		return &c
	}
	if a.Basis == b.Basis {
		a.CPUMS, a.MemoryKB, a.DiskKB = a.CPUMS+b.CPUMS, a.MemoryKB+b.MemoryKB, a.DiskKB+b.DiskKB
	}
	if a.StartBasis == b.StartBasis {
		a.StartMS += b.StartMS
	}
	return a
}

// sameDay reports whether a time as products have it is on a day.
func sameDay(installed string, day time.Time) bool {
	date, _, _ := strings.Cut(installed, "T")
	return date != "" && date == day.UTC().Format(time.DateOnly)
}
