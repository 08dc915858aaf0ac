package identify

import (
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/windata"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
)

// windowsNames are the names of an entry all of whose programs lie in the system's own folders: of a
// service or driver its own, of a task its path, of anything else that of its program's file.
func windowsNames(m *machine.Reader, item *location.Item) []string {
	e := &item.Entry
	if e.User != "" && item.Kind() != location.ScreenSaver && item.Kind() != location.Task {
		return nil
	}
	if item.Foreign {
		return nil
	}
	for t := range programsOf(item) {
		if !inWindows(m, t) {
			return nil
		}
	}
	switch item.Kind() {
	case location.Service, location.DriverService:
		if e.Source.Key != "" {
			return nil // a command beside the service, which is no part of it
		}
		return []string{lastElement(e.Source.Path)}
	case location.SafeModeName:
		return []string{e.Name}
	case location.Task:
		if _, path, ok := cutAnywhere(e.Source.Path, `\System32\Tasks`); ok {
			return []string{path}
		}
		return nil
	}
	return []string{lastElement(e.Target.Path)}
}

// windowsRuns are an item's programs in the ways in which the catalogue may have them.
func windowsRuns(m *machine.Reader, item *location.Item) [][]string {
	actions := item.Actions
	if len(actions) == 0 {
		actions = []location.Action{{Line: item.CommandLine, Program: item.Target}}
	}
	if (item.Kind() == location.Service || item.Kind() == location.SafeModeName) && len(actions) > 1 {
		actions = actions[1:] // the first is the system's host of the library
	}
	all := make([][]string, len(actions))
	for k, a := range actions {
		all[k] = []string{lastElement(a.Program.Path)}
		if a.Class {
			all[k] = append(all[k], "class")
		}
		// The program that stands in the command may only start the one that was found.
		word, rest := nextWord(m.Expand(a.Line, item.For))
		if rest = strings.Join(strings.Fields(rest), " "); rest != "" {
			all[k] = append(all[k], strings.TrimSuffix(strings.ToLower(lastElement(word)), ".exe")+".exe "+rest)
		}
	}
	return all
}

// cutAnywhere cuts around a part of a path, without regard to case.
func cutAnywhere(s, part string) (before, after string, ok bool) {
	k := strings.Index(windata.LowerASCII(s), windata.LowerASCII(part))
	if k < 0 {
		return s, "", false
	}
	return s[:k], s[k+len(part):], true
}

// writable are folders below System32 that others than the system may write in.
var writable = []string{`Tasks`, `spool\drivers\color`, `spool\PRINTERS`, `spool\SERVERS`,
	`Microsoft\Crypto\RSA\MachineKeys`, `com\dmp`, `FxsTmp`, `LogFiles`, `config`}

// inWindows reports whether a program is there, and lies in the system's own folders:
// C:\Temp\svchost.exe is no part of the system.
func inWindows(m *machine.Reader, t autostart.Target) bool {
	if t.Exists == nil || !*t.Exists || !artifact.OnDrive(t.Path) {
		return false
	}
	for _, dir := range writable {
		if _, in := cutFold(t.Path, m.Windows()+`\System32\`+dir+`\`); in {
			return false
		}
	}
	roots := []string{m.Windows() + `\System32\`, m.Windows() + `\SysWOW64\`, m.Windows() + `\servicing\`, m.Windows() +
		`\Microsoft.NET\`, m.Windows() + `\explorer.exe`,
		m.Windows() + `\PLA\`, m.Windows() + `\ehome\`, m.Windows() + `\regedit.exe`, m.Windows() + `\SystemApps\`,
		m.Windows() + `\WinSxS\`,
		m.Variable("programfiles") + `\Windows Defender\`, m.Variable("programfiles") +
			`\Windows Defender Advanced Threat Protection\`, m.Variable("programdata") + `\Microsoft\Windows Defender\`,
		m.Variable("programfiles") + `\Windows Media Player\`, m.Variable("programfiles") + `\Internet Explorer\`,
		m.Variable("programfiles(x86)") + `\Microsoft\Edge\Application\`,
		m.Variable("programfiles(x86)") + `\Microsoft\EdgeUpdate\`}
	for _, root := range roots {
		if rest, ok := cutFold(t.Path, root); ok && (rest == "" || strings.HasSuffix(root, `\`)) {
			return true
		}
	}
	return false
}
