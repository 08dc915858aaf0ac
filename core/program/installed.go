package program

import (
	"strings"

	"lockback/core/format/windata"
	"lockback/core/machine"
	"lockback/core/machine/artifact"
	"lockback/core/machine/registry"
)

// uninstallKeys are where Windows notes what was installed, for everyone and for one user: each
// product's key tells what it is called, who published it, where it lies and what uninstalls it
// ("Uninstall Registry Key" of Microsoft's documents).
var uninstallKeys = []string{`HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Uninstall`,
	`HKLM\SOFTWARE\WOW6432Node\Microsoft\Windows\CurrentVersion\Uninstall`}

const userUninstall = `\Software\Microsoft\Windows\CurrentVersion\Uninstall`

// maxProducts is how many installed products are read: a full computer has some hundred.
const maxProducts = 5000

// installed is a product that Windows has on its list.
type installed struct {
	folder string // in small letters, with a backslash at its end
	Evidence
}

// installedProducts tells with which product files were installed: the one whose folder they lie
// in.
func installedProducts(m *machine.Reader, files []*File) {
	keys := uninstallKeys
	for _, u := range m.Users {
		if u.SID != "" {
			keys = append(keys[:len(keys):len(keys)], `HKU\`+u.SID+userUninstall)
		}
	}
	var products []installed
	for _, name := range keys {
		key, err := m.Key(name)
		if err != nil {
			continue
		}
		all, _ := key.Subkeys()
		for _, k := range all {
			if p, ok := productOf(m, k); ok && len(products) < maxProducts {
				products = append(products, p)
			}
		}
	}
	for _, f := range files {
		file := windata.LowerASCII(f.Path)
		var best *installed
		for k := range products {
			if p := &products[k]; strings.HasPrefix(file, p.folder) &&
				(best == nil || len(p.folder) > len(best.folder)) {
				best = p
			}
		}
		if best != nil {
			f.Evidence = append(f.Evidence, best.Evidence)
		}
	}
}

// productOf reads the key of a product, where it tells in which folder the product lies.
func productOf(m *machine.Reader, k *registry.Key) (installed, bool) {
	folder := k.Text("InstallLocation")
	for _, value := range []string{"DisplayIcon", "UninstallString"} {
		if folder != "" {
			break
		}
		folder = folderIn(k.Text(value))
	}
	folder = windata.LowerASCII(strings.TrimRight(strings.Trim(m.Expand(folder, nil), `" `), `\`)) + `\`
	if !ownFolder(folder) {
		return installed{}, false
	}
	e, ok := listedProduct(k, "the list of installed products")
	return installed{folder, e}, ok
}

// folderIn is the folder of the program that a command or the place of an icon names.
func folderIn(text string) string {
	text = strings.TrimSpace(text)
	if quoted, ok := strings.CutPrefix(text, `"`); ok {
		text, _, _ = strings.Cut(quoted, `"`)
	} else if k := strings.Index(strings.ToLower(text), ".exe"); k > 0 {
		text = text[:k+4]
	} else if k := strings.LastIndexByte(text, ','); k > 0 {
		text = text[:k]
	}
	if k := strings.LastIndexByte(text, '\\'); k > 0 && artifact.OnDrive(text) {
		return text[:k]
	}
	return ""
}

// sharedFolders are folders that no product has for itself, behind the drive, in small letters.
var sharedFolders = []string{`\`, `\windows\`, `\windows\system32\`, `\windows\syswow64\`, `\windows\installer\`,
	`\program files\`, `\program files (x86)\`, `\program files\common files\`,
	`\program files (x86)\common files\`, `\programdata\`, `\programdata\package cache\`, `\users\`}

// ownFolder reports whether a folder can be that of one product.
func ownFolder(folder string) bool {
	if !artifact.OnDrive(folder) {
		return false
	}
	rest := folder[2:]
	for _, shared := range sharedFolders {
		if rest == shared {
			return false
		}
	}
	if parts := strings.Split(strings.Trim(rest, `\`), `\`); parts[0] == "users" {
		// Deeper than the folders that everybody's profile has.
		profile := []string{"appdata", "local", "roaming", "locallow", "programs", "desktop", "documents", "downloads",
			"temp"}
		for k := 2; k < len(parts); k++ {
			known := false
			for _, p := range profile {
				known = known || parts[k] == p
			}
			if !known {
				return true
			}
		}
		return false
	}
	return true
}
