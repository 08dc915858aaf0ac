package program

import (
	"strings"
	"time"

	"lockback/core/autostart"
	"lockback/core/format/windata"
	"lockback/core/machine"
	"lockback/core/machine/registry"
)

// installerData is where the Windows Installer keeps what it installed, below the SID of the user
// for whom, S-1-5-18 for everyone: under Components each piece of a product, with its main file, and
// under Products what each product is ("Installation Context" of Microsoft's documents; the keys are
// as the Installer of Wine writes them too).
const installerData = `HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Installer\UserData`

// maxComponents is how many pieces are read: a computer with large products has some 50,000.
const maxComponents = 200_000

// installerProducts tells which product of the Windows Installer has a file as the main one of a
// component. Most such products do not say in which folder they lie.
func installerProducts(m *machine.Reader, files []*File) {
	root, err := m.Key(installerData)
	if err != nil {
		return
	}
	wanted := map[string]*File{}
	for _, f := range files {
		wanted[windata.LowerASCII(f.Path)] = f
	}
	until := time.Now().Add(maxLooking)
	users, _ := root.Subkeys()
	seen := 0
	for _, user := range users {
		components, err := user.Subkey("Components")
		if err != nil {
			continue
		}
		all, _ := components.Subkeys()
		for _, component := range all {
			if seen++; seen > maxComponents || time.Now().After(until) {
				return
			}
			values, _ := component.Values()
			for _, v := range values {
				f := wanted[componentFile(v.Text())]
				if f == nil {
					continue
				}
				properties, err := m.Key(user.Path + `\Products\` + v.Name + `\InstallProperties`)
				if err != nil {
					continue
				}
				if e, ok := listedProduct(properties, "the Windows Installer's list of components"); ok {
					f.Evidence = append(f.Evidence, e)
				}
			}
		}
	}
}

// maxLooking is how long one search goes on.
const maxLooking = 2 * time.Second

// componentFile is the file that a component stands for, in small letters; a question mark in the
// place of the colon says that it is shared with others.
func componentFile(text string) string {
	if len(text) > 2 && text[1] == '?' {
		text = text[:1] + ":" + text[2:]
	}
	return windata.LowerASCII(text)
}

// listedProduct is what the key of an installed product says about it.
func listedProduct(k *registry.Key, source string) (Evidence, bool) {
	e := Evidence{Basis: autostart.ByReceipt, Source: source, Maker: k.Text("Publisher"),
		Product: k.Text("DisplayName"), Version: k.Text("DisplayVersion")}
	if day, err := time.Parse("20060102", k.Text("InstallDate")); err == nil {
		e.Installed = day.Format(time.DateOnly)
	}
	if command := k.Text("UninstallString"); command != "" {
		e.Notes = append(e.Notes, Note{Kind: autostart.FactUninstalledBy, Text: autostart.Text(command)})
	}
	return e, e.Product != ""
}

// componentsState changes with each component that is added or removed.
func componentsState(m *machine.Reader) (state string) {
	root, err := m.Key(installerData)
	if err != nil {
		return "-"
	}
	users, _ := root.Subkeys()
	for _, user := range users {
		for _, name := range []string{"Components", "Products"} {
			if k, err := user.Subkey(name); err == nil {
				state += k.Modified().Format(time.RFC3339Nano)
			}
		}
	}
	return strings.TrimSpace(state)
}
