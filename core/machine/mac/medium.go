package mac

import (
	"errors"
	"io/fs"

	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// Medium finds what keeps an artifact that a running Mac keeps for itself; ok is false for all others. Files are those
// that the databases are written to.
func (s *System) Medium(a artifact.Artifact, files artifact.Medium) (medium artifact.Medium, ok bool) {
	if a.Kind == artifact.LoginItemArtifact {
		return loginItemMedium{system: s}, true
	}
	if domain, uid, ok := s.launchdDomain(a); ok {
		return launchdMedium{files, s, domain, uid}, true
	}
	return nil, false
}

// launchdMedium is a running launchd, which holds its databases of what is disabled in memory,
// and writes them at its own time. launchctl cannot take a label out again: two databases are the
// same that disable the same. Of a user who is not signed in it holds nothing, and reads the file when they
// sign in: until then it is a file like any other.
type launchdMedium struct {
	artifact.Medium // the files
	system          *System
	domain          string
	uid             int
}

func (l launchdMedium) Image(a artifact.Artifact) (artifact.Image, error) {
	return l.system.launchdImage(a, l.domain)
}

func (l launchdMedium) Writable(a artifact.Artifact, before, after artifact.Image) error {
	if !files.Privileged() && (l.domain == "system" || l.uid != files.Self()) {
		return files.ErrNeedsRights
	}
	_, err := l.system.disabledServices(l.domain)
	if errors.Is(err, errNoDomain) {
		return l.Medium.Writable(a, before, after)
	}
	return err
}

func (l launchdMedium) Prepare(a artifact.Artifact, want artifact.Image, temp string) error {
	if _, err := l.system.disabledServices(l.domain); !errors.Is(err, errNoDomain) {
		return nil
	}
	return l.Medium.Prepare(a, want, temp)
}

func (l launchdMedium) Set(a artifact.Artifact, want artifact.Image, temp string) error {
	_, err := l.system.disabledServices(l.domain)
	if !errors.Is(err, errNoDomain) {
		return l.system.setLaunchd(l.domain, want)
	}
	if err := l.Medium.Set(a, want, temp); err != nil {
		return err
	}
	// Who signed in meanwhile may have had the file read before it was written.
	if _, err := l.system.disabledServices(l.domain); errors.Is(err, errNoDomain) {
		return nil
	}
	return l.system.setLaunchd(l.domain, want)
}

func (l launchdMedium) Discard(a artifact.Artifact, temp, token string) error {
	if err := l.Medium.Discard(a, temp, token); !errors.Is(err, fs.ErrPermission) {
		return err
	}
	return nil // who may not write there prepared nothing
}

func (l launchdMedium) Same(i, j artifact.Image) bool {
	return sameOverrides(overrides(i), overrides(j), l.system.disabledInFiles())
}

// loginItemMedium is the list of login items of a running Mac. What it cannot do is that of
// [artifact.NoMedium].
type loginItemMedium struct {
	artifact.NoMedium
	system *System
}

func (l loginItemMedium) Image(a artifact.Artifact) (artifact.Image, error) {
	return l.system.loginItemImage(a)
}

func (l loginItemMedium) Writable(a artifact.Artifact, _, _ artifact.Image) error {
	_, err := l.Image(a)
	return err
}

// same: macOS 13 and later keep no longer whether an item is hidden, so that two are the same which are there.
func (loginItemMedium) Same(i, j artifact.Image) bool { return i.Kind == j.Kind }

func (l loginItemMedium) Set(a artifact.Artifact, want artifact.Image, _ string) error {
	return l.system.setLoginItem(a, want)
}
