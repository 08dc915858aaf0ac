package demo

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// typical are the computers as a technician meets them; collections have an entry of every kind that the program knows.
var (
	typical     = []string{"office-laptop", "gallery-mac", "reading-room"}
	collections = []string{"workshop-box", "ticket-desk-pc", "archive-mac"}
)

// machines are the computers of the museum, by the folder that each is built in.
var machines = map[string]func() []piece{"office-laptop": officeLaptop, "gallery-mac": galleryMac,
	"reading-room": readingRoom, "workshop-box": workshopBox, "ticket-desk-pc": ticketDeskPC,
	"archive-mac": archiveMac}

// BuildMachine makes one of the museum's computers as a mounted disk in dir,
// which must not exist.
func BuildMachine(name, dir string) error {
	pieces, ok := machines[name]
	if !ok {
		return fmt.Errorf("the museum has no computer called %q", name)
	}
	err := build(dir, pieces())
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there already; name a folder that does not exist", dir)
	}
	return err
}

// scene is one part of the guided example: what a person would say, then either
// a command or something that happens to the machine.
type scene struct {
	say     string
	args    []string
	exit    int // the exit code that the command must have
	happens func(root string) error
}

// scenes are what happens at each machine.
var scenes = map[string][]scene{"office-laptop": {
	{say: "The office laptop of the Gullrock Lighthouse Museum is slow, and shows an error when Odile signs in. Its " +
		"disk is mounted; nothing of it runs. What starts, and what stands out?",
		args: []string{"list"}},
	{say: "An updater takes 21 seconds of each start. What is it, and what goes with it?",
		args: []string{"show", "Kelpline Updater"}},
	{say: "An error at sign-in is often a program that is gone. Which are?",
		args: []string{"list", "problem=missing"}},
	{say: "What could go? This changes nothing.",
		args: []string{"suggest"}},
	{say: "The updater, the leftovers, the game launcher, the label printing and the stranger go off together.",
		args: []string{"disable", "Kelpline Updater", "kupdate", "Brinecast*", "Limpetware Launcher", "Lampwick*",
			"Speed",
			"--yes", "-m", "updaters and leftovers"}},
	{say: "A week later. The laptop was restarted, and the updater has turned itself on again. What happened since?",
		happens: UpdaterIsBack, args: []string{"check"}, exit: 3},
	{say: "It goes off again, and is held off in a way that its own setup respects.",
		args: []string{"disable", "Kelpline Updater", "--hold", "--yes"}},
	{say: "The labels no longer print. That one comes back; the rest stays off.",
		args: []string{"enable", "Lampwick*", "--yes", "-m", "labels"}},
	{say: "Nobody misses the rest: the trial is over.",
		args: []string{"keep", "C1"}},
	{say: "And if the museum wants everything as it was: to the byte.",
		args: []string{"restore", "S1", "--yes"}},
}, "workshop-box": {
	{say: "The workshop box of the Gullrock Lighthouse Museum has become slow. Its disk is mounted; nothing of it " +
		"runs. What starts by itself?",
		args: []string{"list"}},
	{say: "Before anything is touched, its exact state is recorded.",
		args: []string{"snapshot", "-m", "as found"}},
	{say: "One entry has a strange name and runs something from the network. What is known of it?",
		args: []string{"show", "Speed*"}},
	{say: "The screen caster was removed long ago and left its entries behind. What else has lost its program?",
		args: []string{"list", "problem=target-missing"}},
	{say: "First a look at what would be done, then updaters, leftovers, the stranger and the label printing go " +
		"off together.",
		args: []string{"disable", "kelpline*", "brinecast*", "Tide Chart", "Speed*", "lampwick*", "--dry-run"}},
	{args: []string{"disable", "kelpline*", "brinecast*", "Tide Chart", "Speed*", "lampwick*", "--yes", "-m",
		"updaters and leftovers"}},
	{say: "The welcome page is for everyone. Ines does not want it at her bench; Bram does.",
		args: []string{"disable", "gullrock-welcome.service", "--for", "ines", "--yes"}},
	{say: "What is different from what was found?",
		args: []string{"compare", "S1"}, exit: 3},
	{say: "A week later. The box was restarted and used. The updater has turned itself on again, and brought a " +
		"friend. What happened since?",
		happens: func(root string) error {
			link := filepath.Join(root, "etc/systemd/system/timers.target.wants/kelpline-updater.timer")
			if err := os.Symlink("/usr/lib/systemd/system/kelpline-updater.timer", link); err != nil {
				return err
			}
			care := "#!/bin/sh\n# keeps kelpline-updater.timer\nsystemctl enable kelpline-updater.timer\n"
			if err := os.WriteFile(filepath.Join(root, "opt/kelpline/bin/care"), []byte(care), 0o755); err != nil {
				return err
			}
			if err := os.WriteFile(filepath.Join(root, "etc/cron.d/kelpline-care"),
				[]byte("@hourly root /opt/kelpline/bin/care\n"), 0o644); err != nil {
				return err
			}
			return restarted(root)
		}},
	{args: []string{"check"}, exit: 3},
	{say: "Both go off, and the updater is held off, in a way that its own tools respect.",
		args: []string{"disable", "kelpline-updater.timer", "care", "--hold", "--yes"}},
	{say: "The labels no longer print: one thing too many was turned off. Which of them? Some come back, the box " +
		"is restarted, somebody prints a label.",
		args: []string{"culprit", "start", "C1", "--yes"}},
	{happens: restarted, args: []string{"culprit", "works", "--yes"}},
	{happens: restarted, args: []string{"culprit", "works", "--yes"}},
	{happens: restarted, args: []string{"culprit", "works", "--yes"}},
	{happens: restarted, args: []string{"culprit", "broken", "--yes"}},
	{say: "It works with all but one off: that one prints the labels, and stays on.",
		happens: restarted, args: []string{"culprit", "works", "--yes"}},
	{say: "What has lost its program is nobody's any more, and goes for good. The record keeps it.",
		args: []string{"remove", "brinecast.service", "Tide Chart", "--yes"}},
	{say: "Nobody misses the rest: the trial is over.",
		args: []string{"keep", "C1"}},
	{say: "In the end the museum wants everything exactly as it was found; only what was added since stays off.",
		args: []string{"restore", "S1", "--newcomers", "disable", "--yes"}},
	{args: []string{"compare", "S1"}, exit: 3},
	{say: "All of it is in the history, and every change can be taken back.",
		args: []string{"history"}},
}, "ticket-desk-pc": {
	{say: "The ticket desk's Windows computer shows an error at sign-in and is slow. Its disk is mounted; nothing " +
		"of it runs. What starts by itself, for everyone and for each of its users?",
		args: []string{"list"}},
	{say: "The state as it was found is recorded: entries, registry values, files.",
		args: []string{"snapshot", "-m", "as found"}},
	{say: "Something was put where the system has settings of its own.",
		args: []string{"list", "problem=not-default"}},
	{say: "What is known of the program that runs beside the desktop?",
		args: []string{"show", "name=tuner.exe"}},
	{say: "Of what else is the program missing? What lies on another drive cannot be told, and is not called missing.",
		args: []string{"list", "problem=target-missing"}},
	{say: "The intruder, the leftovers, the updaters and a strange name go off together. Values are set as " +
		"Windows' own settings pages do it; what has no such setting is removed, kept in the record, and stays in " +
		"the list.",
		args: []string{"disable", "tuner*", "taskmgr.exe", "1", "COR_PROFILER", "Speed*", "Brinecast",
			"Brinecast screen*", "Kelpline*", "vidc.bell", "--yes", "-m", "intruder, leftovers, updaters"}},
	{say: "A task is switched by the scheduler of the running machine only: offline it is left on, with the reason.",
		args: []string{"disable", `Kelpline\Update`, "--yes"}, exit: 1},
	{say: "What is off now?",
		args: []string{"list", "state=disabled"}},
	{say: "The evening desk misses its assistant. It alone comes back.",
		args: []string{"enable", "Kelpline Assistant", "--yes"}},
	{say: "Everything comes back as it was found: every value with its type, every key.",
		args: []string{"restore", "S12", "--yes"}},
	{args: []string{"compare", "S12"}},
}, "archive-mac": {
	{say: "The archive's Mac rings its bell at sign-in and is slow. Its disk is mounted; nothing of it runs. What " +
		"starts at sign-in? Each of its three users has a list of their own, and each is turned off for them alone.",
		args: []string{"list", "stage=sign-in", "for=mirela"}},
	{say: "And with the system, or by the clock?",
		args: []string{"list", "stage=system,schedule"}},
	{say: "The state as it was found is recorded.",
		args: []string{"snapshot", "-m", "as found"}},
	{say: "One agent is named as if it came with macOS. It does not.",
		args: []string{"show", "com.apple.speedkeeper"}},
	{say: "The screen caster was thrown into the bin, and left its helper, its agent and its login item behind.",
		args: []string{"list", "problem=target-missing"}},
	{say: "The stranger, the updater and the leftovers go off together, in launchd's own database, with what was " +
		"put into the sign-in window.",
		args: []string{"disable", "com.apple.speedkeeper", "*kelpline*", "org.brinecast*", "Kelpline", "LoginHook",
			"Brinecast Viewer", "--yes", "-m", "stranger, updater, leftovers"}},
	{say: "The list of login items is in a database that only the running Mac may change: it is left as it is, " +
		"with the reason.",
		args: []string{"disable", "Brinecast", "--yes"}, exit: 1},
	{say: "Nobody misses the label printer, but Mirela's assistant was wanted. It alone comes back, and the others " +
		"stay off.",
		args: []string{"restore", "S16", "--only", "org.kelpline.assistant", "--yes"}},
	{say: "What is different from what was found?",
		args: []string{"compare", "S16"}, exit: 3},
	{say: "Everything comes back as it was found, to the byte.",
		args: []string{"restore", "S16", "--yes"}},
	{args: []string{"compare", "S16"}},
}}

