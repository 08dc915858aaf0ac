package peers

import (
	"database/sql"
	"fmt"
	"math/bits"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite" // reads what rpm wrote

	"lockback/core/autostart"
	"lockback/internal/testkit"
)

func TestMain(m *testing.M) { testkit.Main(m) }

// TestPackagesAsDpkgSees holds what list says about the programs of a real desktop against dpkg: whose
// they are, and whether they are as they were delivered, before and after some were changed.
func TestPackagesAsDpkgSees(t *testing.T) {
	t.Parallel()
	root := testkit.Debian(t, "desktop")
	if named := os.Getenv("LOCKBACK_DESKTOP"); named != "" {
		root = named // a larger one, for a person who has it: it is not written to
	}
	p := testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
	list, _ := p.List(t, "--all")
	packages := map[string]bool{}
	owners := map[string]string{} // by path
	hidden := 0
	for _, e := range list.Entries {
		require.NotContains(t, e.Problems, autostart.Impostor, e.Name)
		require.NotContains(t, e.Problems, autostart.Changed, e.Name)
		require.NotContains(t, e.Problems, autostart.OddPlace, e.Name)
		require.NotContains(t, e.Problems, autostart.Obscured, e.Name)
		require.NotContains(t, e.Problems, autostart.Twice, e.Name)
		if e.OSPart {
			hidden++
			require.Equal(t, autostart.ByPackage, e.OSBasis, e.Name)
		}
		if e.Target.Exists == nil || !*e.Target.Exists {
			continue
		}
		owner := dpkgOwner(root, e.Target.Path)
		require.Equal(t, owner, e.Product.Name, "%s starts %s", e.Name, e.Target.Path)
		if owner != "" {
			packages[owner] = true
			owners[e.Target.Path] = owner
		}
	}
	t.Logf("%d entries, %d hidden; %d programs of %d packages", len(list.Entries), hidden, len(owners), len(packages))
	require.Greater(t, len(packages), 15)
	verify := func() []string {
		args := append([]string{"--root=" + root, "--verify"}, slices.Sorted(setOf(packages))...)
		out, err := exec.Command("dpkg", args...).Output()
		if err != nil && len(out) == 0 {
			require.NoError(t, err)
		}
		var changed []string
		for line := range strings.Lines(string(out)) {
			if f := strings.Fields(line); len(f) > 1 && strings.Contains(f[0], "5") {
				changed = append(changed, filepath.Base(f[len(f)-1]))
			}
		}
		return changed
	}
	for path := range owners {
		require.NotContains(t, verify(), filepath.Base(path))
		break
	}
	if os.Getenv("LOCKBACK_DESKTOP") != "" {
		return
	}
	spoiled := map[string]bool{}
	for _, path := range slices.Sorted(setOf(owners))[:8] {
		file, err := filepath.EvalSymlinks(filepath.Join(root, path))
		if err != nil || !strings.HasPrefix(file, root) {
			continue
		}
		f, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteString("\n")
		require.NoError(t, err)
		require.NoError(t, f.Close())
		spoiled[path] = true
	}
	require.NotEmpty(t, spoiled)
	changed := verify()
	list, _ = p.List(t, "--all")
	for _, e := range list.Entries {
		if spoiled[e.Target.Path] {
			require.Contains(t, changed, filepath.Base(e.Target.Path))
			require.Contains(t, e.Problems, autostart.Changed, e.Name)
			require.False(t, e.OSPart, e.Name)
			require.Empty(t, e.Maker.Name, e.Name)
		}
	}
}

// dpkgOwner is the package that dpkg says has a file, by whichever of its two paths.
func dpkgOwner(root, file string) string {
	full := file
	if real, err := filepath.EvalSymlinks(filepath.Join(root, file)); err == nil {
		full = strings.TrimPrefix(real, root)
	}
	for _, name := range []string{full, strings.TrimPrefix(full, "/usr"), "/usr" + full, file, strings.TrimPrefix(file,
		"/usr")} {
		out, err := exec.Command("dpkg-query", "--admindir="+filepath.Join(root, "var/lib/dpkg"), "-S", name).Output()
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(out)) {
			if owner, path, ok := strings.Cut(strings.TrimSpace(line), ": "); ok && path == name &&
				!strings.HasPrefix(owner, "diversion") {
				owner, _, _ = strings.Cut(owner, ":")
				owner, _, _ = strings.Cut(owner, ",")
				return owner
			}
		}
	}
	return ""
}

