package mac

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"lockback/core/format/plist"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// Tools runs the programs that query and control a running Mac: launchctl, osascript and their
// like. Tests put a stand-in here.
type Tools interface {
	// Run returns what the program printed. The error of one that failed tells
	// what it said.
	Run(name string, args ...string) ([]byte, error)
}

// systemTools runs the system's own programs.
type systemTools struct {
	// timeout bounds how long one of them may take: a question to the person at
	// the screen may stand behind it.
	timeout time.Duration
}

// SystemTools are those of the Mac on which this program runs.
var SystemTools Tools = systemTools{toolTimeout}

// toolTimeout is long enough to read a question, and to answer it.
const toolTimeout = 60 * time.Second

func (t systemTools) Run(name string, args ...string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(context.Background(), t.timeout)
	defer cancel()
	var out, errs bytes.Buffer
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdout, cmd.Stderr = &out, &errs
	cmd.WaitDelay = time.Second // what it started itself may hold on to its output
	err := cmd.Run()
	if ctx.Err() != nil {
		return nil, fmt.Errorf("%s did not answer within %s; a question of macOS may wait on the screen",
			path.Base(name), t.timeout)
	}
	if said := strings.Fields(errs.String() + " " + out.String()); err != nil && len(said) > 0 {
		err = fmt.Errorf("%s: %s", path.Base(name), strings.Join(said, " "))
	}
	return out.Bytes(), err
}

// The programs.
const (
	launchctl = "/bin/launchctl"
	osascript = "/usr/bin/osascript"
	ioreg     = "/usr/sbin/ioreg"
	dscl      = "/usr/bin/dscl"
	sudo      = "/usr/bin/sudo"
	killall   = "/usr/bin/killall"
)

// askMac asks the running system for what its disk tells the administrator only:
// the machine's id, and the accounts.
func (s *System) askMac() {
	if out, err := s.tools.Run(ioreg, "-rd1", "-c", "IOPlatformExpertDevice"); err == nil {
		for line := range strings.Lines(string(out)) {
			if name, value, ok := strings.Cut(line, "="); ok && strings.Trim(name, ` "`) == "IOPlatformUUID" {
				s.ID = strings.ToLower(strings.Trim(strings.TrimSpace(value), `"`))
			}
		}
	}
	if name, err := os.Hostname(); err == nil && s.tools == SystemTools {
		s.Name = name
	}
	out, err := s.tools.Run(dscl, "-plist", ".", "-readall", "/Users", "RecordName", "UniqueID", "PrimaryGroupID",
		"NFSHomeDirectory", "GeneratedUID")
	if err != nil {
		return
	}
	doc, err := plist.Parse(out)
	if err != nil {
		return
	}
	records, _ := doc.Root.([]any)
	for _, r := range records {
		d, _ := r.(map[string]any)
		if u, ok := macUser(d, "dsAttrTypeStandard:"); ok {
			s.Users = append(s.Users, u)
		}
	}
}

// launchdState is where launchd keeps its databases of what is disabled.
const launchdState = "/private/var/db/com.apple.xpc.launchd"

// launchdDomain tells which domain of a running launchd a file is the disabled
// database of. It is launchd's alone to write: it holds it in memory.
func (s *System) launchdDomain(a artifact.Artifact) (domain string, uid int, ok bool) {
	if s.tools == nil || a.Kind != artifact.FileArtifact || path.Dir(a.Name) != launchdState {
		return "", 0, false
	}
	name, ok := strings.CutSuffix(path.Base(a.Name), ".plist")
	if name == "disabled" {
		return "system", 0, ok
	}
	digits, is := strings.CutPrefix(name, "disabled.")
	uid, err := strconv.Atoi(digits)
	return "user/" + digits, uid, ok && is && err == nil
}

// errNoDomain says that launchd holds nothing of a user, who is not signed in.
var errNoDomain = errors.New("launchd has nothing of this user")

// disabledServices is launchd's own word for what is disabled in a domain. It fails with [errNoDomain] for
// a user of whom launchd has none; what it says then differs from other refusals by its words only, so that
// words that are not known count as a refusal.
func (s *System) disabledServices(domain string) (map[string]any, error) {
	out, err := s.tools.Run(launchctl, "print-disabled", domain)
	if err != nil {
		if strings.HasPrefix(domain, "user/") && strings.Contains(strings.ToLower(err.Error()), "could not find") {
			err = fmt.Errorf("%w (%w)", errNoDomain, err)
		}
		return nil, err
	}
	return parseDisabled(string(out)), nil
}

