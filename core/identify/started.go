package identify

import (
	"iter"
	"path"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/shellcommand"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/program"
)

// start is one program that a command starts.
type start struct {
	word string // as the command names it
	via  bool   // it only starts programs that follow
}

// started are the programs that a command starts, in the order in which it names them.
type started struct {
	programs []start
	// unsure says that the command starts more than lockback can tell without running it.
	unsure bool
	// open resolves the arguments of open(1) to the command of what they open; nil where there is no such program.
	open func(args []string) (argv []string, ok bool)
}

// maxNested is how deep a command may start commands that start others.
const maxNested = 8

// launcher is a program that starts the program that its arguments name.
type launcher struct {
	// values are its options that take their value as the next word.
	values string
	// skip is how many words stand between its options and the command: chroot(8) has a folder there.
	skip int
	// sets says that NAME=VALUE may stand before the command.
	sets bool
	// line are its options whose value is a line for a shell, program those whose value is the program.
	line, program string
	// builtin says that a shell does it itself: there is no file of the name.
	builtin bool
}

// launchers are the programs that start others, with their options by their manuals: env(1), nice(1), ionice(1),
// sudo(8), doas(1), su(1), runuser(1), pkexec(1), setpriv(1), systemd-run(1), start-stop-daemon(8), timeout(1),
// flock(1), chroot(8), unshare(1), nsenter(1), taskset(1), chrt(1), xargs(1), xterm(1) and the like.
var launchers = map[string]launcher{
	"env": {values: "-u --unset -C --chdir", sets: true}, "nice": {values: "-n --adjustment"},
	"ionice": {values: "-c --class -n --classdata -p"}, "nohup": {}, "setsid": {},
	"exec": {values: "-a", builtin: true}, "command": {builtin: true}, "builtin": {builtin: true}, "time": {},
	"chronic": {}, "timeout": {values: "-s --signal -k --kill-after", skip: 1}, "dbus-launch": {}, "dbus-run-session": {
		values: "--config-file --dbus-daemon"}, "systemd-cat": {values: "-t --identifier -p --priority"},
	"sudo": {values: "-u --user -g --group -h --host -p --prompt -r -t -C -D --chdir -R --chroot -T -U", sets: true},
	"doas": {values: "-u -C"}, "pkexec": {values: "--user"},
	"su":      {values: "-g --group -G -s --shell", skip: 1, line: "-c --command"},
	"runuser": {values: "-u --user -g --group -G -s --shell", line: "-c --command"},
	"setpriv": {values: "--reuid --regid --groups --inh-caps --ambient-caps --bounding-set --securebits --pdeathsig " +
		"--selinux-label --apparmor-profile"},
	"setuidgid": {skip: 1}, "chpst": {values: "-u -U -b -e -/ -n -l -L -m -d -o -p -f -c -C"}, "chroot": {skip: 1},
	"systemd-run": {values: "-p --property -u --unit -t --slice --description --uid --gid --nice -E --setenv " +
		"--on-active --on-boot --on-startup --on-unit-active --on-calendar --timer-property --working-directory -M -H"},
	"systemd-inhibit": {values: "--what --who --why --mode"},
	"start-stop-daemon": {
		values: "-n --name -p --pidfile -u --user -c --chuid -r --chroot -d --chdir -N --nicelevel -g " +
			"--group -k --umask -R --retry -s --signal -I --iosched -P --procsched -O --output --ppid -1 --stdout " +
			"-2 --stderr",
		program: "-x --exec -a --startas"},
	"flock":   {values: "-w --timeout --wait -E --conflict-exit-code", skip: 1, line: "-c --command"},
	"unshare": {values: "-S --setuid -G --setgid -R --root -w --wd --map-user --map-group"},
	"nsenter": {values: "-t --target -S --setuid -G --setgid"}, "taskset": {skip: 1}, "chrt": {skip: 1},
	"stdbuf": {values: "-i -o -e"}, "xargs": {values: "-a -d -E -I -L -n -P -s"}, "numactl": {},
	"cgexec":    {values: "-g"},
	"prime-run": {}, "gamemoderun": {}, "optirun": {}, "uwsm": {skip: 1}, "firejail": {}, "catchsegv": {},
	"xvfb-run": {values: "-e -f -n -p -s -w"}, "linux32": {}, "linux64": {}, "setarch": {skip: 1},
	"xterm":               {values: "-T -title -geometry -fn -fg -bg -n -name -class", program: "-e"},
	"x-terminal-emulator": {program: "-e"}, "konsole": {program: "-e"}, "xfce4-terminal": {program: "-x",
		line: "-e --command"},
	"caffeinate": {values: "-t -w"}, "arch": {values: "-d -e"}, "sandbox-exec": {values: "-f -n -p -D"},
}

