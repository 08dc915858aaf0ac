package macos

import (
	"fmt"
	"maps"
	"path"
	"strings"
	"time"

	"lockback/core/format/launchd"
	"lockback/core/format/plist"
	"lockback/core/location"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
)

// Delay turns the job off in launchd's database and makes another one like it beside its file, which waits before it
// starts the same. launchd has no delay: a StartInterval runs a job again and again.
func (o override) Delay(m *machine.Reader, images location.Images, item *location.Item, d time.Duration,
	now time.Time) (location.Later, error) {
	later := location.Later{Off: true,
		Note: "launchd has no delay, so another job waits in a shell and starts the same"}
	file := item.Source.Path
	if ofSystem(file) || strings.Contains(file, ".app/") {
		return later, fmt.Errorf("%w: it is inside what its maker signed", location.ErrNoDelay)
	}
	image, err := images.Image(artifact.File(file))
	if err != nil {
		return later, err
	}
	doc, err := parseImage(file, image)
	if err != nil {
		return later, err
	}
	job := launchd.Parse(doc.Dict())
	argv := job.Command()
	if len(argv) == 0 || job.Kind() != launchd.AtLoad {
		return later, fmt.Errorf("%w: it starts on demand, not when it is loaded",
			location.ErrNoDelay)
	}
	label := o.label + ".later"
	inner, _, again := location.Waited(argv)
	if again {
		argv = inner
	}
	keys := map[string]any{}
	maps.Copy(keys, doc.Dict())
	delete(keys, "Program")
	keys["Label"], keys["ProgramArguments"] = label, texts(location.Waiting(argv, d))
	content, err := plist.New(keys).Bytes()
	if err != nil {
		return later, err
	}
	u, dir, uid, gid := item.For, path.Dir(file), image.UID, image.GID
	if item.Everyones { // it is turned off for one user, so another one of theirs starts it
		dir, uid, gid = path.Join(u.Home, "Library/LaunchAgents"), u.UID, u.GID
	}
	other := path.Join(dir, label+".plist")
	if taken, err := images.Image(artifact.File(other)); err != nil || taken.Kind != artifact.Absent {
		return later, fmt.Errorf("%w: %s is in the way", location.ErrNoDelay, other)
	}
	later.Made = &location.Made{Location: item.Location, User: item.User, Key: key(u, other),
		Edits: []location.Edit{{Artifact: artifact.File(other), Image: artifact.NewFile(content, 0o644, uid, gid,
			now)}}}
	return later, nil
}