// parseDisabled reads what launchctl print-disabled prints: a line for each
// label, which says true or false, or since macOS 13 disabled or enabled.
func parseDisabled(text string) map[string]any {
	services, inside := map[string]any{}, false
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, "disabled services"):
			inside = true
		case line == "}":
			inside = false
		case inside:
			k := strings.LastIndex(line, "=>")
			if k < 0 {
				continue
			}
			label := strings.TrimSpace(line[:k])
			if len(label) >= 2 && label[0] == '"' && label[len(label)-1] == '"' {
				label = label[1 : len(label)-1]
			}
			switch strings.TrimSpace(line[k+2:]) {
			case "true", "disabled":
				services[label] = true
			case "false", "enabled":
				services[label] = false
			}
		}
	}
	return services
}

// overrides are the labels of a database, with whether they are disabled.
func overrides(i artifact.Image) map[string]any {
	services := map[string]any{}
	if doc, err := plist.Parse(i.Content); err == nil && i.Kind == artifact.Regular {
		for label, v := range doc.Dict() {
			if off, ok := v.(bool); ok {
				services[label] = off
			}
		}
	}
	return services
}

// sameOverrides compares two databases by their effect: a label that is set to enabled is as good as
// one that is not in it, unless the job's own file says that it is disabled. launchctl cannot take one out.
func sameOverrides(a, b map[string]any, offByFile map[string]bool) bool {
	for _, labels := range [2]map[string]any{a, b} {
		for label := range labels {
			if isOff(a, label, offByFile) != isOff(b, label, offByFile) {
				return false
			}
		}
	}
	return true
}

// isOff tells what a database makes of a label: what it does not name is as the job's file has it.
func isOff(services map[string]any, label string, offByFile map[string]bool) bool {
	if off, ok := services[label].(bool); ok {
		return off
	}
	return offByFile[label]
}

// jobFolders are where launchd finds jobs for everyone; each user's own are in their Library.
var jobFolders = []string{"/System/Library/LaunchDaemons", "/System/Library/LaunchAgents",
	"/Library/Apple/System/Library/LaunchDaemons", "/Library/Apple/System/Library/LaunchAgents",
	"/Library/LaunchDaemons", "/Library/LaunchAgents"}

// disabledInFiles are the labels of the jobs whose own file says that they are disabled, read once.
func (s *System) disabledInFiles() map[string]bool {
	s.offOnce.Do(func() {
		s.offByFile = map[string]bool{}
		folders := slices.Clone(jobFolders)
		for _, home := range s.homes() {
			folders = append(folders, path.Join(home, "Library/LaunchAgents"))
		}
		for _, folder := range folders {
			entries, _ := s.files.ReadDir(folder)
			for _, e := range entries {
				content, err := s.files.ReadFile(path.Join(folder, e.Name()), files.MaxFileSize)
				if err != nil || !bytes.Contains(content, []byte("Disabled")) {
					continue
				}
				if doc, err := plist.Parse(content); err == nil && doc.Dict().Bool("Disabled") {
					s.offByFile[doc.Dict().Text("Label")] = true
				}
			}
		}
	})
	return s.offByFile
}

// SameMeaning reports whether two images of one of launchd's databases have
// the same effect. launchd writes them at its own time, and what was disabled and enabled
// again stays in them.
func SameMeaning(a artifact.Artifact, i, j artifact.Image) bool {
	return a.Kind == artifact.FileArtifact && path.Dir(a.Name) == launchdState &&
		sameOverrides(overrides(i), overrides(j), nil)
}

// launchdImage is the image of a database as the running launchd has it. Where
// the file says the same, it is the file's.
func (s *System) launchdImage(a artifact.Artifact, domain string) (artifact.Image, error) {
	file, readErr := s.files.Image(a)
	services, err := s.disabledServices(domain)
	switch {
	case err != nil:
		return file, readErr // nobody to ask
	case readErr == nil && maps.Equal(services, overrides(file)):
		return file, nil // nothing else to hear
	}
	content, err := plist.New(services).Bytes()
	if err != nil {
		return file, err
	}
	if file.Kind != artifact.Regular {
		return artifact.NewFile(content, 0o644, 0, 0, time.Time{}), nil
	}
	file.Content = content
	return file, nil
}

// ErrNotSignedIn says that the running system has no session of a user now.
var ErrNotSignedIn = errors.New("not signed in")