// shells run a command line given with -c, or a script file. Those that are true read a language which [shellcommand]
// reads.
var shells = map[string]bool{"sh": true, "bash": true, "dash": true, "zsh": true, "ksh": true, "mksh": true,
	"ash":  true,
	"fish": false, "csh": false, "tcsh": false}

func isShell(base string) bool { _, ok := shells[base]; return ok }

// interpreters run the script file that their first argument names, after options; those that take a value are listed.
var interpreters = map[string]string{"python": "-W -X", "python3": "-W -X", "perl": "", "ruby": "-r", "node": "-r",
	"php": "-d",
	"lua": "-l", "gjs": "", "osascript": "-l -s", "java": "-cp -classpath --class-path -jar", "wine": "", "tclsh": "",
	"expect": ""}

func isInterpreter(base string) bool {
	_, ok := interpreters[base]
	return ok || strings.HasPrefix(base, "python3.")
}

// startedBy returns the programs that a command starts.
func startedBy(argv []string, open func([]string) ([]string, bool)) started {
	s := started{open: open}
	s.add(argv, 0)
	return s
}

// program adds a program. A name that a shell would have to expand cannot be told.
func (s *started) program(word string, via bool) {
	if word == "" || strings.Contains(word, "$") {
		s.unsure = true
		return
	}
	s.programs = append(s.programs, start{word, via})
}

// add adds what the words of a command start.
func (s *started) add(argv []string, depth int) {
	if len(argv) == 0 {
		return
	}
	if depth > maxNested {
		s.unsure = true
		return
	}
	base := path.Base(argv[0])
	launcher, launches := launchers[base]
	switch {
	case launches:
		s.launched(launcher, argv, depth)
	case base == "open" && s.open != nil:
		s.program(argv[0], true)
		if opened, ok := s.open(argv[1:]); ok {
			s.add(opened, depth+1)
		} else {
			s.unsure = true
		}
	case base == "busybox" && len(argv) > 1 && isShell(argv[1]):
		s.program(argv[0], true)
		s.shell(argv[1:], depth)
	case isShell(base):
		s.program(argv[0], true)
		s.shell(argv, depth)
	case isInterpreter(base):
		s.interpreted(base, argv)
	default:
		s.program(argv[0], false)
	}
}

