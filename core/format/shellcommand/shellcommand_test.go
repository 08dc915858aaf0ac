package shellcommand

import (
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"/opt/bell --quiet":                        "/opt/bell|--quiet",
		`cd /opt && exec './bell ringer' "a\"b\c"`: `cd|/opt;exec|./bell ringer|a"b\c`,
		"if [ -x /opt/a ]; then A=1 /opt/a; fi":    "[|-x|/opt/a|];/opt/a",
		"while read x; do echo; done | logger":     "read|x;echo;logger",
		"( { /opt/a; } 2>&1 >/dev/null ) &":        "/opt/a",
		"f() { /opt/never; }; f":                   "f",
		`/opt/a\ b a\
b # comment`: "/opt/a b|ab",
		"time /opt/a": "/opt/a",
		"A=1":         "",
		"":            "",
	} {
		commands, err := Parse(text)
		require.NoError(t, err, text)
		var got []string
		for _, c := range commands {
			got = append(got, strings.Join(c.Texts(), "|"))
			for _, w := range c {
				require.True(t, w.Plain, text)
			}
		}
		require.Equal(t, want, strings.Join(got, ";"), text)
	}
	for _, text := range []string{"$HOME/run", "~/run", "/opt/*", `"$(which a)"`, "`a`", "/opt/{a,b}", "$'\\x41'",
		"/opt/[ab]"} {
		commands, err := Parse(text)
		require.NoError(t, err, text)
		require.False(t, commands[0][0].Plain, text)
	}
	for _, text := range []string{"'", "if", "a &&", "((((", strings.Repeat("(", MaxLength),
		strings.Repeat("$(", MaxLength/2), strings.Repeat("x", MaxLength+1)} {
		_, err := Parse(text)
		require.Error(t, err, text[:min(9, len(text))])
	}
}

// The shell itself agrees on the words of a simple command that needs no expansion.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{`a 'b c' "d\"e" f\ g`, "if true; then a; fi", "$(a) `b` ${c:-d}", "a <<E\nb\nE\n",
		"case a in b) c;; esac"} {
		f.Add(seed)
	}
	sh, _ := exec.LookPath("dash")
	f.Fuzz(func(t *testing.T, text string) {
		commands, err := Parse(text)
		if err != nil || sh == "" || len(commands) != 1 {
			return
		}
		for _, w := range commands[0] {
			if !w.Plain {
				return
			}
		}
		// Only what can do no harm is handed to a shell: quotes and plain letters.
		if strings.Trim(text, "abcdefgh'\"\\ ") != "" {
			return
		}
		out, err := exec.Command(sh, "-c", "printf '<%s>' "+text).Output()
		require.NoError(t, err)
		require.Equal(t, "<"+strings.Join(commands[0].Texts(), "><")+">", string(out))
	})
}

// A line that stands alone can be taken out of a script, which stays one.
func TestAlone(t *testing.T) {
	lines, err := Alone("#!/bin/sh\n/opt/a &\nif true; then\n  /opt/b\nfi\nx=1\n/opt/c; /opt/d\n/opt/e \\\n  " +
		"--more\n/opt/f 'two\nlines'\ncat <<E\nx\nE\nf() { /opt/g; }\n/opt/h > /dev/null 2>&1\n! /opt/i\n")
	require.NoError(t, err)
	require.Equal(t, map[int]bool{2: true, 16: true, 17: true}, lines)
	for _, text := range []string{"if true", strings.Repeat("(", 300), strings.Repeat("x", maxScript+1)} {
		_, err := Alone(text)
		require.Error(t, err)
	}
}

// A line holds all commands that Parse finds, and those of functions and substitutions besides.
func TestLine(t *testing.T) {
	line, err := ParseLine("A=1 B=$x a; f() { b; }; c $(d) | e <(g); export LD_PRELOAD=/h; f")
	require.NoError(t, err)
	var commands, inner []string
	for _, c := range line.Commands {
		commands = append(commands, c[0].Text)
	}
	for _, c := range line.Inner {
		inner = append(inner, c[0].Text)
	}
	require.Equal(t, []string{"a", "b", "c", "e", "f"}, commands)
	require.Equal(t, []string{"d", "g"}, inner)
	require.Equal(t, []Word{{"A=1", true}, {"B=$x", false}, {"LD_PRELOAD=/h", true}}, line.Sets)
	require.Equal(t, map[string]bool{"f": true}, line.Functions)
	_, err = ParseLine(strings.Repeat("(", 300))
	require.ErrorIs(t, err, ErrTooLong)
}

func FuzzLine(f *testing.F) {
	for _, seed := range []string{"a; f() { b; }; f", "trap 'x' EXIT", "A=1 b $(c | d)", "cat <(a) >(b)"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		commands, err := Parse(text)
		if err != nil {
			return
		}
		line, err := ParseLine(text)
		if err != nil {
			return // a word that begins something else, which Parse reads without a parser
		}
		require.GreaterOrEqual(t, len(line.Commands)+len(line.Inner), len(commands))
	})
}

func FuzzAlone(f *testing.F) {
	for _, seed := range []string{"a\nb &\n", "if a; then\n b\nfi\nc\n", "a <<E\nb\nE\nc\n",
		"a; b\n(c\n)\nd 'x\ny'\n"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, script string) {
		alone, err := Alone(script)
		if err != nil || strings.ContainsAny(script, "\r\x00") {
			return
		}
		lines := strings.Split(script, "\n")
		for n := range alone {
			without := slices.Clone(lines)
			without[n-1] = "# " + without[n-1]
			_, err := Alone(strings.Join(without, "\n"))
			require.NoError(t, err, "line %d", n)
		}
	})
}
