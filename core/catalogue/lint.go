package catalogue

import (
	"fmt"
	"slices"
	"strings"

	"lockback/core/autostart"
)

// lint finds what is sound line by line and leads astray as a whole: rows that never count, verdicts without their
// reasons, words that contradict each other.
func lint(c *Catalogue) []Problem {
	var l linter
	for k := range c.Entries {
		l.entry(&c.Entries[k])
	}
	l.dead(c)
	l.files(c)
	l.swallowed(c)
	return l.problems
}

type linter struct{ problems []Problem }

func (l *linter) wrong(e *Entry, format string, args ...any) {
	l.problems = append(l.problems, Problem{e.Line, fmt.Sprintf("%q ", e.ID) + fmt.Sprintf(format, args...)})
}

// missed are the roles whose loss shows late or hits those who cannot help themselves, with a caution that fits each.
var missed = map[string]string{"security": "updates", "backup": "backup", "input": "input", "accessibility": "access"}

func (l *linter) entry(e *Entry) {
	spare := e.Verdict == "spare"
	if caution := missed[e.Role]; spare && caution != "" && e.Caution == "" && e.Protect == "" && e.Note == "" {
		l.wrong(e, "is spare and its role is %s: it needs a caution, %s for example", e.Role, caution)
	}
	if spare && e.Protect != "" {
		l.wrong(e, "is spare, and protected: that is a contradiction")
	}
	if slices.Contains(leadingOff, e.Verdict) && !e.Part && e.Without == "" && e.Does != "" {
		l.wrong(e, "is %s and does not say what is lost without it", e.Verdict)
	}
	if e.Verdict == "essential" && e.Protect == "" && !e.Part && e.Program != nil {
		l.wrong(e, "is essential and nothing protects it")
	}
	for _, m := range e.KnownBy {
		if e.Verdict != autostart.Unrated && !e.Part {
			l.folders(e, m.Location, m.Names)
		}
	}
	if e.Program != nil {
		l.program(e)
	}
}