func setOf[V any](all map[string]V) func(func(string) bool) {
	return func(yield func(string) bool) {
		for name := range all {
			if !yield(name) {
				return
			}
		}
	}
}

// smallLinux is a small disk without packages, and a program with a unit that starts it.
func smallLinux(t *testing.T) string {
	t.Helper()
	root := filepath.Join(t.TempDir(), "root")
	for name, text := range map[string]string{
		"etc/os-release": "PRETTY_NAME=\"Gullrock Linux\"\nID=gullrock\n",
		"etc/machine-id": "00112233445566778899aabbccddeeff\n", "etc/hostname": "bench\n",
		"etc/passwd": "root:x:0:0::/root:/bin/sh\n", "usr/lib/systemd/system/multi-user.target": "[Unit]\n",
		"usr/lib/systemd/system/default.target": "[Unit]\nWants=tidewatch.service report.service\n",
	} {
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	for _, dir := range []string{"bin", "sbin", "lib"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, "usr", dir), 0o755))
		require.NoError(t, os.Symlink("usr/"+dir, filepath.Join(root, dir)))
	}
	return root
}

// The files of the package that the tests make.
var tideFiles = map[string]string{
	"usr/bin/tidewatchd":                       "#!/bin/sh\nexec sleep 5\n",
	"usr/bin/report":                           "#!/bin/sh\necho tide\n",
	"usr/lib/systemd/system/tidewatch.service": "[Service]\nExecStart=/usr/bin/tidewatchd\n",
	"usr/lib/systemd/system/report.service":    "[Service]\nExecStart=/bin/report --daily\n",
}

// judgePackage looks at the package on the disk, before and after a file of it is changed.
func judgePackage(t *testing.T, root, maker, version string) {
	t.Helper()
	p := testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
	_, entries := p.List(t, "--all")
	for _, name := range []string{"tidewatch.service", "report.service"} {
		e := entries[name]
		require.Equal(t, autostart.Maker{Name: maker, Basis: autostart.ByPackage}, e.Maker, name)
		require.Equal(t, "tidewatch", e.Product.Name)
		require.Equal(t, version, e.Product.Version)
		require.NotEmpty(t, e.Product.Installed)
		require.Empty(t, e.Problems)
	}
	require.Contains(t, p.OK(t, "show", "tidewatch.service"), "reads the tide gauge")
	// What the record keeps of it is the same, and not what is told once the file is another.
	fresh := p.OK(t, "list", "--all", "--format", "json")
	p.OK(t, "snapshot")
	require.Equal(t, fresh, p.OK(t, "list", "--all", "--format", "json"))
	require.NoError(t, os.WriteFile(filepath.Join(root, "usr/bin/report"), []byte("#!/bin/sh\necho ebb!\n"), 0o755))
	_, entries = p.List(t, "--all")
	require.Contains(t, entries["report.service"].Problems, autostart.Changed)
	require.NotContains(t, entries["tidewatch.service"].Problems, autostart.Changed)
}

// TestPackagesOfRpm looks at a package that rpm itself installed, in each of its databases.
func TestPackagesOfRpm(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "installing a package with rpm")
	testkit.Need(t, "rpm", "rpmbuild")
	dir := t.TempDir()
	var install, list strings.Builder
	for name, text := range tideFiles {
		file := filepath.Join(dir, filepath.Base(name))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		fmt.Fprintf(&install, "install -D -m 755 %s %%{buildroot}/%s\n", file, name)
		list.WriteString("/" + name + "\n")
	}
	spec := filepath.Join(dir, "tidewatch.spec")
	require.NoError(t, os.WriteFile(spec, []byte("Name: tidewatch\nVersion: 1.18\nRelease: 2\nSummary: reads the "+
		"tide gauge\nLicense: none\nVendor: Tidewatch Instruments\nBuildArch: noarch\n"+
		"%description\ntide\n%install\n"+install.String()+"%files\n"+list.String()), 0o644))
	testkit.Shell(t, fmt.Sprintf("rpmbuild --define '_topdir %s' --define '_rpmdir %s' -bb %s", dir, dir, spec))
	for _, kind := range rpmDatabases {
		t.Run(kind.name, func(t *testing.T) {
			root := smallLinux(t)
			testkit.Shell(t, fmt.Sprintf("rpm --root %s --dbpath /usr/lib/sysimage/rpm --initdb && rpm --root %s "+
				"--dbpath /usr/lib/sysimage/rpm -i --nodeps --ignorearch %s/noarch/tidewatch-1.18-2.noarch.rpm", root,
				root, dir))
			kind.make(t, root)
			judgePackage(t, root, "Tidewatch Instruments", "1.18-2")
			out, _ := exec.Command("rpm", "--root", root, "--dbpath", "/usr/lib/sysimage/rpm", "--define",
				"_db_backend "+kind.backend, "-Va").Output()
			require.Regexp(t, regexp.MustCompile(`(?m)^..5.* /usr/bin/report$`), string(out))
		})
	}
}

