package unitfile

import (
	"strings"
	"unicode"
)

// New makes a unit file of its lines in their order: an assignment is a key and its value, a section its head and
// nothing.
func New(lines [][2]string) []byte {
	var b strings.Builder
	for k, l := range lines {
		switch {
		case strings.HasPrefix(l[0], "[") && k > 0:
			b.WriteString("\n" + l[0] + "\n")
		case strings.HasPrefix(l[0], "["):
			b.WriteString(l[0] + "\n")
		default:
			b.WriteString(l[0] + "=" + l[1] + "\n")
		}
	}
	return []byte(b.String())
}

// Escape makes a text that systemd takes as it is: without specifiers, systemd.unit(5), and without an end that would
// go on in the next line.
func Escape(s string) string {
	return strings.TrimRight(strings.ReplaceAll(s, "%", "%%"), `\`)
}

// JoinCommand makes the value of ExecStart of a program and its arguments, as [SplitCommand] takes it apart again:
// "Command lines" of systemd.service(5) has quotes, escapes, and $ and % twice.
func JoinCommand(argv []string) string {
	words := make([]string, len(argv))
	for k, arg := range argv {
		arg = strings.NewReplacer("%", "%%", "$", "$$", `\`, `\\`, `"`, `\"`, "\t", `\t`).Replace(arg)
		if arg == "" || strings.ContainsAny(arg, `'";`) || strings.ContainsFunc(arg, unicode.IsSpace) {
			arg = `"` + arg + `"`
		}
		words[k] = arg
	}
	return strings.Join(words, " ")
}
