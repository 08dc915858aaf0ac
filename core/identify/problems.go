package identify

import (
	"path"
	"slices"
	"strings"
	"unicode"

	"lockback/core/autostart"
	"lockback/core/format/windata"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/program"
)

// lookForTrouble adds the problems that show in where a program lies, what it is called, and how
// it is called. What is a part of the system has none of them.
func lookForTrouble(m *machine.Reader, book *program.Book, items []*location.Item) {
	for _, item := range items {
		if item.OSPart {
			continue
		}
		if oddPlace(m, item) {
			item.Problems = appendNew(item.Problems, autostart.OddPlace)
		}
		if obscured(item) {
			item.Problems = appendNew(item.Problems, autostart.Obscured)
		}
		if impostor(m, book, item) {
			item.Problems = appendNew(item.Problems, autostart.Impostor)
		}
	}
	findTwins(items)
}

// temporary are folders whose content nobody keeps, in small letters and with slashes.
var temporary = []string{"/tmp/", "/var/tmp/", "/dev/shm/", "/private/tmp/", "/private/var/tmp/",
	"/private/var/folders/", "c:/windows/temp/", "c:/temp/", "/appdata/local/temp/"}

// binned are the folders of what was thrown away: of Windows, of the Linux desktops (the Trash
// specification of freedesktop.org), of macOS.
var binned = []string{"/$recycle.bin/", "/recycler/", "/.local/share/trash/", "/.trash/", "/.trashes/", "/.trash-"}

