// Package taskjob reads scheduled tasks of the older kind, files ending in .job,
// as MS-TSCH 2.4 describes them:
//
//	job, err := taskjob.Parse(content)
//	fmt.Println(job.Program, job.Arguments)
package taskjob

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"lockback/core/format/windata"
)

// Job is what a file says.
type Job struct {
	Program    string
	Arguments  string
	WorkingDir string
	Author     string
	Comment    string
	Disabled   bool
	LastRun    time.Time // in the machine's local time; zero where it never ran
	Triggers   int
}

// ErrNotJob says that a file is no job.
var ErrNotJob = errors.New("not a scheduled task's job file")

const (
	fixedSize    = 68
	flagDisabled = 4 // TASK_FLAG_DISABLED of mstask.h
)

// Parse reads a job.
func Parse(b []byte) (*Job, error) {
	if len(b) < fixedSize || binary.LittleEndian.Uint16(b[2:]) != 1 {
		return nil, ErrNotJob
	}
	j := &Job{Disabled: binary.LittleEndian.Uint32(b[48:])&flagDisabled != 0, LastRun: systemTime(b[52:])}
	at := int(binary.LittleEndian.Uint16(b[20:])) // of the program's name
	for _, field := range []*string{&j.Program, &j.Arguments, &j.WorkingDir, &j.Author, &j.Comment} {
		if at+2 > len(b) {
			return nil, fmt.Errorf("%w: it ends early", ErrNotJob)
		}
		n := 2 * int(binary.LittleEndian.Uint16(b[at:]))
		if at += 2; n > len(b)-at {
			return nil, fmt.Errorf("%w: it ends early", ErrNotJob)
		}
		*field = windata.Text(b[at : at+n])
		at += n
	}
	if t := int(binary.LittleEndian.Uint16(b[22:])); t > 0 && t+2 <= len(b) {
		j.Triggers = int(binary.LittleEndian.Uint16(b[t:]))
	}
	return j, nil
}

// systemTime converts a SYSTEMTIME.
func systemTime(b []byte) time.Time {
	n := func(k int) int { return int(binary.LittleEndian.Uint16(b[2*k:])) }
	if n(0) == 0 || n(1) < 1 || n(1) > 12 {
		return time.Time{}
	}
	return time.Date(n(0), time.Month(n(1)), n(3), n(4), n(5), n(6), n(7)*1e6, time.UTC)
}
