package program

import (
	"encoding/hex"
	"errors"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/codesign"
	"lockback/core/format/plist"
	"lockback/core/machine"
	"lockback/core/machine/files"
	"lockback/core/machine/mac"
)

// macPrograms tells who signed programs of macOS, and what the apps that they lie in say.
func macPrograms(m *machine.Reader, files []*File) {
	t := macTrust(m)
	sharedOut(files, func(f *File) {
		b, inBundle := f.bundle()
		f.macSignature(b, t)
		if inBundle {
			f.bundleSays(b)
		}
	})
}

// bundle is the app, or whatever else of its form, that a program lies in.
type bundle struct {
	folder    string
	info      []byte // its Info.plist
	resources []byte // its list of sealed resources
	dict      plist.Dict
}

// maxBundleFile is the largest file of a bundle that is read, in bytes: large apps list 40,000 files.
const maxBundleFile = 16 << 20

// bundle finds the innermost bundle that a program lies in.
func (f *File) bundle() (b bundle, ok bool) {
	k := strings.LastIndex(f.Path, "/Contents/")
	if k < 0 {
		return b, false
	}
	b.folder = f.Path[:k]
	var err error
	if b.info, err = f.machine.ReadFile(b.folder+"/Contents/Info.plist", maxBundleFile); err != nil {
		return b, false
	}
	if doc, err := plist.Parse(b.info); err == nil {
		b.dict = doc.Dict()
	}
	b.resources, _ = f.machine.ReadFile(b.folder+"/Contents/_CodeSignature/CodeResources", maxBundleFile)
	return b, b.dict != nil
}

// bundleSays adds what an app says about itself.
func (f *File) bundleSays(b bundle) {
	e := Evidence{Basis: autostart.ByBundle, Source: b.folder + "/Contents/Info.plist, which anybody can write",
		Product: firstOf(b.dict.Text("CFBundleDisplayName"), b.dict.Text("CFBundleName")),
		Version: firstOf(b.dict.Text("CFBundleShortVersionString"), b.dict.Text("CFBundleVersion"))}
	e.Role = b.role()
	if id := b.dict.Text("CFBundleIdentifier"); id != "" {
		e.Bundle = id
		e.Notes = append(e.Notes, Note{Name: "bundle id", Text: autostart.Text(id)})
	}
	if _, err := f.machine.Stat(b.folder + "/Contents/_MASReceipt/receipt"); err == nil {
		e.Notes = append(e.Notes, Note{Name: "came from", Text: "the App Store: it has a receipt of it"})
	}
	if ticket, err := f.machine.ReadFile(b.folder+"/Contents/CodeResources", maxBundleFile); err == nil &&
		len(ticket) > 4 {
		e.Notes = append(e.Notes, Note{Name: "notarised", Text: "a ticket is stapled to it; whether it is of this " +
			"app was not checked"})
	}
	f.Evidence = append(f.Evidence, e)
}

// bundleKeys are keys of an Info.plist that a bundle of one purpose alone has, by Apple's document
// "Information Property List".
var bundleKeys = []struct{ key, role string }{
	{"InputMethodConnectionName", "input"}, {"IOKitPersonalities", "device"}, {"AudioComponents", "sound"},
}

// bundleTypes are the endings of bundles of one purpose.
var bundleTypes = map[string]string{".kext": "device", ".dext": "device", ".driver": "device", ".saver": "display",
	".networkextension": "network"}

// appCategories are what an app says that it is for, LSApplicationCategoryType, where that is one of
// the roles.
var appCategories = map[string]string{
	"public.app-category.business": "office", "public.app-category.productivity": "office",
	"public.app-category.finance": "office",
	"public.app-category.music":   "media", "public.app-category.video": "media",
	"public.app-category.photography": "media", "public.app-category.entertainment": "media",
	"public.app-category.social-networking": "messaging",
}

// role is what a bundle is for by its type, as it says itself; empty if that tells nothing.
func (b bundle) role() string {
	if role := bundleTypes[path.Ext(b.folder)]; role != "" {
		return role
	}
	for _, k := range bundleKeys {
		if b.dict.Has(k.key) {
			return k.role
		}
	}
	return appCategories[b.dict.Text("LSApplicationCategoryType")]
}

// macSignature adds what the signature of a program proves.
func (f *File) macSignature(b bundle, t *appleTrust) {
	if !f.Nothing {
		f.opened(func(content *os.File, size int64) { f.macCode(content, size, b, t) })
	}
}

