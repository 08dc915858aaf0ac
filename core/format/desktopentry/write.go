package desktopentry

import (
	"strings"
	"unicode"
)

// New makes the group "Desktop Entry" of a new file, with its keys in their order. Values are texts as a reader of the
// file gets them; they are escaped for the file.
func New(keys [][2]string) []byte {
	var b strings.Builder
	b.WriteString("[Desktop Entry]\n")
	for _, k := range keys {
		b.WriteString(k[0] + "=" + Escape(k[1]) + "\n")
	}
	return []byte(b.String())
}

// Escape escapes what would not be read again as it is: "Possible value types" of the Desktop Entry Specification.
func Escape(s string) string {
	s = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\t", `\t`, "\r", `\r`).Replace(s)
	if strings.HasPrefix(s, " ") {
		s = `\s` + s[1:]
	}
	return s
}

// JoinExec makes the value of Exec of a program and its arguments, as [SplitExec] takes it apart again: "The Exec key"
// of the specification wants what has a reserved character in quotes, and a percent sign twice.
func JoinExec(argv []string) string {
	words := make([]string, len(argv))
	for k, arg := range argv {
		arg = strings.ReplaceAll(arg, "%", "%%")
		if arg == "" || strings.ContainsAny(arg, "\"'\\><~|&;$*?#()`") || strings.ContainsFunc(arg, unicode.IsSpace) {
			arg = `"` + strings.NewReplacer(`"`, `\"`, "`", "\\`", `$`, `\$`, `\`, `\\`).Replace(arg) + `"`
		}
		words[k] = arg
	}
	return strings.Join(words, " ")
}
