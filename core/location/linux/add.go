package linux

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/crontab"
	"lockback/core/format/desktopentry"
	"lockback/core/format/unitfile"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
)

// Where new entries are made: the places of the administrator and of users, never those of packages.
const (
	everyonesAutostart  = "/etc/xdg/autostart"
	administratorsUnits = "/etc/systemd/system"
	personsUnits        = ".config/systemd/user"
	administratorsCron  = "/etc/cron.d"
)

// Add says how an entry is made where the system's own tools would make it: at sign-in an autostart file, at startup a
// unit that multi-user.target wants, by the clock a timer with its service; where systemd does not start the machine,
// or cron is asked for, a table of cron.
func Add(m *machine.Reader, n location.New) (location.Made, error) {
	if err := n.Check(m, nil); err != nil {
		return location.Made{}, err
	}
	forms := map[autostart.Stage][]string{autostart.SignIn: {"autostart"}, autostart.System: {"service", "cron"},
		autostart.Schedule: {"timer", "cron"}}[n.Stage]
	if len(forms) == 0 {
		return location.Made{}, fmt.Errorf("%w: at the stage %s", location.ErrNoForm, n.Stage)
	}
	form, err := n.Choose(forms...)
	if err != nil {
		return location.Made{}, err
	}
	s := location.NewSurvey(m)
	noUnits, noCron := otherInit(s), cronDaemon.off(s)
	if noCron == "" && !isDir(m, administratorsCron) {
		noCron = "there is no " + administratorsCron + ", and not every cron reads one"
	}
	switch {
	case form == "autostart":
		return addAutostart(m, n)
	case form != "cron" && noUnits == "":
		return addUnit(m, n)
	case form != "cron" && n.Form != "":
		return location.Made{}, fmt.Errorf("%w: %s", location.ErrNoForm, noUnits)
	case noCron == "":
		return addCron(m, n)
	case form != "cron":
		noCron = noUnits + "; " + noCron
	}
	return location.Made{}, fmt.Errorf("%w: %s", location.ErrNoForm, noCron)
}

func isDir(m *machine.Reader, name string) bool {
	info, err := m.Stat(name)
	return err == nil && info.IsDir()
}

// maxCronCommand is how long a command may be: Debian's cron refuses a table with a longer one (MAX_COMMAND in its
// cron.h).
const maxCronCommand = 998

// addCron makes a table in cron's folder, for a user by its user field.
func addCron(m *machine.Reader, n location.New) (location.Made, error) {
	made := location.Made{Location: "linux.cron.system", Effect: location.WithinMinute}
	user, schedule := "root", "@reboot"
	if n.User != nil {
		user = n.User.Name
	}
	if n.Stage == autostart.System {
		made.Effect = location.AtNextStart
	} else if schedule = cronSchedule(n); schedule == "" {
		return made, fmt.Errorf("%w: each %s: cron repeats after minutes that an hour is made of, after hours that "+
			"a day is made of, or each day", location.ErrNoForm, location.DelayWords(n.Every))
	}
	command := crontab.JoinCommand(n.Argv)
	if len(command) > maxCronCommand {
		return made, fmt.Errorf("%w: the command has %d bytes, and cron takes %d", location.ErrNoForm, len(command),
			maxCronCommand)
	}
	file := path.Join(administratorsCron, n.FileName())
	if err := location.Free(m, file); err != nil {
		return made, err
	}
	made.Key = file + "\x00" + user + "\x00" + command
	image := n.Owned([]byte("# " + n.Name + "\n" + schedule + " " + user + " " + command + "\n"))
	image.UID, image.GID = 0, 0
	made.Edits = []location.Edit{{Artifact: artifact.File(file), Image: image}}
	return made, nil
}

// cronSchedule is when a new entry runs, as crontab(5) defines it; empty where cron cannot say it.
func cronSchedule(n location.New) string {
	minutes := int(n.Every.Minutes())
	switch {
	case n.Daily:
		return fmt.Sprintf("%d %d * * *", int(n.At.Minutes())%60, int(n.At.Hours()))
	case n.Every%time.Minute != 0:
		return ""
	case minutes < 60 && 60%minutes == 0:
		return fmt.Sprintf("*/%d * * * *", minutes)
	case minutes == 24*60:
		return "0 0 * * *"
	case minutes%60 == 0 && 24%(minutes/60) == 0:
		return fmt.Sprintf("0 */%d * * *", minutes/60)
	}
	return ""
}

func addAutostart(m *machine.Reader, n location.New) (location.Made, error) {
	made := location.Made{Location: "linux.xdg-autostart", Effect: location.AtNextSignIn}
	dir := everyonesAutostart
	if n.User != nil {
		dir, made.User = path.Join(n.User.Home, ".config/autostart"), n.User.Name
	}
	made.Key = n.FileName() + ".desktop"
	file := path.Join(dir, made.Key)
	if err := location.Free(m, file); err != nil {
		return made, err
	}
	made.Edits = []location.Edit{{Artifact: artifact.File(file), Image: n.Owned(AutostartFile(n))}}
	if slices.ContainsFunc(n.Argv, func(arg string) bool { return strings.ContainsAny(arg, "$`\\\"") }) {
		made.Note = "where a desktop has systemd start its sign-in entries, that takes $, `, \" and \\ in " +
			"arguments otherwise than the standard has them"
	}
	return made, nil
}

