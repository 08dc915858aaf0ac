package check

import (
	"bytes"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/format/windata"
	"lockback/core/location/table"
)

// signs are what a program has in its text that makes an entry, in small letters.
type signs struct {
	// names say it wherever they stand: the entry's file, its place, its unit or its value.
	names []string
	// words say it in a line with the system's own tool: a plain name, or the program that the entry starts.
	words []string
	// line is the program of an entry that is a line of a file, which says it in a line that writes one.
	line string
	// folder is where the entry lies, its last two parts.
	folder string
	// value is the name of a registry value.
	value string
}

// apart is what names have in them that are no words of any language.
const apart = ".-_ "

// signsOf are those of an entry; shared says that other entries stand in its file.
func signsOf(e *autostart.Entry, shared bool) signs {
	if shared && e.Source.Line > 0 {
		return signs{line: plain(e.Target.Path)}
	}
	var s signs
	name := func(text string) {
		switch {
		case len(text) >= 5 && strings.ContainsAny(text, "/"+apart): // a plain word says nothing
			s.names = append(s.names, text)
		case len(text) >= 3:
			s.words = append(s.words, text)
		}
	}
	own, place := plain(e.SystemName), plain(e.Source.Path)
	if !strings.HasPrefix(own, ".") { // many have to do with a .bashrc
		name(strings.TrimPrefix(own, "/")) // a task's has its folders
	}
	dir, base := path.Split(place)
	dir = strings.TrimSuffix(dir, "/")
	switch {
	case strings.HasPrefix(place, "hk"):
		s.value = plain(e.Source.Key)
		name(s.value)
		s.words = append(s.words, plain(e.Target.Path))
		s.folder = lastTwo(place)
	case !strings.HasPrefix(own, "/"):
		if !strings.HasPrefix(base, ".") {
			name(base)
		}
		if e.Source.Line > 0 && path.Ext(base) == "" { // a crontab with one line
			s.line = plain(e.Target.Path)
		}
		name(lastTwo(place))
		s.folder = lastTwo(dir)
	}
	for _, ending := range []string{".service", ".timer", ".socket", ".path", ".mount", ".plist"} {
		if stem, has := strings.CutSuffix(own, ending); has && len(stem) >= 3 {
			s.words = append(s.words, stem)
		}
	}
	return s
}

// plain is a text in small letters, with the slashes of either system alike.
func plain(text string) string { return strings.ToLower(strings.ReplaceAll(text, `\`, "/")) }

// lastTwo are the last two parts of a path; empty where it has no more.
func lastTwo(place string) string {
	parts := strings.Split(place, "/")
	if len(parts) < 3 {
		return ""
	}
	return strings.Join(parts[len(parts)-2:], "/")
}

// line is one of what an entry runs, as [plain] makes it.
type line struct {
	text string
	// tool says that it makes entries or turns them on by the system's own tool, writes that it may write a line of a
	// file.
	tool, writes bool
}

// Bounds of what is looked through.
const (
	maxScript  = 256 << 10 // bytes of a script
	maxScripts = 16        // that one script or unit names
	maxText    = 4 << 20   // bytes of all scripts
	maxBinary  = 32 << 20  // bytes of a program that is not text
	maxRead    = 256 << 20 // bytes of all of these
)

// script is a program that can be read.
type script struct {
	text  string
	plain string
	lines []line // taken apart where something of what is sought stands in it
}

func newScript(text string) *script {
	return &script{text: text, plain: plain(goesOn().ReplaceAllString(text, " "))}
}

// runs reads the command of an entry, the script that it starts, and those that these name.
func (f *finder) runs(e *autostart.Entry) []*script {
	main := f.script(e.Target.Path)
	names := append(pathsIn(e.Command), pathsIn(main.text)...)
	if table.Kind(e).IsUnit() { // ExecStartPre and others
		names = append(names, pathsIn(f.script(e.Source.Path).text)...)
	}
	slices.Sort(names)
	names = slices.DeleteFunc(slices.Compact(names), func(name string) bool {
		return name == e.Target.Path || name == e.Source.Path || !f.isScript(name)
	})
	all := []*script{newScript(e.Command), main}
	for _, name := range names[:min(len(names), maxScripts)] {
		all = append(all, f.script(name))
	}
	return all
}

// linesOf are those of a script that say anything: comments do not, nor does what stops an entry, restarts it or asks
// for it.
func linesOf(plain string) (all []line) {
	for text := range strings.Lines(plain) {
		byTool := tool().MatchString(text)
		if !comment().MatchString(text) && (!byTool || makes().MatchString(text) &&
			!strings.Contains(text, "disabled")) {
			all = append(all, line{text, byTool, writes().MatchString(text)})
		}
	}
	return all
}

// paths are whole ones of either kind of system, without spaces.
var paths = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)/[\w.+@-]+(?:/[\w.+@-]+)+|\b[a-z]:\\[^\s"'<>|*?;,]+`)
})

func pathsIn(text string) []string { return paths().FindAllString(text, -1) }

