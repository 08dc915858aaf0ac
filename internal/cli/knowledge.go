package cli

import (
	"os"
	"os/user"
	"strings"
	"sync"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/inventory"
	"lockback/core/machine"
	"lockback/core/note"
	"lockback/core/store"
)

// knowledge is what the record knows of programs, whatever machine they are found on.
type knowledge struct {
	// notes are read once, when they are first asked for.
	notes func() *note.Book
	own   []*catalogue.Catalogue // in their order
}

// ahead begins to read the notes, while the machine is read. Nobody else may use the record until they were asked for.
func (k *knowledge) ahead() { go k.notes() }

// knowledgeOf reads it. Where the record cannot tell, that is said, and the rest is shown.
func (a *app) knowledgeOf(st *store.Store) *knowledge {
	k := &knowledge{notes: func() *note.Book { return note.NewBook(nil) }}
	if st == nil {
		return k
	}
	k.notes = sync.OnceValue(func() *note.Book {
		notes, err := st.Notes()
		if err != nil {
			a.note("note: the notes of the record are not used: %v", err)
			notes = nil
		}
		return note.NewBook(notes)
	})
	all, err := st.Catalogues()
	if err != nil {
		a.note("note: the catalogues of the record are not used: %v", err)
		return k
	}
	for _, c := range all {
		own, err := catalogue.Decode(c.Text)
		if err != nil {
			a.note("note: the catalogue %s of the record is not used: %v", c.Name, err)
			continue
		}
		own.Name = c.Name
		k.own = append(k.own, own)
	}
	return k
}

// sightings are the programs of a machine, and how many of the entries of each start. What is removed, and parts of
// the operating system, are no sign of anything.
func sightings(inv inventory.Inventory) map[string]store.Sighting {
	all := map[string]store.Sighting{}
	for _, item := range inv.Items {
		if item.Hidden() {
			continue
		}
		p, ok := note.ProgramOf(inv.Machine.OS, &item.Entry)
		if !ok {
			continue
		}
		key := p.Key()
		s := all[key]
		if item.State == autostart.Enabled {
			s.On++
		} else {
			s.Off++
		}
		all[key] = s
	}
	return all
}

// author is who writes a note: the name in the configuration, else that of who runs the program, also where that is
// done as root.
func (a *app) author() string {
	if a.by != "" {
		return a.by
	}
	if name := os.Getenv("SUDO_USER"); name != "" && machine.Privileged() {
		return autostart.Text(name)
	}
	u, err := user.Current()
	if err != nil {
		return ""
	}
	return autostart.Text(u.Username[strings.LastIndex(u.Username, `\`)+1:])
}