func (f *File) macCode(file *os.File, size int64, b bundle, t *appleTrust) {
	codes, err := codesign.Open(file, size)
	switch {
	case errors.Is(err, codesign.ErrNotMachO):
		return
	case err != nil:
		f.Evidence = append(f.Evidence, unread("its header", err))
		return
	}
	var processors []string
	for _, c := range codes {
		processors = append(processors, c.Processor())
	}
	f.Kind = "macOS program for " + strings.Join(processors, " and ")
	if size > maxHashed {
		f.Evidence = append(f.Evidence, unread(itsSignature, errTooLarge))
		return
	}
	var best *Evidence
	for _, c := range codes {
		s, err := c.Signature()
		if errors.Is(err, codesign.ErrUnsigned) {
			// Every program that Apple's own tools made for its processors is signed, if only by itself.
			f.Evidence = append(f.Evidence, Evidence{Source: itsSignature, Problems: []string{autostart.Unsigned},
				Notes: []Note{{Kind: autostart.FactSignature, Text: "none"}}})
			return
		}
		if err == nil {
			err = f.sealed(s, b)
		}
		if err != nil {
			f.Evidence = append(f.Evidence, invalidSignature(err.Error()))
			return
		}
		e := macSigner(s, t)
		switch {
		case best == nil:
			best = &e
		case rank(e.Basis) > rank(best.Basis) || e.Maker != best.Maker:
			best = &e // of several processors, the weakest counts: any of them may be the one that runs
		}
	}
	best.Source = itsSignature
	if best.Basis != "" {
		best.State = Unchanged // what nobody signed may be signed again by anybody who changes it
	}
	f.Evidence = append(f.Evidence, *best)
}

// sealed holds what the signature seals of the bundle against what is there. The signature of a
// bundle's main program seals its Info.plist and its list of resources; that list seals the other
// programs.
func (f *File) sealed(s codesign.Signature, b bundle) error {
	if b.info == nil {
		return nil
	}
	if s.Sealed(codesign.InfoPlist) && path.Join(b.folder, "Contents/MacOS",
		b.dict.Text("CFBundleExecutable")) == f.Path {
		if !s.Seals(codesign.InfoPlist, b.info) {
			return errors.New("the Info.plist of the app is not what was signed")
		}
		if s.Sealed(codesign.CodeResources) && !s.Seals(codesign.CodeResources, b.resources) {
			return errors.New("the app's list of sealed resources is not what was signed")
		}
		return nil
	}
	return f.listed(b)
}

// listed holds a file against the list of sealed resources of its app, if it stands there.
func (f *File) listed(b bundle) error {
	doc, err := plist.Parse(b.resources)
	if err != nil {
		return nil
	}
	files := doc.Dict().Dict("files2")
	entry, ok := files[strings.TrimPrefix(f.Path, b.folder+"/Contents/")].(map[string]any)
	if !ok {
		return nil
	}
	wanted, ok := entry["hash2"].([]byte)
	if !ok {
		return nil // a program of its own, which is sealed by what its signature says
	}
	got, err := f.digest("sha256")
	if err != nil {
		return err
	}
	if got != hex.EncodeToString(wanted) {
		return errors.New("it is not what the app's list of sealed resources has")
	}
	return nil
}

// appleRoots are the roots of Apple that sign software for macOS, by the SHA-256 of the
// certificate. "Apple Root CA" was read in the signature of a public program of 2026.
var appleRoots = map[string]string{
	"b0b1730ecbc7ff4505142c49f1295e6eda6bcaed7e2c68c5be91b5a11001f024": "Apple Root CA",
}

// appleTrust is whom a Mac believes beside Apple.
type appleTrust struct {
	own map[string]bool // roots by their SHA-1, as the settings name them
	now time.Time
}

// trustSettings is where a Mac keeps whom an administrator told it to trust: a list by the SHA-1
// of the certificates, each with what it is trusted for. An empty list of that means everything,
// SecTrustSettings.h.
const trustSettings = "/Library/Security/Trust Settings/Admin.plist"

func macTrust(m *machine.Reader) *appleTrust {
	t := &appleTrust{own: map[string]bool{}, now: time.Now()}
	content, err := m.ReadFile(trustSettings, files.MaxFileSize)
	if err != nil {
		return t
	}
	doc, err := plist.Parse(content)
	if err != nil {
		return t
	}
	list := doc.Dict().Dict("trustList")
	for sum := range list {
		one := list.Dict(sum)
		trusted := len(one.Array("trustSettings")) == 0
		for _, s := range one.Dicts("trustSettings") {
			// 1 and 2 trust it, and 1 is meant where nothing stands; 3 denies it.
			result, said := s.Int("kSecTrustSettingsResult")
			trusted = trusted || !said || result == 1 || result == 2
		}
		t.own[strings.ToUpper(sum)] = trusted
	}
	return t
}

// appleSoftware is the name in the certificate by which Apple signs the parts of macOS, and nothing
// of other makers.
const appleSoftware = "Software Signing"

