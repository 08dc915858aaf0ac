package autostart

import "slices"

// OnceForEveryone puts one entry in the place of those that are the same thing of everyone's, each as one user
// gets it, where it is the same for all of them. Its handle is the one by which all of them are chosen. Where
// users differ, or only some of theirs are among the entries, all stay as they are. All are the entries of
// the machine. The given entries are not changed.
func OnceForEveryone(entries, all []*Entry) []*Entry {
	users, here := map[string]int{}, map[string][]*Entry{}
	for _, e := range all {
		if e.Shared != "" {
			users[e.Shared]++
		}
	}
	for _, e := range entries {
		if e.Shared != "" {
			here[e.Shared] = append(here[e.Shared], e)
		}
	}
	merged := make([]*Entry, 0, len(entries))
	for _, e := range entries {
		same := here[e.Shared]
		switch {
		case len(same) < 2 || len(same) < users[e.Shared] || !alike(same):
			merged = append(merged, e)
		case e == same[0]:
			merged = append(merged, forEveryone(same))
		}
	}
	return merged
}

// alike reports whether entries differ in nothing but whose they are, and what they cost whom.
func alike(entries []*Entry) bool {
	first := entries[0]
	return !slices.ContainsFunc(entries[1:], func(e *Entry) bool { return !e.like(first) })
}

// like reports whether two entries say the same, whoever they are for.
func (e *Entry) like(o *Entry) bool {
	return e.State == o.State && e.Mode == o.Mode && e.Name == o.Name && e.Command == o.Command && e.When == o.When &&
		e.Stage == o.Stage && e.Location == o.Location &&
		e.Place == o.Place && e.SystemName == o.SystemName && e.Source == o.Source && e.Switch == o.Switch &&
		e.OSPart == o.OSPart && e.OSBasis == o.OSBasis &&
		e.Guarded == o.Guarded && e.Caution == o.Caution && e.Shared == o.Shared &&
		slices.Equal(e.Problems, o.Problems) && slices.Equal(e.Notes, o.Notes) &&
		slices.EqualFunc(e.Commands, o.Commands, Command.like) && e.Target.like(o.Target) &&
		(e.Known == o.Known || e.Known != nil && o.Known != nil && *e.Known == *o.Known)
}

func (c Command) like(o Command) bool {
	return c.Key == o.Key && c.Line == o.Line && c.Path == o.Path && sameExists(c.Exists, o.Exists)
}

func sameExists(a, b *bool) bool { return a == b || a != nil && b != nil && *a == *b }

func (t Target) like(o Target) bool {
	return sameExists(t.Exists, o.Exists) && t.Path == o.Path && t.Size == o.Size && t.Modified.Equal(o.Modified)
}

// forEveryone is the one entry that stands for several. What it costs differs between users, so that only what
// is known about all of them is told.
func forEveryone(entries []*Entry) *Entry {
	e := *entries[0]
	e.Handle, e.User, e.Scope = e.Shared, "", ForSystem
	for _, other := range entries[1:] {
		if other.Cost != nil && (e.Cost == nil || *e.Cost != *other.Cost) || other.Cost == nil {
			e.Cost = nil
		}
		for _, u := range other.Uses {
			if len(e.Uses) == 0 || u.Last.After(e.Uses[0].Last) {
				e.Uses = append([]Use{u}, e.Uses...)
			}
		}
	}
	return &e
}
