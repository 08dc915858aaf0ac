package peers

import (
	"crypto/sha1"
	"encoding/base64"
	"fmt"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

// fresh is a system as its installer leaves it, read from a list in testdata: packages with their files, and what lies
// beside these. The contents are made up.
type fresh struct {
	list           string // as it stands in testdata
	release, maker string
	packages       []*freshPackage
	beside         map[string]freshFile // of no package: what the installer and presets make
}

type freshPackage struct {
	name        string
	needs, with []string // with: those with which it comes by itself
	files       map[string]freshFile
}

// freshFile is a file, or a link where it leads somewhere.
type freshFile struct {
	text, link string
	mode       os.FileMode
}

func readFresh(t *testing.T, kind string) *fresh {
	t.Helper()
	content, err := os.ReadFile(filepath.Join("testdata/fresh", kind+".txt"))
	require.NoError(t, err)
	f := &fresh{list: string(content), beside: map[string]freshFile{}}
	into := f.beside
	for line := range strings.Lines(f.list) {
		line = strings.TrimSpace(line)
		word, rest, _ := strings.Cut(line, " ")
		fields := strings.Fields(rest)
		switch word {
		case "", "#":
		case "os":
			f.release = strings.ReplaceAll(strings.ReplaceAll(rest, `" `, "\"\n"), "ID="+kind+" ", "ID="+kind+"\n") +
				"\n"
		case "maker":
			f.maker = rest
		case "package":
			names, with, _ := strings.Cut(rest, " if ")
			names, needs, _ := strings.Cut(names, " needs ")
			p := &freshPackage{name: names, needs: strings.Fields(needs), with: strings.Fields(with),
				files: map[string]freshFile{}}
			f.packages, into = append(f.packages, p), p.files
		default:
			f.line(t, into, word, fields, rest)
		}
	}
	return f
}

// optional are the words of a line that may have a value behind them.
func optional(fields []string, word string) string {
	if k := slices.Index(fields, word); k >= 0 && k+1 < len(fields) {
		return fields[k+1]
	}
	return ""
}

// line adds what one line of a list stands for.
func (f *fresh) line(t *testing.T, into map[string]freshFile, word string, fields []string, rest string) {
	t.Helper()
	name, program := fields[0], optional(fields, "exec")
	if program != "" && !strings.Contains(f.list, "\nprogram "+program+"\n") {
		into[program] = freshFile{text: "\x7fELF\x02\x01\x01" + program, mode: 0o755}
	}
	plain := func(file, text string) { into[file] = freshFile{text: text, mode: 0o644} }
	const units, userUnits = "/usr/lib/systemd/system/", "/usr/lib/systemd/user/"
	switch word {
	case "file":
		plain(name, "# "+path.Base(name)+"\n")
	case "program":
		into[name] = freshFile{text: "\x7fELF\x02\x01\x01" + name, mode: 0o755}
	case "text":
		_, text, _ := strings.Cut(rest, " ")
		plain(name, strings.ReplaceAll(text, `\n`, "\n"))
	case "script":
		into[name] = freshFile{text: "#!/bin/sh\n:\n", mode: 0o755}
	case "link":
		into[name] = freshFile{link: fields[1]}
	case "enable":
		f.beside["/etc/systemd/system/"+fields[2]+"/"+name] = freshFile{link: units + fields[1]}
	case "unit", "timer":
		f.unit(into, units, "/etc/systemd/system/", fields, program)
	case "user", "usertimer":
		f.unit(into, userUnits, "/etc/systemd/user/", fields, program)
	case "dbus", "session":
		dir := map[string]string{"dbus": "system-services/", "session": "services/"}[word]
		plain("/usr/share/dbus-1/"+dir+name+".service", "[D-BUS Service]\nName="+name+"\nExec="+program+"\nUser=root\n")
	case "autostart":
		plain("/etc/xdg/autostart/"+name+".desktop", "[Desktop Entry]\nType=Application\nName="+name+"\nExec="+program+
			"\n")
	case "rc":
		into["/etc/init.d/"+name] = freshFile{text: "#!/sbin/openrc-run\ncommand=\"" + program + "\"\n", mode: 0o755}
		if len(fields) > 1 && fields[1] != "exec" {
			f.beside["/etc/runlevels/"+fields[1]+"/"+name] = freshFile{link: "/etc/init.d/" + name}
		}
	default:
		t.Fatalf("%q is no word of these lists", word)
	}
}

// unit adds a unit, in the folder of its package, and the links that start it: the vendor's own or those of presets.
func (f *fresh) unit(into map[string]freshFile, vendor, local string, fields []string, program string) {
	name := fields[0]
	target, own := optional(fields, "wanted"), optional(fields, "static")
	if strings.HasSuffix(name, ".timer") {
		target = fields[1]
		if slices.Contains(fields, "static") {
			target, own = "", fields[1]
		}
	}
	var text strings.Builder
	text.WriteString("[Unit]\nDescription=" + name + "\n")
	switch path.Ext(name) {
	case ".service":
		text.WriteString("[Service]\nExecStart=" + program + "\n")
	case ".socket":
		text.WriteString("[Socket]\nListenStream=/run/" + name + "\n")
	case ".timer":
		text.WriteString("[Timer]\nOnCalendar=daily\n")
	case ".path":
		text.WriteString("[Path]\nPathExists=/run/" + name + "\n")
	}
	alias := optional(fields, "alias")
	if target != "" || alias != "" {
		text.WriteString("[Install]\n")
	}
	if target != "" {
		text.WriteString("WantedBy=" + target + "\n")
		f.beside[local+target+".wants/"+name] = freshFile{link: vendor + name}
	}
	if alias != "" {
		text.WriteString("Alias=" + alias + "\n")
		f.beside[local+alias] = freshFile{link: vendor + name}
	}
	if own != "" {
		into[vendor+own+".wants/"+name] = freshFile{link: "../" + name}
	}
	into[vendor+name] = freshFile{text: text.String(), mode: 0o644}
}

// lay writes files below a folder.
func lay(t *testing.T, root string, files map[string]freshFile) {
	t.Helper()
	for name, file := range files {
		name = filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(name), 0o755))
		if file.link != "" {
			require.NoError(t, os.Symlink(file.link, name))
			continue
		}
		require.NoError(t, os.WriteFile(name, []byte(file.text), file.mode))
	}
}

