package testkit

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/plist"
)

// RunningMac stands in for the programs that answer on a running Mac: launchctl with a database of
// its own, as launchd holds it in memory and writes it out, System Events with lists of login
// items, and what tells the machine's id and its accounts. No Mac runs where the tests do; what
// they prove is that every outcome that these programs can have is kept apart.
type RunningMac struct {
	Root string
	// Before13 makes launchctl print true and false, as it did before macOS 13.
	Before13 bool
	// SignedIn are the people for whom launchd has a domain, and System Events a
	// list: by user id.
	SignedIn map[int][]LoginItem
	Accounts []map[string]any // as dscl tells them

	// Refuse makes a call fail whose words hold it; Lie lets it succeed and do
	// nothing.
	Refuse, Lie string
	// Hang makes a call take its time that no one has, when its words hold it.
	Hang string
	// Says is what a refused call says; empty: what System Integrity Protection does.
	Says string
	// Appears signs a user in at the numbered call of those whose words hold a text, such as
	// "print-disabled user/502".
	Appears map[string]int
	// Found is what the database of that user held when they signed in.
	Found []byte
	// Lazy leaves the file on the disk as it is, as launchd may for a while.
	Lazy bool

	Calls []string
	off   map[string]map[string]bool // by domain
}

// LoginItem is one entry of a list of System Events.
type LoginItem struct {
	Name   string `json:"name"`
	Path   string `json:"path"`
	Hidden bool   `json:"hidden"`
}

// Boot reads the databases from the disk, as launchd does when the Mac starts.
func (m *RunningMac) Boot(t testing.TB) {
	t.Helper()
	m.off = map[string]map[string]bool{"system": {}}
	read := func(domain, file string) {
		m.off[domain] = map[string]bool{}
		content, err := os.ReadFile(m.file(file))
		if err != nil {
			return
		}
		doc, err := plist.Parse(content)
		require.NoError(t, err)
		for label := range doc.Dict() {
			m.off[domain][label] = doc.Dict().Bool(label)
		}
	}
	read("system", "disabled.plist")
	for uid := range m.SignedIn {
		read(fmt.Sprintf("user/%d", uid), fmt.Sprintf("disabled.%d.plist", uid))
	}
}

func (m *RunningMac) file(name string) string {
	return filepath.Join(m.Root, "private/var/db/com.apple.xpc.launchd", name)
}

// Off tells what launchd itself holds of a label.
func (m *RunningMac) Off(domain, label string) bool { return m.off[domain][label] }

// Run answers one call.
func (m *RunningMac) Run(name string, args ...string) ([]byte, error) {
	line := strings.Join(append([]string{filepath.Base(name)}, args...), " ")
	m.Calls = append(m.Calls, line)
	for text, left := range m.Appears {
		if strings.Contains(line, text) {
			if m.Appears[text]--; left == 1 {
				uid := 0
				fmt.Sscan(text[strings.LastIndex(text, "/")+1:], &uid)
				m.SignedIn[uid] = nil
				m.Found, _ = os.ReadFile(m.file(fmt.Sprintf("disabled.%d.plist", uid)))
				m.off[fmt.Sprintf("user/%d", uid)] = map[string]bool{} // read before the file was written
			}
		}
	}
	if m.Hang != "" && strings.Contains(line, m.Hang) {
		return nil, errors.New(filepath.Base(name) + " did not answer within 1m0s; a question of macOS may wait on " +
			"the screen")
	}
	if m.Refuse != "" && strings.Contains(line, m.Refuse) && m.Says != "" {
		return nil, errors.New(m.Says)
	}
	if m.Refuse != "" && strings.Contains(line, m.Refuse) {
		return nil, errors.New(filepath.Base(name) + ": Operation not permitted while System Integrity Protection " +
			"is engaged")
	}
	lie := m.Lie != "" && strings.Contains(line, m.Lie)
	switch filepath.Base(name) {
	case "ioreg":
		return []byte("+-o Gullrock1,1  <class IOPlatformExpertDevice>\n    {\n      \"IOPlatformSerialNumber\" = " +
			"\"GULL1887\"\n      \"IOPlatformUUID\" = \"1887C0DE-0314-4092-A653-5A17ABCDEF03\"\n    }\n"), nil
	case "dscl":
		var records []any
		for _, a := range m.Accounts {
			record := map[string]any{}
			for k, v := range a {
				record["dsAttrTypeStandard:"+k] = []any{v}
			}
			records = append(records, record)
		}
		return plist.New(records).Bytes()
	case "killall":
		return nil, nil
	case "launchctl":
		if args[0] == "asuser" { // asuser UID sudo -u NAME osascript ...
			uid := 0
			fmt.Sscan(args[1], &uid)
			return m.events(uid, args[slices.Index(args, "-e"):], lie)
		}
		return m.launchctl(args, lie)
	case "osascript":
		return m.events(os.Geteuid(), args[slices.Index(args, "-e"):], lie)
	}
	return nil, fmt.Errorf("%s: no such program", name)
}

