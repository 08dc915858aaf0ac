package cli

import (
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"lockback/core/autostart"
)

// topics are help pages that belong to no command.
var topics = []struct {
	name, short string
	long        func() string
}{
	{"selectors", "How entries are chosen", selectorsHelp},
	{"ways-back", "Which command brings what back", func() string { return waysBackHelp }},
	{"states", "What enabled, disabled, hidden and protected mean", func() string { return statesHelp }},
	{"problems", "What can be wrong with an entry", func() string { return problemsHelp }},
	{"evidence", "How it is known who made a program, and what is hidden", func() string { return evidenceHelp }},
	{"switches", "How entries are turned off", switchesHelp},
	{"exit-codes", "What the exit code tells a script", func() string { return exitHelp }},
}

// topicCommands are the pages as cobra wants them: commands that cannot be run.
func topicCommands() []*cobra.Command {
	var all []*cobra.Command
	for _, t := range topics {
		all = append(all, &cobra.Command{Use: t.name, Short: t.short, Long: t.long()})
	}
	return all
}

func selectorsHelp() string {
	return fmt.Sprintf(`Selectors choose entries. The same words work in every command:

  k7f3qa2              a handle, as list shows it; three letters that no other
                       handle begins with are enough, capitals do not matter
  "Fogbell*"           a name with the wildcards * and ?
  "name=Fogbell Sync"  exactly that name
  stage=boot,system    a field; any of several values
  location!=linux.cron.*
                       everything but this
  for=ines             all that starts for a user: the user's own, and what starts
                       for everyone at sign-in or is loaded into programs
  user=ines            only the user's own list
  since=S3             added since a snapshot; since=2026-11-01 since a day

Handles and names add up: any of them. Fields narrow down: all of them. A name is the
one that list shows, or the system's own (a service, a label, a value, a file).

In commands that only look (list, show, review), a bare word is searched for anywhere: in the
names, the maker, the command, the program and the place. In commands that change
something it must be a handle, a whole name or a wildcard; if it only occurs inside
something, the command stops and names the entries.

Parts of the operating system are hidden: only --all or their handle chooses them.

%s

Values can be typed as lists show them: state=off, problem="program missing",
stage=startup.

In cmd, PowerShell and sh alike, words with spaces or wildcards go into double
quotes.`, ansi.Wordwrap("Fields: "+strings.Join(append(autostart.Fields(), "since"), ", ")+".", 86, " "))
}

const waysBackHelp = `What should come back, and what to type:

  one entry that lockback turned off      lockback enable k7f3qa2
  for one user only                       lockback enable k7f3qa2 --for ines
  all of one change                       lockback undo C2 (without a name: the last)
  all of a change, or nothing of it       lockback undo C2 --all-or-nothing
  one entry exactly as a snapshot has it  lockback restore S1 --only k7f3qa2
  everything as a snapshot has it         lockback restore S1
  what was removed for good               lockback undo C3, or enable with its handle
  a change that was cut short             lockback recover
  the rounds of a search                  lockback culprit stop

enable asks what the entry is now: it turns on what is off, whoever turned it off. undo
asks what a change did: it puts each artifact back as it was before, and leaves what
something else changed since. restore asks what a snapshot knows: it brings that state
back whatever happened since, and keeps what was added unless --newcomers disable is
given. All three take a snapshot first, so each of them can be undone.`

const statesHelp = `  enabled    it starts the next time its stage comes
  disabled   it does not; the list says why, where the system has a word for it
  absent     it is not there, in a plan or a comparison

  hidden     a part of the operating system: left out of lists unless --all is given
  protected  a mistake with it would hurt: disable leaves it out unless --guarded is
             given (in JSON the field is called guarded, and says what it would cost)
  think twice
             it is missed late or only by some: disable takes it by its handle or its whole
             name, and leaves it out of larger selections unless --guarded is given
             (in JSON the field is called caution)
  removed (kept in the record)
             its way of being turned off leaves nothing on the machine; it stays in
             the list, and enable, undo or restore bring it back

The stages are when an entry starts, in the same words on every system:

  boot       with the kernel and before services
  system     services, before anyone signs in
  sign-in    when a user signs in
  schedule   at a time or an interval
  event      on a device, network, sleep or message event
  attach     code loaded into other programs`