// merged are the folders that are links on a system.
var merged = map[string]map[string]string{
	"fedora": {"bin": "usr/bin", "sbin": "usr/sbin", "lib": "usr/lib", "lib64": "usr/lib64"},
	"arch": {"bin": "usr/bin", "sbin": "usr/bin", "lib": "usr/lib", "lib64": "usr/lib", "usr/sbin": "bin",
		"usr/lib64": "lib"},
}

// build makes the system's disk; its own package manager installs the packages, where it runs here.
func (f *fresh) build(t *testing.T, kind string) string {
	t.Helper()
	root := filepath.Join(t.TempDir(), "root")
	for _, dir := range []string{"usr/bin", "usr/sbin", "usr/lib", "usr/lib64", "home/ines", "root", "var"} {
		if _, link := merged[kind][dir]; !link {
			require.NoError(t, os.MkdirAll(filepath.Join(root, dir), 0o755))
		}
	}
	for name, link := range merged[kind] {
		require.NoError(t, os.Symlink(link, filepath.Join(root, name)))
	}
	maps.Copy(f.beside, map[string]freshFile{
		"/etc/os-release": {text: f.release, mode: 0o644}, "/etc/hostname": {text: "bench\n", mode: 0o644},
		"/etc/machine-id": {text: "00112233445566778899aabbccddeeff\n", mode: 0o444},
		"/etc/passwd":     {text: "root:x:0:0::/root:/bin/sh\nines:x:1000:1000:Ines:/home/ines:/bin/sh\n", mode: 0o644},
	})
	if kind != "alpine" {
		f.beside["/usr/sbin/init"] = freshFile{link: "../lib/systemd/systemd"}
		f.beside["/usr/lib/systemd/systemd"] = freshFile{text: "\x7fELF\x02\x01\x01", mode: 0o755}
	}
	for _, p := range f.packages {
		for name := range p.files {
			delete(f.beside, name)
		}
	}
	switch kind {
	case "fedora":
		f.byRpm(t, root)
	case "arch":
		f.byPacman(t, root)
	case "alpine":
		f.byApk(t, root)
	}
	lay(t, root, f.beside)
	return root
}

func (f *fresh) byRpm(t *testing.T, root string) {
	t.Helper()
	dir := t.TempDir()
	head := "Name: fresh\nVersion: 1\nRelease: 1\nSummary: all\nLicense: none\nVendor: " + f.maker +
		"\nBuildArch: noarch\nAutoReqProv: no\n%description\nall\n"
	var files strings.Builder
	for _, p := range f.packages {
		lay(t, dir+"/files", p.files)
		head += fmt.Sprintf("%%package -n %s\nSummary: %s\nVendor: %s\nAutoReqProv: no\n", p.name, p.name, f.maker)
		for _, need := range p.needs {
			head += "Requires: " + need + "\n"
		}
		head += fmt.Sprintf("%%description -n %s\n%s\n", p.name, p.name)
		fmt.Fprintf(&files, "%%files -n %s\n", p.name)
		for _, name := range slices.Sorted(maps.Keys(p.files)) {
			files.WriteString(name + "\n")
		}
	}
	spec := filepath.Join(dir, "fresh.spec")
	require.NoError(t, os.WriteFile(spec, []byte(head+"%install\ncp -a "+dir+"/files/. %{buildroot}/\n"+
		files.String()), 0o644))
	testkit.Shell(t, fmt.Sprintf("cd %s && rpmbuild --define '_topdir %s' --define '_rpmdir %s' "+
		"--define '_binaries_in_noarch_packages_terminate_build 0' --define 'debug_package %%{nil}' "+
		"--define '__os_install_post %%{nil}' -bb %s && rm -rf files BUILDROOT && rpm --root %s "+
		"--dbpath /usr/lib/sysimage/rpm -i --nodeps --ignorearch --noscripts noarch/*.rpm", dir, dir, dir, spec, root))
}