// setLaunchd tells launchd what a database is to say, and believes only what it
// then reads back.
func (s *System) setLaunchd(domain string, want artifact.Image) error {
	now, err := s.disabledServices(domain)
	if err != nil {
		return err
	}
	wanted, byFile := overrides(want), s.disabledInFiles()
	labels := slices.Sorted(maps.Keys(now))
	for label := range wanted {
		if _, had := now[label]; !had {
			labels = append(labels, label)
		}
	}
	slices.Sort(labels)
	var changed []string
	for _, label := range labels {
		off := isOff(wanted, label, byFile)
		_, had := now[label]
		if _, has := wanted[label]; off == isOff(now, label, byFile) && (had || !has) {
			continue
		}
		verb := "enable"
		if off {
			verb = "disable"
		}
		if _, err := s.tools.Run(launchctl, verb, domain+"/"+label); err != nil {
			return fmt.Errorf("launchd refuses to %s %s: %w", verb, label, err)
		}
		changed = append(changed, label)
	}
	after, err := s.disabledServices(domain)
	if err != nil {
		return err
	}
	for _, label := range changed {
		switch is := isOff(after, label, byFile); {
		case is == isOff(wanted, label, byFile):
		case is:
			return fmt.Errorf("launchctl reported success, but %s still reads as disabled", label)
		default:
			return fmt.Errorf("launchctl reported success, but %s still reads as enabled", label)
		}
	}
	return nil
}

// LoginItem is an entry of a user's list of what opens at sign-in, as the
// system's scripting interface has it.
type LoginItem struct {
	Name   string `json:"name"`
	Path   string `json:"path"`
	Hidden bool   `json:"hidden"`
}

// LoginItemOf is the artifact of one program in a user's list. Only a running
// Mac has it: on a disk the list is a part of the background-items database.
func LoginItemOf(u account.User, program string) artifact.Artifact {
	return artifact.Artifact{Kind: artifact.LoginItemArtifact, Name: u.Name + ":" + program}
}

// agentItems ends the path of a user's list of login items before macOS 13.
const agentItems = "/com.apple.backgroundtaskmanagementagent/backgrounditems.btm"

// Managed reports whether a running Mac writes an artifact itself, from another one: what it keeps of login items. On a
// disk there are no login items, which only a running Mac tells.
func (s *System) Managed(a artifact.Artifact) bool {
	if s.tools == nil {
		return a.Kind == artifact.LoginItemArtifact
	}
	return a.Kind == artifact.FileArtifact && (artifact.Within(a.Name, backgroundItems) ||
		strings.HasSuffix(a.Name, agentItems))
}

// loginItem is the reverse of [LoginItemOf].
func (s *System) loginItem(a artifact.Artifact) (account.User, string, error) {
	name, program, _ := strings.Cut(a.Name, ":")
	k := slices.IndexFunc(s.Users, func(u account.User) bool { return u.Name == name })
	if k < 0 {
		return account.User{}, program, fmt.Errorf("%s: %w", a.Name, ErrNoLoginItems)
	}
	u := s.Users[k]
	if s.tools == nil {
		return u, program, fmt.Errorf("%s: %w", a.Name, ErrNoLoginItems)
	}
	return u, program, nil
}

// ErrNoLoginItems says that nobody can be asked for a list of login items.
var ErrNoLoginItems = errors.New("the running Mac tells the login items of the signed-in user only")

// The scripts that System Events answers, in the JavaScript of osascript(1). What
// they get stands in arguments, so nothing of it is ever taken for a script.
const (
	// Of an item whose app is gone a property may be nothing, or fail.
	scriptList = `function run() { function get(f) { try { var v = f(); return v == null ? "" : v } catch (e) { ` +
		`return "" } } return JSON.stringify(Application("System Events").loginItems().map(function (i) { return {name: String(get(function () { return i.name() })), path: String(get(function () { return i.path() })), hidden: get(function () { return i.hidden() }) === true} })) }`
	scriptDrop = `function run(argv) { Application("System Events").loginItems().filter(function (i) { try { ` +
		`return i.path() === argv[0] } catch (e) { return false } }).forEach(function (i) { i.delete() }) }`
	scriptMake = `function run(argv) { var s = Application("System Events"); s.loginItems.push(s.LoginItem({path: ` +
		`argv[0], hidden: argv[1] === "true"})) }`
)

