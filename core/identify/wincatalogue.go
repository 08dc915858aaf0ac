package identify

import (
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/windata"
	"lockback/core/machine"
)

// windowsNames are the names of an entry whose program lies in the system's own folders: of a
// service or driver its own, of a task its path, of anything else that of its program's file.
func windowsNames(m *machine.Reader, e *autostart.Entry) []string {
	if e.User != "" && e.Location != "windows.screensaver" || !inWindows(m, e) {
		return nil
	}
	switch e.Location {
	case "windows.services", "windows.drivers":
		return []string{lastElement(e.Source.Path)}
	case "windows.tasks":
		if _, path, ok := cutAnywhere(e.Source.Path, `\System32\Tasks`); ok {
			return []string{path}
		}
		return nil
	}
	return []string{lastElement(e.Target.Path)}
}

// cutAnywhere cuts around a part of a path, without regard to case.
func cutAnywhere(s, part string) (before, after string, ok bool) {
	k := strings.Index(windata.LowerASCII(s), windata.LowerASCII(part))
	if k < 0 {
		return s, "", false
	}
	return s[:k], s[k+len(part):], true
}

// inWindows reports whether the program, as far as it is known, lies in the
// system's own folders: C:\Temp\svchost.exe is no part of the system. A program
// that is not there counts by its place.
func inWindows(m *machine.Reader, e *autostart.Entry) bool {
	p := e.Target.Path
	if p == "" || !machine.OnDrive(p) {
		// A task whose action is a class of the system, a driver of its own.
		return e.Location == "windows.tasks" || e.Location == "windows.services" && e.Command == ""
	}
	roots := []string{m.Windows() + `\System32\`, m.Windows() + `\SysWOW64\`, m.Windows() + `\servicing\`, m.Windows() + `\Microsoft.NET\`, m.Windows() + `\explorer.exe`,
		m.Windows() + `\PLA\`, m.Windows() + `\ehome\`, m.Windows() + `\regedit.exe`, m.Windows() + `\SystemApps\`, m.Windows() + `\WinSxS\`,
		m.Variable("programfiles") + `\Windows Defender`, m.Variable("programdata") + `\Microsoft\Windows Defender\`, m.Variable("programfiles") + `\Windows Media Player\`,
		m.Variable("programfiles") + `\Internet Explorer\`, m.Variable("programfiles(x86)") + `\Microsoft\Edge\Application\`}
	if _, outside := cutFold(p, m.Windows()+`\System32\Tasks\`); outside {
		return false
	}
	for _, root := range roots {
		if _, ok := cutFold(p, root); ok {
			return true
		}
	}
	return false
}
