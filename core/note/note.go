// Package note is what technicians know of programs: a verdict, a role, a remark, with who wrote it and when. A
// note is of a program, wherever it is found again, or of one entry of one machine.
//
//	program, ok := note.ProgramOf("linux", entry)
//	scanner := note.Note{Program: program, Verdict: "spare", Text: "comes with the scanner", By: "Bram"}
//	book := note.NewBook([]note.Note{scanner})
//	book.Apply("linux", machineID, entries)
package note

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/location/table"
)

// MaxText is how long a note may be, in characters.
const MaxText = 500

// Program is how a program is recognised on whatever machine it is found, as the catalogue recognises one. A place
// is never part of it: two machines keep the same program in different folders.
type Program struct {
	// System is the operating system: a program of the same name on another one is another program.
	System string
	// Maker is who signed it, traced to a known root, Package the package that delivered it as it is. Either of
	// them proves what it is.
	Maker   string
	Package string
	// Says is the maker that the program itself names, or what installed it: no proof.
	Says string
	// File is the name of the program's file, in small letters.
	File string
	// Label is the name of the entry, in small letters, where nothing better tells its program.
	Label string
}

// hosts run whatever their arguments name: their maker and package say nothing of that. In small letters, without
// ".exe".
var hosts = map[string]bool{
	"sh": true, "bash": true, "dash": true, "zsh": true, "ksh": true, "fish": true, "env": true, "python": true,
	"python2": true, "python3": true, "perl": true, "ruby": true, "node": true, "php": true,
	"lua": true, "java": true, "javaw": true, "mono": true, "dotnet": true, "wine": true, "curl": true, "wget": true,
	"systemd-run": true, "busybox": true, "flatpak": true, "snap": true, "podman": true, "docker": true,
	"dockerd": true, "lxc-autostart": true,
	"cmd": true, "powershell": true, "pwsh": true, "rundll32": true, "regsvr32": true, "wscript": true, "cscript": true,
	"mshta": true, "msiexec": true, "svchost": true, "dllhost": true, "conhost": true, "explorer": true,
	"pythonw": true, "taskhostw": true, "forfiles": true, "osascript": true, "open": true, "tclsh": true, "gjs": true,
	"getty": true, "agetty": true, "xdg-open": true, "gtk-launch": true,
	// Tools of the systems that entries use for a purpose of their own.
	"true": true, "false": true, "test": true, "echo": true, "cat": true, "cp": true, "mv": true, "rm": true,
	"ln": true, "mkdir": true, "touch": true, "chmod": true, "chown": true, "sleep": true, "find": true,
	"sed": true, "awk": true, "logger": true, "kill": true, "killall": true, "pkill": true, "mount": true,
	"modprobe": true, "ip": true, "systemctl": true, "dbus-send": true, "gsettings": true, "dconf": true,
	"xset": true, "xrandr": true, "xrdb": true, "xmodmap": true, "setxkbmap": true, "launchctl": true, "defaults": true,
	"reg": true, "sc": true, "net": true, "net1": true, "schtasks": true, "xcopy": true, "robocopy": true,
}

// ProgramOf is how the program of an entry is recognised elsewhere; ok is false if nothing tells more than its
// place.
func ProgramOf(system string, e *autostart.Entry) (p Program, ok bool) {
	p.System, p.File = system, fileOf(e)
	label := strings.ToLower(strings.TrimSpace(lastElement(e.Name)))
	if strings.ContainsAny(p.File+label, "\x1f") {
		return p, false // no program is called so, and the texts of the record hold together by it
	}
	if hosts[strings.TrimSuffix(strings.TrimRight(p.File, "0123456789."), ".exe")] ||
		hosts[strings.TrimSuffix(p.File, ".exe")] {
		p.Label = label // the name of the entry, with what it is run by
		return p, label != "" && label != p.File
	}
	known := e.Facts()
	if p.File != "" {
		switch known.Maker.Basis {
		case autostart.BySignature:
			p.Maker = plain(known.Maker.Name)
			return p, true
		case autostart.ByPackage:
			if known.Product.Name != "" {
				p.Package = plain(known.Product.Name)
				return p, true
			}
		}
		if known.Maker.Name != "" {
			p.Says = plain(known.Maker.Name)
			return p, true
		}
	}
	if table.Row(e.Location).FixedNames {
		return p, false
	}
	p.Label = label
	if p.File == "" && !catalogue.Identifier(label) {
		// An identifier is enough by itself: "org.kelpline.shopper". A plain word is not.
		p.Label = strings.ToLower(lastElement(e.SystemName))
		return p, catalogue.Identifier(p.Label)
	}
	return p, label != ""
}