// launched adds a launcher, and what its arguments name.
func (s *started) launched(l launcher, argv []string, depth int) {
	if depth > maxNested {
		s.unsure = true
		return
	}
	if !l.builtin {
		s.program(argv[0], true)
	}
	if path.Base(argv[0]) == "runuser" && !slices.Contains(argv, "-u") && !slices.Contains(argv, "--user") {
		l.skip = 1 // as su, the user's name first
	}
	has := func(options, option string) bool {
		return option != "" && slices.Contains(strings.Fields(options), option)
	}
	rest, found := argv[1:], false
	for len(rest) > 0 {
		option, value, glued := strings.Cut(rest[0], "=")
		switch {
		case rest[0] == "--":
			rest = rest[1:]
			if l.skip > 0 && len(rest) > 0 { // su - user -- command
				break
			}
			s.add(rest, depth+1)
			return
		case has(l.line, option) || has(l.program, option):
			if !glued {
				if rest = rest[1:]; len(rest) == 0 {
					return
				}
				value = rest[0]
			}
			if found = true; has(l.line, option) {
				s.line(value, depth+1)
			} else {
				s.add(append([]string{value}, rest[1:]...), depth+1)
				return
			}
			rest = rest[1:]
			continue
		case path.Base(argv[0]) == "env" && (option == "-S" || option == "--split-string"):
			if !glued {
				value = strings.Join(rest[1:], " ")
			}
			l.builtin = true // it stands there already
			s.launched(l, append([]string{argv[0]}, strings.Fields(value)...), depth+1)
			return
		case path.Base(argv[0]) == "command" && (rest[0] == "-v" || rest[0] == "-V"):
			return // it only asks
		case rest[0][:min(1, len(rest[0]))] == "-":
			rest = rest[1:]
			if !glued && has(l.values, option) && len(rest) > 0 {
				rest = rest[1:]
			}
			continue
		case l.sets && glued && option != "" && !strings.Contains(option, "/"):
			s.set(option, value, !strings.Contains(value, "$"))
			rest = rest[1:]
			continue
		}
		break
	}
	if l.skip >= len(rest) || found {
		if len(rest) > l.skip+1 && !found {
			s.unsure = true
		}
		return
	}
	if rest = rest[l.skip:]; len(rest) > 1 && rest[0] == "--" {
		rest = rest[1:]
	}
	if l.skip > 0 && l.line != "" && strings.HasPrefix(rest[0], "-") { // su user -c LINE
		s.launched(launcher{values: l.values, line: l.line, builtin: true}, append([]string{argv[0]}, rest...), depth+1)
		return
	}
	s.add(rest, depth+1)
}

// loading are variables that have programs load code, or find others than their names say: ld.so(8), bash(1),
// python(1), perl(1), dyld(1). The value is true where it is the file that is loaded.
var loading = map[string]bool{"LD_PRELOAD": true, "LD_AUDIT": true, "DYLD_INSERT_LIBRARIES": true, "BASH_ENV": true,
	"ENV":           true,
	"PYTHONSTARTUP": true, "LD_LIBRARY_PATH": false, "DYLD_LIBRARY_PATH": false, "PATH": false, "PYTHONPATH": false,
	"PYTHONHOME": false, "PERL5LIB": false, "PERL5OPT": false, "RUBYOPT": false, "RUBYLIB": false,
	"NODE_OPTIONS":      false,
	"JAVA_TOOL_OPTIONS": false, "GCONV_PATH": false, "IFS": false}

// set adds what a variable has the programs behind it load.
func (s *started) set(name, value string, plain bool) {
	file, ok := loading[name]
	switch {
	case !ok || value == "":
	case file && plain:
		for _, library := range strings.FieldsFunc(value, func(r rune) bool { return r == ':' || r == ' ' }) {
			s.program(library, true)
		}
	case name == "PATH" && plain && !slices.ContainsFunc(strings.Split(value, ":"), func(dir string) bool {
		return !slices.Contains(systemPath, strings.TrimSuffix(dir, "/"))
	}): // the system's own folders, as crontabs set them
	default:
		s.unsure = true
	}
}

// systemPath are the folders of the system's own programs.
var systemPath = []string{"/usr/bin", "/bin", "/usr/sbin", "/sbin"}

// shell adds what a shell runs.
func (s *started) shell(argv []string, depth int) {
	for k, arg := range argv[1:] {
		switch {
		case strings.HasPrefix(arg, "-") && strings.Contains(arg, "c") && !strings.HasPrefix(arg, "--"):
			if k+2 >= len(argv) || !shells[path.Base(argv[0])] {
				s.unsure = true
				return
			}
			s.line(argv[k+2], depth+1)
			return
		case arg == "-o" || arg == "+o" || arg == "--rcfile" || arg == "--init-file":
			s.unsure = true
			return
		case !strings.HasPrefix(arg, "-") || arg == "-":
			if !path.IsAbs(arg) {
				s.unsure = true
				return
			}
			s.program(arg, false)
			return
		}
	}
	if !strings.Contains(argv[0], "$") {
		s.fed()
	}
}

