package linux

import (
	"path"
	"strconv"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/shellcommand"
	"lockback/core/location"
)

// A line of a list is described by what its own program makes of it: the functions here are the forms of
// the rows in the table.

// named makes the item of a line that runs a command.
func named(name, command string, argv []string) *location.Item {
	return &location.Item{Entry: autostart.Entry{Name: name, Command: command}, Argv: argv}
}

// byShell is a command that a shell runs.
func byShell(command string) []string { return []string{"/bin/sh", "-c", command} }

// programName is what a person calls a command: the last element of its first word.
func programName(command string) string {
	commands, err := shellcommand.Parse(command)
	if err != nil || len(commands) == 0 {
		first, _, _ := strings.Cut(strings.TrimSpace(command), " ")
		return path.Base(first)
	}
	return path.Base(commands[0][0].Text)
}

// describeModprobe makes the item of a line of modprobe.d(5) that runs a command when a module is
// loaded or removed. The other lines run nothing.
func describeModprobe(_ *location.Survey, _ location.Found, line string) *location.Item {
	f := strings.Fields(line)
	if len(f) < 3 || f[0] != "install" && f[0] != "remove" {
		return nil
	}
	command := strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(strings.TrimPrefix(line, f[0])), f[1]))
	item := named(f[1], command, byShell(command))
	item.When = map[string]string{"install": "when the module " + f[1] + " is loaded", "remove": "when the module " +
		f[1] + " is removed"}[f[0]]
	if last := path.Base(command); last == "true" || last == "false" {
		return nil // keeps the module from being loaded, and starts nothing
	}
	return item
}

// describeBinfmt makes the item of a line of binfmt.d(5): by its first character, its parts are the
// name, the kind, an offset, the magic, a mask, the interpreter and flags.
func describeBinfmt(_ *location.Survey, _ location.Found, line string) *location.Item {
	parts := strings.Split(line[1:], line[:1])
	if len(parts) < 6 {
		return nil
	}
	item := named(parts[0], parts[5], []string{parts[5]})
	item.When = "when a program of the kind " + parts[0] + " is started"
	return item
}

// describeAnacron makes the item of a line of anacrontab(5): a period, a delay, the job's name, the command.
// Lines that set variables are not commands. That a backslash joins a line to the next one, anacron 2.3 shows.
func describeAnacron(_ *location.Survey, _ location.Found, line string) *location.Item {
	f := strings.Fields(line)
	if len(f) < 4 || strings.Contains(f[0], "=") {
		return nil
	}
	rest := line
	for _, word := range f[:3] {
		rest = strings.TrimLeft(strings.TrimPrefix(strings.TrimLeft(rest, " \t"), word), " \t")
	}
	item := named(f[2], rest, byShell(rest))
	switch days, err := strconv.Atoi(f[0]); {
	case err == nil && days == 1:
		item.When = "every day"
	case err == nil:
		item.When = "every " + strconv.Itoa(days) + " days"
	case strings.HasPrefix(f[0], "@"):
		item.When = map[string]string{"@daily": "every day", "@weekly": "every week", "@monthly": "every month",
			"@yearly": "every year", "@annually": "every year"}[f[0]]
	}
	return item
}

// describeIncron makes the item of a line of incrontab(5): a path, what happens to it, the command.
// Blanks in the path have a backslash before them.
func describeIncron(_ *location.Survey, f location.Found, line string) *location.Item {
	at := 0
	for at < len(line) && (line[at] != ' ' && line[at] != '\t' || at > 0 && line[at-1] == '\\') {
		at++
	}
	watched, rest := strings.ReplaceAll(line[:at], `\ `, " "), strings.TrimSpace(line[at:])
	mask, command, ok := strings.Cut(rest, " ")
	if !ok {
		return nil
	}
	command = strings.TrimSpace(command)
	item := named(programName(command), command, byShell(command))
	item.When = "when " + watched + " changes (" + mask + ")"
	if strings.HasPrefix(f.Path, "/var/spool/incron/") {
		item.User = autostart.Text(path.Base(f.Path))
	}
	return item
}

// describeInetd makes the item of a line of inetd.conf(5): service, kind of socket, protocol, wait,
// user, program, and its arguments with its own name first.
func describeInetd(_ *location.Survey, _ location.Found, line string) *location.Item {
	f := strings.Fields(line)
	if len(f) < 6 {
		return nil
	}
	argv := []string{f[5]}
	if len(f) > 7 {
		argv = append(argv, f[7:]...)
	}
	if path.Base(f[5]) == "tcpd" && len(f) > 6 {
		argv = f[6:] // it checks who calls, and starts the next
	}
	item := named(f[0], strings.Join(f[5:], " "), argv)
	if f[5] == "internal" {
		item.Argv = nil
	}
	item.When = "when something connects to " + f[0]
	return item
}