const problemsHelp = `  target-missing     the program is not there
  unparsable         lockback cannot parse it; it is kept as it is
  ignored            the system passes it over, and the list says why
  insecure           other users can change what it runs
  not-default        something other than the system's own setting stands there
  unsigned           the program is not signed, where such programs are
  signature-invalid  the program is not as it was when it was signed
  changed            the program is not as its package delivered it
  impostor           it uses a name of the system's, but is not the system's
  odd-place          the program lies where none is installed: a temporary folder, a
                     recycle bin, another user's home, another computer
  obscured           the command hides what it does, or the name what it is
  twice              another entry of the same stage starts the same program

A program on another volume, or behind a variable that cannot be told, is unknown and
not missing. "problem=" chooses the entries that have none.`

const evidenceHelp = `What is known of a program comes from evidence, the strongest first. A list has the
word in brackets; JSON has the basis.

  in a list           basis                 what it means
  signed              signature             signed, the file is as it was signed, and the
                                            signer was traced to a root that is known
  system volume       sealed-volume         it lies where only the system's maker writes
  package             package               a package database of the system has the file;
                                            "changed" says that it is not as delivered
  as installed        receipt               what the system noted at the installation
  signed, not traced  signature-unanchored  as it was signed, by nobody that is known
  unproven            bundle,               the program says so itself; anybody can write
                      version-resource      that

A part of the operating system is hidden by proof where there is any: a package of the
distribution's base, unchanged; the signature of the system's maker; the sealed volume.
Where a machine has no such proof, name and place decide, and "lockback show" says so.
Whether a certificate was withdrawn is not checked: that needs the network.`

// switchWords say what each switch does.
var switchWords = []struct {
	word    autostart.Switch
	meaning string
}{
	{autostart.Hide, "Hidden=true in the desktop entry, or in a user's own copy before it"},
	{autostart.Unlink, "takes away the links that enable a unit, as systemctl disable does"},
	{autostart.Mask, "a link to /dev/null at the place that comes first"},
	{autostart.Comment, `"#lockback:off " before the line`},
	{autostart.Unexec, "takes the execute bits away"},
	{autostart.Approve, "the value that Windows' own startup settings write"},
	{autostart.StartType, "the start type of a service or driver"},
	{autostart.TaskEnabled, "the task scheduler's own switch, on the running machine"},
	{autostart.StateValue, "the on and off value that the place documents"},
	{autostart.Override, "launchd's own list of what is disabled"},
	{autostart.Trim, "takes this one item out of a list"},
	{autostart.Rename, "renames the links of runlevels, S to K, as update-rc.d does"},
	{autostart.DownFile, "a file named down beside a service of runit"},
	{autostart.Park, "takes it away; the record keeps it"},
	{autostart.Report, "cannot be turned off here: it is shown, compared and restored"},
}

// switchMeaning is what a switch does, in words.
func switchMeaning(word autostart.Switch) string {
	for _, s := range switchWords {
		if s.word == word {
			return s.meaning
		}
	}
	return string(word)
}

func switchesHelp() string {
	var b strings.Builder
	b.WriteString("An entry is turned off in the way that its own system knows, where there is one, so\nthat the " +
		"system's settings agree. All of them can be taken back exactly.\n")
	for _, s := range switchWords {
		fmt.Fprintf(&b, "\n  %-13s %s", s.word, s.meaning)
	}
	return b.String()
}

const exitHelp = `  0  done
  1  failed, or not everything was done; the message says which
  2  wrong usage
  3  compare found differences, check something to decide
  4  needs more rights
  5  conflict: the machine changed since the plan was made, and nothing was touched
  6  an interrupted change is waiting; run lockback recover`

// newHelpCommand shows the page of a command or a topic.
func newHelpCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND|TOPIC]",
		Short: "Show the page of a command or a topic",
		Long: "Show the page of a command, or of a topic: selectors, ways-back, states, problems, evidence, " +
			"switches, exit-codes.",
		ValidArgsFunction: func(c *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
			at, _, err := c.Root().Find(args)
			if err != nil {
				return nil, noFiles
			}
			return withPrefix(pages(at), word), noFiles
		},
		RunE: func(c *cobra.Command, words []string) error {
			page, rest, err := c.Root().Find(words)
			if err != nil || len(rest) > 0 {
				return usage("there is no page %q%s", strings.Join(words, " "), autostart.Suggest(words[len(words)-1],
					pages(c.Root())))
			}
			page.InitDefaultHelpFlag()
			return page.Help()
		},
	}
}

// pages are the names of the commands and topics below a command.
func pages(c *cobra.Command) []string {
	var names []string
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() || sub.IsAdditionalHelpTopicCommand() {
			names = append(names, sub.Name())
		}
	}
	return names
}
