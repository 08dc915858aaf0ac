package win

import (
	"errors"
	"strings"

	"lockback/core/format/taskxml"
	"lockback/core/machine/artifact"
)

// The ways in which a task signs in, TASK_LOGON_TYPE of taskschd.h.
const (
	logonPassword    = 1
	logonS4U         = 2 // for the user, without a password
	logonInteractive = 3
	logonGroup       = 4
	logonService     = 5
	logonEither      = 6 // interactive, or by a password
)

// logonTypes are the words that definitions have for some of them, "Task Scheduler Schema", logonType.
var logonTypes = map[string]int{"Password": logonPassword, "S4U": logonS4U, "InteractiveToken": logonInteractive,
	"InteractiveTokenOrPassword": logonEither}

// logonOf is the way in which a task of a definition signs in.
func logonOf(t *taskxml.Task) int {
	switch {
	case t.GroupID != "":
		return logonGroup
	case isServiceAccount(t.UserID):
		return logonService
	}
	if logon, ok := logonTypes[t.LogonType]; ok {
		return logon
	}
	return logonInteractive
}

func isServiceAccount(id string) bool {
	switch strings.ReplaceAll(strings.TrimPrefix(strings.ToUpper(id), `NT AUTHORITY\`), " ", "") {
	case "S-1-5-18", "S-1-5-19", "S-1-5-20", "SYSTEM", "LOCALSERVICE", "NETWORKSERVICE":
		return true
	}
	return false
}

// ErrPassword says that a task signs in by a password, which only the scheduler has. It keeps it while a task is
// turned off and on; registering the task again needs it.
var ErrPassword = errors.New("the task signs in by a password that only the scheduler has; register it in Task " +
	"Scheduler with that password")

// registrable fails with [ErrPassword] where a definition cannot be brought from one image to another by turning
// the task off or on, and would have to be registered.
func registrable(before, after artifact.Image) error {
	if after.Kind != artifact.Regular {
		return nil
	}
	t, err := taskxml.Parse(after.Content)
	if err != nil || logonOf(t) != logonPassword && logonOf(t) != logonEither {
		return nil
	}
	if before.Kind == artifact.Regular {
		if switched, err := taskxml.SetEnabled(before.Content, t.Enabled); err == nil &&
			taskxml.Equal(switched, after.Content) {
			return nil
		}
	}
	if logonOf(t) == logonEither {
		return nil // it goes on where its user is signed in
	}
	return ErrPassword
}
