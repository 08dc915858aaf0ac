// Package cli is the command tree: one file a command, its help beside its code.
// A command turns arguments into calls of core, and what comes back into output
// by the package view. It holds no knowledge of its own about machines.
package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"regexp"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"lockback/core/autostart"
	"lockback/core/change"
	"lockback/core/machine"
	"lockback/core/machine/files"
	"lockback/core/work"
	"lockback/internal/view"
)

// The exit codes that scripts rely on.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitDifferent   = 3
	exitRights      = 4
	exitConflict    = 5
	exitInterrupted = 6
)

// Version is stamped by the release build.
var Version = "dev"

// Streams are what a run reads from and writes to.
type Streams struct {
	In    io.Reader
	Out   io.Writer
	Err   io.Writer
	Width int // of the terminal that Out is; 0 if it is not a terminal
	// Height is how many lines that terminal has; 0: nothing is shown page by page.
	Height int
	Ask    bool // In is a terminal, so questions can be asked
	Color  bool
	// Watch says that the process is this program's own: Ctrl-C ends it with a line that says
	// what was done.
	Watch bool
	// Progress says that Err is a terminal, where long work can show that it goes on.
	Progress bool
	// HintWith are options that suggested commands have in place of those given: the guided example runs with the whole
	// path of its folder and shows its name.
	HintWith string
	// At is passed on to the change engine; tests crash there.
	At func(point string)
	// Open opens the machine; nil means machine.Open. Tests put a running machine
	// here that is none.
	Open func(root string) (*machine.Machine, error)
}

// Standard returns the streams of this process.
func Standard() Streams {
	s := Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Ask: term.IsTerminal(int(os.Stdin.Fd()))}
	if term.IsTerminal(int(os.Stdout.Fd())) {
		s.Width, s.Color = cmp.Or(widthOf(os.Stdout), 80), os.Getenv("TERM") != "dumb" && consoleColors()
		if _, lines, err := term.GetSize(int(os.Stdout.Fd())); err == nil && os.Getenv("TERM") != "dumb" {
			s.Height = max(lines, 0)
		}
	} else if w, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && w > 0 {
		s.Width = max(w, minWidth)
	} else if info, err := os.Stdout.Stat(); err == nil && info.Mode()&fs.ModeNamedPipe != 0 {
		// A pager at the end of the pipe shows it on the same terminal.
		s.Width = widthOf(os.Stderr)
	}
	s.Watch, s.Progress = true, term.IsTerminal(int(os.Stderr.Fd()))
	return s
}

// widthOf is how many columns a terminal has; 0 if the file is none, or does not tell.
func widthOf(f *os.File) int {
	w, _, err := term.GetSize(int(f.Fd()))
	if err != nil || w <= 0 {
		return 0
	}
	return max(w, minWidth)
}

// minWidth is the narrowest terminal that is written for.
const minWidth = 40

// usage makes an error of a mistake in the command line: exit code 2.
func usage(format string, args ...any) error { return work.Wrong(format, args...) }

// exitError ends a run with a code and no message.
type exitError int

func (e exitError) Error() string { return fmt.Sprintf("exit code %d", int(e)) }

// app is one run of the program.
type app struct {
	Streams
	root, store, format string
	noColor             bool
	verbose, quiet      bool
	noPager             bool
	search              string // the address to look something up at, see settings
	by                  string // who writes notes, see settings
	which               string // of several machines with one id
	yes, dryRun         bool
	trial               string // how long changes are tried
	guarded             bool
	bench               *work.Desk            // see desk
	flags               *pflag.FlagSet        // the options of every command
	suggested           func() *regexp.Regexp // commands in sentences, see hints
	stopping            atomic.Pointer[stop]
}

// stop is what happens when the person stops the program.
type stop struct {
	words string // empty: a change is being made, which has its own way to stop
	tidy  func() // removes what would be left behind; nil if there is nothing
}

// stopMeans says what a stop at this point of the run means.
func (a *app) stopMeans(words string) { a.stopping.Store(&stop{words: words}) }

// watch ends the process when the person stops it, with a line that says what was and was not
// done.
func (a *app) watch() {
	stopped := make(chan os.Signal, 1)
	signal.Notify(stopped, os.Interrupt)
	go func() {
		for range stopped {
			if now := a.stopping.Load(); now.words != "" {
				if now.tidy != nil {
					now.tidy()
				}
				fmt.Fprintln(a.Err, "\nlockback: stopped; "+now.words)
				os.Exit(exitFailed)
			}
		}
	}()
}