// AutostartFile is the autostart file of a new entry, as the Desktop Entry Specification defines it. One that is
// delayed waits in a shell of its own: of the sessions, only some know of a key for that.
func AutostartFile(n location.New) []byte {
	return desktopentry.New([][2]string{{"Type", "Application"}, {"Name", n.Name},
		{"Exec", desktopentry.JoinExec(location.Waiting(n.Argv, n.Delay))}})
}

func addUnit(m *machine.Reader, n location.New) (location.Made, error) {
	made := location.Made{Location: "linux.systemd.system", Effect: location.AtNextStart}
	dir, name, starter := administratorsUnits, n.FileName(), "multi-user.target"
	personal := n.User != nil && n.Stage == autostart.Schedule
	if personal {
		made.Location, made.User, dir = "linux.systemd.user", n.User.Name, path.Join(n.User.Home, personsUnits)
		made.Effect = location.AtNextSignIn
	}
	service := [][2]string{{"[Unit]", ""}, {"Description", unitfile.Escape(n.Name)}, {"[Service]", ""},
		{"Type", "simple"}, {"ExecStart", unitfile.JoinCommand(n.Argv)}}
	if n.User != nil && !personal {
		service = append(service, [2]string{"User", unitfile.Escape(n.User.Name)})
	}
	file := func(suffix string) string { return path.Join(dir, name+suffix) }
	suffix := ".service"
	var timer [][2]string
	if n.Stage == autostart.Schedule || n.Delay > 0 {
		suffix, starter = ".timer", "timers.target"
		timer = [][2]string{{"[Unit]", ""}, {"Description", unitfile.Escape(n.Name + ", when it is time")},
			{"[Timer]", ""}}
		switch {
		case n.Delay > 0:
			timer = append(timer, [2]string{"OnBootSec", span(n.Delay)}, [2]string{"AccuracySec", "1s"})
		case n.Daily:
			at := int(n.At.Minutes())
			timer = append(timer, [2]string{"OnCalendar", fmt.Sprintf("*-*-* %02d:%02d:00", at/60, at%60)},
				[2]string{"Persistent", "true"})
		default:
			since := "OnBootSec"
			if personal {
				since = "OnStartupSec"
			}
			made.Note = n.IntervalNote()
			timer = append(timer, [2]string{since, span(n.Every)}, [2]string{"OnUnitActiveSec", span(n.Every)})
			if n.Every < time.Hour {
				timer = append(timer, [2]string{"AccuracySec", "1s"}) // systemd may be a minute late else
			}
		}
		timer = append(timer, [2]string{"[Install]", ""}, [2]string{"WantedBy", starter})
	} else {
		service = append(service, [2]string{"[Install]", ""}, [2]string{"WantedBy", starter})
	}
	made.Key = name + suffix
	link := path.Join(dir, starter+".wants", name+suffix)
	for _, f := range []string{file(".service"), file(".timer"), link} {
		if err := location.Free(m, f); err != nil {
			return made, err
		}
	}
	// A unit of a package must not be taken for this one.
	for _, other := range []string{"/usr/lib/systemd/system/", "/lib/systemd/system/", "/usr/lib/systemd/user/"} {
		if err := location.Free(m, other+name+".service"); err != nil {
			return made, err
		}
	}
	made.Edits = append(made.Edits, location.Edit{Artifact: artifact.File(file(".service")),
		Image: n.Owned(unitfile.New(service))})
	if timer != nil {
		made.Edits = append(made.Edits, location.Edit{Artifact: artifact.File(file(".timer")),
			Image: n.Owned(unitfile.New(timer))})
	}
	owner := n.Owned(nil)
	if !personal {
		owner.UID, owner.GID = 0, 0
		for k := range made.Edits {
			made.Edits[k].Image.UID, made.Edits[k].Image.GID = 0, 0
		}
	}
	made.Edits = append(made.Edits, location.Edit{Artifact: artifact.File(link), Image: artifact.NewLink(file(suffix),
		owner.UID, owner.GID, n.Now)})
	return made, nil
}

// span is a time span as systemd.time(7) defines it, and as systemd-analyze timespan words it: "1h 30min", "90s" as
// "1min 30s".
func span(d time.Duration) string {
	var parts []string
	for _, unit := range []struct {
		length time.Duration
		name   string
	}{{time.Hour, "h"}, {time.Minute, "min"}, {time.Second, "s"}} {
		if n := d / unit.length; n > 0 {
			parts = append(parts, strconv.Itoa(int(n))+unit.name)
			d -= n * unit.length
		}
	}
	return strings.Join(parts, " ")
}
