package windows

import (
	"fmt"
	"io/fs"
	"path"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/regf"
	"lockback/core/format/shelllink"
	"lockback/core/format/taskxml"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/machine/registry"
)

// runnable are the endings of what Windows starts as a program, by the PATHEXT that it comes with.
var runnable = map[string]bool{".exe": true, ".com": true, ".bat": true, ".cmd": true}

// Add says how an entry is made where Windows' own tools would make it: at sign-in a value of a Run key, or a shortcut
// in a Startup folder; at startup, and by the clock, a task, or a service for a program that is one. Tasks are made by
// the scheduler of the running machine only.
func Add(m *machine.Reader, n location.New) (location.Made, error) {
	if err := n.Check(m, func(name string) bool { return runnable[strings.ToLower(path.Ext(name))] }); err != nil {
		return location.Made{}, err
	}
	forms := map[autostart.Stage][]string{autostart.SignIn: {"run", "shortcut", "task"}, autostart.System: {"task",
		"service"}, autostart.Schedule: {"task"}}[n.Stage]
	if len(forms) == 0 {
		return location.Made{}, fmt.Errorf("%w: at the stage %s", location.ErrNoForm, n.Stage)
	}
	if n.Stage == autostart.SignIn && n.Delay > 0 {
		forms = []string{"task"} // the others have no delay
	}
	form, err := n.Choose(forms...)
	if err != nil {
		return location.Made{}, err
	}
	switch form {
	case "run":
		return addRun(m, n)
	case "shortcut":
		return addShortcut(m, n)
	case "service":
		return addService(m, n)
	}
	return addTask(m, n)
}