// script runs one for a person: for somebody else's the administrator enters
// their session first.
func (s *System) script(u account.User, text string, args ...string) ([]byte, error) {
	line := append([]string{osascript, "-l", "JavaScript", "-e", text}, args...)
	if u.UID != files.Self() {
		if !files.Privileged() {
			return nil, files.ErrNeedsRights
		}
		line = append([]string{launchctl, "asuser", strconv.Itoa(u.UID), sudo, "-u", u.Name}, line...)
	}
	out, err := s.tools.Run(line[0], line[1:]...)
	if err == nil {
		return out, nil
	}
	for _, e := range scriptErrors {
		if strings.Contains(err.Error(), e.code) {
			return out, fmt.Errorf("%w (%w)", e.means, err)
		}
	}
	return out, err
}

// errAutomation is what a user can do about a refusal of System Events.
var errAutomation = errors.New("macOS does not let this program control System Events; allow it in System Settings " +
	"> Privacy & Security > Automation")

// scriptErrors are what the numbers in an answer of osascript(1) mean, Apple's "AppleScript Language Guide"
// and MacErrors.h: not allowed, not running, not to be started, no answer in time, and no such object, which
// are what a user without a session of their own gives.
var scriptErrors = []struct {
	code  string
	means error
}{{"(-1743)", errAutomation}, {"(-600)", ErrNotSignedIn}, {"(-10810)", ErrNotSignedIn}, {"(-1712)",
	ErrNotSignedIn}, {"(-1728)", ErrNotSignedIn}}

// hasSession reports whether a user has a screen of their own now, as far as launchd knows. If it does not
// answer, ask the user's own all the same.
func (s *System) hasSession(u account.User) bool {
	_, err := s.tools.Run(launchctl, "print", "gui/"+strconv.Itoa(u.UID))
	return err == nil || !strings.Contains(strings.ToLower(err.Error()), "could not find")
}

// LoginItems asks for the list of a person. It fails with [ErrNoLoginItems] on a
// mounted disk, and with what the system says where the person is not signed in.
func (s *System) LoginItems(u account.User) ([]LoginItem, error) {
	if s.tools == nil {
		return nil, ErrNoLoginItems
	}
	if !s.hasSession(u) {
		return nil, ErrNotSignedIn
	}
	out, err := s.script(u, scriptList)
	if err != nil {
		return nil, err
	}
	var items []LoginItem
	if err := json.Unmarshal(out, &items); err != nil {
		return nil, fmt.Errorf("the system's answer on the login items of %s cannot be parsed: %w", u.Name, err)
	}
	return items, nil
}

func (s *System) loginItemImage(a artifact.Artifact) (artifact.Image, error) {
	u, program, err := s.loginItem(a)
	if err != nil {
		return artifact.Image{}, err
	}
	items, err := s.LoginItems(u)
	for _, i := range items {
		if i.Path == program {
			content, _ := json.Marshal(i) // of two texts and a truth value
			return artifact.Image{Kind: artifact.LoginItemKind, Content: content}, nil
		}
	}
	return artifact.Image{Kind: artifact.Absent}, err
}

// setLoginItem takes a program out of a user's list, or puts it in again, at
// the end.
func (s *System) setLoginItem(a artifact.Artifact, want artifact.Image) error {
	u, program, err := s.loginItem(a)
	if err != nil {
		return err
	}
	if want.Kind == artifact.Absent {
		_, err = s.script(u, scriptDrop, program)
	} else {
		var item LoginItem
		if err := json.Unmarshal(want.Content, &item); err != nil {
			return err
		}
		_, err = s.script(u, scriptMake, program, strconv.FormatBool(item.Hidden))
	}
	if err != nil {
		return err
	}
	now, err := s.loginItemImage(a)
	if err == nil && now.Kind != want.Kind {
		err = fmt.Errorf("success was reported by System Events, but the login item is %s", now)
	}
	return err
}

// Errors that name what a running Mac protects.
var (
	ErrProtected = errors.New("protected by System Integrity Protection: macOS lets no one change it while it runs")
	ErrSealed    = errors.New("on the sealed volume of macOS: since macOS 11 a change there has no effect, or " +
		"keeps the Mac from starting")
	ErrFullAccess = errors.New("macOS lets programs see this only with Full Disk Access; give it to the terminal " +
		"in System Settings > Privacy & Security")
)

// ReadPreferencesAgain ends the daemon that holds a user's preferences in memory, or root's; it
// starts again on demand.
func (s *System) ReadPreferencesAgain(user string) (warning string) {
	if s.tools == nil {
		return ""
	}
	who := cmp.Or(user, "root")
	if _, err := s.tools.Run(killall, "-u", who, "cfprefsd"); err != nil && !strings.Contains(err.Error(),
		"No matching processes") {
		return fmt.Sprintf("the preferences of %s may be read again only at the next sign-in: %v", who, err)
	}
	return ""
}
