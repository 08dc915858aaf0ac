package linux

import (
	"bytes"
	"path"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/unix"
)

// shellFiles are the start-up files of shells that are one file for everyone and one for each user, by the
// manuals of sh, bash, zsh, csh and fish.
var shellFiles = location.At("/etc/profile", "/etc/bash.bashrc", "/etc/bashrc", "/etc/zsh/zshenv", "/etc/zsh/zprofile",
	"/etc/zsh/zshrc", "/etc/zsh/zlogin", "/etc/zshenv", "/etc/zprofile", "/etc/zshrc", "/etc/zlogin",
	"/etc/csh.cshrc", "/etc/csh.login", "/etc/fish/config.fish",
	"~/.profile", "~/.bash_profile", "~/.bash_login", "~/.bashrc", "~/.bash_logout", "~/.zshenv", "~/.zprofile",
	"~/.zshrc", "~/.zlogin", "~/.zlogout", "~/.cshrc", "~/.tcshrc", "~/.login", "~/.config/fish/config.fish")

// shellFolders hold further files that shells read.
var shellFolders = []string{"/etc/profile.d", "/etc/bash_completion.d", "/etc/fish/conf.d", "~/.config/fish/conf.d"}

// shellFolderAccepts is the rule for their names: /etc/profile has those read that end in .sh, csh those
// in .csh, and fish those in .fish. Bash's completion leaves out what editors and packages leave behind.
func shellFolderAccepts(_ *location.Survey, name string) bool {
	return !strings.HasPrefix(name, ".") && !endsIn(name, "~", ".bak", ".swp") && !leftBehind().MatchString(name) &&
		!endsIn(name, rpmLeaves...)
}

// describeShellFolder says which shell reads a file of a folder, and whether it does.
func describeShellFolder(s *location.Survey, f location.Found, item *location.Item) {
	ending := path.Ext(f.Path)
	switch dir := path.Dir(f.Path); {
	case strings.HasSuffix(dir, "/fish/conf.d"):
		ignoredUnless(item, ending == ".fish", "fish reads names that end in .fish")
		if f.User == nil && item.State == autostart.Enabled {
			if own := ownersOf(s, path.Join(".config/fish/conf.d", path.Base(f.Path))).names; len(own) > 0 {
				item.Mode = "not for " + namesOf(own) + ", who have a file of that name of their own"
			}
		}
		needsShell(s, item, "fish", "fish")
	case dir == "/etc/profile.d" && ending == ".csh":
		needsShell(s, item, "csh", "csh", "tcsh")
	case dir == "/etc/profile.d":
		ignoredUnless(item, ending == ".sh", "only names that end in .sh are read")
	default:
		item.When = "when a shell is opened"
	}
}

// ignoredUnless says that nothing reads the file of an item, and why.
func ignoredUnless(item *location.Item, read bool, why string) {
	if !read {
		item.State, item.Mode, item.Ignored = autostart.Disabled, "", why
		item.Switcher = location.NoSwitch{Why: why}
	}
}

// needsShell says that a file is only read by a shell that is not there.
func needsShell(s *location.Survey, item *location.Item, shell string, programs ...string) {
	item.When = "when " + shell + " is opened"
	if why := (program{title: shell, files: programs}).off(s); why != "" && item.State == autostart.Enabled {
		item.State, item.Mode, item.Ignored = autostart.Disabled, "", why
	}
}

// describeShellFile says which shell reads a start-up file, and what it is a copy of: most are those that a new
// home gets.
func describeShellFile(s *location.Survey, f location.Found, item *location.Item) {
	name := path.Base(f.Path)
	item.When = "when a shell is opened"
	switch {
	case name == "config.fish":
		needsShell(s, item, "fish", "fish")
	case strings.HasPrefix(strings.TrimPrefix(name, "."), "z"):
		needsShell(s, item, "zsh", "zsh")
	case strings.Contains(name, "csh") || name == ".login":
		needsShell(s, item, "csh", "csh", "tcsh")
	case strings.HasSuffix(name, "profile") || name == ".bash_login":
		item.When = "when somebody signs in with a shell"
	case name == ".bash_logout":
		item.When = "when somebody signs out of a shell"
	}
	if f.User != nil {
		// Bash reads the first of these three, bash(1); sessions of the desktop read .profile all the same.
		switch first := firstOf(s, f.User.Home, ".bash_profile", ".bash_login", ".profile"); {
		case name == ".bash_login" && first != name:
			ignoredUnless(item, false, "bash reads ~/"+first+" in its place")
		case name == ".profile" && first != name:
			item.Mode = "bash reads ~/" + first + " in its place"
		}
	}
	item.CopyOf = packagesCopy(s, f)
}

// firstOf is the first of some names that is in a folder.
func firstOf(s *location.Survey, dir string, names ...string) string {
	for _, name := range names {
		if has(s, path.Join(dir, name)) {
			return name
		}
	}
	return ""
}

// packagesCopy is the file that a start-up file was copied from when the home, or the machine, was made;
// empty where it reads otherwise.
func packagesCopy(s *location.Survey, f location.Found) string {
	name := path.Base(f.Path)
	candidates := []string{"/usr/share/base-files/" + name, "/usr/share/base-files/dot" + name}
	if f.User != nil {
		candidates = append([]string{path.Join("/etc/skel", strings.TrimPrefix(f.Key, "~"))}, candidates...)
	}
	return sameAs(s, f.Path, candidates...)
}

// sameAs is the first of some files that reads like another one; empty where none does.
func sameAs(s *location.Survey, file string, candidates ...string) string {
	own, err := s.ReadFile(file, maxSkeleton)
	if err != nil {
		return ""
	}
	for _, candidate := range candidates {
		if content, err := s.ReadFile(candidate, maxSkeleton); err == nil && bytes.Equal(content, own) {
			return candidate
		}
	}
	return ""
}

// maxSkeleton is how long a start-up file may be to be compared with that of a new home, in bytes.
const maxSkeleton = 64 << 10

// The forms of the row.
var (
	shellScripts  = unix.WholeFiles{Accepts: shellFolderAccepts, Adjust: describeShellFolder}
	shellStartUps = location.Reporting{Form: unix.WholeFiles{Adjust: describeShellFile},
		Why: "everything in it would go; delete the line you do not want"}
)