func (m *RunningMac) launchctl(args []string, lie bool) ([]byte, error) {
	domain, label, _ := strings.Cut(args[1], "/")
	if domain == "gui" {
		uid := 0
		fmt.Sscan(label, &uid)
		if _, in := m.SignedIn[uid]; !in {
			return nil, fmt.Errorf("launchctl: Bad request. Could not find domain for user gui: %d", uid)
		}
		return []byte("gui/" + label + " = {\n}\n"), nil
	}
	if domain == "user" {
		uid, below, _ := strings.Cut(label, "/")
		domain, label = "user/"+uid, below
	}
	services, known := m.off[domain]
	if !known {
		return nil, errors.New("launchctl: Could not find domain for " + domain)
	}
	switch args[0] {
	case "print-disabled":
		words := map[bool]string{true: "disabled", false: "enabled"}
		if m.Before13 {
			words = map[bool]string{true: "true", false: "false"}
		}
		text := "\n\tdisabled services = {\n"
		var labels []string
		for l := range services {
			labels = append(labels, l)
		}
		sort.Strings(labels)
		for _, l := range labels {
			text += fmt.Sprintf("\t\t\"%s\" => %s\n", l, words[services[l]])
		}
		return []byte(text + "\t}\n\tlogin item associations = {\n\t\t\"org.gullrock.other\" => \"disabled\"\n\t}\n"),
			nil
	case "disable", "enable":
		if lie {
			return nil, nil
		}
		services[label] = args[0] == "disable"
		if m.Lazy {
			return nil, nil
		}
		root := map[string]any{}
		for l, off := range services {
			root[l] = off
		}
		content, err := plist.New(root).Bytes()
		if err != nil {
			return nil, err
		}
		name := "disabled.plist"
		if uid, ok := strings.CutPrefix(domain, "user/"); ok {
			name = "disabled." + uid + ".plist"
		}
		return nil, os.WriteFile(m.file(name), content, 0o644)
	}
	return nil, errors.New("launchctl: Unrecognized subcommand")
}

// events answers the scripts: -e SCRIPT ARGUMENTS.
func (m *RunningMac) events(uid int, args []string, lie bool) ([]byte, error) {
	items, in := m.SignedIn[uid]
	switch script := args[1]; {
	case !in:
		return nil, errors.New("osascript: execution error: Error: An error occurred. (-10810)")
	case strings.Contains(script, "JSON.stringify"):
		return json.Marshal(items)
	case lie:
	case strings.Contains(script, "delete()"):
		m.SignedIn[uid] = slices.DeleteFunc(items, func(i LoginItem) bool { return i.Path == args[2] })
	case strings.Contains(script, "push("):
		name := strings.TrimSuffix(filepath.Base(args[2]), ".app")
		// Whether an item is hidden is kept before macOS 13 only.
		m.SignedIn[uid] = append(items, LoginItem{name, args[2], m.Before13 && args[3] == "true"})
	}
	return nil, nil
}
