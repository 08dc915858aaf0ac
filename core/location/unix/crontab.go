package unix

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/crontab"
	"lockback/core/format/shellcommand"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// The largest table that is read, in bytes and lines, without the marks of what is
// turned off.
const (
	maxTable = 4 << 20
	maxLines = 100_000
)

// Crontabs is the form of cron's tables. A folder of people's tables has one for each, by
// their names.
type Crontabs struct {
	// Accepts says which names of a folder count; all where nil.
	Accepts func(s *location.Survey, name string) bool
	// Ignored tells why cron skips a whole table; nil where it never does.
	Ignored func(s *location.Survey, owner string, info fs.FileInfo) string
	// Personal says that a table belongs to the person it is named after, and has no user field.
	Personal bool
}

// Word is [autostart.Comment].
func (Crontabs) Word() autostart.Switch { return autostart.Comment }

// Read reports the lines of the tables.
func (c Crontabs) Read(s *location.Survey, places []location.Place) {
	s.Each(places, func(f location.Found) {
		name := path.Base(f.Path)
		if f.Dir != "" && c.Accepts != nil && !c.Accepts(s, name) {
			return
		}
		owner := ""
		if c.Personal {
			owner = name
		}
		var ignored func(fs.FileInfo) string
		if c.Ignored != nil {
			ignored = func(info fs.FileInfo) string { return c.Ignored(s, owner, info) }
		}
		Crontab(s, f.Path, owner, ignored)
	})
}

// Crontab reports the lines of one table. A table without an owner is the system's, with a user
// field. ignored says why the machine's cron skips the whole table; nil where it never is.
func Crontab(s *location.Survey, file, owner string, ignored func(info fs.FileInfo) string) {
	// Marks of ours make a table longer; they must not make it too long.
	content, info, err := s.ReadFileInfo(file, 2*maxTable)
	unmarked := len(content) - bytes.Count(content, []byte(crontab.OffMark))*len(crontab.OffMark)
	lines := bytes.Count(content, []byte{'\n'})
	switch {
	case err != nil:
	case unmarked > maxTable:
		err = &fs.PathError{Op: "read", Path: file, Err: fmt.Errorf("%w: %d bytes, at most %d are read",
			files.ErrTooLarge, unmarked, maxTable)}
	case lines > maxLines:
		err = &fs.PathError{Op: "read", Path: file, Err: fmt.Errorf("%w: %d lines, at most %d are read",
			files.ErrTooLarge, lines, maxLines)}
	}
	if err != nil {
		s.Skip(file, err)
		return
	}
	s.Found()
	table := crontab.Parse(content, owner == "")
	why := ""
	if ignored != nil {
		why = ignored(info)
	}
	if broken := table.Broken(); broken != "" && why == "" {
		why = broken
	}
	artifacts := Files(file)
	jobs := table.Jobs()
	// What the lines have in common is kept once, and what each has stands side by side.
	in := &cronTable{file: file, system: owner == ""}
	items, switches, words := make([]location.Item, len(jobs)), make([]cronLine, len(jobs)), make([]string, 3*len(jobs))
	runsAs := map[string]func() []location.Fact{}
	schedules := map[string]string{} // each in words, once
	spoken := func(schedule string) string {
		words, known := schedules[schedule]
		if !known {
			words = crontab.Words(schedule)
			schedules[schedule] = words
		}
		return words
	}
	for k := range jobs {
		l, item, argv := &jobs[k], &items[k], words[3*k:3*k+3:3*k+3]
		command, waits := delayed(l.Command)
		argv[0], argv[1], argv[2] = "/bin/sh", "-c", beforePercent(command)
		if waitingShells[path.Base(l.Shell)] {
			argv[0] = l.Shell
		}
		switches[k] = cronLine{in, l}
		*item = location.Item{
			Entry: autostart.Entry{
				User: autostart.Text(owner), Name: cronName(*l), State: autostart.Enabled, When: spoken(l.Schedule),
				Command: l.Command,
				Source:  autostart.Source{Path: file, Line: int(l.Number)},
			},
			Artifacts: artifacts,
			Argv:      argv,
			Switcher:  &switches[k],
		}
		if l.User != "" {
			if runsAs[l.User] == nil {
				user := l.User
				runsAs[user] = func() []location.Fact {
					return []location.Fact{{Name: "runs as", Value: user,
						Basis: file}}
				}
			}
			item.Facts = runsAs[l.User]
		}
		if l.Schedule == "@reboot" {
			item.Stage, item.Effect = autostart.System, location.AtNextStart
		}
		if waits > 0 {
			item.When += ", after " + location.DelayWords(waits)
		}
		if l.Kind == crontab.Bad {
			item.When, item.Problems, item.Argv = "", append(item.Problems, autostart.Unparsable), nil
		}
		if why != "" {
			item.State, item.Mode, item.Ignored = autostart.Disabled, "", why
			item.Problems = append(item.Problems, autostart.Ignored)
		}
		if l.Off {
			item.State, item.Mode, item.Ignored = autostart.Disabled, "commented out", ""
		}
		s.Add(file+"\x00"+l.User+"\x00"+l.Command, item)
	}
}