// fed says that the program named last runs what it is given.
func (s *started) fed() {
	s.programs[len(s.programs)-1].via, s.unsure = false, true
}

// interpreted adds what an interpreter runs.
func (s *started) interpreted(base string, argv []string) {
	s.program(argv[0], true)
	if strings.Contains(argv[0], "$") {
		return
	}
	values := strings.Fields(interpreters[base])
	for k := 1; k < len(argv); k++ {
		switch arg := argv[k]; {
		case arg == "-jar" && k+1 < len(argv):
			s.program(argv[k+1], false)
			return
		case slices.Contains(values, arg):
			if k++; arg == "-r" && k < len(argv) {
				s.program(argv[k], true) // a library that it loads first
			}
		case strings.HasPrefix(arg, "-") && arg != "-":
			if strings.ContainsAny(strings.TrimLeft(arg, "-"), "ecmEM") && len(arg) <= 3 ||
				strings.HasPrefix(arg, "-M") ||
				strings.HasPrefix(arg, "-I") || arg == "--eval" || arg == "--print" {
				s.fed() // a text of its own language, or a module that it finds by itself
				return
			}
		default:
			if !path.IsAbs(arg) {
				s.fed() // found from a folder that is not known here
			} else {
				s.program(arg, false)
			}
			return
		}
	}
	s.fed()
}

// line adds what a line for a shell runs.
func (s *started) line(text string, depth int) {
	// Nearly all lines are a plain command.
	if words, ok := plainCommand(text); ok {
		s.add(words, depth)
		return
	}
	line, err := shellcommand.ParseLine(text)
	if err != nil {
		s.unsure = true
		return
	}
	for _, w := range line.Sets {
		name, value, _ := strings.Cut(w.Text, "=")
		s.set(name, value, w.Plain)
	}
	for _, c := range line.Commands {
		s.simple(line, c, depth)
	}
	if len(line.Inner) > 0 {
		from := len(s.programs)
		for _, c := range line.Inner {
			s.simple(line, c, depth)
		}
		for k := from; k < len(s.programs); k++ {
			s.programs[k].via = true // what it prints is a part of another command
		}
	}
}

// plainCommand splits a line that is one command, whose output may go to a file: the words without that. It is not ok
// where only a parser can tell.
func plainCommand(text string) (words []string, ok bool) {
	if strings.ContainsAny(text, "\"'\\$`;|<(){}*?[]~#!\n") {
		return nil, false
	}
	for k := range len(text) {
		if c := text[k]; c < ' ' && c != '\t' || c >= 0x7f {
			return nil, false
		}
	}
	words = strings.Fields(text)
	kept := words[:0]
	for k := 0; k < len(words); k++ {
		word := words[k]
		at := strings.IndexAny(word, ">&")
		if at < 0 {
			kept = append(kept, word)
			continue
		}
		// [FD]>FILE, >>FILE, >&FD, &>FILE, each with its file in the same word or in the next.
		operator := strings.Trim(word[:at], "0123456789") == ""
		target := strings.TrimLeft(word[at:], ">&")
		if !operator || !strings.Contains(word[at:len(word)-len(target)], ">") || strings.ContainsAny(target, ">&") {
			return nil, false
		}
		if target == "" {
			k++
		}
	}
	if len(kept) == 0 || strings.Contains(kept[0], "=") || passing[kept[0]] || kept[0] == "." || kept[0] == "source" ||
		kept[0] == "eval" || shellcommand.Reserved(kept[0]) {
		return nil, false
	}
	return kept, true
}

