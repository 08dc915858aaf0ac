package page

import (
	"cmp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"lockback/core/autostart"
	"lockback/internal/view"
)

// shown writes one entry: what decides about it first, then the facts by where they come from, then the artifacts.
func (w Writer) shown(e ShownEntry) {
	w.Titled(&e.Entry)
	w.rows(append(e.answers(w.elsewhere(&e.Entry)), e.circumstances()...))
	for _, g := range e.bySource() {
		w.Line("")
		w.Bold(g.source)
		w.rows(g.rows)
	}
	w.Line("")
	w.Decided(e, w.Verbose, " (--verbose lists them)")
}

// elsewhere is the advice for an entry of which nothing says what it is.
func (w Writer) elsewhere(e *autostart.Entry) string {
	program, _, _ := strings.Cut(cmp.Or(e.Target.Path, e.Command, e.Name), " -")
	what := "unknown: " + strings.TrimSpace(lastElement(program)) + ", in " + cmp.Or(e.Place, e.Location)
	if e.When != "" {
		what += ", " + e.When
	}
	return w.Hinted(what + "; lockback show " + e.Handle + " --elsewhere looks further")
}

// unanswered stands where nothing on the machine answers a technician's question.
const unanswered = "not known"

// answers are the rows that a technician decides by: what it is, who made it, what it costs, what is lost without it.
func (e ShownEntry) answers(elsewhere string) []row {
	entry := &e.Entry
	known := entry.Facts()
	var what []string
	if known.Description != "" {
		what = append(what, DescriptionWords(entry))
	} else if f := e.fact(autostart.FactDescription); f != "" {
		what = append(what, strings.TrimSuffix(f, "."))
	}
	if product := known.Product.Name; product != "" && product != known.Description {
		what = append(what, "part of "+strings.TrimSpace(product+" "+known.Product.Version))
	}
	if known.Role != "" && known.Role != autostart.RoleUnknown {
		what = append(what, "role: "+known.Role)
	}
	if entry.OSPart {
		what = append(what, "part of the operating system")
	}
	lost := e.fact(autostart.FactWithoutIt)
	if lost == "" && entry.Guarded != "" {
		lost = entry.Guarded
	}
	return []row{
		{name: "what it is", value: cmp.Or(strings.Join(what, "; "), elsewhere)},
		{name: "maker", value: cmp.Or(view.MadeBy(entry), unanswered)},
		{name: "costs", value: cmp.Or(view.CostFigures(entry.Cost), "not measured")},
		{name: "without it", value: cmp.Or(lost, unanswered)},
	}
}

// circumstantial reports whether a fact is one that stands in for what nothing says of an entry's program.
func circumstantial(kind autostart.FactKind) bool {
	return kind == autostart.FactSince || kind == autostart.FactSiblings || kind == autostart.FactSeenOn
}

// circumstances are the rows below the answers of an entry that nothing describes.
func (e ShownEntry) circumstances() []row {
	var rows []row
	for _, f := range e.Facts {
		if circumstantial(f.kind) {
			rows = append(rows, row{name: f.Name, value: f.Value, basis: f.Basis})
		}
	}
	return rows
}

// lastElement is the last element of a path of any system.
func lastElement(name string) string { return name[strings.LastIndexAny(name, `/\`)+1:] }

// DescriptionWords say what an entry's program is, with a sign where it says so itself; empty where nothing says it.
func DescriptionWords(e *autostart.Entry) string {
	known := e.Facts()
	words := strings.TrimSuffix(known.Description, ".")
	if words != "" && known.DescriptionBasis == autostart.ByVersionResource {
		words += " (its own claim)"
	}
	return words
}

// fact is the value of the first fact of a kind; empty if there is none.
func (e ShownEntry) fact(kind autostart.FactKind) string {
	for _, f := range e.Facts {
		if f.kind == kind {
			return f.Value
		}
	}
	return ""
}

// sourced are facts that have their source in common.
type sourced struct {
	source string
	rows   []row
}

// howItStarts is the heading of what the entry itself says, whose source is its own place.
const howItStarts = "How it starts"

// alsoKnown is the heading of facts that share their source with no other; it stands behind each.
const alsoKnown = "Also known"

// bySource puts facts together by their source, so that each source is named once: what the entry says first. The
// answers are left out.
func (e ShownEntry) bySource() []sourced {
	groups := []sourced{{source: howItStarts}}
	for _, r := range e.rows() {
		source := r.basis
		switch {
		case r.answered:
			continue
		case r.own || strings.HasSuffix(r.basis, "="): // a key of the entry's own file
			source = howItStarts
		case r.basis == "" || r.basis == e.Entry.Source.Path || r.basis == Place(&e.Entry):
			source, r.basis = howItStarts, ""
		}
		k := slices.IndexFunc(groups, func(g sourced) bool { return g.source == source })
		if k < 0 {
			k = len(groups)
			groups = append(groups, sourced{source: source})
		}
		groups[k].rows = append(groups[k].rows, r)
	}
	also := sourced{source: alsoKnown}
	var kept []sourced
	for k, g := range groups {
		switch {
		case k == 0:
			kept = append(kept, g)
		case len(g.rows) == 1:
			also.rows = append(also.rows, g.rows...)
		default:
			for n := range g.rows {
				g.rows[n].basis = ""
			}
			kept = append(kept, sourced{headed(g.source), g.rows})
		}
	}
	if len(also.rows) > 0 {
		kept = append(kept, also)
	}
	return kept
}

// headed makes a source a heading: "Its signature". A path stays as it is.
func headed(source string) string {
	r, n := utf8.DecodeRuneInString(source)
	if strings.ContainsAny(source, `/\`) && !strings.Contains(source, " ") {
		return source
	}
	return string(unicode.ToUpper(r)) + source[n:]
}