// waitingShells are those that take "sleep 60; …" as [cronLine.Delay] means it.
var waitingShells = map[string]bool{"sh": true, "dash": true, "bash": true, "zsh": true, "ksh": true, "mksh": true}

// delayed takes the time that a command waits first off it, as [cronLine.Delay] writes it.
func delayed(command string) (rest string, waits time.Duration) {
	word, rest, ok := strings.Cut(command, "; ")
	number, sleeps := strings.CutPrefix(word, "sleep ")
	seconds, err := strconv.Atoi(number)
	if !ok || !sleeps || err != nil || seconds < 1 || seconds > 1<<30 {
		return command, 0
	}
	return rest, time.Duration(seconds) * time.Second
}

// cronName words a line for a list: the program's name, because that is what a
// technician looks for.
func cronName(l crontab.Line) string {
	commands, _ := shellcommand.Parse(l.Command)
	for _, c := range commands {
		if c[0].Text == "test" || c[0].Text == "[" {
			continue // it only asks whether something is there
		}
		for _, word := range c {
			if name := path.Base(word.Text); path.IsAbs(word.Text) && name != "/" && !onlyStarts[name] {
				return name
			}
		}
	}
	if f := strings.Fields(l.Command); len(f) > 0 && l.Kind == crontab.Job {
		return path.Base(f[0])
	}
	return "line " + fmt.Sprint(l.Number)
}

// onlyStarts are programs that only test or start another one.
var onlyStarts = map[string]bool{"sh": true, "bash": true, "env": true, "test": true, "nice": true, "ionice": true}