// folders refuses a verdict on a whole folder of tasks: what comes into it later is not known.
func (l *linter) folders(e *Entry, location string, names []string) {
	for _, name := range names {
		if strings.HasSuffix(location, "tasks") && strings.HasPrefix(name, `\microsoft\windows\`) &&
			strings.HasSuffix(name, `\*`) {
			l.wrong(e, "judges a whole folder of the system's tasks: %s", name)
		}
	}
}

func (l *linter) program(e *Entry) {
	p := e.Program
	if p.Product == "" {
		l.wrong(e, "has no product")
	}
	if len(p.Files)+len(p.Shared)+len(p.Packages)+len(p.Bundles)+len(p.Starts) == 0 {
		l.wrong(e, "does not say what it is known by")
	}
	if len(p.Signs) == 0 && len(p.Packages) == 0 {
		l.wrong(e, "can never be proved: nobody signs it, and no package delivers it")
	}
	if len(p.Signs) > 0 && len(p.Packages) == 0 && len(p.Files)+len(p.Shared)+len(p.Bundles) == 0 {
		l.wrong(e, "can never be proved: it has no file")
	}
	if b := p.Basis; b.Seen == "" && b.Documented == "" && b.Known == 0 {
		l.wrong(e, "does not say how it is known: seen, documented or known")
	}
	if p.SignsOnly && len(p.Signs) == 0 {
		l.wrong(e, "knows all names that its maker signs with, and names none")
	}
	if p.Security && e.Verdict == "spare" && e.Caution == "" {
		l.wrong(e, "is spare, and security fixes come through it: it needs the caution updates")
	}
	if e.Without != "" && p.Noticed == "" {
		l.wrong(e, "does not say when its loss is noticed")
	}
	for _, s := range p.Signs {
		if s.Since > 0 && s.Until > 0 && s.Since > s.Until {
			l.wrong(e, "%s signs until %d, and since %d", s.Name, s.Until, s.Since)
		}
	}
	for _, start := range p.Starts {
		for _, name := range start.Names {
			if strings.Trim(name, `*?\ `) == "" {
				l.wrong(e, "has a name that fits everything: %s", name)
			}
		}
		l.folders(e, strings.TrimPrefix(start.Location, "*."), start.Names)
	}
	for _, file := range slices.Concat(p.Files, p.Shared) {
		if len(strings.Trim(file, "*?.")) < 2 {
			l.wrong(e, "has a file that fits nearly everything: %s", file)
		}
	}
}

// dead finds rows that an earlier one swallows: whatever has their name, that one takes.
func (l *linter) dead(c *Catalogue) {
	type taken struct {
		entry    *Entry
		location string
		pattern  string
	}
	whole := map[string]taken{} // marks of names alone, by location and name
	var wild []taken
	for k := range c.Entries {
		e := &c.Entries[k]
		var mine []taken
		for _, m := range e.KnownBy {
			if !m.namesAlone() {
				continue
			}
			for _, name := range m.Names {
				name = strings.ToLower(name)
				if by, ok := whole[m.Location+"\x00"+name]; ok && by.entry != e {
					l.wrong(e, "never counts for %s: %q in line %d has it", name, by.entry.ID, by.entry.Line)
				}
				for _, w := range wild {
					if w.entry != e && w.pattern != name && matches(w.location, m.Location) &&
						matches(w.pattern, name) {
						l.wrong(e, "never counts for %s: %q in line %d has %s", name, w.entry.ID, w.entry.Line,
							w.pattern)
					}
				}
				mine = append(mine, taken{e, m.Location, name})
			}
		}
		for _, t := range mine {
			if strings.ContainsAny(t.pattern, "*?") {
				wild = append(wild, t)
			}
			whole[t.location+"\x00"+t.pattern] = t
		}
	}
}

// namesAlone reports whether a mark has names and a location, and nothing else that must fit.
func (m Mark) namesAlone() bool {
	return len(m.Names) > 0 && m.onName() && m.File == "" && m.Says == "" && m.Label == "" && m.Command == "" &&
		len(m.Runs) == 0
}

// files wants each name of a file that is not shared to be of one product of one maker: that name alone makes a file
// look like the program.
func (l *linter) files(c *Catalogue) {
	owners := map[string]*Entry{}
	for k := range c.Entries {
		e := &c.Entries[k]
		if e.Program == nil {
			continue
		}
		for _, file := range e.Program.Files {
			file = strings.ToLower(file)
			by, ok := owners[file]
			if ok && by.Program.Maker != e.Program.Maker {
				l.wrong(e, "has the file %s, which %q in line %d has too: say shared in both", file, by.ID, by.Line)
			} else if !ok {
				owners[file] = e
			}
		}
	}
}

// swallowed finds programs that never count: an earlier one of the same maker has all their files, packages, bundles
// and entries.
func (l *linter) swallowed(c *Catalogue) {
	byMaker := map[string][]*Entry{}
	for k := range c.Entries {
		e := &c.Entries[k]
		if e.Program == nil {
			continue
		}
		for _, earlier := range byMaker[e.Program.Maker] {
			if earlier.Program.covers(e.Program) {
				l.wrong(e, "never counts: %q in line %d has all its files, packages and entries", earlier.ID,
					earlier.Line)
				break
			}
		}
		byMaker[e.Program.Maker] = append(byMaker[e.Program.Maker], e)
	}
}

// covers reports whether a program has everything that another one is known by.
func (p *Program) covers(o *Program) bool {
	all := func(have, wanted []string) bool {
		return !slices.ContainsFunc(wanted, func(name string) bool { return !hasFold(have, name) })
	}
	return all(slices.Concat(p.Files, p.Shared), slices.Concat(o.Files, o.Shared)) && all(p.Packages, o.Packages) &&
		all(p.Bundles, o.Bundles) && !slices.ContainsFunc(o.Starts, func(start Start) bool {
		return !slices.ContainsFunc(p.Starts, func(mine Start) bool {
			return mine.Location == start.Location && all(mine.Names, start.Names)
		})
	})
}