// restarted notes in the box's own record of starts, wtmp(5), that it was started, and that Ines and Bram signed in.
func restarted(root string) error {
	name := filepath.Join(root, "var/log/wtmp")
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	f, err := os.OpenFile(name, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o664)
	if err != nil {
		return err
	}
	// A minute from now: the guide does in a second what took a week.
	at := uint32(time.Now().Add(time.Minute).Unix())
	for _, note := range []struct {
		kind uint16
		user string
	}{{2, "reboot"}, {7, "ines"}, {7, "bram"}} {
		record := make([]byte, 384) // struct utmp of 64-bit machines
		binary.LittleEndian.PutUint16(record, note.kind)
		copy(record[44:], note.user)
		binary.LittleEndian.PutUint32(record[340:], at)
		if _, err := f.Write(record); err != nil {
			f.Close()
			return err
		}
	}
	return f.Close()
}

// Options say how the guided example is shown.
type Options struct {
	Keep      string // the folder that is left; empty: a temporary one
	BuildOnly bool   // nothing is done to the machines
	All       bool   // the collections too, not only the machines that a technician meets
	// Next waits before the next step; nil if nobody wants to go step by step.
	Next func()
	// Made receives the temporary folder, so that a stopped run can remove it.
	Made func(temp string)
}

// Guide builds the machines, in a temporary folder or in one that is kept, and leads through the
// job, unless they are only to be built. Every command really runs; its output is what it printed.
func Guide(out io.Writer, o Options, run func(machine string, args ...string) int) error {
	dir := o.Keep
	if dir == "" {
		temp, err := os.MkdirTemp("", "gullrock-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(temp)
		if o.Made != nil {
			o.Made(temp)
		}
		dir = temp
	} else if err := os.Mkdir(dir, 0o755); err != nil {
		if errors.Is(err, fs.ErrExist) {
			return fmt.Errorf("%s is there already; name a folder that does not exist", dir)
		}
		return err
	}
	// The long example counts its snapshots and changes from one, and so has a record of its own.
	record := func(name string) string {
		if slices.Contains(collections, name) {
			return filepath.Join(dir, "long.db")
		}
		return filepath.Join(dir, "record.db")
	}
	machines := typical[:1]
	switch {
	case o.BuildOnly && o.All:
		machines = slices.Concat(typical, collections)
	case o.BuildOnly:
		machines = typical
	case o.All:
		machines = slices.Concat(machines, collections)
	}
	for _, name := range machines {
		if err := BuildMachine(name, filepath.Join(dir, name)); err != nil {
			return err
		}
		if o.BuildOnly {
			continue
		}
		if err := play(out, filepath.Join(dir, name), name, record(name), scenes[name], o.Next, run); err != nil {
			return err
		}
	}
	switch {
	case o.BuildOnly:
		fmt.Fprintf(out, "Built %d computers of the Gullrock Lighthouse Museum, as they were found:\n", len(machines))
	case o.Keep == "":
		fmt.Fprintf(out, "\n# That was the example; its folder is gone again. What to try next:\n")
		for _, line := range next {
			fmt.Fprintf(out, "  %-36s %s\n", line[0], line[1])
		}
		return nil
	default:
		fmt.Fprintf(out, "\nThe machines and their record are yours to try things out:\n")
	}
	for _, name := range machines {
		fmt.Fprintf(out, "  lockback --root %s --store %s list\n", quoted([]string{filepath.Join(dir, name)}),
			quoted([]string{record(name)}))
	}
	return nil
}

// next is what a newcomer can do after the example.
var next = [][2]string{
	{"lockback demo --build gullrock", "a laptop, a Mac and a Linux computer to try things out on"},
	{"lockback demo --all", "the long example: the other kinds of entries, a search, a restore"},
	{"lockback list", "this computer; it only looks"},
	{"lockback help selectors", "how to choose entries"},
}

// play runs the scenes of one machine.
func play(out io.Writer, root, name, record string, scenes []scene, next func(), run func(machine string,
	args ...string) int) error {
	for _, s := range scenes {
		if s.say != "" {
			fmt.Fprintf(out, "\n# %s\n", s.say)
		}
		if s.happens != nil {
			if err := s.happens(root); err != nil {
				return err
			}
		}
		if s.args == nil {
			continue
		}
		fmt.Fprintf(out, "\n$ lockback --root %s %s\n", name, quoted(s.args))
		if next != nil {
			next()
		}
		if code := run(name, append([]string{"--root", root, "--store", record}, s.args...)...); code != s.exit {
			return fmt.Errorf("the example did not go as it should: %q ended with exit code %d, not %d",
				strings.Join(s.args, " "), code, s.exit)
		}
	}
	return nil
}

// quoted words arguments as cmd, PowerShell and sh take them alike.
func quoted(args []string) string {
	words := make([]string, len(args))
	for k, a := range args {
		words[k] = a
		if strings.ContainsAny(a, " *?'") {
			words[k] = `"` + a + `"`
		}
	}
	return strings.Join(words, " ")
}