// beforePercent is the part of a cron command that the shell gets: a % begins the standard input, unless a backslash
// stands before it, which is taken away (do_command.c).
func beforePercent(command string) string {
	if !strings.Contains(command, "%") {
		return command
	}
	var b strings.Builder
	for k := 0; k < len(command); k++ {
		switch c := command[k]; {
		case c == '%':
			return b.String()
		case c == '\\' && k+1 < len(command):
			if k++; command[k] != '%' {
				b.WriteByte(c)
			}
			b.WriteByte(command[k])
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// cronTable is what the lines of a crontab have in common.
type cronTable struct {
	file   string
	system bool
}

// cronLine is the switch of one line of a crontab: a comment before it.
type cronLine struct {
	in   *cronTable
	line *crontab.Line
}

func (*cronLine) Word() autostart.Switch { return autostart.Comment }

// Part is the line.
func (c *cronLine) Part() part.Part {
	return part.NewLine(c.in.file, int(c.line.Number), c.line.Text())
}

func (c *cronLine) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	edits, errs := c.PlanGroup(images, want, []location.Switcher{c})
	return edits, errs[0]
}

// Delay turns a line for the start of the machine off and writes another one behind it that waits: cron has no delay.
// What runs by the clock has a time already.
func (c *cronLine) Delay(_ *machine.Reader, images location.Images, item *location.Item, d time.Duration,
	now time.Time) (location.Later, error) {
	later := location.Later{Off: true, Note: "cron has no delay, so another line waits in its shell and runs the same"}
	if c.line.Schedule != "@reboot" || c.line.Kind != crontab.Job {
		return later, fmt.Errorf("%w: it runs by the clock", location.ErrNoDelay)
	}
	image, err := images.Image(c.Group())
	if err != nil {
		return later, err
	}
	if image.Kind == artifact.Symlink {
		return later, fmt.Errorf("%w: %s is a link", location.ErrNoDelay, c.in.file)
	}
	table := crontab.Parse(image.Content, c.in.system)
	if why := table.Broken(); why != "" {
		return later, fmt.Errorf("%w: cron passes %s over: %s", location.ErrNoDelay, c.in.file, why)
	}
	line, ok := c.find(table)
	if !ok {
		return later, fmt.Errorf("the line is no longer in %s; list again", c.in.file)
	}
	if !waitingShells[path.Base(line.Shell)] {
		return later, fmt.Errorf("%w: %s runs it with %s, which is no shell that is known to wait", location.ErrNoDelay,
			c.in.file, line.Shell)
	}
	command, _ := delayed(line.Command)
	command = fmt.Sprintf("sleep %d; %s", int(d.Seconds()), command)
	words := []string{line.Schedule, line.User, command}
	if !c.in.system {
		words = []string{line.Schedule, command}
	}
	later.Made = &location.Made{Location: item.Location, User: item.User, Key: c.in.file + "\x00" + line.User + "\x00" +
		command}
	if slices.ContainsFunc(table.Lines, func(l crontab.Line) bool {
		return l.Kind == crontab.Job &&
			l.User == line.User && l.Command == command
	}) {
		return later, fmt.Errorf("%w: such a line is there already", location.ErrNoDelay)
	}
	table.SetOff(line.Number, true)
	later.Made.Edits = []location.Edit{{Artifact: c.Group(), Image: image.WithContent(table.With(line.Number,
		strings.Join(words, " ")), now)}}
	return later, nil
}

// Group is the table that the line stands in.
func (c *cronLine) Group() artifact.Artifact { return artifact.File(c.in.file) }

// PlanGroup switches several lines of the table.
func (c *cronLine) PlanGroup(images location.Images, want location.Want, group []location.Switcher) ([]location.Edit,
	[]error) {
	return InOnePass(images, want, c.Group(), len(group), func(image artifact.Image) (artifact.Image, []error, error) {
		if image.Kind == artifact.Symlink {
			return image, nil, fmt.Errorf("%w: %s is a link; switch the entry at %s", location.ErrNoSwitch, c.in.file,
				image.Target)
		}
		errs := make([]error, len(group))
		table := crontab.Parse(image.Content, c.in.system)
		for k, other := range group {
			c := other.(*cronLine)
			l, ok := c.find(table)
			switch {
			case c.line.Kind == crontab.Bad && want.State == autostart.Enabled && !c.line.Off:
				errs[k] = fmt.Errorf("%w: cron cannot parse the line", location.ErrNoSwitch)
			case !ok:
				errs[k] = fmt.Errorf("the line is no longer in %s; list again", c.in.file)
			default:
				table.SetOff(l.Number, want.State == autostart.Disabled)
			}
		}
		return image.WithContent(table.Bytes(), want.Now), errs, nil
	})
}

// find returns the line in a table of now: at its old number, else anywhere.
func (c *cronLine) find(t *crontab.Table) (crontab.Line, bool) {
	is := func(l crontab.Line) bool {
		return l.Kind == c.line.Kind && l.Command == c.line.Command && l.User == c.line.User &&
			l.Schedule == c.line.Schedule
	}
	if n := c.line.Number; int(n) <= len(t.Lines) && is(t.Lines[n-1]) {
		return t.Lines[n-1], true
	}
	for _, l := range t.Lines {
		if is(l) {
			return l, true
		}
	}
	return crontab.Line{}, false
}
