// Package taskcache reads what the task scheduler of Windows keeps of a task in the registry, below
// Schedule\TaskCache\Tasks: its actions, in the value Actions, and when it was last started, in DynamicInfo.
// The scheduler runs what stands there, whether the task's file is still there or not.
//
//	actions, err := taskcache.Actions(value.Data)
//
// Microsoft does not document the form; this is what several published readers of it agree on: of the actions a
// version, the name of the principal, then for each action a mark, its id and its texts. Texts are UTF-16 with their
// length in bytes before them.
package taskcache

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"lockback/core/format/windata"
)

// ErrForm says that the bytes are not in the form that is known.
var ErrForm = errors.New("not in a form that is known")

// Action is one thing that a task does.
type Action struct {
	Command, Arguments, Directory string // of a program
	ClassID, Data                 string // of a class
	Other                         string // what it is, if it is neither
}

// The marks of actions.
const (
	program = 0x6666
	class   = 0x7777
	mail    = 0x8888
	message = 0x9999
)

// maxActions is how many actions a task may have, by the scheduler's own rule (MS-TSCH 2.5.7).
const maxActions = 32

// Actions reads the actions. Of what it cannot read to the end it returns what comes before, with
// [ErrForm].
func Actions(b []byte) ([]Action, error) {
	r := reader{b}
	version, ok := r.word()
	if !ok || version == 0 || version > 3 {
		return nil, fmt.Errorf("%w: version %d", ErrForm, version)
	}
	if version > 1 {
		if _, ok = r.text(); !ok {
			return nil, ErrForm
		}
	}
	var all []Action
	for len(r.b) > 0 {
		if len(all) == maxActions {
			return all, ErrForm
		}
		mark, ok := r.word()
		if _, there := r.text(); !ok || !there {
			return all, ErrForm
		}
		var a Action
		switch mark {
		case program:
			ok = r.texts(&a.Command, &a.Arguments, &a.Directory)
			if version == 3 && ok {
				_, ok = r.word()
			}
		case class:
			if len(r.b) < 16 {
				return all, ErrForm
			}
			a.ClassID = windata.GUID(r.b[:16])
			r.b = r.b[16:]
			ok = r.texts(&a.Data)
		case mail:
			a.Other = "SendEmail"
		case message:
			a.Other = "ShowMessage"
		default:
			return all, fmt.Errorf("%w: mark %#x", ErrForm, mark)
		}
		if !ok {
			return all, ErrForm
		}
		all = append(all, a)
		if a.Other != "" {
			return all, nil // what follows is theirs
		}
	}
	return all, nil
}

// LastStart reads when a task was last started from the value DynamicInfo: a version, when it was registered and when
// it was started, both in FILETIME, and more that later versions have. It is zero where it never was, or the form is
// another.
func LastStart(b []byte) time.Time {
	const version, started = 3, 12
	if len(b) < 28 || binary.LittleEndian.Uint32(b) != version {
		return time.Time{}
	}
	return windata.Time(binary.LittleEndian.Uint64(b[started:]))
}

type reader struct{ b []byte }

func (r *reader) word() (uint16, bool) {
	if len(r.b) < 2 {
		return 0, false
	}
	n := binary.LittleEndian.Uint16(r.b)
	r.b = r.b[2:]
	return n, true
}

func (r *reader) text() (string, bool) {
	if len(r.b) < 4 {
		return "", false
	}
	n := binary.LittleEndian.Uint32(r.b)
	if uint64(n) > uint64(len(r.b)-4) {
		return "", false
	}
	t := windata.Decode(r.b[4 : 4+n])
	r.b = r.b[4+n:]
	return t, true
}

func (r *reader) texts(to ...*string) bool {
	for _, t := range to {
		var ok bool
		if *t, ok = r.text(); !ok {
			return false
		}
	}
	return true
}
