package main

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"reflect"
	"runtime"
	"slices"
	"strings"

	"github.com/invopop/jsonschema"

	"lockback/core/autostart"
	"lockback/core/check"
	"lockback/core/figures"
	"lockback/core/location"
	"lockback/core/review"
	"lockback/internal/page"
)

// rule is what a property must be like beside its type.
type rule struct {
	enum            []string
	pattern, format string
}

const (
	handlePattern = `^[a-z][a-z2-7]{6}$`
	changePattern = `^(C[1-9][0-9]*)?$`
)

// rules are those of properties by their names, or by the type that has them and their name.
var rules = map[string]rule{
	"handle": {pattern: handlePattern}, "also_started_by": {pattern: handlePattern}, "time": {format: "date-time"},
	"role": {enum: autostart.Roles}, "verdict": {enum: autostart.Verdicts}, "os_basis": basis(autostart.Bases),
	"problems":          {enum: autostart.AllProblems},
	"description_basis": basis(autostart.Bases), "verdict_basis": {enum: []string{autostart.ByCatalogue,
		autostart.ByNote, ""}},
	"Maker.basis": basis(autostart.Bases), "CostDocument.basis": {enum: []string{"", "running now", "unit, now",
		"last sign-in", "when it last ended"}},
	"Author.handle": {pattern: `^([a-z][a-z2-7]{6})?$`}, "ReviewEntry.handle": {}, "Suggestion.handle": {},
	"Item.id": {pattern: `^[SC][1-9][0-9]*$`}, "Item.kind": {enum: []string{"snapshot", "change"}},
	"Item.state":      {enum: states},
	"ItemDocument.id": {pattern: `^[SC][1-9][0-9]*$`}, "ItemDocument.kind": {enum: []string{"snapshot", "change"}},
	"ItemDocument.state": {enum: states},
	"ChangeDetail.id":    {pattern: `^C[1-9][0-9]*$`}, "ChangeDetail.kind": {enum: []string{"change"}},
	"ChangeDetail.state": {enum: states},
	"SnapshotDetail.id":  {pattern: `^S[1-9][0-9]*$`}, "SnapshotDetail.kind": {enum: []string{"snapshot"}},
	"SnapshotDetail.state": {enum: states},
	"Outcome.was":          {enum: []string{"enabled", "disabled", "absent"}},
	"Outcome.will_be":      {enum: []string{"enabled", "disabled", "absent", "removed"}},
	"Touched.was":          {enum: []string{"enabled", "disabled", "absent"}}, "Step.handle": {},
	"ChangeDocument.change": {pattern: changePattern}, "ChangeDocument.snapshot": {pattern: `^(S[1-9][0-9]*)?$`},
	"ChangeDetail.snapshot": {pattern: `^S[0-9]+$`}, "SnapshotDocument.snapshot": {pattern: `^S[1-9][0-9]*$`},
	"Finding.change": {pattern: changePattern}, "Finding.written": {format: "date-time"},
	"CheckDocument.from": {pattern: `^S[1-9][0-9]*$`},
	"Trial.change":       {pattern: `^C[1-9][0-9]*$`}, "Trial.remind": {format: "date-time"},
	"Restarts.last": {format: "date-time"},
	"Changed.by":    {pattern: changePattern}, "SearchDocument.begun": {format: "date-time"},
	"Unit.handles":      {pattern: handlePattern},
	"Round.purpose":     {enum: []string{"halve", "confirm", "again", "once more"}},
	"Round.answer":      {enum: []string{"", "works", "broken", "skip", "untried"}},
	"ReviewEntry.state": {enum: []string{"enabled", "disabled"}}, "ReviewEntry.proposed": {enum: append([]string{""},
		review.Kinds...)},
	"ReviewEntry.answer": {enum: []string{"", "leave", "off", "off-protected", "on"}},
	"Suggestion.kind":    {enum: review.Kinds},
	"Note.verdict":       {enum: append([]string{""}, autostart.Verdicts...)},
	"Note.role":          {enum: append([]string{""}, autostart.Roles...)},
	"Location.stage":     {enum: words(autostart.Stages)}, "Location.status": {enum: []string{string(location.Read),
		string(location.Empty),
		string(location.Absent), string(location.StatusUnread), string(location.Unlooked)}},
	"Location.switch": {enum: append(words(autostart.Switches), "")}, "CatalogueEntry.system": {enum: []string{"linux",
		"windows", "macos", "any"}},
	"LookedUp.sha256": {pattern: `^([0-9a-f]{64})?$`}, "Figure.name": {enum: figureNames()},
}

