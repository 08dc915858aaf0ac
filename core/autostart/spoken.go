package autostart

import "strings"

// spokenFields are names of fields that people use, beside the one that documents have.
var spokenFields = map[string]string{"problems": "problem", "program": "target", "file": "source",
	"protected": "guarded",
	"publisher": "maker", "vendor": "maker", "package": "product", "starts": "when", "status": "state"}

// spoken are words for the values of a field as lists show them, or as people call them; a value may stand for several.
// They are in small letters.
var spoken = map[string]map[string][]string{
	"state": {"on": {"enabled"}, "off": {"disabled"}, "active": {"enabled"}, "inactive": {"disabled"}},
	"stage": {"startup": {"boot", "system"}, "at startup": {"boot", "system"}, "start": {"boot", "system"},
		"services": {"system"}, "login": {"sign-in"}, "logon": {"sign-in"}, "signin": {"sign-in"},
		"sign in":    {"sign-in"},
		"at sign-in": {"sign-in"}, "time": {"schedule"}, "timer": {"schedule"}, "scheduled": {"schedule"},
		"when a user signs in": {"sign-in"}, "at a time or an interval": {"schedule"},
		"loaded": {"attach"}, "attached": {"attach"}, "loaded into other programs": {"attach"}},
	"scope":   {"everyone": {"system"}, "machine": {"system"}},
	"guarded": {"true": {"yes"}, "false": {"no"}, "protected": {"yes"}},
	"problem": {"none": {""}, "missing": {TargetMissing}, "gone": {TargetMissing}, "program missing": {TargetMissing},
		"broken": {TargetMissing, Unparsable}, "damaged": {Unparsable}, "cannot be parsed": {Unparsable},
		"writable": {Insecure}, "any user can change what it runs": {Insecure}, "setting": {NotDefault},
		"not the system's own setting": {NotDefault}, "not signed": {Unsigned}, "signature": {SignatureInvalid},
		"not as it was signed": {SignatureInvalid}, "not as its package delivered it": {Changed}, "modified": {Changed},
		"uses a name of the system's": {Impostor}, "uses a name of the system's, but is not the system's": {Impostor},
		"in an odd place": {OddPlace}, "hides what it does": {Obscured},
		"another entry starts the same program": {Twice}, "starts the same as another": {Twice},
		"starts twice": {Twice}, "duplicate": {Twice}},
	"switch": {"fixed": {string(Report)}, "cannot be turned off here": {string(Report)}},
}

// fieldNamed is the field that a name means, spoken or not.
func fieldNamed(name string) string {
	name = strings.ToLower(name)
	if field, ok := spokenFields[name]; ok {
		return field
	}
	return name
}

// valuesOf are the values that a word of a field stands for: the word itself, where it is none of the spoken ones.
func valuesOf(field, word string) []string {
	if values, ok := spoken[field][strings.ToLower(strings.TrimSpace(word))]; ok {
		return values
	}
	return []string{word}
}
