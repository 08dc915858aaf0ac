package cli

import (
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/spf13/pflag"
)

// lasting are the options that choose the machine and the record: a command that we suggest needs them as they were
// given, or it acts on another machine.
var lasting = []string{"root", "store", "this-is"}

// anywhere are the commands that look at no machine.
var anywhere = []string{"demo", "completion", "config", "help"}

// hints makes commands of this program whole wherever a sentence suggests one: "run lockback recover" is "run lockback
// --root /mnt recover" where the run had that option. It is nil where there is nothing to add.
func (a *app) hints() func(string) string {
	if a.flags == nil {
		return nil
	}
	var options []string
	a.flags.VisitAll(func(f *pflag.Flag) {
		if f.Changed && slices.Contains(lasting, f.Name) {
			options = append(options, "--"+f.Name, forShell(runtime.GOOS, f.Value.String()))
		}
	})
	if a.HintWith != "" {
		options = []string{a.HintWith}
	}
	if len(options) == 0 {
		return nil
	}
	with := strings.Join(options, " ") + " "
	return func(text string) string {
		if !strings.Contains(text, "lockback ") {
			return text
		}
		return a.suggested().ReplaceAllStringFunc(text, func(hint string) string {
			return strings.Replace(hint, "lockback ", "lockback "+with, 1)
		})
	}
}

// whole makes the commands in a text whole, see hints.
func (a *app) whole(text string) string {
	return a.printer().Hinted(text)
}

// suggestions finds commands in sentences. Most runs have nothing to look for.
func suggestions(names []string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp {
		names = slices.DeleteFunc(names, func(name string) bool { return slices.Contains(anywhere, name) })
		// In quotes it is the name of a command, and nothing to type.
		return regexp.MustCompile(`(^|[^"\w])lockback (` + strings.Join(names, "|") + `)\b`)
	})
}

var needsNoQuotes = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_@%+=:,./-]+$`) })

// forShell quotes a word for the shell of a system: of Windows both cmd and PowerShell understand double quotes.
func forShell(system, word string) string {
	switch {
	case system == "windows" && strings.ContainsAny(word, " &()[]{}^=;!'+,`~%$@#") || word == "":
		return `"` + word + `"`
	case system == "windows" || needsNoQuotes().MatchString(word):
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}