// describeInittab makes the item of a line of inittab(5): id, runlevels, action, process. A plus before
// the process says that it is not written down.
func describeInittab(s *location.Survey, found location.Found, line string) *location.Item {
	f := strings.SplitN(line, ":", 4)
	if len(f) < 4 || f[3] == "" || f[2] == "initdefault" || f[2] == "off" {
		return nil
	}
	command := strings.TrimPrefix(f[3], "+")
	item := named(programName(command), command, byShell(command))
	// Of all lines of the file it is looked up once.
	item.CopyOf = s.Shared("origin of "+found.Path,
		func() any { return sameAs(s, found.Path, "/usr/share/sysvinit/inittab") }).(string)
	switch f[2] {
	case "ctrlaltdel", "powerwait", "powerfail", "powerokwait", "powerfailnow", "kbrequest", "shutdown", "restart":
		item.Stage, item.When = autostart.Event, "on "+f[2]
	default:
		if f[1] != "" {
			item.When = "at startup, in runlevel " + f[1]
		}
	}
	return item
}

// describeACPI makes the item of the line of a rule of acpid(8) that says what to run; the rule's other
// line says on what.
func describeACPI(s *location.Survey, f location.Found, line string) *location.Item {
	value := func(line, key string) (string, bool) {
		name, text, ok := strings.Cut(line, "=")
		return strings.TrimSpace(text), ok && strings.TrimSpace(name) == key
	}
	command, ok := value(line, "action")
	if !ok {
		return nil
	}
	item := named(path.Base(f.Path), command, byShell(command))
	item.When = "when a power event comes"
	content, _ := s.ReadFile(f.Path, 64<<10) // a rule is a few lines
	for other := range strings.Lines(string(content)) {
		if event, ok := value(strings.TrimSpace(other), "event"); ok {
			item.When = "on " + event
		}
	}
	return item
}

// loading are the variables that load code into programs, or run some when one starts, by the documents
// of the linker, shells, interpreters and toolkits.
var loading = map[string]string{"LD_PRELOAD": "every program", "LD_AUDIT": "every program",
	"LD_LIBRARY_PATH": "every program", "GTK_MODULES": "programs of GTK", "GTK3_MODULES": "programs of GTK",
	"GTK_PATH":          "programs of GTK",
	"GIO_EXTRA_MODULES": "programs of GTK", "QT_PLUGIN_PATH": "programs of Qt", "BASH_ENV": "scripts of bash",
	"ENV": "shells", "PROMPT_COMMAND": "shells", "PYTHONSTARTUP": "Python", "PYTHONPATH": "Python",
	"PYTHONHOME": "Python",
	"PERL5OPT":   "Perl", "PERL5LIB": "Perl", "RUBYOPT": "Ruby", "RUBYLIB": "Ruby", "NODE_OPTIONS": "Node",
	"JAVA_TOOL_OPTIONS": "Java", "_JAVA_OPTIONS": "Java", "GCONV_PATH": "programs that convert text"}

// describeVariable makes the item of a line that sets a variable which loads code. Others are none.
func describeVariable(_ *location.Survey, _ location.Found, line string) *location.Item {
	name, value, ok := strings.Cut(strings.TrimSpace(strings.TrimPrefix(line, "export ")), "=")
	name = strings.TrimSpace(name)
	into, known := loading[name]
	if !ok || !known || strings.Trim(value, `"' `) == "" {
		return nil
	}
	item := named(name, line, nil)
	item.When = "loaded into " + into
	if first, _, _ := strings.Cut(strings.Trim(value, `"' `), ":"); path.IsAbs(first) &&
		strings.HasPrefix(name, "LD_") && name != "LD_LIBRARY_PATH" {
		item.Argv = []string{first}
	}
	return item
}

// describePAMVariable is describeVariable for pam_env.conf(5): a name, and DEFAULT= or OVERRIDE=.
func describePAMVariable(s *location.Survey, f location.Found, line string) *location.Item {
	words := strings.Fields(line)
	if len(words) < 2 {
		return nil
	}
	for _, word := range words[1:] {
		for _, key := range []string{"DEFAULT=", "OVERRIDE="} {
			if value, ok := strings.CutPrefix(word, key); ok {
				if item := describeVariable(s, f, words[0]+"="+value); item != nil {
					item.Command = line
					return item
				}
			}
		}
	}
	return nil
}
