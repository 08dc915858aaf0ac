package linux

import (
	"encoding/json"
	"errors"
	"path"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/unix"
)

var (
	dockerDaemon = program{"docker", []string{"dockerd"}, []string{"docker.service", "docker.socket"}}
	lxcTools     = program{"LXC", []string{"lxc-autostart", "lxc-start"}, []string{"lxc.service"}}
	libvirt      = program{"libvirt", []string{"libvirtd", "virtqemud", "virtlxcd"}, []string{"libvirtd.service",
		"libvirtd.socket", "virtqemud.service", "virtqemud.socket", "virtlxcd.service", "virtlxcd.socket"}}
)

// libvirtReadings are what libvirt starts with itself.
func libvirtReadings() []location.Reading {
	var readings []location.Reading
	for _, kind := range []struct{ folder, title string }{
		{"/etc/libvirt/qemu", "machine "}, {"/etc/libvirt/lxc", "container "}, {"/etc/libvirt/qemu/networks",
			"network "}, {"/etc/libvirt/storage", "store "},
	} {
		readings = append(readings, location.Reading{Places: location.In(kind.folder+"/autostart", kind.folder),
			Form: libvirtOf(kind.folder, kind.title), Runner: location.Runner{Off: libvirt.off}})
	}
	return readings
}

// describeLXC makes the item of the line by which a container starts with the machine, lxc.container.conf(5).
func describeLXC(_ *location.Survey, f location.Found, line string) *location.Item {
	key, value, ok := strings.Cut(line, "=")
	if !ok || strings.TrimSpace(key) != "lxc.start.auto" || strings.TrimSpace(value) != "1" {
		return nil
	}
	return named(path.Base(path.Dir(f.Path)), line, []string{"lxc-autostart"})
}

// dockerContainers is where docker keeps what it knows of each container.
const dockerContainers = "/var/lib/docker/containers"

// errOtherStores says that others keep their containers in databases of their own.
var errOtherStores = errors.New("lockback does not look at which of these containers start")

// readDocker reports the containers that docker starts by itself, by their restart policy: always and unless-stopped
// with itself, on-failure again where a run failed, and not with itself ("Start containers automatically" of docker's
// documents).
func readDocker(s *location.Survey, _ []location.Place) {
	for _, e := range s.Dir(dockerContainers) {
		dir := path.Join(dockerContainers, e.Name())
		if !e.IsDir() {
			continue
		}
		file := path.Join(dir, "hostconfig.json")
		content, ok := s.File(file)
		if !ok {
			continue
		}
		var host struct{ RestartPolicy struct{ Name string } }
		err := json.Unmarshal(content, &host)
		policy := host.RestartPolicy.Name
		if err == nil && policy != "always" && policy != "unless-stopped" && policy != "on-failure" {
			continue
		}
		var about struct {
			Name                   string
			Config                 struct{ Image string }
			HasBeenManuallyStopped bool
		}
		if content, ok := s.File(path.Join(dir, "config.v2.json")); ok && err == nil {
			err = json.Unmarshal(content, &about)
		}
		name := strings.TrimPrefix(about.Name, "/")
		if name == "" {
			name = e.Name()[:min(12, len(e.Name()))]
		}
		item := named(name, strings.TrimSpace("docker run "+about.Config.Image), []string{"dockerd"})
		item.State, item.Mode, item.Source, item.Artifacts = autostart.Enabled, "restart policy "+policy,
			autostart.Source{Path: file}, unix.Files(file)
		item.Switcher = location.NoSwitch{Why: "docker rewrites the file; docker update --restart=no " +
			autostart.Text(name) + " turns it off"}
		switch {
		case err != nil:
			item.Mode, item.Problems = "", []string{autostart.Unparsable}
		case policy == "unless-stopped" && about.HasBeenManuallyStopped:
			item.State, item.Mode = autostart.Disabled, "stopped by hand, restart policy "+policy
		case policy == "on-failure":
			item.When = "again, when it has failed"
		}
		s.Add(file, item)
	}
	for _, store := range []string{"/var/lib/containers/storage/db.sql",
		"/var/lib/containers/storage/libpod/bolt_state.db", "/var/lib/incus/database", "/var/lib/lxd/database"} {
		if has(s, store) {
			s.Skip(store, errOtherStores)
		}
	}
}
