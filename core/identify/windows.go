package identify

import (
	"path"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/windata"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/machine/registry"
)

// windowsFinder finds what commands start on one Windows machine. It remembers
// what it looked up, and is for one goroutine.
type windowsFinder struct {
	machine *machine.Reader
	user    *account.User // whose PATH counts; nil: the system's
	known   map[string]autostart.Target
	folders map[string]bool
	system  string // C:\Windows\System32
	narrow  string // C:\Windows\SysWOW64, where 32-bit programs find it
}

func newWindowsFinder(m *machine.Reader) *windowsFinder {
	return &windowsFinder{machine: m, known: map[string]autostart.Target{}, folders: map[string]bool{},
		system: m.Windows() + `\System32`, narrow: m.Windows() + `\SysWOW64`}
}

// findAll looks up all that an item's commands start.
func (f *windowsFinder) findAll(item *location.Item) {
	if len(item.Actions) == 0 {
		started := f.line(item.CommandLine, item)
		item.Target = mainOf(started)
		if len(started) > 1 || started[0].Via {
			item.Starts = started
		}
		return
	}
	item.Target = autostart.Target{}
	var all []location.Started
	for k := range item.Actions {
		action := &item.Actions[k]
		started := f.line(action.Line, item)
		action.Program = mainOf(started)
		if action.Line == item.CommandLine && item.Target.Path == "" {
			item.Target = action.Program
		}
		for n := range started {
			if len(item.Actions) > 1 {
				started[n].Line = action.Line
			}
			started[n].Via = started[n].Via || action.Host
		}
		all = append(all, started...)
	}
	if len(all) > 1 || all[0].Via {
		item.Starts = all
	}
}

// mainOf is the first program that does more than start others.
func mainOf(all []location.Started) autostart.Target {
	for _, s := range all {
		if !s.Via {
			return s.Program
		}
	}
	return autostart.Target{}
}

// line is all that one of an item's commands starts.
func (f *windowsFinder) line(line string, item *location.Item) []location.Started {
	f.user = item.For
	if item.Narrow {
		line = inNarrowView(line)
	}
	line = strings.TrimSpace(f.machine.Expand(line, item.For))
	if line == "" {
		return []location.Started{{}}
	}
	started, unsure := f.command(line, item.Narrow, 0)
	item.Unsure = item.Unsure || unsure
	return started
}

// Invocation parts the command line of a Windows entry: the program that it starts itself, as a whole, which may be one
// that only starts another, and the rest of the line as it stands, its variables expanded. It is not ok where the
// program is not there, or is nothing that Windows starts as a program, and where a variable is left whose value is not
// known.
func Invocation(m *machine.Reader, item *location.Item) (program, rest string, ok bool) {
	f := newWindowsFinder(m)
	f.user = item.For
	line := item.CommandLine
	if item.Narrow {
		line = inNarrowView(line)
	}
	line = strings.TrimSpace(m.Expand(line, item.For))
	program, rest, t := f.program(line, item.Narrow)
	there := t.Exists != nil && *t.Exists && len(item.Actions) <= 1
	return program, strings.TrimSpace(rest), there && runnable[strings.ToLower(path.Ext(program))] &&
		strings.Count(rest, "%") < 2
}

// runnable are the endings of what Windows starts as a program, by the PATHEXT that it comes with.
var runnable = map[string]bool{".exe": true, ".com": true, ".bat": true, ".cmd": true}

// inNarrowView has the variables of a command that mean something else to a 32-bit program.
func inNarrowView(line string) string {
	for _, name := range []string{"programfiles", "commonprogramfiles"} {
		if before, after, ok := cutAnywhere(line, "%"+name+"%"); ok {
			line = before + "%" + name + "(x86)%" + after
		}
	}
	return line
}

// maxHosts is how many programs that start others are looked through.
const maxHosts = 6

// command is all that a command starts. It is unsure where it starts more than lockback can tell without running it.
func (f *windowsFinder) command(line string, narrow bool, depth int) (all []location.Started, unsure bool) {
	program, rest, t := f.program(line, narrow)
	name := hostName(program)
	host, isHost := hosts[name]
	if !isHost || depth > maxHosts {
		return []location.Started{{Program: t}}, isHost
	}
	var inner []string
	ok := true
	if name == "cmd" {
		inner, unsure, ok = shellLines(rest)
	} else if command, found := host(rest); command == "" || strings.Contains(command, "://") {
		ok, unsure = found, found // it cannot be told what
	} else {
		ok, inner = found, []string{command}
	}
	if !ok {
		return []location.Started{{Program: t}}, false // the host itself is what runs
	}
	all = []location.Started{{Program: t, Via: true}}
	if _, through := throughLibrary(rest); through && name == "rundll32" {
		library, _, _ := strings.Cut(rest, ",")
		_, _, t := f.program(`"`+strings.Trim(library, `" `)+`"`, narrow)
		all = append(all, location.Started{Program: t, Via: true})
	}
	for _, command := range inner {
		more, not := f.command(command, narrow, depth+1)
		all, unsure = append(all, more...), unsure || not
	}
	return all, unsure
}

