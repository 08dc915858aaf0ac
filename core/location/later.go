package location

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"lockback/core/machine"
)

// Later is how an entry is made to start later.
type Later struct {
	Edits []Edit
	// Off says that the entry itself is turned off, and that what Made makes starts the same instead.
	Off  bool
	Made *Made
	// Note is what a person should know of it; empty: nothing.
	Note string
}

// Delayer is the switch of an entry that can be made to start later.
type Delayer interface {
	Switcher
	// Delay plans that it starts some time after its stage has come. It fails with [ErrNoDelay] if the system offers no
	// reliable way.
	Delay(m *machine.Reader, images Images, item *Item, d time.Duration, now time.Time) (Later, error)
}

// ErrNoDelay says that an entry cannot be made to start later.
var ErrNoDelay = fmt.Errorf("cannot be delayed here")

// The shell command of [Waiting]: what needs no quotes stands in it, because systemd's generator of sign-in units does
// not take escaped quotes and dollar signs as the Desktop Entry Specification has them; all else is handed to the shell
// as it is.
const (
	waitingHead = "sleep "
	waitingExec = "; exec "
	waitingTail = `"$0" "$@"`
)

// needsNoQuotes is a word that no shell, and no reader of autostart files or units, takes for more than it is.
var needsNoQuotes = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9@+=:,./_-]+$`) })

// Waiting is a command of a Unix system that runs another one after a time, for what has no delay of its own: with the
// shell that every one has. launchd's StartInterval, for example, would run it again and again.
func Waiting(argv []string, delay time.Duration) []string {
	if inner, _, ok := Waited(argv); ok {
		argv = inner
	}
	if delay <= 0 {
		return argv
	}
	script := waitingHead + strconv.Itoa(int(delay.Seconds())) + waitingExec
	if !slices.ContainsFunc(argv, func(arg string) bool { return !needsNoQuotes().MatchString(arg) }) {
		return []string{"/bin/sh", "-c", script + strings.Join(argv, " ")}
	}
	return append([]string{"/bin/sh", "-c", script + waitingTail}, argv...)
}

// Waited takes apart what [Waiting] put together: the command that really runs, and after which time.
func Waited(argv []string) (inner []string, delay time.Duration, ok bool) {
	if len(argv) < 3 || argv[0] != "/bin/sh" || argv[1] != "-c" {
		return nil, 0, false
	}
	number, command, ok := strings.Cut(argv[2], waitingExec)
	number, head := strings.CutPrefix(number, waitingHead)
	seconds, err := strconv.Atoi(number)
	if !ok || !head || err != nil || seconds < 0 || seconds > 1<<30 {
		return nil, 0, false
	}
	switch inner = argv[3:]; {
	case command == waitingTail && len(inner) > 0:
	case len(inner) == 0:
		inner = strings.Split(command, " ")
		if slices.ContainsFunc(inner, func(arg string) bool { return !needsNoQuotes().MatchString(arg) }) {
			return nil, 0, false
		}
	default:
		return nil, 0, false
	}
	return inner, time.Duration(seconds) * time.Second, true
}

// unwait has an entry that waits in a shell say what it really runs, and when.
func unwait(item *Item) {
	inner, delay, ok := Waited(item.Argv)
	if !ok {
		return
	}
	item.Argv = inner
	when := item.When
	if when == "" {
		when = item.Stage.When()
	}
	item.When = strings.TrimPrefix(when+", after "+DelayWords(delay), ", ")
}

// DelayWords says a time as lists do: "20 s", "2 min".
func DelayWords(d time.Duration) string {
	switch {
	case d%(24*time.Hour) == 0 && d > 24*time.Hour:
		return strconv.Itoa(int(d/(24*time.Hour))) + " d"
	case d%time.Hour == 0:
		return strconv.Itoa(int(d/time.Hour)) + " h"
	case d%time.Minute == 0:
		return strconv.Itoa(int(d/time.Minute)) + " min"
	}
	return strconv.Itoa(int(d/time.Second)) + " s"
}
