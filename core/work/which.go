package work

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/machine"
	"lockback/core/store"
)

// Answers to which machine is at hand; a name that the record knows is one too.
const (
	SameMachine  = "same"
	OtherMachine = "other"
)

// Doubt is about a machine whose id the record knows, and whose other marks it does not.
type Doubt struct {
	Known   []store.Identity
	Differs []machine.MarkKind // from the one that is most like it
	best    int                // of Known; -1 where several are alike
}

// Words say what is known and what differs, as a part of a sentence.
func (d Doubt) Words() string {
	var names []string
	for _, i := range d.Known {
		names = append(names, cmp.Or(autostart.Text(i.Name), "a machine without a name"))
	}
	var differs []string
	for _, row := range markWords {
		if slices.Contains(d.Differs, row.kind) {
			differs = append(differs, row.words)
		}
	}
	return fmt.Sprintf("the record knows the id of this machine as %s, %s", strings.Join(names, " and as "),
		strings.Join(differs, ", "))
}

// markWords word how a machine differs, in the order in which that is told.
var markWords = []struct {
	kind  machine.MarkKind
	words string
}{
	{machine.NameMark, "under another name"}, {machine.HardwareMark, "on other hardware"},
	{machine.DiskMark, "on another disk"}, {machine.HostKeyMark, "with another ssh host key"},
	{machine.AccountsMark, "with other accounts"},
}

// recognise tells the machine from others that were made from the same image, and gives it the id that the record knows
// it by. In doubt, the person is asked once, and the record keeps the answer; with looks alone nobody is asked, and the
// record's knowledge of other machines is left out.
func (d *Desk) recognise(m *machine.Machine, record *store.Store, access store.Access, looks bool) error {
	marks := m.Marks()
	if record == nil || m.ID == "" || len(marks) == 0 {
		return nil
	}
	known, err := record.Identities(m.ID)
	if err != nil {
		return err
	}
	keep := func() error {
		if access == store.Read || d.Record == OnDisk {
			return nil
		}
		return record.Recognise(m, marks)
	}
	doubt := Doubt{Known: known, best: -1}
	most, found := -1, -1
	for k, i := range known {
		agree, differs := compareMarks(i, marks)
		switch {
		case len(differs) == 0 && (found < 0 || agree > most):
			found, most = k, agree
		case found >= 0:
		case agree > most:
			most, doubt.best, doubt.Differs = agree, k, differs
		case agree == most:
			doubt.best = -1
		}
	}
	if found >= 0 {
		i := known[found]
		if d.Which != "" && d.Which != SameMachine && !strings.EqualFold(d.Which, i.Name) {
			return Wrong("nothing tells this machine from %s, which the record knows; --this-is has nothing to decide",
				cmp.Or(autostart.Text(i.Name), "one without a name"))
		}
		m.ID = i.ID
		if slices.ContainsFunc(marks, func(mark machine.Mark) bool { return !slices.Contains(i.Marks, mark) }) {
			return keep()
		}
		return nil
	}
	if len(known) == 0 {
		return keep()
	}
	next := nextID(m.ID, known)
	which := d.Which
	switch {
	case which != "":
	case d.Record == OnDisk && len(known) == 1: // it is of this disk, whatever was done to that since
		which = SameMachine
	case looks:
		m.ID = next
		d.warn("note: %s; what it knows of that machine is left out. Say which this is: --this-is same or --this-is "+
			"other; a command that writes to the record keeps the answer", doubt.Words())
		return nil
	case d.AskWhich == nil:
		return Wrong("nothing was done: %s; say whether it is the same computer or another one of the same image: "+
			"--this-is same, or --this-is other", doubt.Words())
	default:
		if which, err = d.AskWhich(doubt); err != nil {
			return err
		}
	}
	id, err := doubt.answer(which, next)
	if err != nil {
		return err
	}
	m.ID = id
	return keep()
}

// nextID is the id of one more machine whose system has an id. A record that was carried can lack the first.
func nextID(systemID string, known []store.Identity) string {
	for n := len(known) + 1; ; n++ {
		id := machine.CloneID(systemID, n)
		if !slices.ContainsFunc(known, func(i store.Identity) bool { return i.ID == id }) {
			return id
		}
	}
}

// answer is the id that an answer means.
func (d Doubt) answer(which, next string) (string, error) {
	named := slices.IndexFunc(d.Known, func(i store.Identity) bool { return strings.EqualFold(i.Name, which) })
	switch {
	case named >= 0:
		return d.Known[named].ID, nil
	case which == OtherMachine:
		return next, nil
	case which == SameMachine && d.best >= 0:
		return d.Known[d.best].ID, nil
	case which == SameMachine:
		return "", Wrong("nothing was done: %s; name the one that it is: --this-is NAME", d.Words())
	}
	return "", Wrong("nothing was done: --this-is is same, other, or a name, and %q is none that fits: %s", which,
		d.Words())
}

// compareMarks counts the marks that a known machine has too, and names those that it has otherwise. The same hardware
// is the same machine, whatever else changed; a kind that one of both lacks tells nothing.
func compareMarks(known store.Identity, marks []machine.Mark) (agree int, differs []machine.MarkKind) {
	has := slices.Clone(known.Marks)
	if !slices.ContainsFunc(has, func(k machine.Mark) bool { return k.Kind == machine.NameMark }) {
		has = append(has, machine.Mark{Kind: machine.NameMark, Value: machine.ShortName(known.Name)})
	}
	for _, row := range markWords {
		ours, theirs := ofKind(marks, row.kind), ofKind(has, row.kind)
		switch {
		case len(ours) == 0 || len(theirs) == 0:
		case !slices.ContainsFunc(ours, func(m machine.Mark) bool { return slices.Contains(theirs, m) }):
			differs = append(differs, row.kind)
		case row.kind == machine.HardwareMark:
			return len(marks), nil
		default:
			agree++
		}
	}
	return agree, differs
}

// ofKind are the marks of a kind that say something.
func ofKind(marks []machine.Mark, kind machine.MarkKind) []machine.Mark {
	return slices.DeleteFunc(slices.Clone(marks), func(m machine.Mark) bool { return m.Kind != kind || m.Value == "" })
}
