package macos

import (
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/plist"
	"lockback/core/location"
	"lockback/core/location/unix"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
	"lockback/core/machine/mac"
)

// readRC reports the old scripts that the system ran at its start.
func readRC(s *location.Survey, at []location.Place) {
	old := !s.Machine.Release().Before(yosemite)
	for _, p := range at {
		file, name := p.Path, path.Base(p.Path)
		if _, err := s.Stat(file); err != nil {
			s.Skip(file, err)
			continue
		}
		item := newItem(nil, name, file, file)
		item.Argv = []string{file}
		item.Switcher = location.Park{Artifact: artifact.File(file)}
		if name == "rc.common" {
			ignored(item, "only read by other scripts, never run")
		} else if old {
			ignored(item, "not run since OS X 10.10")
		}
		s.Add(key(nil, file), item)
	}
}

// describeSetting makes the item of a line of launchd's configuration, which is a command of
// launchctl.
func describeSetting(_ *location.Survey, f location.Found, line string) *location.Item {
	item := newItem(f.User, line, "launchctl "+line, f.Path)
	if words := strings.Fields(line); words[0] == "bsexec" || words[0] == "submit" {
		item.Argv = words[len(words)-1:]
	}
	return item
}

// ignoresSettings tells why launchd does not read a configuration of its own.
func ignoresSettings(s *location.Survey, f location.Found) string {
	switch {
	case f.User != nil:
		return "launchd never read a user's own"
	case !s.Machine.Release().Before(yosemite):
		return "not read since OS X 10.10"
	}
	return ""
}

// cronTabs are people's tables of cron; /usr/lib/cron is a link to there.
const cronTabs = "/private/var/at/tabs"

func isCronTab(_ *location.Survey, name string) bool {
	return !strings.HasPrefix(name, ".") && !strings.HasPrefix(name, "tmp.")
}

const atJobs = "/private/var/at/jobs"

// readAt reports the jobs that wait for their time. A name is a letter for the
// queue, five digits for the number, eight for the minute: at(1).
func (d *disk) readAt(s *location.Survey) {
	for _, e := range s.Dir(atJobs) {
		name := e.Name()
		if len(name) != 14 || e.IsDir() {
			continue
		}
		number, err1 := strconv.ParseUint(name[1:6], 16, 32)
		minute, err2 := strconv.ParseUint(name[6:], 16, 32)
		if err1 != nil || err2 != nil {
			continue
		}
		file := path.Join(atJobs, name)
		content, ok := s.File(file)
		if !ok {
			continue
		}
		info, err := s.Stat(file)
		if err != nil {
			s.Skip(file, err)
			continue
		}
		uid, _ := files.Owner(info)
		command := ""
		for line := range strings.Lines(string(content)) {
			if digits, ok := strings.CutPrefix(line, "# atrun uid="); ok && !s.Machine.KeepsOwners {
				// at notes whose job it is for itself too.
				digits, _, _ = strings.Cut(strings.TrimSpace(digits), " ")
				if n, err := strconv.Atoi(digits); err == nil {
					uid = n
				}
			}
			if text := strings.TrimSpace(line); text != "" && text[0] != '#' && text != "}" {
				command = text
			}
		}
		var u *account.User
		for _, h := range homes(s) {
			if h.user.UID == uid {
				u = h.user
			}
		}
		item := newItem(u, "at job "+strconv.FormatUint(number, 10), command, file)
		item.Argv = []string{"/bin/sh", "-c", command}
		item.When = "once, at " + time.Unix(int64(minute)*60, 0).UTC().Format("2006-01-02 15:04") + " UTC"
		item.Switcher = location.Park{Artifact: artifact.File(file)}
		if d.atIsOff(s) {
			off(item, "com.apple.atrun is disabled")
		}
		s.Add(key(nil, file), item)
	}
}

// atIsOff reports whether the job that runs at's jobs is disabled, as it is unless
// somebody enabled it.
func (d *disk) atIsOff(s *location.Survey) bool { return d.jobIsOff(s, "com.apple.atrun", true) }

// cronIsOff tells why launchd does not start cron; empty where it does.
func (d *disk) cronIsOff(s *location.Survey) string {
	if d.jobIsOff(s, "com.vix.cron", false) {
		return "com.vix.cron, the job that runs cron, is disabled"
	}
	return ""
}

// periodicIsOff tells why nothing runs the scripts; empty where something does.
func (d *disk) periodicIsOff(s *location.Survey) string {
	if !s.Machine.Release().Before(sequoia) && s.Machine.Release() != (mac.Release{}) {
		return "macOS runs no periodic scripts since 15"
	}
	for _, period := range periods {
		if !d.jobIsOff(s, "com.apple.periodic-"+period, false) {
			return ""
		}
	}
	return "the jobs com.apple.periodic-* are disabled"
}

// jobIsOff reports whether a job of the system is disabled: by launchd's database, else by its own file. Where
// its file is not to be seen, it is what usually is.
func (d *disk) jobIsOff(s *location.Survey, label string, usually bool) bool {
	if isOff, ok := d.databaseOf(s, nil).off[label]; ok {
		return isOff
	}
	for _, f := range d.jobFolders(s) {
		for _, j := range f.files {
			if j.job.Label == label && !f.agents {
				return j.job.Disabled
			}
		}
	}
	return usually
}

