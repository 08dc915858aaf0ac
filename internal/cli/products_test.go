//go:build unix

package cli_test

import (
	"encoding/json"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/autostart"
	"lockback/internal/testkit"
)

// productList is what products prints for scripts.
type productList struct {
	Products []struct {
		Name, Version, Installed, Uninstall string
		Maker                               autostart.Maker
		InstalledBy                         string `json:"installed_by"`
		WithSystem                          bool   `json:"with_system"`
		Entries                             []struct{ Handle, Name, User, State string }
	}
	Without int `json:"without_product"`
	LeftOut int `json:"left_out"`
}

func products(t *testing.T, p testkit.Program, args ...string) productList {
	t.Helper()
	var l productList
	require.NoError(t, json.Unmarshal([]byte(p.OK(t, append([]string{"products", "--format", "json"}, args...)...)),
		&l))
	return l
}

// The products of the three machines hold just the entries that the list has of them, and a product goes off whole.
func TestProducts(t *testing.T) {
	t.Parallel()
	for _, machine := range []string{"workshop-box", "ticket-desk-pc", "archive-mac"} {
		p := museum(t, machine)
		for _, all := range [][]string{nil, {"--all"}} {
			list, _ := p.List(t, all...)
			l := products(t, p, all...)
			require.Equal(t, list.LeftOut, l.LeftOut)
			named, without := map[string]string{}, 0
			for _, pr := range l.Products {
				require.NotEmpty(t, pr.Entries)
				for _, e := range pr.Entries {
					require.Empty(t, named[e.Handle], "once")
					named[e.Handle] = strings.TrimSpace(pr.Name + " " + pr.Version)
				}
			}
			for _, e := range list.Entries {
				if e.Product.Name == "" {
					without++
				}
				require.Equal(t, strings.TrimSpace(e.Product.Name+" "+e.Product.Version), named[e.Handle], e.Name)
			}
			require.Equal(t, without, l.Without)
		}
	}
	p := museum(t, "ticket-desk-pc")
	l := products(t, p, "product=Kelpline*,Gullrock*")
	require.Len(t, l.Products, 2)
	tickets, kelpline := l.Products[0], l.Products[1]
	require.Equal(t, []any{"Kelpline Assistant", "9.1", "2024-02-29", "an installer",
		`"C:\Program Files (x86)\Kelpline\uninstall.exe" /ask`, false, autostart.BySignature},
		[]any{kelpline.Name, kelpline.Version, kelpline.Installed, kelpline.InstalledBy, kelpline.Uninstall,
			kelpline.WithSystem, kelpline.Maker.Basis})
	require.True(t, tickets.WithSystem, "on the day of the system")
	require.Contains(t, p.OK(t, "products", "product=Gullrock*"), "came with the computer")

	box := museum(t, "workshop-box")
	l = products(t, box, "product=fogbell")
	require.Equal(t, "apt remove fogbell", l.Products[0].Uninstall)
	require.Contains(t, box.OK(t, "disable", "product=fogbell", "--yes"), "C1 done")
	for _, e := range products(t, box, "product=fogbell").Products[0].Entries {
		require.Equal(t, "disabled", e.State, e.Name)
	}
	// Nothing is an answer, and no width cuts anything.
	require.Contains(t, box.OK(t, "products", "product=none"), "0 products")
	for _, columns := range []string{"80", "120", "200"} {
		box.Env = []string{"COLUMNS=" + columns}
		out := box.OK(t, "products")
		for _, pr := range products(t, box).Products {
			for _, e := range pr.Entries {
				require.Contains(t, out, e.Handle)
				require.Contains(t, out, e.Name)
			}
			require.Contains(t, regexp.MustCompile(`\s+`).ReplaceAllString(out, " "), pr.Uninstall)
		}
	}
	sheet := box.OK(t, "products", "--format", "csv")
	require.Contains(t, sheet, "product,version,maker")
	require.Contains(t, sheet, "\nfogbell,3.2,Fogbell Works,package")
	box.Fails(t, 2, "unknown field", "products", "colour=red")
}

// No address to look something up at tells whose machine it is: over all entries of the three machines no user's
// name, and no path, is in one; and the name of a task is there without its folder.
func TestAddressesTellNobody(t *testing.T) {
	t.Parallel()
	users := map[string][]string{"workshop-box": {"ines", "bram"}, "ticket-desk-pc": {"odile", "tomas", "erasmus",
		"S-1-5-21"}, "archive-mac": {"mirela", "jonas", "annika"}}
	for machine, names := range users {
		p := museum(t, machine)
		p.Env = []string{"LOCKBACK_SEARCH=https://search.example/?q={}"}
		var l struct {
			Entries []struct {
				Entry  testkit.Entry
				Search string
			}
		}
		require.NoError(t, json.Unmarshal([]byte(p.OK(t, "show", "name=*", "--format", "json")), &l))
		var up struct{ Programs []struct{ Search string } }
		require.NoError(t, json.Unmarshal([]byte(p.OK(t, "lookup", "name=*", "--every-entry", "--format", "json")),
			&up))
		require.Len(t, up.Programs, len(l.Entries))
		with := 0
		for k, e := range l.Entries {
			require.Equal(t, e.Search, up.Programs[k].Search)
			if e.Search == "" {
				continue
			}
			with++
			words, err := url.QueryUnescape(strings.TrimPrefix(e.Search, "https://search.example/?q="))
			require.NoError(t, err)
			require.NotEmpty(t, words)
			require.NotContains(t, words, "/")
			require.NotContains(t, words, `\`)
			for _, name := range append(names, machine) {
				require.NotContains(t, strings.ToLower(words), strings.ToLower(name), e.Entry.Name)
			}
			if e.Entry.Name == `Kelpline\Update` {
				require.Equal(t, "Kelpline Software Kelpline Assistant updater.exe", words)
			}
		}
		require.Greater(t, with, len(l.Entries)*3/4, "most have one")
	}
	// What a user calls something after themselves is left out, all else is there.
	p := workshop(t)
	p.Env = []string{"LOCKBACK_SEARCH=https://search.example/?q={}"}
	file := filepath.Join(p.Root, "home/ines/.config/autostart/notes.desktop")
	require.NoError(t, os.WriteFile(file, []byte("[Desktop Entry]\nType=Application\nName=Notes of "+
		"Ines\nExec=/opt/tide/notes\n"), 0o644))
	require.Contains(t, p.OK(t, "show", "name=Notes of Ines"), "https://search.example/?q=notes (")
	require.NoError(t, os.WriteFile(file, []byte("[Desktop Entry]\nType=Application\nName=Report of "+
		"Workshop-Box\nExec=/opt/tide/report\n"), 0o644))
	require.Contains(t, p.OK(t, "show", "name=Report of Workshop-Box"), "https://search.example/?q=report (")
}