// rpmDatabase is a kind of database; this rpm writes the first alone, and reads the others.
type rpmDatabase struct{ name, backend, convert string }

var rpmDatabases = []rpmDatabase{
	{"SQLite", "sqlite", ""},
	// the header stands on pages of its own
	{"Berkeley DB", "bdb_ro", "db_load -f %s %s"},
	{"Berkeley DB, large pages", "bdb_ro", "db_load -c db_pagesize=65536 -f %s %s"}, // in the item itself
	{"Berkeley DB, the other order", "bdb_ro", "db_load -c db_lorder=4321 -f %s %s"},
}

// make makes the kind of database of the one that rpm wrote.
func (k rpmDatabase) make(t *testing.T, root string) {
	t.Helper()
	if k.convert == "" {
		return
	}
	testkit.Need(t, "db_load")
	database := filepath.Join(root, "usr/lib/sysimage/rpm")
	dump := filepath.Join(t.TempDir(), "dump")
	require.NoError(t, os.WriteFile(dump, berkeleyDump(t, filepath.Join(database, "rpmdb.sqlite")), 0o644))
	require.NoError(t, os.RemoveAll(database))
	require.NoError(t, os.MkdirAll(database, 0o755))
	testkit.Shell(t, fmt.Sprintf(k.convert, dump, filepath.Join(database, "Packages")))
}

// basePackages are a shell, an office of a group of an environment, a gauge whose file the office needs, tables that
// the gauge needs by what they provide, a stranger who provides the same, and a game of a group beside the environment.
var basePackages = []struct{ name, vendor, more string }{
	{"bash", "Gullrock", ""}, {"office", "Gullrock", "Requires: /usr/bin/gauge\n"},
	{"gauge", "Gullrock", "Requires: tide-tables >= 2\n"},
	{"tables", "Gullrock", "Provides: tide-tables = 2\n"},
	{"game", "Gullrock", ""}, {"stranger", "Others", "Provides: tide-tables = 2\n"},
}

// makeBase makes these packages, each with a service, and a repository with the groups.
func makeBase(t *testing.T, dir string) {
	t.Helper()
	spec := "Name: fresh\nVersion: 1\nRelease: 1\nSummary: all\nLicense: none\nBuildArch: noarch\nAutoReqProv: no\n" +
		"%description\nall\n%install\nmkdir -p %{buildroot}/usr/bin %{buildroot}/usr/lib/systemd/system\n"
	for _, p := range basePackages {
		spec += fmt.Sprintf("cp -p /bin/true %%{buildroot}/usr/bin/%[1]s\nprintf "+
			"'[Service]\\nExecStart=/usr/bin/%[1]s\\n' "+
			"> %%{buildroot}/usr/lib/systemd/system/%[1]s.service\n", p.name)
	}
	for _, p := range basePackages {
		spec += fmt.Sprintf("%%package -n %[1]s\nSummary: %[1]s\nVendor: %s\n%sAutoReqProv: no\n%%description -n "+
			"%[1]s\n%[1]s\n%%files -n %[1]s\n/usr/bin/%[1]s\n/usr/lib/systemd/system/%[1]s.service\n", p.name, p.vendor,
			p.more)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "fresh.spec"), []byte(spec), 0o644))
	group := func(id, name string) string {
		return "<group><id>" + id + "</id><name>" + id + "</name><packagelist><packagereq type=\"mandatory\">" + name +
			"</packagereq></packagelist></group>\n"
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "comps.xml"), []byte("<comps>\n"+group("desk", "office")+
		group("play", "game")+"<environment><id>museum</id><name>museum</name><grouplist><groupid>desk</groupid>"+
		"</grouplist></environment>\n</comps>\n"), 0o644))
	testkit.Shell(t, fmt.Sprintf("cd %s && rpmbuild --define '_topdir %s' --define '_rpmdir %s/repo' --define "+
		"'_binaries_in_noarch_packages_terminate_build 0' --define 'debug_package %%{nil}' --define "+
		"'__os_install_post %%{nil}' -bb fresh.spec && cp comps.xml repo/ && createrepo_c -q -g comps.xml repo", dir,
		dir,
		dir))
}