// Main runs the program and returns its exit code.
func Main(args []string, streams Streams) int {
	out := &output{Writer: streams.Out}
	streams.Out = out
	a := &app{Streams: streams}
	a.stopMeans("nothing was changed")
	if streams.Watch {
		a.watch()
	}
	root := a.command()
	root.SetArgs(args)
	root.SetIn(streams.In)
	root.SetOut(streams.Out)
	root.SetErr(streams.Err)
	err := root.Execute()
	code := exitCode(err)
	var quiet exitError
	if err != nil && !errors.As(err, &quiet) {
		fmt.Fprintln(a.Err, "lockback: "+a.oneLine(err))
	}
	if out.err != nil && !errors.Is(err, out.err) {
		fmt.Fprintln(a.Err, "lockback: the output could not be written: "+oneLine(out.err))
		code = max(code, exitFailed)
	}
	return code
}

// output remembers the first write error, so that a table that was cut short is reported.
type output struct {
	io.Writer
	err error
}

func (o *output) Write(b []byte) (int, error) {
	n, err := o.Writer.Write(b)
	if err != nil && o.err == nil {
		o.err = err
	}
	return n, err
}

// oneLine makes an error safe for a terminal.
func oneLine(err error) string {
	return view.Safe(strings.ReplaceAll(err.Error(), "\n", " "))
}

// oneLine makes an error safe for a terminal, and the commands in it whole.
func (a *app) oneLine(err error) string { return a.whole(oneLine(err)) }

func exitCode(err error) int {
	var quiet exitError
	var wrong work.Mistake
	switch {
	case err == nil:
		return exitDone
	case errors.As(err, &quiet):
		return int(quiet)
	case errors.As(err, &wrong), errors.Is(err, machine.ErrNoSystem), errors.Is(err, change.ErrNotFound):
		return exitUsage
	case errors.Is(err, change.ErrInterrupted):
		return exitInterrupted
	case errors.Is(err, change.ErrConflict):
		return exitConflict
	case errors.Is(err, files.ErrNeedsRights), errors.Is(err, change.ErrRights):
		return exitRights
	}
	return exitFailed
}

const about = `Lock Back lists everything that starts on a computer, records the
exact state, turns entries off so that nothing is lost, and brings any
recorded state back: on the running machine, or with --root on the disk of one
that no longer starts.`

// formats are the forms of output.
var formats = []string{"table", "json", "csv"}

// groups are the headings of the help, in the order of the work, and the commands below each.
var groups = []struct {
	id, title string
	commands  []string
}{
	{"look", "Look:", []string{"list", "show", "products", "figures", "locations"}},
	{"decide", "Decide:", []string{"review", "suggest", "note", "catalogue"}},
	{"change", "Change:", []string{"disable", "enable", "add", "delay", "remove", "undo", "restore", "recover"}},
	{"after", "After the restart:", []string{"check", "keep", "accept", "culprit"}},
	{"record", "Record:", []string{"snapshot", "history", "compare", "record"}},
	{"help", "Help:", []string{"demo", "completion", "config", "help"}},
}

// Command is the whole tree of commands, used to make the documentation.
func Command() *cobra.Command {
	a := &app{Streams: Streams{Out: io.Discard, Err: io.Discard}}
	return a.command()
}