// periods are how often scripts are run, periodic(8).
var periods = []string{"daily", "weekly", "monthly"}

func readPeriodic(s *location.Survey) {
	settings := map[string]string{}
	for _, file := range []string{"/private/etc/defaults/periodic.conf", "/private/etc/periodic.conf",
		"/private/etc/periodic.conf.local"} {
		content, ok := s.File(file)
		if !ok {
			continue
		}
		for line := range strings.Lines(string(content)) {
			name, value, ok := strings.Cut(strings.TrimSpace(line), "=")
			if value, _, _ = strings.Cut(value, "#"); ok && !strings.HasPrefix(name, "#") {
				settings[name] = strings.Trim(strings.TrimSpace(value), `"'`)
			}
		}
	}
	folders := []string{"/private/etc/periodic", "/usr/local/etc/periodic"}
	for more := range strings.FieldsSeq(settings["local_periodic"]) {
		if path.IsAbs(more) && !slices.Contains(folders, path.Clean(more)) {
			folders = append(folders, path.Clean(more))
		}
	}
	for _, period := range periods {
		for _, folder := range folders {
			dir := path.Join(folder, period)
			for _, e := range s.Dir(dir) {
				if !e.IsDir() && !strings.HasPrefix(e.Name(), ".") {
					unix.Script(s, path.Join(dir, e.Name()), unix.Every[period])
				}
			}
		}
		local := settings[period+"_local"]
		if local == "" {
			local = "/etc/" + period + ".local"
		}
		for file := range strings.FieldsSeq(local) {
			if below, ok := strings.CutPrefix(file, "/etc/"); ok {
				file = "/private/etc/" + below
			}
			if !path.IsAbs(file) || !exists(s, file) {
				continue
			}
			item := newItem(nil, path.Base(file), file, file)
			item.Argv, item.When = []string{file}, unix.Every[period]
			parked(item, file)
			s.Add(key(nil, file), item)
		}
	}
}

const (
	emondRules   = "/private/etc/emond.d/rules"
	emondClients = "/private/var/db/emondClients"
)

// readEmond reports the rules of the event monitor, which runs only where another
// folder holds anything at all.
func readEmond(s *location.Survey) {
	runs := len(s.Dir(emondClients)) > 0
	for _, e := range named(s, emondRules, ".plist") {
		file := path.Join(emondRules, e.Name())
		doc, ok := readPlist(s, file)
		if !ok {
			continue
		}
		rules, _ := doc.Root.([]any)
		if doc.Dict() != nil {
			rules = []any{doc.Root}
		}
		for k, v := range rules {
			m, _ := v.(map[string]any)
			d := plist.Dict(m)
			name := d.Text("name")
			if name == "" {
				name = strings.TrimSuffix(e.Name(), ".plist") + " " + strconv.Itoa(k+1)
			}
			item := newItem(nil, name, "", file)
			item.When = "on " + strings.Join(d.Texts("eventTypes"), ", ")
			for _, action := range d.Dicts("actions") {
				if command := action.Text("command"); command != "" {
					item.Argv = append([]string{command}, action.Texts("arguments")...)
					item.Command = strings.Join(item.Argv, " ")
				}
			}
			item.Switcher = location.Park{Artifact: artifact.File(file)}
			if len(rules) > 1 {
				fixed(item, "its file holds other rules too")
			}
			switch {
			case !d.Bool("enabled"):
				off(item, "not enabled in its file")
			case !s.Machine.Release().Before(ventura):
				ignored(item, "no event monitor since 13")
			case !runs:
				off(item, "the event monitor does not run")
				item.AddFacts(func() []location.Fact {
					return []location.Fact{{Name: "the event monitor", Value: "does not run while " + emondClients +
						" is empty", Basis: "emond(8)"}}
				})
			}
			s.Add(key(nil, file, name), item)
		}
	}
}

// describeRC says when an rc of ssh runs.
func describeRC(_ *location.Survey, _ location.Found, item *location.Item) {
	item.When = "when somebody connects over ssh"
}

// The files that shells read when somebody signs in or opens a terminal.
var (
	systemShellFiles = []string{"profile", "bashrc", "zprofile", "zshenv", "zshrc", "zlogin", "zlogout", "csh.cshrc",
		"csh.login", "csh.logout", "bashrc_Apple_Terminal", "zshrc_Apple_Terminal"}
	userShellFiles = []string{".profile", ".bash_profile", ".bash_login", ".bashrc", ".zprofile", ".zshenv", ".zshrc",
		".zlogin", ".zlogout", ".cshrc", ".tcshrc", ".login", ".logout", ".bash_logout", ".config/fish/config.fish"}
)

func shellFiles(dir string, names []string) []string {
	var files []string
	for _, n := range names {
		files = append(files, dir+n)
	}
	return files
}