// simple adds what a simple command of a line starts.
func (s *started) simple(line shellcommand.Line, c shellcommand.Command, depth int) {
	switch first := c[0]; {
	case !first.Plain || first.Text == "eval":
		s.unsure = true
	case line.Functions[first.Text]:
	case first.Text == "trap" && len(c) > 2:
		if !c[1].Plain {
			s.unsure = true
		} else if c[1].Text != "-" && depth < maxNested {
			s.line(c[1].Text, depth+1)
		}
	case first.Text == "." || first.Text == "source":
		if len(c) > 1 && c[1].Plain && path.IsAbs(c[1].Text) {
			s.program(c[1].Text, false)
		} else {
			s.unsure = true
		}
	case passing[first.Text]:
	default:
		argv := c.Texts()
		for k, w := range c {
			if !w.Plain {
				argv[k] = "$" + argv[k] // no program can be told from it
			}
		}
		s.add(argv, depth)
	}
}

// programsOf are all programs that an item starts, those included that only start others.
func programsOf(item *location.Item) iter.Seq[autostart.Target] {
	return func(yield func(autostart.Target) bool) {
		if len(item.Starts) == 0 {
			yield(item.Target)
			return
		}
		for k := range item.Starts {
			if !yield(item.Starts[k].Program) {
				return
			}
		}
	}
}

// trust is how far a program is to be believed, the least first.
type trust uint8

const (
	altered      trust = iota // it is not as its maker delivered it
	nothingKnown              // nobody knows it, or which program it is
	placed                    // nothing is proved on its machine, and it lies where only the system's programs are
	claimed                   // it says itself who made it
	proved                    // somebody else than the system's maker signed or delivered it
	vouched                   // it is the system's, as its maker delivered it
)

// trustIn is how far a program is to be believed; ok is false where it is not there, and does nothing.
func trustIn(m *machine.Reader, book *program.Book, t autostart.Target) (in trust, ok bool) {
	file := book.File(t.Path)
	switch {
	case t.Exists != nil && !*t.Exists:
		return 0, false
	case file == nil && t.Path == "":
		return nothingKnown, true
	case file.Altered():
		return altered, true
	case file.Vouched() != "":
		return vouched, true
	case file.Delivered() || file.Signer() != "":
		return proved, true
	case file.Known() != nil && file.Known().Maker.Name != "":
		return claimed, true
	case !book.HasPackages && !book.Vouches && inSystem(m, t):
		return placed, true
	}
	return nothingKnown, true
}

// leastTrusted is the program of an item that is to be believed least, the first of several, and how far; nil where it
// starts one program alone, or none of them is there.
func leastTrusted(m *machine.Reader, book *program.Book, item *location.Item) (least *location.Started, trusted trust) {
	for k := range item.Starts {
		s := &item.Starts[k]
		in, ok := trustIn(m, book, s.Program)
		// What only starts others is not what the entry is about, unless it is somebody else's.
		if !ok || s.Via && in >= placed {
			continue
		}
		if least == nil || in < trusted || in == trusted && least.Via && !s.Via {
			least, trusted = s, in
		}
	}
	if least == nil {
		return nil, vouched
	}
	return least, trusted
}

// commandsOf are the programs that a person should know of, where an item starts several: what only starts others is
// left out, unless it is somebody else's.
func commandsOf(m *machine.Reader, book *program.Book, item *location.Item) []autostart.Command {
	if len(item.Starts) < 2 {
		return nil
	}
	var all []autostart.Command
	for _, s := range item.Starts {
		if s.Via {
			if in, ok := trustIn(m, book, s.Program); !ok || in >= placed {
				continue
			}
		}
		all = append(all, autostart.Command{Key: s.Key, Line: s.Line, Path: s.Program.Path, Exists: s.Program.Exists})
	}
	if len(all) < 2 {
		return nil
	}
	return all
}

// inSystem reports whether a program lies where only the system's own are.
func inSystem(m *machine.Reader, t autostart.Target) bool {
	switch m.OS {
	case "windows":
		return inWindows(m, t)
	case "macos":
		return inMac(t.Path)
	}
	return inVendor(t.Path)
}
