package identify

import (
	"slices"
	"strings"

	"lockback/core/machine/artifact"
)

// hosts are the programs that only start others. Each gets what stands behind
// its name and returns the command that really runs: ok is false if the host
// itself does the work, and an empty command means that it cannot be known.
var hosts = map[string]func(rest string) (command string, ok bool){
	"rundll32": func(rest string) (string, bool) {
		rest = strings.TrimSpace(rest)
		for strings.HasPrefix(rest, "/") || strings.HasPrefix(rest, "-") {
			option, more := nextWord(rest)
			if option = strings.ToLower(option[1:]); option == "sta" || option == "localserver" {
				return "", true // a class, by its id
			}
			rest = strings.TrimSpace(more)
		}
		if _, ok := cutFold(rest, "javascript:"); ok {
			return "", true
		}
		if inner, ok := throughLibrary(rest); ok {
			return inner, true
		}
		if quoted, ok := strings.CutPrefix(rest, `"`); ok {
			dll, _, _ := strings.Cut(quoted, `"`)
			return `"` + dll + `"`, dll != ""
		}
		dll, _, _ := strings.Cut(rest, ",")
		if name, _, found := untilProgram(dll); found {
			dll = name
		} else {
			dll, _, _ = strings.Cut(dll, " ")
		}
		dll = strings.TrimSpace(dll)
		if dll != "" && !strings.Contains(dll, ".") {
			dll += ".dll"
		}
		return `"` + dll + `"`, dll != ""
	},
	"regsvr32": afterOptions("/-", ""),
	"wscript":  afterOptions("/", ""), "cscript": afterOptions("/", ""),
	"mshta": func(rest string) (string, bool) {
		rest = strings.TrimSpace(rest)
		if l := strings.ToLower(strings.Trim(rest, `"`)); strings.Contains(l, "://") ||
			strings.HasPrefix(l, "javascript:") || strings.HasPrefix(l, "vbscript:") {
			return "", true
		}
		return rest, rest != ""
	},
	"cmd":        nil, // see shellLines
	"powershell": powershell, "pwsh": powershell,
	"msiexec": func(rest string) (string, bool) {
		words := rest
		for {
			word, more := nextWord(words)
			if word == "" {
				return "", false
			}
			if l := strings.ToLower(word); l == "/i" || l == "/package" || l == "-i" {
				next, _ := nextWord(more)
				if strings.Contains(next, "://") || strings.HasPrefix(next, "{") {
					return "", false
				}
				return `"` + next + `"`, next != ""
			}
			words = more
		}
	},
	"explorer": func(rest string) (string, bool) {
		word, _ := nextWord(rest)
		if word == "" || strings.HasPrefix(word, "/") || strings.Contains(word, ":") && !artifact.OnDrive(word) {
			return "", false
		}
		return `"` + word + `"`, true
	},
	"java": javaArchive, "javaw": javaArchive,
	"python": afterOptions("-", "-m -c"), "pythonw": afterOptions("-", "-m -c"), "node": afterOptions("-", "-e"),
	"conhost": afterOptions("-", ""), "forfiles": func(string) (string, bool) { return "", true },
	"pcalua": func(rest string) (string, bool) {
		for word, more := nextWord(rest); word != ""; word, more = nextWord(more) {
			if strings.EqualFold(word, "-a") {
				program, _ := nextWord(more)
				return `"` + program + `"`, program != ""
			}
		}
		return "", false
	},
	"control": func(rest string) (string, bool) {
		word, _ := nextWord(rest)
		word, _, _ = strings.Cut(word, ",")
		return `"` + word + `"`, strings.HasSuffix(strings.ToLower(word), ".cpl")
	},
}

// openers are the functions of Windows' libraries that only open what their argument names.
var openers = []string{"shellexec_rundll", "shellexec_rundlla", "shellexec_rundllw", "openas_rundll", "control_rundll",
	"control_rundlla", "control_rundllw", "control_rundllasuser",
	"launchinfsection", "launchinfsectionex", "installhinfsection", "openurl", "openurla", "fileprotocolhandler",
	"launchapplication", "routethecall"}

// throughLibrary finds what a call of such a function opens: "shell32.dll,ShellExec_RunDLL C:\x.exe".
func throughLibrary(rest string) (inner string, ok bool) {
	library, call, found := strings.Cut(rest, ",")
	if !found {
		return "", false
	}
	function, argument := nextWord(call)
	if !slices.Contains(openers, strings.ToLower(function)) || strings.TrimSpace(library) == "" {
		return "", false
	}
	switch argument = strings.TrimSpace(argument); {
	case strings.HasPrefix(strings.ToLower(function), "launchinfsection"): // FILE,SECTION,...
		argument, _, _ = strings.Cut(argument, ",")
	case strings.EqualFold(function, "InstallHinfSection"): // SECTION MODE FILE
		if words := strings.Fields(argument); len(words) > 2 {
			argument = words[2]
		}
	case strings.HasPrefix(strings.ToLower(function), "control_rundll"):
		argument, _, _ = strings.Cut(argument, ",")
		if !strings.HasSuffix(strings.ToLower(argument), ".cpl") {
			return "", false
		}
	}
	return strings.TrimPrefix(strings.TrimSpace(argument), "?"), true
}

// afterOptions returns the first word that is no option; where one of the
// options in stop comes first, it cannot be known.
func afterOptions(prefix, stop string) func(string) (string, bool) {
	return func(rest string) (string, bool) {
		for {
			word, more := nextWord(rest)
			switch {
			case word == "":
				return "", false
			case strings.Contains(" "+stop+" ", " "+strings.ToLower(word)+" "):
				return "", true
			case !strings.ContainsRune(prefix, rune(word[0])):
				return `"` + word + `"`, true
			}
			rest = more
		}
	}
}