func (a *app) command() *cobra.Command {
	cobra.EnableCommandSorting = false // the help has them in the order of the work
	c := &cobra.Command{
		Use:           "lockback",
		Short:         "See, record, turn off and bring back what starts automatically",
		Long:          about,
		Example:       "  lockback list\n  lockback disable k7f3qa2 --dry-run\n  lockback --root /mnt/disk restore S1",
		SilenceErrors: true,
		SilenceUsage:  true,
		Version:       version(),
		Args:          cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			if a.Width == 0 {
				return c.Help()
			}
			a.page().FirstDay(files.Privileged())
			return nil
		},
		PersistentPreRunE: func(c *cobra.Command, _ []string) error {
			if !slices.Contains(formats, a.format) {
				return usage("unknown format %q%s (it is table, json or csv)", a.format, autostart.Suggest(a.format,
					formats))
			}
			return configure(a, c)
		},
	}
	c.SetVersionTemplate("lockback {{.Version}}\n")
	c.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usage("%v%s (see %s --help)", err, suggestFlag(c, err), c.CommandPath())
	})
	f := c.PersistentFlags()
	f.StringVar(&a.root, "root", "", "work on the system whose disk is mounted at `DIR`")
	f.StringVar(&a.store, "store", "", "the record's `FILE`, or disk for the one on the mounted disk (default: see "+
		"history --help)")
	f.StringVar(&a.which, "this-is", "", "which computer it is, where the record knows the id from another: same, "+
		"other or its `NAME`")
	f.StringVar(&a.format, "format", "table", "table, json or csv")
	f.BoolVar(&a.noColor, "no-color", os.Getenv("NO_COLOR") != "", "no colours")
	f.BoolVar(&a.verbose, "verbose", false, "say more: artifacts, and what they were and will be")
	f.BoolVar(&a.noPager, "no-pager", false, "never page by page")
	f.BoolVar(&a.quiet, "quiet", false, "no notes and no progress; errors and results only")
	c.AddCommand(newListCommand(a), newShowCommand(a), newProductsCommand(a), newFiguresCommand(a),
		newLocationsCommand(a), newDisableCommand(a), newEnableCommand(a), newAddCommand(a), newDelayCommand(a),
		newRemoveCommand(a), newUndoCommand(a), newRestoreCommand(a), newRecoverCommand(a), newCheckCommand(a),
		newKeepCommand(a), newAcceptCommand(a), newCulpritCommand(a),
		newSnapshotCommand(a), newHistoryCommand(a), newCompareCommand(a), newRecordCommand(a), newReviewCommand(a),
		newSuggestCommand(a),
		newNoteCommand(a), newLookupCommand(a), newCatalogueCommand(a), newDemoCommand(a), newConfigCommand(a))
	c.AddCommand(topicCommands()...)
	c.SetHelpCommand(newHelpCommand(a))
	var names []string
	for _, sub := range c.Commands() {
		names = append(names, sub.Name())
	}
	a.flags, a.suggested = f, suggestions(names)
	c.SetOut(a.Out) // where completion writes to is settled when it is made
	c.InitDefaultCompletionCmd()
	completeInBashAlone(c)
	for _, g := range groups {
		c.AddGroup(&cobra.Group{ID: g.id, Title: g.title})
		for _, sub := range c.Commands() {
			if slices.Contains(g.commands, sub.Name()) {
				sub.GroupID = g.id
			}
		}
	}
	addCompletions(a, c)
	usageOfArguments(c)
	return c
}

// usageOfArguments makes an argument too many, or an unknown command, a usage error too, of a command and all below it.
func usageOfArguments(c *cobra.Command) {
	for _, sub := range c.Commands() {
		usageOfArguments(sub)
	}
	check := c.Args
	if check == nil {
		return
	}
	c.Args = func(c *cobra.Command, args []string) error {
		err, near := check(c, args), ""
		switch {
		case err == nil:
			return nil
		case c.HasSubCommands() && len(args) > 0:
			near = autostart.Suggest(args[0], namesOf(c.Commands()))
		case len(args) > 0 && check(c, nil) == nil && check(c, args[:1]) != nil:
			err = fmt.Errorf("%s stands alone, without %q", c.CommandPath(), args[0])
		default:
			err = wrongCount(c, check, args)
		}
		return usage("%v%s (see %s --help)", err, near, c.CommandPath())
	}
}

// nameIn is the name of a command as it stands behind the program's: "record carry".
func nameIn(c *cobra.Command) string {
	_, name, _ := strings.Cut(c.CommandPath(), " ")
	return name
}

// wrongCount words that a command was given too few arguments, or which is the first too many.
func wrongCount(c *cobra.Command, check cobra.PositionalArgs, args []string) error {
	_, takes, _ := strings.Cut(c.Use, " ")
	for n := len(args) - 1; n > 0; n-- {
		if check(c, args[:n]) == nil {
			return fmt.Errorf("%s takes %s and nothing more: %q is too many", nameIn(c), takes, args[n])
		}
	}
	return fmt.Errorf("%s needs %s", nameIn(c), takes)
}

// namesOf are the names of commands.
func namesOf(commands []*cobra.Command) []string {
	var names []string
	for _, c := range commands {
		if !c.Hidden {
			names = append(names, c.Name())
		}
	}
	return names
}

// suggestFlag words the flags that an unknown one may have meant.
func suggestFlag(c *cobra.Command, err error) string {
	var unknown *pflag.NotExistError
	if !errors.As(err, &unknown) {
		return ""
	}
	var flags []string
	for _, set := range []*pflag.FlagSet{c.Flags(), c.InheritedFlags()} {
		set.VisitAll(func(f *pflag.Flag) { flags = append(flags, "--"+f.Name) })
	}
	return autostart.Suggest("--"+unknown.GetSpecifiedName(), flags)
}

// version tells what was built, for which system and from what.
func version() string {
	v := Version
	if info, ok := debug.ReadBuildInfo(); ok {
		v += " (" + info.GoVersion + " " + runtime.GOOS + "/" + runtime.GOARCH + ")"
	}
	return v
}