func (f *fresh) byPacman(t *testing.T, root string) {
	t.Helper()
	dir := t.TempDir()
	conf := filepath.Join(dir, "pacman.conf")
	require.NoError(t, os.WriteFile(conf, []byte("[options]\nArchitecture = auto\nSigLevel = Never\n"), 0o644))
	for _, p := range f.packages {
		at := filepath.Join(dir, p.name)
		require.NoError(t, os.MkdirAll(filepath.Join(at, "usr/share", p.name), 0o755))
		lay(t, at, p.files)
		info := "pkgname = " + p.name + "\npkgver = 1-1\npkgdesc = " + p.name + "\npackager = " + f.maker +
			"\narch = any\nsize = 1\nbuilddate = 1773480413\n"
		for _, need := range p.needs {
			info += "depend = " + need + "\n"
		}
		require.NoError(t, os.WriteFile(filepath.Join(at, ".PKGINFO"), []byte(info), 0o644))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(root, "var/lib/pacman"), 0o755))
	testkit.Shell(t, fmt.Sprintf("cd %s && for p in */; do (cd $p && bsdtar -czf .MTREE --format=mtree "+
		"--options='!all,use-set,type,uid,gid,mode,time,size,sha256,link' .PKGINFO * && bsdtar -cf "+
		"../${p%%/}.pkg.tar.gz -z .MTREE .PKGINFO *); done && pacman --config %s --root %s --dbpath %s/var/lib/pacman "+
		"--noconfirm -Udd *.pkg.tar.gz", dir, conf, root, root))
}

// byApk writes the database as apk's own wiki describes it.
func (f *fresh) byApk(t *testing.T, root string) {
	t.Helper()
	var db strings.Builder
	for _, p := range f.packages {
		lay(t, root, p.files)
		fmt.Fprintf(&db, "P:%s\nV:1-r0\nT:%s\nm:%s\n", p.name, p.name, f.maker)
		if len(p.needs) > 0 {
			db.WriteString("D:" + strings.Join(p.needs, " ") + "\n")
		}
		if len(p.with) > 0 {
			db.WriteString("i:" + strings.Join(p.with, " ") + "\n")
		}
		folder := ""
		for _, name := range slices.Sorted(maps.Keys(p.files)) {
			if dir := path.Dir(name); dir != folder {
				folder = dir
				db.WriteString("F:" + strings.TrimPrefix(dir, "/") + "\n")
			}
			sum := sha1.Sum([]byte(p.files[name].text))
			fmt.Fprintf(&db, "R:%s\nZ:Q1%s\n", path.Base(name), base64.StdEncoding.EncodeToString(sum[:]))
		}
		db.WriteString("\n")
	}
	lay(t, root, map[string]freshFile{"/lib/apk/db/installed": {text: db.String(), mode: 0o644}})
}

// maxFresh is how many entries of a fresh system may be shown.
const maxFresh = 20

// freshParts are an entry of each of these systems that only its base tells to be a part.
var freshParts = map[string]string{"fedora": "cups.path", "arch": "archlinux-keyring-wkd-sync.timer", "alpine": "crond"}

// TestFreshSystemsOfOthers looks at systems as three other distributions leave them.
func TestFreshSystemsOfOthers(t *testing.T) {
	t.Parallel()
	for kind, tools := range map[string][]string{"fedora": {"rpm", "rpmbuild"}, "arch": {"pacman", "bsdtar"},
		"alpine": nil} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			if tools != nil {
				testkit.NeedRoot(t, "installing packages")
				testkit.Need(t, tools...)
			}
			p := testkit.Program{Root: readFresh(t, kind).build(t, kind), Store: filepath.Join(t.TempDir(),
				"record.db")}
			all, entries := p.List(t, "--all")
			for _, e := range all.Entries {
				accused(t, kind, e)
			}
			require.True(t, entries[freshParts[kind]].OSPart)
			proposesNoHarm(t, p)
			shown, names := p.List(t)
			require.LessOrEqual(t, len(shown.Entries), maxFresh, "%s: %v", kind, slices.Sorted(maps.Keys(names)))
			t.Logf("%s: %d of %d shown", kind, len(shown.Entries), len(all.Entries))
			if kind == "alpine" { // Gentoo and others have no database that is read
				require.NoError(t, os.RemoveAll(filepath.Join(p.Root, "lib/apk")))
				all, _ := p.List(t, "--all")
				for _, e := range all.Entries {
					accused(t, kind, e)
				}
				proposesNoHarm(t, p)
			}
		})
	}
}