// shipped are the lines of the system's own shell files. A file that holds no
// others is as macOS brought it.
var shipped = func() map[string]bool {
	lines := map[string]bool{}
	for line := range strings.Lines(`
if [ -x /usr/libexec/path_helper ]; then
eval ` + "`/usr/libexec/path_helper -s`" + `
fi
if [ "${BASH-no}" != "no" ]; then
[ -r /etc/bashrc ] && . /etc/bashrc
if [ -z "$PS1" ]; then
return
PS1='\h:\W \u\$ '
shopt -s checkwinsize
[ -r "/etc/bashrc_$TERM_PROGRAM" ] && . "/etc/bashrc_$TERM_PROGRAM"
if [[ "$(locale LC_CTYPE)" == "UTF-8" ]]; then
setopt COMBINING_CHARS
setopt combiningchars
disable log
HISTFILE=${ZDOTDIR:-$HOME}/.zsh_history
HISTSIZE=2000
SAVEHIST=1000
setopt BEEP
if [[ -r ${ZDOTDIR:-$HOME}/.zkbd/${TERM}-${VENDOR} ]] ; then
source ${ZDOTDIR:-$HOME}/.zkbd/${TERM}-${VENDOR}
else
typeset -g -A key
PS1="%n@%m %1~ %# "
[ -r "/etc/zshrc_$TERM_PROGRAM" ] && . "/etc/zshrc_$TERM_PROGRAM"
if ($?prompt) then
set promptchars = "%#"
if ($?tcsh) then
set prompt = "[%m:%c3] %n%# "
else
set prompt = "[%m:%c3] ` + "`id -nu`" + `%# "
endif
if ( -x /usr/libexec/path_helper ) then
eval ` + "`/usr/libexec/path_helper -c`" + `
`) {
		lines[strings.TrimSpace(line)] = true
	}
	return lines
}()

// shippedKeys are the lines of its zshrc that give keys their meanings.
var shippedKeys = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^\[\[ -n ("\$terminfo\[k[a-zA-Z0-9]+\]" \]\] && ` +
		`key\[[A-Za-z0-9]+\]=\$terminfo\[k[a-zA-Z0-9]+\]|\$\{key\[[A-Za-z]+\]\} \]\] && bindkey ` +
		`"\$\{key\[[A-Za-z]+\]\}" [a-z-]+)$`)
})

func readShellFiles(s *location.Survey) {
	add := func(u *account.User, file string) {
		content, ok := s.File(file)
		if !ok {
			return
		}
		item := newItem(u, path.Base(file), file, file)
		item.Argv = []string{file}
		fixed(item, "users keep their own settings in it; look through it in an editor")
		item.Shipped = u == nil
		count := 0
		for line := range strings.Lines(string(content)) {
			if text := strings.TrimSpace(line); text != "" && text[0] != '#' {
				count++
				item.Shipped = item.Shipped && (shipped[text] || shippedKeys().MatchString(text))
			}
		}
		item.Mode = "1 command"
		if count != 1 {
			item.Mode = strconv.Itoa(count) + " commands"
		}
		s.Add(key(u, file), item)
	}
	for _, name := range systemShellFiles {
		add(nil, path.Join("/private/etc", name))
	}
	for _, h := range homes(s) {
		for _, name := range userShellFiles {
			add(h.user, path.Join(h.path, name))
		}
	}
}

// ownModules are the modules that macOS brings along, pam(8).
var ownModules = map[string]bool{"afpmount": true, "aks": true, "deny": true, "env": true, "group": true, "krb5": true,
	"launchd": true, "localauthentication": true,
	"mount": true, "nologin": true, "ntlm": true, "opendirectory": true, "permit": true, "rootok": true, "sacl": true,
	"securetty": true, "securityserver": true,
	"self": true, "serialnumber": true, "smartcard": true, "tid": true, "uwtmp": true, "unix": true, "wheel": true,
	"wtmp": true}

// permitted are the services of macOS' own that ask nobody who they are, since they ask for the old password
// themselves.
var permitted = map[string]bool{"passwd": true}

func readPAM(s *location.Survey, at []location.Place) {
	dir := at[0].Path
	for _, e := range s.Dir(dir) {
		if e.IsDir() || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		file := path.Join(dir, e.Name())
		content, ok := s.File(file)
		if !ok {
			continue
		}
		for number, text := range numbered(content) {
			words := strings.Fields(text)
			if len(words) < 3 || strings.HasPrefix(text, "#") || words[1] == "include" || words[1] == "substack" {
				continue
			}
			module := words[2]
			bare := strings.TrimSuffix(strings.TrimSuffix(path.Base(module), ".2"), ".so")
			letsIn := words[0] == "auth" && bare == "pam_permit" && !permitted[e.Name()]
			if !path.IsAbs(module) && ownModules[strings.TrimPrefix(bare, "pam_")] && !letsIn {
				continue
			}
			item := newItem(nil, bare, text, file)
			if letsIn {
				item.Problems = append(item.Problems, autostart.NotDefault)
			}
			item.Mode, item.Source.Line = "for "+e.Name(), number
			if path.IsAbs(module) {
				item.Argv = []string{module}
			}
			fixed(item, "a mistake here locks everyone out; change it in an editor, with a second session open")
			s.Add(key(nil, file, text), item)
		}
	}
}
