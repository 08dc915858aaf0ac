package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// The sizes that code is read well in. A tab counts as four columns.
const (
	longestLine     = 120
	longestFunction = 99
	longestFile     = 699
)

// tables are functions that do nothing but list what there is, and files of data.
var tables = regexp.MustCompile(`^(core/location/(linux/linux|windows/locations|macos/locations)\.go (rows|Locations)|` +
	`internal/demo/\w+\.go (ticketDeskPC|workshopBox|archiveMac)|internal/testkit/real(mac|windows)\.go .*|` +
	`internal/recordtest/recordtest\.go Run|internal/bench/macos\.go BuildMac|core/autostart/json\.go AppendJSON)$`)

// literal is a text in a line that has no better place to break: data, a pattern, a command line.
var literal = regexp.MustCompile("\"(?:[^\"\\\\]|\\\\.){30,}\"|`[^`]{30,}`")

// aligned are the blanks by which gofmt puts the values of a table below each other.
var aligned = regexp.MustCompile(`:  +`)

// identifier is the id of a location: what decides by one belongs to the location's own row.
var identifier = regexp.MustCompile(`"(linux|windows|macos)\.[a-z][a-z-]*(\.[a-z-]+)*"`)

func TestSizes(t *testing.T) {
	t.Parallel()
	seen := 0
	require.NoError(t, filepath.WalkDir("..", func(file string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() || !strings.HasSuffix(file, ".go") {
			if e != nil && e.IsDir() && strings.HasPrefix(e.Name(), ".") && len(e.Name()) > 2 {
				return filepath.SkipDir
			}
			return err
		}
		seen++
		name := strings.TrimPrefix(filepath.ToSlash(file), "../")
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		checkLines(t, name, string(text))
		if strings.HasSuffix(name, "_test.go") {
			return nil
		}
		set := token.NewFileSet()
		parsed, err := parser.ParseFile(set, name, text, parser.SkipObjectResolution)
		require.NoError(t, err)
		for _, d := range parsed.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok || tables.MatchString(name+" "+f.Name.Name) {
				continue
			}
			lines := set.Position(f.End()).Line - set.Position(f.Pos()).Line + 1
			if lines > longestFunction {
				t.Errorf("%s: %s has %d lines", name, f.Name.Name, lines)
			}
		}
		require.LessOrEqual(t, strings.Count(string(text), "\n"), longestFile, "%s is about more than one thing", name)
		return nil
	}))
	require.Greater(t, seen, 300)
}

// checkLines wants each line short, but for texts that have no better place to break, and no id of a location where
// another room would decide by it.
func checkLines(t *testing.T, name, text string) {
	t.Helper()
	raw := false // within a text of several lines
	decides := strings.HasPrefix(name, "core/") && !strings.HasPrefix(name, "core/location/") ||
		strings.HasPrefix(name, "internal/cli/") || strings.HasPrefix(name, "internal/view/") ||
		strings.HasPrefix(name, "internal/page/")
	n := 0
	for line := range strings.Lines(text) {
		n++
		within := raw
		if strings.Count(line, "`")%2 == 1 && !strings.Contains(line, "\"`") && !strings.Contains(line, "'`'") {
			raw = !raw
		}
		code := strings.TrimSpace(line)
		if decides && !strings.HasSuffix(name, "_test.go") && !strings.HasPrefix(code, "//") {
			require.NotRegexp(t, identifier, line, "%s:%d: a location decides this, see its row", name, n)
		}
		if within || raw {
			continue
		}
		short := aligned.ReplaceAllString(strings.ReplaceAll(strings.TrimRight(line, "\n"), "\t", "    "), ": ")
		short = literal.ReplaceAllString(short, `""`)
		if len([]rune(short)) > longestLine {
			t.Errorf("%s:%d: more than %d columns", name, n, longestLine)
		}
	}
}