func addRun(m *machine.Reader, n location.New) (location.Made, error) {
	made := location.Made{Location: "windows.run", Effect: location.AtNextSignIn}
	path := cv + `\Run`
	p := place{}
	if n.User != nil {
		path, made.User, p.user = `HKU\`+n.User.SID+`\Software\Microsoft\Windows\CurrentVersion\Run`, n.User.Name,
			n.User
	}
	p.Key = &registry.Key{Path: path}
	if k, err := m.Key(path); err == nil {
		p.Key = k
		if _, err := k.Value(n.Name); err == nil {
			return made, fmt.Errorf("%w: %s in %s", location.ErrExists, n.Name, k.Path)
		}
	}
	made.Key = id(p, n.Name)
	made.Edits = []location.Edit{{Artifact: artifact.RegistryValue(p.Path, n.Name),
		Image: artifact.NewValue(regf.NewText("", CommandLine(n.Argv)))}}
	return made, nil
}

// newFile is a file to make. A running Windows has no modes: everybody's are given for what may be written.
func newFile(m *machine.Reader, content []byte, now time.Time) artifact.Image {
	mode := fs.FileMode(0o644)
	if m.Live {
		mode = 0o666
	}
	return artifact.NewFile(content, mode, 0, 0, now)
}

// notInNames are characters that no file of Windows has in its name, "Naming Files, Paths, and Namespaces".
const notInNames = `<>:"/\|?*`

func addShortcut(m *machine.Reader, n location.New) (location.Made, error) {
	made := location.Made{Location: "windows.startup-folder", Effect: location.AtNextSignIn}
	if strings.ContainsAny(n.Name, notInNames) || strings.HasSuffix(n.Name, ".") {
		return made, fmt.Errorf("the name %q %w: a shortcut's has none of %s, and no dot at its end", n.Name,
			location.ErrText, notInNames)
	}
	const menu = `\Microsoft\Windows\Start Menu\Programs\Startup`
	name, usual := "Common Startup", `%ProgramData%`+menu
	if n.User != nil {
		name, usual, made.User = "Startup", `%APPDATA%`+menu, n.User.Name
	}
	file := shellFolder(location.NewSurvey(m), n.User, name, usual) + `\` + n.Name + ".lnk"
	if err := location.Free(m, file); err != nil {
		return made, err
	}
	info, err := m.Stat(n.Argv[0])
	if err != nil {
		return made, err
	}
	program := m.Canonical(n.Argv[0])
	link := shelllink.Link{LocalPath: program, Arguments: CommandLine(n.Argv[1:]),
		WorkingDir: program[:strings.LastIndexByte(program, '\\')], Size: uint32(info.Size()), Created: info.ModTime(),
		Modified: info.ModTime(), Show: 1}
	made.Key = strings.ToLower(made.User + "\x00" + n.Name + ".lnk")
	made.Edits = []location.Edit{{Artifact: artifact.File(file), Image: newFile(m, link.Encode(), n.Now)}}
	return made, nil
}

func addService(m *machine.Reader, n location.New) (location.Made, error) {
	made := location.Made{Location: "windows.services", Effect: location.AtNextStart}
	if n.User != nil {
		return made, fmt.Errorf("%w: a service for one user would need their password", location.ErrNoForm)
	}
	services, err := m.Key(servicesFolder)
	if err != nil {
		return made, err
	}
	key := services.Path + `\` + n.FileName()
	if _, err := m.Key(key); err == nil {
		return made, fmt.Errorf("%w: the service %s", location.ErrExists, n.FileName())
	}
	made.Key = n.FileName()
	// winnt.h: a process of its own, an error is noted
	for _, v := range []regf.Value{regf.NewNumber("Type", 0x10), regf.NewNumber("Start", startAuto),
		regf.NewNumber("ErrorControl", 1),
		regf.NewExpand("ImagePath", CommandLine(n.Argv)), regf.NewText("DisplayName", n.Name),
		regf.NewText("ObjectName", "LocalSystem")} {
		made.Edits = append(made.Edits, location.Edit{Artifact: artifact.RegistryValue(key, v.Name),
			Image: artifact.NewValue(v)})
	}
	if n.Delay > 0 {
		made.Edits = append(made.Edits, location.Edit{Artifact: artifact.RegistryValue(key, "DelayedAutostart"),
			Image: artifact.NewValue(regf.NewNumber("", 1))})
	}
	return made, nil
}

func addTask(m *machine.Reader, n location.New) (location.Made, error) {
	made := location.Made{Location: "windows.tasks", Effect: location.AtNextStart}
	if strings.ContainsAny(n.Name, notInNames) {
		return made, fmt.Errorf("the name %q %w: a task's has none of %s", n.Name, location.ErrText, notInNames)
	}
	if !m.Live {
		return made, fmt.Errorf("%w: a task is made by the scheduler of the running machine only: it keeps a hash "+
			"over each that is not documented; a disk can be given a value or a shortcut at sign-in, or a service "+
			"at startup (--as service)", location.ErrNoForm)
	}
	t := taskxml.New{Description: n.Name, Command: n.Argv[0], Arguments: CommandLine(n.Argv[1:]), Delay: n.Delay,
		Every: n.Every, Daily: n.Daily, At: n.At, Now: n.Now}
	switch n.Stage {
	case autostart.SignIn:
		t.Trigger = taskxml.AtLogon
	case autostart.System:
		t.Trigger = taskxml.AtBoot
	}
	if n.User != nil {
		t.User, made.User = n.User.SID, n.User.Name
	}
	file := m.Windows() + `\System32\Tasks\` + n.Name
	if err := location.Free(m, file); err != nil {
		return made, err
	}
	made.Key = strings.ToLower(`\` + n.Name)
	made.Edits = []location.Edit{{Artifact: artifact.File(file), Image: newFile(m, t.Encode(), n.Now)}}
	return made, nil
}

// CommandLine puts arguments together so that CommandLineToArgvW, and the C runtime, take them apart again: quotes
// around what has spaces, a backslash before a quote, and backslashes before it twice.
func CommandLine(argv []string) string {
	words := make([]string, len(argv))
	for k, arg := range argv {
		words[k] = quoteArgument(arg)
	}
	return strings.Join(words, " ")
}

// Arguments takes a command line apart as CommandLineToArgvW does.
func Arguments(line string) []string {
	var words []string
	for line = strings.TrimLeft(line, " \t"); line != ""; line = strings.TrimLeft(line, " \t") {
		var b strings.Builder
		quoted := false
		k := 0
		for ; k < len(line) && (quoted || line[k] != ' ' && line[k] != '\t'); k++ {
			slashes := 0
			for k < len(line) && line[k] == '\\' {
				slashes++
				k++
			}
			if k == len(line) || line[k] != '"' {
				b.WriteString(strings.Repeat(`\`, slashes))
				if k == len(line) || !quoted && (line[k] == ' ' || line[k] == '\t') {
					break
				}
				b.WriteByte(line[k])
				continue
			}
			b.WriteString(strings.Repeat(`\`, slashes/2))
			if slashes%2 == 1 {
				b.WriteByte('"')
			} else {
				quoted = !quoted
			}
		}
		words, line = append(words, b.String()), line[k:]
	}
	return words
}

func quoteArgument(arg string) string {
	if arg != "" && !strings.ContainsAny(arg, " \t\"") {
		return arg
	}
	var b strings.Builder
	b.WriteByte('"')
	slashes := 0
	for k := range len(arg) {
		switch c := arg[k]; c {
		case '\\':
			slashes++
			continue
		case '"':
			b.WriteString(strings.Repeat(`\`, 2*slashes+1))
		default:
			b.WriteString(strings.Repeat(`\`, slashes))
		}
		slashes = 0
		b.WriteByte(arg[k])
	}
	b.WriteString(strings.Repeat(`\`, 2*slashes))
	b.WriteByte('"')
	return b.String()
}
