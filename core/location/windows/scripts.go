package windows

import (
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/inifile"
	"lockback/core/location"
	"lockback/core/machine/account"
	"lockback/core/machine/artifact"
)

// The scripts of group policy stand twice: in a file of the policy, and in the registry, where they come once the
// policy was applied and where what runs them reads them. The registry is written again only when the policy's version
// changes, so that both are switched together.

// scriptFiles are where group policy keeps the scripts that this machine runs.
var scriptFiles = []string{"scripts.ini", "psscripts.ini"}

// scriptKinds are the occasions, each a section of the file and a key of the registry.
var scriptKinds = []string{"Logon", "Logoff", "Startup", "Shutdown"}

// applied is a script of a policy as the registry has it.
type applied struct {
	place
	kind   string
	base   string // FileSysPath: the policy's folder
	script string
	alone  bool // the policy has no other script for the occasion
	mirror []artifact.Artifact
}

// runs reports whether it is a script of a policy's file.
func (a applied) runs(folder, kind, script string) bool {
	return strings.EqualFold(a.base, folder) && strings.EqualFold(a.kind, kind) && strings.EqualFold(a.script, script)
}

// policyFolders are those of the computer's own policies, with whom they are for: users have some of their own, and
// so have administrators and everyone else.
func policyFolders(s *location.Survey) (folders []root) {
	system := s.Machine.Windows() + `\System32\`
	folders = append(folders, root{system + `GroupPolicy\Machine`, nil, ""}, root{system + `GroupPolicy\User`, nil, ""})
	own := system + "GroupPolicyUsers"
	for _, e := range s.Dir(own) {
		if !e.IsDir() {
			continue
		}
		r := root{path: own + `\` + e.Name() + `\User`, words: map[string]string{"S-1-5-32-544": "for administrators",
			"S-1-5-32-545": "for all but administrators"}[strings.ToUpper(e.Name())]}
		for n := range s.Machine.Users {
			if u := &s.Machine.Users[n]; strings.EqualFold(u.SID, e.Name()) {
				r.user = u
			}
		}
		folders = append(folders, r)
	}
	return folders
}

// root is the folder of a policy.
type root struct {
	path  string
	user  *account.User
	words string // whom it is for, where that is no user
}

func readLogonScripts(s *location.Survey) {
	inRegistry := appliedScripts(s)
	taken := map[string]bool{} // the keys that belong to a file
	for _, r := range policyFolders(s) {
		dir := s.Machine.Canonical(r.path + `\Scripts`)
		for _, name := range scriptFiles {
			if b, ok := s.File(dir + `\` + name); ok {
				readScriptsFile(s, r, dir, name, b, inRegistry, taken)
			}
		}
	}
	for _, a := range inRegistry {
		if taken[a.Path] {
			continue
		}
		item := newItem(a.origin(), shortName(a.script), strings.TrimSpace(a.script+" "+a.Text("Parameters")))
		if !strings.ContainsAny(a.script, `\:`) && a.base != "" {
			// Relative to the policy, which lies on a server if it comes from a domain.
			item.CommandLine = `"` + a.base + `\Scripts\` + a.kind + `\` + a.script + `"`
		}
		item.Stage, item.When = scriptStage(a.kind), scriptWords[strings.ToLower(a.kind)]
		if parkScript(item, append([]artifact.Artifact{artifact.RegistryTree(a.Path)}, a.mirror...)); !a.alone {
			item.Switcher = location.NoSwitch{Why: severalScripts}
		}
		s.Add(id(a.place), item)
	}
}

// parkScript makes an item one that is turned off by taking away all places that have it.
func parkScript(item *location.Item, all []artifact.Artifact) {
	item.Artifacts, item.Switcher = artifacts(all...), location.ParkAll(all)
}

// appliedScripts finds the scripts in the registry: a number for each policy, and in it one for each script. What the
// last applied policy was is kept beside, below State, in the same form.
func appliedScripts(s *location.Survey) (all []applied) {
	for _, kind := range scriptKinds {
		for _, root := range places(s, cv+`\Group Policy\Scripts\`+kind, ucv+`\Group Policy\Scripts\`+kind) {
			owner := "Machine"
			if root.user != nil {
				owner = root.user.SID
			}
			for _, policy := range subkeys(s, root.Key) {
				scripts := subkeys(s, policy)
				for _, k := range scripts {
					if k.Text("Script") == "" {
						continue
					}
					a := applied{place: place{Key: k, user: root.user, narrow: root.narrow}, kind: kind,
						base: policy.Text("FileSysPath"), script: k.Text("Script"), alone: len(scripts) == 1}
					state := cv + `\Group Policy\State\` + owner + `\Scripts\` + kind + `\` + policy.Name() + `\` +
						k.Name()
					if m, err := s.Machine.Key(state); err == nil && strings.EqualFold(m.Text("Script"), a.script) {
						a.mirror = []artifact.Artifact{artifact.RegistryTree(m.Path)}
					}
					all = append(all, a)
				}
			}
		}
	}
	return all
}

// scriptWords say when the scripts of a policy run.
var scriptWords = map[string]string{"startup": "at startup", "shutdown": "at shutdown", "logon": "at sign-in",
	"logoff": "at sign-out"}

func scriptStage(kind string) autostart.Stage {
	switch strings.ToLower(kind) {
	case "startup":
		return autostart.System
	case "logon":
		return autostart.SignIn
	}
	return autostart.Event
}

// readScriptsFile reads the scripts of a policy: numbered pairs of a command and
// its parameters in a section for each occasion. The file is taken away where it
// holds one script only, because the numbers of the others would not be right.
func readScriptsFile(s *location.Survey, folder root, dir, name string, b []byte, inRegistry []applied,
	taken map[string]bool) {
	var items []*location.Item
	var keys []string
	for _, section := range inifile.Parse(b) {
		for _, k := range section.Keys {
			number, ok := strings.CutSuffix(strings.ToLower(k.Name), "cmdline")
			if !ok || k.Value == "" {
				continue
			}
			script := k.Value
			if !strings.ContainsAny(script, `\:`) {
				script = dir + `\` + section.Name + `\` + script
			}
			item := newItem(origin{path: dir + `\` + name, user: folder.user}, shortName(script),
				strings.TrimSpace(k.Value+" "+section.Get(number+"Parameters")))
			item.CommandLine = `"` + script + `"`
			item.Stage, item.When, item.Source.Line = scriptStage(section.Name),
				scriptWords[strings.ToLower(section.Name)], k.Line
			item.Source.Key, item.Mode = section.Name, folder.words
			decides := []artifact.Artifact{artifact.File(dir + `\` + name)}
			alone := true
			for _, a := range inRegistry {
				if a.runs(folder.path, section.Name, k.Value) {
					decides = append(append(decides, artifact.RegistryTree(a.Path)), a.mirror...)
					alone, taken[a.Path] = alone && a.alone, true
				}
			}
			if parkScript(item, decides); !alone {
				item.Switcher = location.NoSwitch{Why: severalScripts}
			}
			items = append(items, item)
			keys = append(keys, strings.ToLower(dir+`\`+name+"\x00"+section.Name+"\x00"+k.Value))
		}
	}
	for k, item := range items {
		if len(items) > 1 {
			item.Switcher = location.NoSwitch{Why: severalScripts}
		}
		s.Add(keys[k], item)
	}
}

const severalScripts = "its policy numbers several scripts; take the script out with the policy editor"
