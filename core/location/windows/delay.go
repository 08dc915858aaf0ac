package windows

import (
	"fmt"
	"strings"
	"time"

	"lockback/core/format/regf"
	"lockback/core/format/taskxml"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
)

// usualServiceDelay is how long after the start of the machine delayed services start, unless AutoStartDelay of the key
// Control says otherwise: "Automatic-Delayed start" of the service control manager.
const usualServiceDelay = 120 * time.Second

// Delay sets the service's own mark. How long all such services wait is one setting of the machine.
func (s startType) Delay(m *machine.Reader, images location.Images, item *location.Item, d time.Duration,
	now time.Time) (location.Later, error) {
	var later location.Later
	start, err := images.Image(artifact.RegistryValue(s.key, "Start"))
	if err != nil {
		return later, err
	}
	if n, ok := start.Value().Number(); !ok || n != startAuto {
		return later, fmt.Errorf("%w: only a service that starts automatically has a delay", location.ErrNoDelay)
	}
	waits := usualServiceDelay
	if services := strings.LastIndex(strings.ToLower(s.key), `\services\`); services > 0 {
		value, err := images.Image(artifact.RegistryValue(s.key[:services]+`\Control`, "AutoStartDelay"))
		if n, ok := value.Value().Number(); err == nil && value.Kind == artifact.Value && ok {
			waits = time.Duration(n) * time.Second
		}
	}
	later.Edits = []location.Edit{{Artifact: artifact.RegistryValue(s.key, "DelayedAutostart"),
		Image: artifact.NewValue(regf.NewNumber("", 1))}}
	later.Note = "Windows starts delayed services about " + location.DelayWords(waits) + " after the start"
	if waits != d {
		later.Note += ", all of them alike, and not after " + location.DelayWords(d)
	}
	return later, nil
}

// Delay sets the delay of the task's triggers, on a running machine: the machine hands the changed definition to the
// scheduler.
func (t taskSwitch) Delay(m *machine.Reader, images location.Images, item *location.Item, d time.Duration,
	now time.Time) (location.Later, error) {
	a := artifact.File(t.file)
	image, err := images.Image(a)
	if err != nil {
		return location.Later{}, err
	}
	content, ok, err := taskxml.SetDelay(image.Content, d)
	if err == nil && !ok {
		err = fmt.Errorf("%w: it starts neither at sign-in nor with the machine", location.ErrNoDelay)
	}
	if err != nil {
		return location.Later{}, err
	}
	return location.Later{Edits: []location.Edit{{Artifact: a, Image: image.WithContent(content, now)}}}, nil
}

// Delay turns the entry off and has the scheduler start the same later: neither Run keys nor Startup folders have a
// delay.
func (a approve) Delay(m *machine.Reader, images location.Images, item *location.Item, d time.Duration,
	now time.Time) (location.Later, error) {
	later := location.Later{Off: true, Note: "Windows has no delay for it, so a task of the scheduler starts the same"}
	if !m.Live {
		return later, fmt.Errorf("%w: a task would have to start it, and that is made by the scheduler of the "+
			"running machine only", location.ErrNoDelay)
	}
	if item.Program == "" {
		return later, fmt.Errorf("%w: what exactly it starts is not known", location.ErrNoDelay)
	}
	name := "Later - " + strings.Map(func(r rune) rune {
		if strings.ContainsRune(notInNames, r) {
			return '-'
		}
		return r
	}, item.Name)
	t := taskxml.New{Description: item.Name + ", later", Command: item.Program, Arguments: item.Rest,
		Trigger: taskxml.AtLogon, Delay: d, Now: now}
	later.Made = &location.Made{Location: "windows.tasks", Key: strings.ToLower(`\` + name)}
	if item.For != nil {
		t.User, later.Made.User = item.For.SID, item.For.Name
	}
	file := m.Windows() + `\System32\Tasks\` + name
	if taken, err := images.Image(artifact.File(file)); err != nil || taken.Kind != artifact.Absent {
		return later, fmt.Errorf("%w: there is a task %s already", location.ErrNoDelay, name)
	}
	later.Made.Edits = []location.Edit{{Artifact: artifact.File(file), Image: newFile(m, t.Encode(), now)}}
	return later, nil
}