// oddPlace reports whether a program lies where none is installed.
func oddPlace(m *machine.Reader, item *location.Item) bool {
	file := item.Target.Path
	if file == "" {
		return false
	}
	plain := strings.ReplaceAll(windata.LowerASCII(file), `\`, "/")
	if m.OS != "windows" {
		plain = strings.ToLower(file)
	}
	begins := func(dir string) bool { return strings.HasPrefix(plain, dir) }
	switch {
	case slices.ContainsFunc(temporary, func(dir string) bool {
		return begins(dir) || dir == "/appdata/local/temp/" && strings.Contains(plain, dir)
	}):
		return true
	case slices.ContainsFunc(binned, func(dir string) bool { return strings.Contains(plain, dir) }):
		return true
	case begins("//") || begins("/run/user/") && strings.Contains(plain, "/gvfs/") || m.OS == "macos" &&
		begins("/network/"):
		return true // on another computer
	case m.OS == "windows" && artifact.OnDrive(file) && strings.Contains(file[2:], ":"):
		return true // in a stream of a file, which no list of files shows
	}
	return falseEnding(m, path.Base(plain)) || othersHome(m, item)
}

// harmless are the endings of what is opened, and not started.
var harmless = []string{".pdf", ".doc", ".docx", ".xls", ".xlsx", ".txt", ".jpg", ".jpeg", ".png", ".gif", ".mp3",
	".mp4", ".zip", ".html"}

// falseEnding reports whether the name of a program of Windows ends as if it were no program, as
// far as a person sees who has endings hidden: "bill.pdf.exe", or blanks before the ending.
func falseEnding(m *machine.Reader, name string) bool {
	ending := path.Ext(name)
	if m.OS != "windows" || !slices.Contains(programEndings, ending) {
		return false
	}
	stem := strings.TrimSuffix(name, ending)
	return slices.ContainsFunc(harmless, func(e string) bool { return strings.HasSuffix(stem, e) }) ||
		strings.HasSuffix(stem, "   ")
}

// othersHome reports whether a program lies in the home of somebody whose entry it is not: the
// owner of the home decides what runs with another user's rights.
func othersHome(m *machine.Reader, item *location.Item) bool {
	for _, u := range m.Users {
		home := u.Home
		if len(home) < 4 || home == "/root" || autostart.Text(u.Name) == item.User || u.UID == 0 && m.OS != "windows" {
			continue
		}
		if rest, ok := strings.CutPrefix(item.Target.Path, home); ok && rest != "" && strings.ContainsAny(rest[:1],
			`/\`) {
			return true
		}
	}
	return false
}

// obscured reports whether a command hides what it does, or its name what it is.
func obscured(item *location.Item) bool {
	return deceiving(item.Name) || deceiving(item.Command) || deceiving(item.Target.Path) || hides(item.Command)
}

// deceiving reports whether a text has characters that turn it around or cannot be seen.
func deceiving(text string) bool {
	for _, r := range text {
		switch {
		case r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069, r == 0x200b, r == 0x200e, r == 0x200f, r == 0x2060,
			r == 0xfeff, r >= 0xe0000 && r <= 0xe007f:
			return true
		case r < ' ' && r != '\t' && r != '\n' && r != '\r', r == 0x7f:
			return true
		case unicode.Is(unicode.Bidi_Control, r):
			return true
		}
	}
	return false
}

// hides reports whether a command runs what cannot be read in it: encoded text, or what it
// fetches from the network; or sees to it that nobody sees its window.
func hides(command string) bool {
	words := strings.FieldsFunc(strings.ToLower(command), func(r rune) bool {
		return unicode.IsSpace(r) || r == '"' ||
			r == '\''
	})
	text := strings.Join(words, " ")
	for k, word := range words {
		option := strings.TrimLeft(word, "-/")
		if option == word || !strings.Contains(text, "powershell") && !strings.Contains(text, "pwsh") {
			continue
		}
		// Options may be cut short, about_PowerShell_exe.
		switch {
		case option == "ec" || option == "enc" || len(option) > 0 && strings.HasPrefix("encodedcommand", option) &&
			option != "e" || option == "e":
			return true
		case len(option) > 0 && strings.HasPrefix("windowstyle", option) && k+1 < len(words) &&
			strings.HasPrefix("hidden", words[k+1]) && words[k+1] != "":
			return true
		}
	}
	for _, sign := range []string{"frombase64string", "downloadstring", "downloadfile(", "invoke-expression",
		"scrobj.dll", "javascript:", "vbscript:"} {
		if strings.Contains(text, sign) {
			return true
		}
	}
	if strings.Contains(text, "mshta") && strings.Contains(text, "://") {
		return true
	}
	return pipedIntoShell(text)
}

// pipedIntoShell reports whether what a command fetches or decodes goes into a shell.
func pipedIntoShell(text string) bool {
	parts := strings.Split(text, "|")
	for k, part := range parts[:len(parts)-1] {
		fetches := false
		for _, word := range strings.Fields(part) {
			switch path.Base(word) {
			case "curl", "wget", "fetch", "iwr", "invoke-webrequest", "irm":
				fetches = true
			}
		}
		fetches = fetches || strings.Contains(part, "base64") && (strings.Contains(part, " -d") ||
			strings.Contains(part, " --decode"))
		if !fetches {
			continue
		}
		for _, next := range parts[k+1:] {
			words := strings.Fields(next)
			for len(words) > 1 && slices.Contains([]string{"sudo", "exec", "env", "nohup"}, path.Base(words[0])) {
				words = words[1:]
			}
			if len(words) == 0 {
				continue
			}
			base := path.Base(strings.Trim(words[0], ";&)"))
			if isShell(base) || isInterpreter(base) || base == "iex" {
				return true
			}
		}
	}
	return false
}

// systemNames are programs of a system that a stranger likes to be taken for, and the folders that
// they lie in; in small letters.
var systemNames = map[string]struct{ names, folders string }{
	"windows": {"svchost.exe lsass.exe csrss.exe winlogon.exe wininit.exe services.exe smss.exe spoolsv.exe " +
		"dwm.exe conhost.exe taskhostw.exe taskhost.exe sihost.exe runtimebroker.exe ctfmon.exe userinit.exe " +
		"dllhost.exe searchindexer.exe fontdrvhost.exe rundll32.exe",
		"/windows/system32 /windows/syswow64 /windows/winsxs /windows/sysarm32"},
	"linux": {"systemd systemd-journald systemd-logind systemd-udevd dbus-daemon agetty kthreadd ksoftirqd kworker " +
		"networkmanager polkitd xorg gnome-shell init",
		"/usr/bin /usr/sbin /usr/lib /usr/libexec /bin /sbin /lib /lib64"},
	"macos": {"launchd loginwindow windowserver kernel_task mdnsresponder configd securityd trustd finder dock " +
		"systemuiserver cfprefsd distnoted",
		"/system /usr/libexec /usr/sbin /usr/bin /sbin /bin /library/apple"},
}

// stores are where systems have all their programs that are built of parts with names of their own, by their ID of
// os-release(5). A store proves nothing, for anybody may have things built into it.
var stores = map[string]string{"nixos": "/nix/store", "guix": "/gnu/store"}

// impostor reports whether a program has the name of one of the system's, and lies elsewhere. A
// program proved to come from the system's maker is no impostor.
func impostor(m *machine.Reader, book *program.Book, item *location.Item) bool {
	if book.File(item.Target.Path).Vouched() != "" {
		return false
	}
	file := strings.ToLower(strings.ReplaceAll(item.Target.Path, `\`, "/"))
	if file == "" || item.Target.Exists == nil || !strings.Contains(file, "/") {
		return false
	}
	if m.OS == "windows" && len(file) > 2 && file[1] == ':' {
		file = file[2:]
	}
	// Apple's jobs have labels that begin like this, and nobody else's should. Where the program is missing, as it is
	// of jobs that an update of macOS left behind, nothing wears the name.
	if m.OS == "macos" && *item.Target.Exists && item.Kind() == location.LaunchJob && strings.HasPrefix(item.SystemName,
		"com.apple.") {
		return true
	}
	known := systemNames[m.OS]
	if !slices.Contains(strings.Fields(known.names), path.Base(file)) {
		return false
	}
	// The script of a service bears the service's name wherever an init system keeps its scripts.
	if book.File(item.Target.Path).Official() || item.Kind() == location.InitService &&
		item.Target.Path == item.Source.Path {
		return false
	}
	folders := strings.Fields(known.folders)
	if store := stores[m.OSRelease()["ID"]]; store != "" {
		folders = append(folders, store)
	}
	return !slices.ContainsFunc(folders, func(dir string) bool { return strings.HasPrefix(file, dir+"/") })
}

// findTwins marks enabled entries of one stage that start the same program in the same way for the
// same user. Programs that start others, and what is loaded into programs, are no twins: one
// library serves many hooks.
func findTwins(items []*location.Item) {
	type start struct {
		stage            autostart.Stage
		program, command string
	}
	first := map[start][]*location.Item{}
	for _, item := range items {
		if item.OSPart || item.State != autostart.Enabled || item.Target.Path == "" || item.Stage == autostart.Attach ||
			item.Stage == autostart.Event || StartsOthers(item.Target.Path) {
			continue
		}
		s := start{stage: item.Stage, program: item.Target.Path}
		if item.Stage != autostart.SignIn {
			s.command = item.Command // a service or a task may start a program once for each thing to do
		}
		first[s] = append(first[s], item)
	}
	for _, twins := range first {
		for k, item := range twins {
			for n, other := range twins {
				if n != k && (item.User == "" || other.User == "" || item.User == other.User) {
					item.Problems = appendNew(item.Problems, autostart.Twice)
					break
				}
			}
		}
	}
}

// StartsOthers reports whether a program is one that only starts others.
func StartsOthers(file string) bool {
	base := path.Base(file)
	_, launcher := launchers[base]
	_, host := hosts[hostName(file)]
	return launcher || host || isShell(base) || isInterpreter(base) || base == "run-parts" || base == "open" ||
		base == "true"
}