// states are the words for how far a snapshot or change is.
var states = []string{"trial", "kept", "done", "undone", "abandoned", "interrupted"}

func basis(all []string) rule { return rule{enum: append(slices.Clone(all), "")} }

func words[T ~string](all []T) []string {
	list := make([]string, len(all))
	for k, w := range all {
		list[k] = string(w)
	}
	return list
}

func figureNames() []string {
	var names []string
	for _, n := range figures.Names {
		names = append(names, n.Name)
	}
	return names
}

// typed are the words that a type of its own may have.
var typed = map[reflect.Type][]string{
	reflect.TypeFor[autostart.Stage]():  words(autostart.Stages),
	reflect.TypeFor[autostart.Switch](): words(autostart.Switches),
	reflect.TypeFor[autostart.State]():  {string(autostart.Enabled), string(autostart.Disabled)},
	reflect.TypeFor[autostart.Scope]():  {string(autostart.ForSystem), string(autostart.ForUser)},
	reflect.TypeFor[check.Kind]():       words(check.Kinds), reflect.TypeFor[figures.Unit](): words(figures.Units),
}

// documented are the folders whose types, with their comments, stand in documents.
var documented = []string{"internal/page", "core/autostart", "core/culprit", "core/figures", "core/snapshot"}

// schemas makes docs/schema of the documents that commands print, by their names below the folder of documents. What a
// field means stands in the comments of its type.
func schemas() (map[string][]byte, error) {
	_, file, _, _ := runtime.Caller(0)
	project := filepath.Dir(filepath.Dir(filepath.Dir(file)))
	r := &jsonschema.Reflector{Anonymous: true, ExpandedStruct: true, Mapper: func(t reflect.Type) *jsonschema.Schema {
		if enum := typed[t]; enum != nil {
			return &jsonschema.Schema{Enum: anys(enum)}
		}
		return nil
	}}
	for _, dir := range documented {
		if err := r.AddGoComments("lockback/"+dir, filepath.Join(project, dir),
			jsonschema.WithFullComment()); err != nil {
			return nil, err
		}
	}
	// The comments are found by the folder's path, the types by their package's.
	for key, text := range maps.Clone(r.CommentMap) {
		for _, dir := range documented {
			if rest, ok := strings.CutPrefix(key, "lockback/"+dir+filepath.Join(project, dir)); ok {
				r.CommentMap["lockback/"+dir+rest] = text
			}
		}
	}
	all := map[string][]byte{}
	for name, document := range page.Documents() {
		s := r.Reflect(document)
		s.Title = name
		main := reflect.TypeOf(document).Name()
		for def, d := range s.Definitions {
			constrain(def, d)
		}
		constrain(main, s)
		text, err := json.MarshalIndent(s, "", " ")
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		all["schema/"+name+".schema.json"] = append(text, '\n')
	}
	return all, nil
}

func anys(list []string) []any {
	all := make([]any, len(list))
	for k, w := range list {
		all[k] = w
	}
	return all
}

// constrain puts the rules on the properties of a type. Numbers are counts and sizes, which are never below zero, but
// for values of figures, which may be anything.
func constrain(name string, s *jsonschema.Schema) {
	if s.Properties == nil {
		return
	}
	for pair := s.Properties.Oldest(); pair != nil; pair = pair.Next() {
		r, ok := rules[name+"."+pair.Key]
		if !ok {
			r = rules[pair.Key]
		}
		at := pair.Value
		if at.Items != nil {
			at = at.Items
		}
		switch {
		case at.Ref != "" || at.Type == "object" || at.OneOf != nil:
		case at.Type == "integer" && name != "Figure":
			at.Minimum = "0"
		case r.enum != nil && at.Type == "string":
			at.Type, at.Enum = "", anys(r.enum)
		case at.Type == "string":
			at.Pattern, at.Format = r.pattern, cmp.Or(r.format, at.Format)
		}
	}
}