// hostName is a program's name in the form of the table of hosts.
func hostName(program string) string {
	return strings.TrimSuffix(strings.ToLower(program[strings.LastIndexByte(program, '\\')+1:]), ".exe")
}

// program finds the program of a command line by the rules of CreateProcess: a
// quoted path is taken as it is; of one without quotes, each beginning up to a
// blank is tried, the shortest first.
func (f *windowsFinder) program(line string, narrow bool) (name, rest string, t autostart.Target) {
	line = strings.TrimSpace(line)
	if quoted, ok := strings.CutPrefix(line, `"`); ok {
		name, rest, _ = strings.Cut(quoted, `"`)
		full, t := f.look(name, narrow)
		return full, rest, t
	}
	var first string
	var firstTarget autostart.Target
	for k := 0; k <= len(line); k++ {
		if k < len(line) && line[k] != ' ' && line[k] != '\t' {
			continue
		}
		name = line[:k]
		if name == "" || strings.HasSuffix(name, " ") {
			continue
		}
		full, t := f.look(name, narrow)
		switch {
		case f.folders[t.Path]: // a program's name may go on behind it
			first, firstTarget = name, t
			continue
		case t.Exists == nil && t.Path != "" || t.Exists != nil && *t.Exists:
			return full, line[k:], t
		}
		if first == "" {
			first, firstTarget = name, t
		}
	}
	// None is there. What ends like a program is what was meant, unless the first
	// word is one that only starts others.
	_, isHost := hosts[hostName(first)]
	if name, rest, ok := untilProgram(line); ok && !isHost {
		full, t := f.look(name, narrow)
		return full, rest, t
	}
	return first, line[len(first):], firstTarget
}

// programEndings are what the names of files end in that start.
var programEndings = []string{".exe", ".com", ".bat", ".cmd", ".dll", ".cpl", ".scr", ".vbs", ".js", ".ps1", ".msi",
	".sys", ".lnk", ".wsf", ".hta", ".ax", ".drv", ".acm", ".ocx", ".jar"}

// untilProgram cuts a line behind the first name that ends like a program.
func untilProgram(line string) (name, rest string, ok bool) {
	lower := windata.LowerASCII(line)
	best := -1
	for _, ending := range programEndings {
		for at := 0; ; {
			k := strings.Index(lower[at:], ending)
			if k < 0 {
				break
			}
			at += k + len(ending)
			if at == len(line) || strings.IndexByte(" \t,", line[at]) >= 0 {
				if best < 0 || at < best {
					best = at
				}
				break
			}
		}
	}
	if best < 0 {
		return "", "", false
	}
	return line[:best], line[best:], true
}

// look finds the file that a name means.
func (f *windowsFinder) look(name string, narrow bool) (string, autostart.Target) {
	key := name
	if narrow {
		key = "32:" + key
	}
	if f.user != nil {
		key = f.user.SID + ":" + key
	}
	if t, ok := f.known[key]; ok {
		return t.Path, t
	}
	t := f.find(name, narrow)
	f.known[key] = t
	return t.Path, t
}