// scriptEnding is that of a file which an interpreter runs.
var scriptEnding = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(?i)\.(sh|bash|py|pl|rb|ps1|cmd|bat|vbs|js|reg)$`)
})

// isScript reports whether a file is a program that can be read.
func (f *finder) isScript(name string) bool {
	text := f.script(name).text
	return strings.HasPrefix(text, "#!") || scriptEnding().MatchString(name) && text != ""
}

// script reads a file that the processor does not run, once; of any other it is empty.
func (f *finder) script(name string) *script {
	if s, known := f.scripts[name]; known {
		return s
	}
	s := &script{}
	if f.text < maxText && name != "" {
		b, err := f.Machine.ReadFile(name, maxScript)
		f.text += len(b)
		if wide, is := bytes.CutPrefix(b, []byte{0xff, 0xfe}); is { // as Windows' own editors save scripts, too
			b = []byte(windata.Decode(wide))
		}
		if err == nil && !slices.Contains(b[:min(len(b), 4096)], 0) {
			s = newScript(string(b))
		}
	}
	f.scripts[name] = s
	return s
}

// mention is what a text has of an entry.
type mention struct{ named, folder bool }

var (
	// goesOn is a line that goes on in the next, in each of the languages.
	goesOn = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile("[\\\\^`]\\r?\\n") })
	// comment is a line that is not run.
	comment = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^\s*(#|rem\s|::|;)`) })
	// tool is a program of the system by which entries are made, turned on and off.
	tool = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(
			`(?i)(?:^|[\s;&|("'=@])(?:(?:[a-z]:|%\w+%|\$[\w:{}]+)?/\S*/)?(?:systemctl|deb-systemd-helper|service|update-rc\.d|rc-update|chkconfig|insserv|launchctl|defaults|osascript|sc|schtasks|reg|(?:new|set|remove|clear|get|stop|start|restart)-(?:itemproperty|service)|(?:register|enable|disable|unregister|set)-scheduledtask)(?:\.exe)?["']?\s`)
	})
	// makes are the words of these tools by which an entry is there and on afterwards.
	makes = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(
			`(?:^|[\s/"'(;&|])(?:enable|reenable|preset|preset-all|link|unmask|add-wants|add-requires|defaults|on|load|bootstrap|submit|create|add|start= *(?:auto|delayed-auto|demand|system|boot)|import|write|update-state|make|(?:new|set)-(?:itemproperty|service)|(?:register|enable|set)-scheduledtask)(?:[\s"')]|$)`)
	})
	// writes is how a line comes into a file.
	writes = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(
			`>>?|\bcrontab\b|\btee\b|\bsed\b|\bcp\b|\binstall\b|\bwrite|\badd-content\b|\bprintf\b|\becho\b`)
	})
)

// in looks for an entry in what another one runs. What was read is looked through once.
func (s signs) in(runs []*script, read map[*script]mention) (all mention) {
	for _, one := range runs {
		f, known := read[one]
		if !known {
			f = s.find(one)
			read[one] = f
		}
		all.named, all.folder = all.named || f.named, all.folder || f.folder
	}
	return all
}

func (s signs) find(in *script) (f mention) {
	has := func(texts ...string) bool {
		return slices.ContainsFunc(texts, func(text string) bool {
			return text != "" &&
				strings.Contains(in.plain, text)
		})
	}
	if !has(s.names...) && !has(s.words...) && !has(s.line, s.folder) {
		return mention{}
	}
	if in.lines == nil {
		in.lines = linesOf(in.plain)
	}
	for _, l := range in.lines {
		f.named = f.named || anyWord(l.text, s.names) || l.tool && anyWord(l.text, s.words) ||
			l.writes && s.line != "" && anyWord(l.text, []string{s.line})
		f.folder = f.folder || s.folder != "" && anyWord(l.text, []string{s.folder})
	}
	return f
}

// anyWord reports whether one of the texts stands in a line, and is not the middle of a longer name.
func anyWord(line string, texts []string) bool {
	return slices.ContainsFunc(texts, func(text string) bool {
		for at := 0; ; {
			k := strings.Index(line[at:], text)
			if k < 0 {
				return false
			}
			k += at
			if end := k + len(text); (k == 0 || !inName(line[k-1])) && (end == len(line) || !inName(line[end])) {
				return true
			}
			at = k + 1
		}
	})
}

func inName(c byte) bool {
	return c == '_' || c == '-' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 0x80
}

// holds reports whether a program for the processor has one of the names in it.
func (f *finder) holds(program string, s signs) bool {
	if program == "" || f.script(program).text != "" {
		return false
	}
	has, known := f.inside[program]
	if !known {
		has = f.look(program)
		f.inside[program] = has
	}
	return slices.ContainsFunc(s.names, func(name string) bool { return has[name] })
}

// look looks in a program for all names that are sought, without their folders, in one byte a letter or in two.
func (f *finder) look(program string) map[string]bool {
	if f.binary >= maxRead {
		return nil
	}
	b, err := f.Machine.ReadFile(program, maxBinary)
	if err != nil {
		return nil
	}
	f.binary += int64(len(b))
	for k, c := range b {
		if c >= 'A' && c <= 'Z' {
			b[k] = c | 0x20
		}
	}
	has := map[string]bool{}
	for _, name := range f.sought {
		text := path.Base(name)
		if !strings.ContainsAny(text, apart) {
			text = strings.ReplaceAll(name, "/", `\`) // a task's: its last part alone says nothing
		}
		if _, known := has[name]; !known {
			has[name] = bytes.Contains(b, []byte(text)) || bytes.Contains(b, windata.Encode(text))
		}
	}
	return has
}