// fileOf is the name of the file that an entry starts, in small letters.
func fileOf(e *autostart.Entry) string { return strings.ToLower(lastElement(e.Target.Path)) }

func lastElement(name string) string { return name[strings.LastIndexAny(name, `/\`)+1:] }

// plain is a name as a text of the record can hold it.
func plain(name string) string { return strings.ReplaceAll(autostart.Text(name), "\x1f", " ") }

// Proven reports whether the program is recognised by what proves it. What is recognised by names alone can be
// imitated by anybody.
func (p Program) Proven() bool { return p.Maker != "" || p.Package != "" }

// alike is the same for all ways of writing a maker's name.
func (p Program) alike() Program {
	p.Maker, p.Says = strings.ToLower(p.Maker), strings.ToLower(p.Says)
	return p
}

// Key is the program as one text, the same wherever it is recognised.
func (p Program) Key() string {
	return p.alike().Text()
}

// Mark is the program as a catalogue recognises it.
func (p Program) Mark() catalogue.Mark {
	return catalogue.Mark{Maker: p.Maker, Package: p.Package, Says: p.Says, File: p.File, Label: p.Label}
}

// Text is the program as one text that [ParseProgram] reads.
func (p Program) Text() string {
	return strings.Join([]string{p.System, p.Maker, p.Package, p.Says, p.File, p.Label}, "\x1f")
}

// ParseProgram reads what [Program.Text] made.
func ParseProgram(text string) (Program, error) {
	f := strings.Split(text, "\x1f")
	if len(f) != 6 {
		return Program{}, fmt.Errorf("a program cannot be read: %q", text)
	}
	return Program{f[0], f[1], f[2], f[3], f[4], f[5]}, nil
}

// String says by what the program is recognised: "its package fogbell and its file sync".
func (p Program) String() string {
	var words []string
	for _, w := range []struct{ what, value string }{{"its signer", p.Maker}, {"its package", p.Package},
		{"the maker that it names,", p.Says}, {"its file", p.File}, {"its name", p.Label}} {
		if w.value != "" {
			words = append(words, w.what+" "+w.value)
		}
	}
	text := strings.Join(words, " and ")
	if !p.Proven() {
		text += ", which anybody can give"
	}
	return text
}

// Note is what somebody wrote down about a program, or of one entry.
type Note struct {
	// Program is what it is about; of a note on one entry, Machine and Handle are instead.
	Program         Program
	Machine, Handle string
	// Name is what the entry was called where it was noted.
	Name string
	// Verdict and Role are empty if nothing is said about them, like Text.
	Verdict, Role, Text string
	By                  string
	Time                time.Time
	// Private says that the note, or what it is recognised by, has a user's name in it: it stays in the record.
	Private bool
}

// Check fails where a note cannot be kept: an unknown word, a text that is too long or has control characters.
func (n Note) Check() error {
	oneOf := func(what, word string, words []string) error {
		if word == "" || slices.Contains(words, word) {
			return nil
		}
		return fmt.Errorf("unknown %s %q%s (it is one of %s)", what, word, autostart.Suggest(word, words),
			strings.Join(words, ", "))
	}
	if err := oneOf("verdict", n.Verdict, autostart.Verdicts); err != nil {
		return err
	}
	if err := oneOf("role", n.Role, autostart.Roles); err != nil {
		return err
	}
	for what, text := range map[string]string{"note": n.Text, "name of who wrote it": n.By} {
		switch {
		case !utf8.ValidString(text):
			return fmt.Errorf("the %s is not text", what)
		case utf8.RuneCountInString(text) > MaxText:
			return fmt.Errorf("the %s has more than %d characters", what, MaxText)
		case strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f }):
			return fmt.Errorf("the %s has a line break or a control character in it; write it in one line", what)
		}
	}
	return nil
}

// Empty reports whether a note says nothing.
func (n Note) Empty() bool { return n.Verdict == "" && n.Role == "" && n.Text == "" }

// Over lays a newer note over an older one of the same program: what the newer does not say stays.
func (n Note) Over(old Note) Note {
	n.Verdict, n.Role, n.Text = cmp.Or(n.Verdict, old.Verdict), cmp.Or(n.Role, old.Role), cmp.Or(n.Text, old.Text)
	n.Private = n.Private || old.Private && n.Text == old.Text
	return n
}

// Book finds the notes on entries.
type Book struct {
	programs map[Program]Note   // by what [Program.alike] makes of them
	files    map[string]bool    // of all programs: most entries start none of them, which is seen at once
	entries  map[[2]string]Note // by machine and handle
}

// NewBook makes a book of notes.
func NewBook(notes []Note) *Book {
	b := &Book{map[Program]Note{}, map[string]bool{}, map[[2]string]Note{}}
	for _, n := range notes {
		if n.Machine != "" {
			b.entries[[2]string{n.Machine, n.Handle}] = n
		} else {
			b.programs[n.Program.alike()] = n
			b.files[n.Program.File] = true
		}
	}
	return b
}

// Of finds the note on a program.
func (b *Book) Of(p Program) (Note, bool) {
	n, ok := b.programs[p.alike()]
	return n, ok
}

// On finds the note on one entry of a machine.
func (b *Book) On(machine, handle string) (Note, bool) {
	n, ok := b.entries[[2]string{machine, handle}]
	return n, ok
}

// Apply gives the entries of a machine the notes on them. What a note says about verdict and role comes before the
// catalogue's word; it hides nothing, and takes no protection away.
func (b *Book) Apply(system, machine string, entries []*autostart.Entry) {
	if b == nil || len(b.programs)+len(b.entries) == 0 {
		return
	}
	type with struct {
		known   *autostart.Known
		program Program
	}
	made := map[with]*autostart.Known{} // entries of one program keep sharing what is known about it
	for _, e := range entries {
		if b.files[fileOf(e)] || b.files[""] {
			if p, ok := ProgramOf(system, e); ok {
				if n, ok := b.Of(p); ok {
					e.Notes = append(e.Notes, remark(n, false, p.Proven()))
					w := with{e.Known, p}
					if made[w] == nil {
						made[w] = judged(e.Facts(), n)
					}
					e.Known = made[w]
				}
			}
		}
		if n, ok := b.On(machine, e.Handle); ok {
			e.Notes = slices.Insert(e.Notes, 0, remark(n, true, true)) // the nearest comes first
			e.Known = judged(e.Facts(), n)
		}
	}
}

func remark(n Note, machine, proven bool) autostart.Note {
	return autostart.Note{Text: n.Text, Verdict: n.Verdict, Role: n.Role, By: n.By, Time: n.Time, Machine: machine,
		Proven: proven}
}

// judged is what is known about a program with what a note says about it.
func judged(known *autostart.Known, n Note) *autostart.Known {
	k := *known
	if n.Role != "" {
		k.Role, k.RoleBasis = n.Role, autostart.ByNote
	}
	if n.Verdict != "" {
		k.Verdict, k.VerdictBasis = n.Verdict, autostart.ByNote
	}
	return &k
}
