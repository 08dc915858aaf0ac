package crontab

import (
	"regexp"
	"strings"
	"sync"
)

// bare is a word that neither the shell nor cron takes for more than it is.
var bare = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9@+=:,./_-]+$`) })

// JoinCommand makes the command of a line that starts a program with just these arguments. A % ends the command, unless
// a backslash stands before it, which cron takes away, crontab(5). Of two backslashes some crons take one (do_command.c
// of Vixie's and of cronie differ), so none stands beside another one, or before a %: after each, the quotes end and
// begin again.
func JoinCommand(argv []string) string {
	words := make([]string, len(argv))
	for k, arg := range argv {
		if !bare().MatchString(arg) {
			arg = "'" + strings.NewReplacer(`'`, `'"'"'`, `\`, `\''`, `%`, `\%`).Replace(arg) + "'"
		}
		words[k] = arg
	}
	return strings.Join(words, " ")
}