func (f *windowsFinder) find(name string, narrow bool) autostart.Target {
	full := f.absolute(strings.TrimSpace(name))
	switch {
	case full == "" || strings.ContainsAny(strings.TrimPrefix(full, `\\?\`), "<>|*?\x00"), strings.Contains(full,
		`:\\`) || isAddress(full):
		return autostart.Target{}
	case strings.HasPrefix(full, `\\`), strings.Contains(full, "%"):
		// On another machine, by a name of the kernel's, by a variable that is not known.
		return autostart.Target{Path: autostart.Text(full)}
	case artifact.OnDrive(full):
		return f.there(full, narrow)
	}
	// A bare name, or one relative to the system's folder.
	for _, candidate := range withEnding(full) {
		if strings.Contains(full, `\`) {
			break
		}
		for _, root := range f.appPaths() {
			if key, err := f.machine.Key(root + candidate); err == nil {
				if p := strings.Trim(f.machine.Expand(key.Text(""), f.user), `" `); artifact.OnDrive(p) {
					return f.there(p, narrow)
				}
			}
		}
	}
	dirs := append([]string{f.system, f.machine.Windows(), f.system + `\drivers`, f.system + `\wbem`, f.system +
		`\WindowsPowerShell\v1.0`}, f.machine.SearchPath(f.user)...)
	for _, name := range withEnding(full) {
		for _, dir := range dirs {
			if t := f.there(dir+`\`+name, narrow); t.Exists != nil && *t.Exists {
				return t
			}
		}
	}
	missing := false
	return autostart.Target{Path: autostart.Text(full), Exists: &missing}
}

// appPaths are the keys in which programs say where they are: a user's own count first.
func (f *windowsFinder) appPaths() []string {
	roots := []string{registry.KeyCV + `\App Paths\`}
	if f.user != nil {
		roots = append([]string{`HKU\` + f.user.SID + `\Software\Microsoft\Windows\CurrentVersion\App Paths\`},
			roots...)
	}
	return roots
}

// isAddress reports whether a name is one of the network: "mailto:x", "ms-settings:y".
func isAddress(name string) bool {
	k := strings.IndexByte(name, ':')
	return k > 1 && !strings.ContainsAny(name[:k], `\/. `)
}

// absolute undoes the forms that the kernel's own paths have, and what GetFullPathName leaves out.
func (f *windowsFinder) absolute(name string) string {
	for _, prefix := range []string{`\??\`, `\\?\`, `\\.\`} {
		rest, ok := strings.CutPrefix(name, prefix)
		if !ok {
			continue
		}
		if share, ok := cutFold(rest, `UNC\`); ok {
			return `\\` + share
		}
		if rest != "" && !artifact.OnDrive(rest) && !strings.Contains(rest, "%") && strings.ContainsAny(rest, "{\\") {
			return `\\?\` + rest // a volume or an object of the kernel's, which nothing here can find
		}
		name = rest
	}
	if rest, ok := cutFold(name, `\Device\`); ok {
		return `\\?\Device\` + rest
	}
	name = strings.ReplaceAll(name, "/", `\`)
	if artifact.OnDrive(name) {
		name = fullPath(name)
	}
	if rest, ok := cutFold(name, f.machine.Windows()+`\Sysnative\`); ok {
		return f.system + `\` + rest // how a 32-bit program calls the folder of the 64-bit ones
	}
	lower := strings.ToLower(name)
	switch {
	case strings.HasPrefix(lower, `\systemroot\`):
		return f.machine.Windows() + name[len(`\systemroot`):]
	case strings.HasPrefix(lower, `system32\`), strings.HasPrefix(lower, `syswow64\`):
		return f.machine.Windows() + `\` + name
	case strings.HasPrefix(name, `\`) && !strings.HasPrefix(name, `\\`):
		return f.machine.Windows()[:2] + name
	}
	return name
}

// fullPath is a path as GetFullPathName makes it: without empty elements, `.` and `..`, and without dots and
// blanks at the end of an element.
func fullPath(name string) string {
	parts := []string{name[:2]}
	for part := range strings.SplitSeq(name[2:], `\`) {
		switch trimmed := strings.TrimRight(part, ". "); {
		case part == "..":
			parts = parts[:max(1, len(parts)-1)]
		case trimmed != "":
			parts = append(parts, trimmed)
		}
	}
	if len(parts) == 1 {
		return name[:2] + `\`
	}
	return strings.Join(parts, `\`)
}

// withEnding are the names that a name without an ending may mean.
func withEnding(name string) []string {
	if strings.Contains(path.Base(strings.ReplaceAll(name, `\`, "/")), ".") {
		return []string{name}
	}
	return []string{name, name + ".exe", name + ".dll", name + ".com", name + ".cmd", name + ".bat"}
}

// programNames are the files that CreateProcess takes a path for: one without an
// ending may mean a program.
func programNames(full string) []string {
	if strings.Contains(full[strings.LastIndexByte(full, '\\')+1:], ".") {
		return []string{full}
	}
	return []string{full, full + ".exe"}
}

// there looks whether a file exists. That it lies on another drive leaves it
// unknown.
func (f *windowsFinder) there(full string, narrow bool) autostart.Target {
	if rest, ok := cutFold(full, f.system+`\`); ok && narrow {
		if t := f.exactly(f.narrow + `\` + rest); t.Exists != nil && *t.Exists {
			return t
		}
	}
	return f.exactly(full)
}

func (f *windowsFinder) exactly(full string) autostart.Target {
	folder := false
	for _, candidate := range programNames(full) {
		info, err := f.machine.Stat(candidate)
		switch {
		case err == nil && info.IsDir():
			folder = true
			continue
		case err == nil:
			is := true
			return autostart.Target{Path: autostart.Text(f.machine.Canonical(candidate)), Exists: &is,
				Size: info.Size(), Modified: info.ModTime().UTC()}
		case !files.IsMissing(err):
			return autostart.Target{Path: autostart.Text(full)}
		}
	}
	if folder {
		f.folders[autostart.Text(full)] = true
		return autostart.Target{Path: autostart.Text(full)} // Explorer shows it
	}
	if hasShortName(full) && !f.machine.Live {
		// Short names are kept beside the long ones, where a mounted disk does
		// not show them: it may be there.
		return autostart.Target{Path: autostart.Text(full)}
	}
	is := false
	return autostart.Target{Path: autostart.Text(full), Exists: &is}
}

// hasShortName reports whether a part of the path looks like the short name that
// NTFS and FAT make for a long one: PROGRA~1.
func hasShortName(full string) bool {
	for part := range strings.SplitSeq(full, `\`) {
		if k := strings.IndexByte(part, '~'); k > 0 && k+1 < len(part) && part[k+1] >= '1' && part[k+1] <= '9' &&
			len(part) <= 12 {
			return true
		}
	}
	return false
}

func cutFold(s, prefix string) (string, bool) {
	if len(s) < len(prefix) || !strings.EqualFold(s[:len(prefix)], prefix) {
		return s, false
	}
	return s[len(prefix):], true
}