func javaArchive(rest string) (string, bool) {
	for {
		word, more := nextWord(rest)
		if word == "" {
			return "", false
		}
		if word == "-jar" {
			jar, _ := nextWord(more)
			return `"` + jar + `"`, jar != ""
		}
		rest = more
	}
}

// powershell finds the script of a PowerShell: behind -File, or as its first
// word. What -Command and -EncodedCommand do cannot be known.
func powershell(rest string) (string, bool) {
	for {
		word, more := nextWord(rest)
		l := strings.ToLower(word)
		switch {
		case word == "":
			return "", false
		case len(l) > 1 && (l[0] == '-' || l[0] == '/') && strings.HasPrefix("file", l[1:]):
			script, _ := nextWord(more)
			return `"` + script + `"`, script != ""
		case len(l) > 1 && (l[0] == '-' || l[0] == '/'):
			option := l[1:]
			if strings.HasPrefix("command", option) || strings.HasPrefix("encodedcommand", option) || option == "ec" {
				return "", true
			}
			// Options that take a value.
			for _, o := range []string{"executionpolicy", "windowstyle", "version", "inputformat", "outputformat",
				"configurationname", "psconsolefile", "ep", "workingdirectory"} {
				if strings.HasPrefix(o, option) && option != "n" {
					_, more = nextWord(more)
					break
				}
			}
			rest = more
		case strings.HasSuffix(l, ".ps1"):
			return `"` + word + `"`, true
		default:
			return "", true // a command of its own language
		}
	}
}

// shellCommand is the command that a part of a line of cmd.exe starts; empty if the shell does it itself, and not sure
// where that may start more.
func shellCommand(line string) (command string, sure bool) {
	line = strings.TrimLeft(strings.TrimSpace(line), "@")
	word, more := nextWord(line)
	switch strings.ToLower(word) {
	case "":
		return "", true
	case "call":
		return strings.TrimSpace(more), true
	case "start":
		// A first word in quotes is a title, where something follows it.
		if more = strings.TrimSpace(more); strings.HasPrefix(more, `"`) {
			if _, after := nextWord(more); strings.TrimSpace(after) != "" {
				more = after
			}
		}
		for {
			next, after := nextWord(more)
			if !strings.HasPrefix(next, "/") {
				return strings.TrimSpace(more), true
			}
			if more = after; strings.EqualFold(next, "/d") {
				_, more = nextWord(more)
			}
		}
	case "if", "for", "set", "goto", "path", "assoc", "ftype":
		return "", false // what it does to the rest cannot be told
	case "echo", "del", "erase", "copy", "move", "rd", "rmdir", "md", "mkdir", "cd", "chdir", "cd..", `cd\`, "pushd",
		"popd",
		"type", "ren", "rename", "exit", "title", "ver", "vol", "cls", "rem", "setlocal", "endlocal", "color", "date",
		"time",
		"dir", "mklink", "prompt", "verify", "shift", "pause", "break":
		return "", true // done by the shell itself
	}
	return line, true
}

// nextWord cuts a word off a command line; quotes keep blanks together.
func nextWord(line string) (word, rest string) {
	line = strings.TrimLeft(line, " \t")
	if quoted, ok := strings.CutPrefix(line, `"`); ok {
		word, rest, _ = strings.Cut(quoted, `"`)
		return word, rest
	}
	k := strings.IndexAny(line, " \t")
	if k < 0 {
		return line, ""
	}
	return line[:k], line[k:]
}

// shellLines are the commands of what cmd.exe is called with; it is not ok where it is called with none, and unsure
// where it runs more than these.
func shellLines(rest string) (lines []string, unsure, ok bool) {
	for {
		word, more := nextWord(rest)
		if word == "" || !strings.HasPrefix(word, "/") {
			return nil, false, false
		}
		if l := strings.ToLower(word); len(l) >= 2 && strings.IndexByte("ckr", l[1]) >= 0 {
			rest = strings.TrimSpace(word[2:] + more) // no blank is needed behind it
			break
		}
		rest = more
	}
	if strings.HasPrefix(rest, `""`) {
		rest = strings.TrimSuffix(rest[1:], `"`)
	} else if strings.HasPrefix(rest, `"`) && strings.Count(rest, `"`) == 2 && strings.HasSuffix(rest, `"`) {
		// They stay around the path of a program, where nothing in it means something to the shell, see cmd /?.
		inner := rest[1 : len(rest)-1]
		name, _, ends := untilProgram(inner)
		if !artifact.OnDrive(inner) || !ends || name != inner || strings.ContainsAny(inner, "&<>()@^|") {
			rest = inner
		}
	}
	for _, part := range shellParts(rest) {
		line, sure := shellCommand(part)
		if unsure = unsure || !sure; line != "" {
			lines = append(lines, line)
		}
	}
	return lines, unsure, true
}

// shellParts splits a line as cmd.exe does, at & and | outside of quotes; a caret takes the next character for itself.
func shellParts(line string) []string {
	var parts []string
	var part strings.Builder
	quoted := false
	for k := 0; k < len(line); k++ {
		switch c := line[k]; {
		case c == '"':
			quoted = !quoted
			part.WriteByte(c)
		case c == '^' && !quoted:
			if k++; k < len(line) {
				part.WriteByte(line[k])
			}
		case (c == '&' || c == '|' || c == '\n') && !quoted:
			parts = append(parts, part.String())
			part.Reset()
		case (c == '(' || c == ')') && !quoted && strings.TrimSpace(part.String()) == "":
		default:
			part.WriteByte(c)
		}
	}
	return append(parts, part.String())
}
