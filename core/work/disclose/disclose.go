// Package disclose decides what may leave the machine: the words by which somebody else is asked about a program.
package disclose

import (
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/table"
	"lockback/core/machine"
	"lockback/core/machine/account"
)

// Words are those that a program is looked up by: its maker, its product and the name of its file, the entry's name
// where one of those is not known, and more where they are asked for. Nothing that could tell whose machine it is is
// among them: no path, and no word with a user's name or number in it, or the machine's own.
func Words(e *autostart.Entry, m *machine.Machine, more ...string) []string {
	last := func(text string) string { return text[strings.LastIndexAny(text, `/\`)+1:] }
	file, product := last(e.Target.Path), e.Facts().Product.Name
	name := ""
	if file == "" || product == "" {
		name = e.Name // what an entry is called may be anything, so it is taken where it is needed only
		if table.Kind(e) == location.Task {
			name = last(name) // behind its folder
		}
	}
	var words []string
	for _, w := range append([]string{name, e.Maker().Name, product, file}, more...) {
		known := slices.ContainsFunc(words, func(have string) bool { return strings.EqualFold(have, w) })
		if w != "" && !known && !strings.ContainsAny(w, `/\`) && !NamesUser(w, m.Users) && !namesMachine(w, m) {
			words = append(words, w)
		}
	}
	return words
}

// namesMachine reports whether a text has the name of the machine in it, or its id.
func namesMachine(text string, m *machine.Machine) bool {
	text = strings.ToLower(text)
	return slices.ContainsFunc([]string{m.Name, machine.SystemID(m.ID)}, func(word string) bool {
		return len(word) > 3 && strings.Contains(text, strings.ToLower(word))
	})
}

// NamesUser reports whether a text has a user's name in it, or what the system knows the user by. Root's name is
// nobody's.
func NamesUser(text string, users []account.User) bool {
	text = strings.ToLower(text)
	has := func(word string) bool { return len(word) > 1 && strings.Contains(text, strings.ToLower(word)) }
	return slices.ContainsFunc(users, func(u account.User) bool {
		home := u.Home[strings.LastIndexAny(u.Home, `/\`)+1:]
		return u.UID != 0 && u.Name != account.NewUsers && (has(u.Name) || has(home) || has(u.SID) || has(u.UUID))
	})
}