// TestBaseOfRpm looks at an environment that dnf itself installed: its packages, and what these need, are the base.
func TestBaseOfRpm(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "installing packages with dnf")
	testkit.Need(t, "rpm", "rpmbuild", "dnf", "createrepo_c")
	dir := t.TempDir()
	makeBase(t, dir)
	original := smallLinux(t)
	testkit.Shell(t, fmt.Sprintf("dnf -q -y --installroot=%[1]s --releasever=1 --setopt=reposdir=%[2]s/none "+
		"--repofrompath=t,file://%[2]s/repo --repo=t --nogpgcheck group install museum play && dnf -q -y "+
		"--installroot=%[1]s "+
		"--releasever=1 --setopt=reposdir=%[2]s/none --repofrompath=t,file://%[2]s/repo --repo=t --nogpgcheck "+
		"install bash tables "+
		"stranger && mkdir -p %[1]s/usr/lib/sysimage && db=$(find %[1]s -name rpmdb.sqlite) && mv $(dirname $db) "+
		"%[1]s/usr/lib/sysimage/rpm", original, dir))
	const target = "usr/lib/systemd/system/default.target"
	require.NoError(t, os.WriteFile(filepath.Join(original, target),
		[]byte("[Unit]\nWants=bash.service office.service "+
			"gauge.service tables.service game.service stranger.service\n"), 0o644))
	const history, dnf5 = "var/lib/dnf/history.sqlite", "usr/lib/sysimage/libdnf5/"
	whole := map[string]bool{"bash": true, "office": true, "gauge": true, "tables": true, "game": false,
		"stranger": false}
	none := map[string]bool{"bash": true, "office": false, "gauge": false, "tables": false, "game": false,
		"stranger": false}
	for _, kind := range rpmDatabases {
		for _, c := range []struct {
			name  string
			files map[string]string
			want  map[string]bool
		}{
			{"history", nil, whole},
			{"dnf 5", map[string]string{history: "",
				dnf5 + "environments.toml": "version = \"1.0\"\n[environments.museum]\n" +
					"groups = [\"desk\"]\n",
				dnf5 + "groups.toml": "version = \"1.0\"\n[groups.desk]\npackages = [\"office\"]\n" +
					"package_types = [\"mandatory\"]\n[groups.play]\npackages = [\"game\"]\nuserinstalled = true\n"},
				whole},
			{"protected", map[string]string{history: "", "etc/dnf/protected.d/office.conf": "# the desk\noffice\n"},
				whole},
			{"damaged", map[string]string{history: "SQLite format 3\x00", dnf5 + "environments.toml": "[["}, none},
		} {
			t.Run(kind.name+", "+c.name, func(t *testing.T) {
				root := filepath.Join(t.TempDir(), "root")
				testkit.Shell(t, "cp -a "+original+" "+root)
				kind.make(t, root)
				for name, text := range c.files {
					require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
					require.NoError(t, os.RemoveAll(filepath.Join(root, name+"-wal")))
					require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
				}
				p := testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
				_, entries := p.List(t, "--all")
				for name, want := range c.want {
					require.Equal(t, want, entries[name+".service"].OSPart, name)
				}
			})
		}
	}
}

// berkeleyDump is the text from which db_load makes the database of earlier years: the number of
// each package with its header, and under number 0 the highest of them.
func berkeleyDump(t *testing.T, database string) []byte {
	t.Helper()
	db, err := sql.Open("sqlite", database)
	require.NoError(t, err)
	defer db.Close()
	rows, err := db.Query("SELECT 0, hex(max(hnum)) FROM Packages UNION ALL SELECT hnum, hex(blob) FROM Packages")
	require.NoError(t, err)
	defer rows.Close()
	dump := []byte("VERSION=3\nformat=bytevalue\ntype=hash\nHEADER=END\n")
	for rows.Next() {
		var number uint32
		var header string
		require.NoError(t, rows.Scan(&number, &header))
		if number == 0 {
			header = "01000000"
		}
		dump = fmt.Appendf(dump, " %08x\n %s\n", bits.ReverseBytes32(number), strings.ToLower(header))
	}
	require.NoError(t, rows.Err())
	return append(dump, "DATA=END\n"...)
}

