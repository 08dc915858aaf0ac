package check

import (
	"bytes"
	"html"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"lockback/core/format/windata"
	"lockback/core/machine"
)

// policy is a file in which a policy of the machine, or of the network that it belongs to, says what is set.
type policy struct {
	file string
	text string // as [plain] makes it
}

// Bounds of the files of policies.
const (
	maxPolicyDepth = 10
	maxPolicyNames = 4096         // files and folders that are looked at
	maxPolicyFile  = 1 << 20      // bytes
	maxPolicyText  = 16 << 20     // bytes of all
	registryPolicy = "PReg"       // how the file of a registry policy begins, MS-GPREG 2.2.1
	deleted        = `action="d"` // of a preference that takes away, MS-GPPREF 2.2.1
)

// readPolicies reads what policies set. Windows keeps those of the computer itself, and those of its domain as they
// were fetched, below System32, and the preferences that were applied last in the folder History; a Mac keeps what its
// profiles set.
func (f *finder) readPolicies() []policy {
	var folders []string
	switch f.Machine.OS {
	case "windows":
		system := f.Machine.Windows() + `\System32\`
		folders = []string{system + "GroupPolicy", system + "GroupPolicyUsers", f.Machine.Variable("programdata") +
			`\Microsoft\Group Policy\History`}
	case "macos":
		folders = []string{"/Library/Managed Preferences"}
	}
	w := policyWalk{machine: f.Machine}
	for _, folder := range folders {
		w.read(folder, 0)
	}
	return w.all
}

// managedStarts are the files in which a profile on a Mac says what starts at sign-in, and which jobs stay on: the
// payloads LoginItems and ServiceManagementManagedLoginItems of Apple's device management.
var managedStarts = []string{"com.apple.loginitems.managed.plist", "com.apple.loginwindow.plist",
	"com.apple.servicemanagement.plist"}

// policyWalk is one reading of all policies.
type policyWalk struct {
	machine *machine.Machine
	all     []policy
	names   int
	size    int
}

func (w *policyWalk) read(folder string, depth int) {
	separator := "/"
	if w.machine.OS == "windows" {
		separator = `\`
	}
	entries, err := w.machine.ReadDir(folder)
	if err != nil || depth > maxPolicyDepth {
		return
	}
	for _, e := range entries {
		if w.names++; w.names > maxPolicyNames || w.size > maxPolicyText {
			return
		}
		name := folder + separator + e.Name()
		switch ending := strings.ToLower(path.Ext(e.Name())); {
		case e.IsDir():
			w.read(name, depth+1)
		case e.Type().IsRegular() && (ending == ".xml" || ending == ".pol" || slices.Contains(managedStarts, e.Name())):
			if b, err := w.machine.ReadFile(name, maxPolicyFile); err == nil {
				w.size += len(b)
				w.all = append(w.all, policy{name, plain(policyText(b))})
			}
		}
	}
}

// policyText is what stands in a file of a policy: one of the registry has its texts in UTF-16, each with a zero behind
// it.
func policyText(b []byte) string {
	if wide, is := bytes.CutPrefix(b, []byte{0xff, 0xfe}); is {
		return windata.Decode(wide)
	}
	if len(b) > 8 && string(b[:4]) == registryPolicy {
		return strings.ReplaceAll(windata.Decode(b[8:]), "\x00", "")
	}
	return string(b)
}

var (
	// properties is what a preference sets, MS-GPPREF 2.2.1.
	properties = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(
			`<properties(?:\s+[\w:.-]+="[^"]*")+`)
	})
	attribute = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`="([^"]*)"`) })
)

// sets reports whether a policy sets an entry.
func (p policy) sets(s signs) bool {
	switch {
	case strings.HasSuffix(strings.ToLower(p.file), ".pol"):
		return s.value != "" && strings.Contains(p.text, s.folder+";"+s.value+";")
	case strings.HasSuffix(strings.ToLower(p.file), ".plist"):
		return slices.ContainsFunc(s.names, func(name string) bool { return strings.Contains(p.text, path.Base(name)) })
	}
	for _, preference := range properties().FindAllString(p.text, -1) {
		inRegistry := strings.Contains(preference, ` hive="`)
		switch here := inRegistry && s.folder != "" && strings.Contains(preference, s.folder+`"`); {
		case strings.Contains(preference, deleted), inRegistry && !here, s.value != "" && !here:
			continue
		case here && s.value == "": // a value of a service
			return true
		}
		for _, a := range attribute().FindAllStringSubmatch(preference, -1) {
			if s.calls(html.UnescapeString(a[1])) {
				return true
			}
		}
	}
	return false
}

// calls reports whether a text is what the entry is called; a shortcut is so without its ending.
func (s signs) calls(text string) bool {
	text = strings.TrimPrefix(text, "/")
	if s.value != "" {
		return text == s.value
	}
	return slices.ContainsFunc(append(slices.Clone(s.names), s.words...), func(name string) bool {
		return text == name || path.Base(text) == name || path.Base(text)+".lnk" == name
	})
}
