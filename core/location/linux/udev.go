package linux

import (
	"path"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/unix"
)

var ruleLines = unix.Lines{Comments: "#", Joined: true, Describe: describeRule}

// readRules reports the rules of udev that run something: those of the administrator one by one, those of
// a vendor's file together, because a rule of one is nothing without the others.
func readRules(s *location.Survey, places []location.Place) {
	s.Each(places, func(f location.Found) {
		if f.Path == f.Own || strings.HasPrefix(f.Path, "/run/") {
			ruleLines.File(s, f)
			return
		}
		var commands []string
		ruleLines.EachLine(s, f, func(line string) {
			if command := strings.Join(parseRule(line).commands, "; "); command != "" &&
				!slices.Contains(commands, command) {
				commands = append(commands, command)
			}
		})
		if len(commands) == 0 {
			return
		}
		item := named(path.Base(f.Path), strings.Join(commands, "; "), nil)
		item.When, item.State, item.Source = onDevice, autostart.Enabled, autostart.Source{Path: f.Path}
		item.Artifacts, item.Switcher, item.Role = unix.Files(f.Own, f.Path), unix.Masked{Own: f.Own}, location.Device
		if f.Masked != "" {
			item.State, item.Mode = autostart.Disabled, "masked"
		}
		if f.Masked != "" && f.Masked != f.Own {
			item.Switcher = location.NoSwitch{Why: f.Masked + " masks it; take that away"}
		}
		s.Add(f.Key, item)
	})
}

// onDevice is when rules act.
const onDevice = "when a device appears or changes"

// describeRule makes the item of a rule that runs something, udev(7). All other rules only name and
// mark devices.
func describeRule(s *location.Survey, _ location.Found, line string) *location.Item {
	r := parseRule(line)
	if len(r.commands) == 0 {
		return nil
	}
	item := named(strings.TrimPrefix(r.commands[0], "start "), strings.Join(r.commands, "; "), nil)
	if r.program != "" {
		item.Name, item.Argv = programName(r.program), ruleProgram(s, r.program)
	}
	item.When = onDevice
	if len(r.sets) > 0 {
		item.Mode = "the rule also sets " + strings.Join(r.sets, ", ")
	}
	if r.jumps {
		item.Switcher = location.NoSwitch{Why: "other rules in the file jump over it or to it; turn off what it " +
			"starts instead"}
	}
	return item
}

// rule is what a rule of udev does, as far as it matters here.
type rule struct {
	commands []string // that it runs, and units that it has started
	program  string   // the first of the commands that is one
	sets     []string // keys that it gives values to
	jumps    bool     // from it, or to it
}

func parseRule(line string) rule {
	var r rule
	for _, t := range ruleTokens(line) {
		key, attribute, _ := strings.Cut(strings.TrimSuffix(t.key, "}"), "{")
		runs := t.value != "" && (key == "RUN" && attribute != "builtin" || key == "PROGRAM" || key == "IMPORT" &&
			attribute == "program")
		wants := t.value != "" && key == "ENV" && (attribute == "SYSTEMD_WANTS" || attribute == "SYSTEMD_USER_WANTS") &&
			t.sets()
		switch {
		case runs:
			if len(r.commands) == 0 {
				r.program = t.value
			}
			r.commands = append(r.commands, t.value)
		case wants:
			r.commands = append(r.commands, "start "+t.value)
		case key == "LABEL" || key == "GOTO":
			r.jumps = true
		case t.sets() && slices.Contains([]string{"SYMLINK", "MODE", "OWNER", "GROUP", "NAME", "ATTR", "SYSCTL", "TAG",
			"ENV"}, key) && !slices.Contains(r.sets, key):
			r.sets = append(r.sets, key)
		}
	}
	return r
}

// ruleProgram is what a rule starts: udev looks for a name without a folder in its own, and puts
// in what $ and % stand for.
func ruleProgram(s *location.Survey, command string) []string {
	words := strings.Fields(command)
	if len(words) == 0 || strings.ContainsAny(words[0], "$%'") {
		return []string{}
	}
	if !path.IsAbs(words[0]) {
		for _, dir := range []string{"/usr/lib/udev", "/lib/udev"} {
			if file := path.Join(dir, words[0]); has(s, file) {
				words[0] = file
				break
			}
		}
	}
	return words
}

// ruleToken is a key of a rule, its operator and its value.
type ruleToken struct{ key, op, value string }

// sets reports whether the key is given a value, and not compared with one.
func (t ruleToken) sets() bool { return t.op == "=" || t.op == "+=" || t.op == ":=" }

// ruleTokens splits a rule: keys, operators and quoted values, with commas between. What cannot be
// split ends it.
func ruleTokens(rule string) []ruleToken {
	var tokens []ruleToken
	for {
		rule = strings.TrimLeft(rule, " \t,")
		at := strings.IndexAny(rule, "=!+-:")
		if brace := strings.IndexByte(rule, '{'); brace >= 0 && brace < at {
			end := strings.IndexByte(rule, '}')
			if end < 0 {
				return tokens
			}
			if at = strings.IndexAny(rule[end:], "=!+-:"); at >= 0 {
				at += end
			}
		}
		if at < 0 {
			return tokens
		}
		t := ruleToken{key: strings.TrimSpace(rule[:at])}
		rest := strings.TrimLeft(rule[at:], "=!+-:")
		t.op = rule[at : len(rule)-len(rest)]
		rest = strings.TrimLeft(rest, " \t")
		rest = strings.TrimPrefix(strings.TrimPrefix(rest, "e"), "i") // e"..." has escapes, i"..." any case
		if !strings.HasPrefix(rest, `"`) {
			return tokens
		}
		end := 1
		for end < len(rest) && rest[end] != '"' {
			if rest[end] == '\\' {
				end++
			}
			end++
		}
		if end >= len(rest) {
			return tokens
		}
		t.value, rule = rest[1:end], rest[end+1:]
		tokens = append(tokens, t)
	}
}