// TestPackagesOfPacman looks at a package that pacman itself installed.
func TestPackagesOfPacman(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "installing a package with pacman")
	testkit.Need(t, "pacman", "bsdtar")
	dir := t.TempDir()
	for name, text := range tideFiles {
		file := filepath.Join(dir, "pkg", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o755))
	}
	info := "pkgname = tidewatch\npkgver = 1.18-2\npkgdesc = reads the tide gauge\npackager = Tidewatch " +
		"Instruments <packages@tidewatch.example>\narch = any\nsize = 1\nbuilddate = 1773480413\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "pkg/.PKGINFO"), []byte(info), 0o644))
	root := smallLinux(t)
	conf := filepath.Join(dir, "pacman.conf")
	require.NoError(t, os.WriteFile(conf, []byte("[options]\nArchitecture = auto\nSigLevel = Never\n"), 0o644))
	testkit.Shell(t, fmt.Sprintf("cd %s/pkg && bsdtar -czf .MTREE --format=mtree "+
		"--options='!all,use-set,type,uid,gid,mode,time,size,sha256,link' .PKGINFO usr && bsdtar -cf "+
		"../tidewatch-1.18-2-any.pkg.tar.gz -z .MTREE .PKGINFO usr", dir))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "var/lib/pacman"), 0o755))
	testkit.Shell(t, fmt.Sprintf("pacman --config %s --root %s --dbpath %s/var/lib/pacman --noconfirm -U "+
		"%s/tidewatch-1.18-2-any.pkg.tar.gz", conf, root, root, dir))
	judgePackage(t, root, "Tidewatch Instruments", "1.18-2")
	out, _ := exec.Command("pacman", "--config", conf, "--root", root, "--dbpath",
		filepath.Join(root, "var/lib/pacman"), "-Qkk", "tidewatch").CombinedOutput()
	require.Contains(t, string(out), "/usr/bin/report (")
}

// TestPackagesOfFlatpak looks at an app that flatpak itself installed, and that starts by its command
// and by the script that flatpak made for it.
func TestPackagesOfFlatpak(t *testing.T) {
	t.Parallel()
	testkit.NeedRoot(t, "installing an app with flatpak")
	testkit.Need(t, "flatpak")
	dir := t.TempDir()
	root := smallLinux(t)
	for name, text := range map[string]string{
		"app/metadata":                       "[Application]\nname=org.gullrock.Tide\nruntime=org.gullrock.Platform/x86_64/stable\ncommand=tide\n",
		"app/files/bin/tide":                 "#!/bin/sh\necho tide\n",
		"app/export/share/applications/none": "",
		"app/files/share/metainfo/org.gullrock.Tide.metainfo.xml": `<component type="desktop-application"><id>org.gullrock.Tide</id><name>Tide board</name><name xml:lang="de">Gezeitentafel</name><summary>Shows the tide</summary>` +
			`<developer id="org.gullrock"><name>Gullrock Lighthouse Museum</name></developer><releases><release ` +
			`version="3.2" date="2026-01-01"/><release version="3.1"/></releases></component>`,
	} {
		file := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o755))
	}
	for name, command := range map[string]string{"run": "flatpak run --branch=stable org.gullrock.Tide --full",
		"script": "/var/lib/flatpak/exports/bin/org.gullrock.Tide", "other": "flatpak run org.gullrock.Ebb"} {
		file := filepath.Join(root, "etc/xdg/autostart", name+".desktop")
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte("[Desktop Entry]\nType=Application\nName="+name+"\nExec="+command+
			"\n"), 0o644))
	}
	testkit.Shell(t, fmt.Sprintf("cd %s && export HOME=%s FLATPAK_SYSTEM_DIR=%s/var/lib/flatpak && mkdir -p "+
		"$FLATPAK_SYSTEM_DIR && flatpak build-export --arch=x86_64 repo app stable && "+
		"flatpak --system remote-add --no-gpg-verify tide repo && flatpak --system install -y --noninteractive "+
		"--no-related --no-deps --arch=x86_64 tide org.gullrock.Tide", dir, dir, root))
	p := testkit.Program{Root: root, Store: filepath.Join(t.TempDir(), "record.db")}
	_, entries := p.List(t, "--all")
	for _, name := range []string{"run", "script"} {
		require.Equal(t, autostart.Maker{Name: "Gullrock Lighthouse Museum", Basis: autostart.ByPackage},
			entries[name].Maker, name)
		require.Equal(t, autostart.Product{Name: "Tide board", Version: "3.2"}, entries[name].Product, name)
		require.Empty(t, entries[name].Problems, name)
	}
	require.Equal(t, "/var/lib/flatpak/app/org.gullrock.Tide/current/active/files/bin/tide", entries["run"].Target.Path)
	require.Empty(t, entries["other"].Product.Name)
}
