package identify

import (
	"path"
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/location"
	"lockback/core/location/table"
	"lockback/core/machine"
	"lockback/core/program"
)

// subjectOf is what a catalogue is asked about an entry. By names, only what stands in the system's own places is
// found.
func subjectOf(m *machine.Reader, book *program.Book, item *location.Item) catalogue.Subject {
	s := catalogue.Subject{Location: item.Location, Command: item.Command, File: lastElement(item.Target.Path),
		Label: strings.TrimSpace(lastElement(item.Name))}
	if maker := item.Maker(); maker.Basis != autostart.BySignature && maker.Basis != autostart.ByPackage {
		s.Says = maker.Name
	}
	switch m.OS {
	case "windows":
		if s.Names = windowsNames(m, item); s.Names != nil {
			s.Runs = windowsRuns(m, item)
		}
		if item.Kind() == location.SafeModeName { // what starts there are services and drivers
			s.Location = table.OfKind(m.OS, location.Service).ID
			if strings.HasSuffix(strings.ToLower(s.File), ".sys") {
				s.Location = table.OfKind(m.OS, location.DriverService).ID
			}
		}
	case "macos":
		s.Names = macNames(item)
	default:
		s.Names = linuxNames(item)
	}
	file := book.File(item.Target.Path)
	s.Packages = slices.Concat(file.Packages(), book.File(item.Source.Path).Packages(),
		book.File(item.CopyOf).Packages())
	s.Bundle, s.Maker = file.Bundle(), file.Signer()
	return s
}

// consult adds what catalogues of the technician's own say about an entry, the first that knows it. They come before
// the one that is part of the program, but hide nothing, and protect more, never less: and that only where the program
// is proved to be what it says.
func consult(book *program.Book, item *location.Item, own []*catalogue.Catalogue, s catalogue.Subject) {
	for _, c := range own {
		row := c.Find(s)
		if row == nil {
			row = c.Knows(asProgram(book, item, s))
		}
		if row == nil {
			continue
		}
		known := *item.Entry.Facts()
		if row.Does != "" {
			known.Description, known.DescriptionBasis = row.Does, autostart.ByCatalogue
		}
		if row.Role != autostart.RoleUnknown {
			known.Role, known.RoleBasis = row.Role, autostart.ByCatalogue
		}
		if row.Verdict != autostart.Unrated {
			known.Verdict, known.VerdictBasis = row.Verdict, autostart.ByCatalogue
		}
		item.Known = &known
		basis := "catalogue " + c.Name + ", entry " + row.ID
		file := book.File(item.Target.Path)
		proven := file.Signer() != "" || file.Delivered()
		if proven {
			protect(item, catalogue.Protections[row.Protect], basis)
		}
		if proven && item.Guarded == "" && item.Caution == "" {
			item.Caution, item.CautionBasis = catalogue.Cautions[row.Caution], basis
		}
		if row.Note != "" {
			day, _ := time.Parse(time.DateOnly, row.Date) // it was checked
			item.Notes = append(item.Notes, autostart.Note{Text: row.Note, By: strings.TrimPrefix(row.By+", catalogue "+
				c.Name, ", "), Time: day, Proven: proven})
		}
		item.AddFacts(func() []location.Fact {
			return append([]location.Fact{{Kind: autostart.FactKnownFrom, Value: basis}}, factsOf(row, basis)...)
		})
		return
	}
}

// lastElement is the last element of a path of any system.
func lastElement(name string) string { return name[strings.LastIndexAny(name, `/\`)+1:] }

// linuxNames are the names of an entry that the distribution's own packages could have brought: a
// unit that calls itself systemd-something in /etc is not taken for one of the system's.
func linuxNames(item *location.Item) []string {
	e := &item.Entry
	if e.Scope != autostart.ForSystem || !item.Packaged {
		return nil
	}
	for t := range programsOf(item) {
		if !vendorProgram(t.Path, e.Source.Path) {
			return nil
		}
	}
	name := e.Name
	switch item.Kind() {
	case location.DesktopFile:
		name = strings.TrimSuffix(path.Base(e.Source.Path), ".desktop")
	case location.CronLine:
		name = path.Base(e.Target.Path)
	case location.SystemUnit, location.UserUnit:
		for _, suffix := range []string{".service", ".socket", ".timer", ".path"} {
			name = strings.TrimSuffix(name, suffix)
		}
	}
	return []string{name, e.Name}
}

// vendorProgram reports whether a program, as far as it is known, lies where only the distribution puts programs: a
// line that runs /opt/x/logrotate is not the system's logrotate.
func vendorProgram(p, source string) bool {
	return p == "" || p == source || inVendor(p) || !path.IsAbs(p)
}

// vendorFolders are where a distribution puts programs.
var vendorFolders = []string{"/usr/bin/", "/usr/sbin/", "/usr/lib/", "/usr/lib64/", "/usr/libexec/", "/usr/share/",
	"/bin/",
	"/sbin/", "/lib/", "/etc/init.d/", "/etc/rc.local", "/etc/rc.d/rc.local"}

func inVendor(p string) bool {
	return slices.ContainsFunc(vendorFolders, func(dir string) bool { return strings.HasPrefix(p, dir) })
}