// macSigner is who made a signature that holds, as far as it can be traced.
func macSigner(s codesign.Signature, t *appleTrust) Evidence {
	e := Evidence{Notes: []Note{{Kind: autostart.FactSignedAs, Text: autostart.Text(s.Identifier)}}}
	add := func(name, text string) { e.Notes = append(e.Notes, Note{Name: name, Text: text}) }
	signed := func(kind autostart.FactKind, text string) { e.Notes = append(e.Notes, Note{Kind: kind, Text: text}) }
	if s.Runtime {
		add("hardened runtime", "on")
	}
	if s.AdHoc {
		signed(autostart.FactSignedBy, "nobody (ad hoc): it has only digests of itself")
		return e
	}
	e.Basis, e.Maker = autostart.ByUnanchored, signerName(s.Signer)
	signed(autostart.FactSignedBy, certificateName(s.Signer))
	if s.Team != "" {
		add("team", autostart.Text(s.Team))
	}
	if !s.Time.IsZero() {
		signed(autostart.FactSignedAt, s.Time.UTC().Format(time.RFC3339)+", as its signer says")
	}
	chain, err := s.Chain(t.now)
	if err != nil {
		add("not traced", "its signer is nobody that is known: "+err.Error())
		return e
	}
	root := chain[len(chain)-1]
	name, known := appleRoots[fingerprint(root)]
	if own := t.own[thumbprint(root)]; own && !known {
		name = certificateName(root) + ", known to this computer's own settings only"
	} else if !known {
		add("not traced", "its last authority is nobody that is known: "+certificateName(root))
		return e
	}
	e.Basis = autostart.BySignature
	add("traced to", name)
	add("not checked", notChecked)
	e.Role = entitledRole(s.Entitlements)
	e.System = known && s.Signer.Subject.CommonName == appleSoftware
	return e
}

// entitlements are what Apple lets a program do that few may: who has one is for that.
var entitlements = []struct{ key, role string }{
	{"com.apple.developer.endpoint-security.client", "security"}, {"com.apple.developer.networking.networkextension",
		"network"}, {"com.apple.developer.networking.vpn.api", "network"},
	{"com.apple.developer.driverkit", "device"}, {"com.apple.developer.system-extension.install", "system"},
}

// entitledRole is what a program is for by what it is entitled to.
func entitledRole(list []byte) string {
	doc, err := plist.Parse(list)
	if err != nil {
		return ""
	}
	for _, e := range entitlements {
		if doc.Dict().Has(e.key) {
			return e.role
		}
	}
	return ""
}

// macSystemFolders are on the volume that only macOS itself writes, since 11 a sealed one.
var macSystemFolders = []string{"/System/", "/bin/", "/sbin/", "/usr/bin/", "/usr/sbin/", "/usr/lib/", "/usr/libexec/",
	"/usr/share/"}

// Sealed reports whether a file lies on the sealed volume of a Mac.
func Sealed(m *machine.Reader, file string) bool {
	return m.OS == "macos" && !m.Release().Before(mac.Release{11}) && !strings.HasPrefix(file, "/System/Volumes/") &&
		!mac.Firmlinked(file) &&
		slices.ContainsFunc(macSystemFolders, func(dir string) bool { return strings.HasPrefix(file, dir) })
}

// sealedVolume says about the files on the system's own volume that they are the system's.
func sealedVolume(m *machine.Reader, files []*File) {
	for _, f := range files {
		if !Sealed(m, f.Path) {
			continue
		}
		e := Evidence{Basis: autostart.BySealedVolume, Source: "the system's sealed volume", Maker: "Apple",
			System: true}
		if !m.Live {
			e.Notes = []Note{{Name: "not checked", Text: "whether the seal of the volume is whole; a Mac does that " +
				"when it starts"}}
		}
		f.Evidence = append(f.Evidence, e)
	}
}

// receiptsFolder has a list for each package that was installed.
const receiptsFolder = "/private/var/db/receipts"

// receipts tells which packages were installed, for programs whose app or label has a package's
// id: macOS notes each in /private/var/db/receipts.
func receipts(m *machine.Reader, programs []*File) {
	const folder = receiptsFolder
	entries, err := m.ReadDir(folder)
	if err != nil {
		return
	}
	byID := map[string]Evidence{}
	for _, entry := range entries {
		if !strings.HasSuffix(entry.Name(), ".plist") || len(byID) > maxReceipts {
			continue
		}
		content, err := m.ReadFile(path.Join(folder, entry.Name()), files.MaxFileSize)
		if err != nil {
			continue
		}
		doc, err := plist.Parse(content)
		if err != nil {
			continue
		}
		d := doc.Dict()
		id := d.Text("PackageIdentifier")
		e := Evidence{Basis: autostart.ByReceipt, Source: path.Join(folder, entry.Name()), Product: id,
			Version: d.Text("PackageVersion")}
		if at, ok := d["InstallDate"].(time.Time); ok {
			e.Installed = at.UTC().Format(time.RFC3339)
		}
		byID[strings.ToLower(id)] = e
	}
	for _, f := range programs {
		for _, e := range f.Evidence {
			if e.Bundle == "" {
				continue
			}
			// The id of a package is often that of the app, with ".pkg" behind it.
			for _, id := range []string{e.Bundle, e.Bundle + ".pkg"} {
				if found, ok := byID[strings.ToLower(id)]; ok {
					f.Evidence = append(f.Evidence, found)
					break
				}
			}
		}
	}
}

// maxReceipts is how many receipts are read: a Mac of many years has some hundred.
const maxReceipts = 5000
