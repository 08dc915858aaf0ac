// Command sentences counts the sentences that the program can print, and those of them that its
// tests have seen printed. The tests write what they saw to a file:
//
//	LOCKBACK_SAID=$PWD/said.txt go test ./...
//	go run ./internal/sentences said.txt
//
// A sentence is a text of three words or more in the code of core, cli, page and view. It was seen where
// the longest stretch between its values was printed.
package main

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: sentences FILE")
		os.Exit(2)
	}
	if err := count(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "sentences:", err)
		os.Exit(1)
	}
}

// sentence is a text in the code.
type sentence struct{ at, text string }

func count(file string) error {
	said, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	heard := squeezed(string(said))
	var all []sentence
	for _, room := range []string{"core", "internal/cli", "internal/page", "internal/view"} {
		if err := filepath.WalkDir(room, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			found, err := sentencesOf(path)
			all = append(all, found...)
			return err
		}); err != nil {
			return err
		}
	}
	seen := 0
	for _, s := range all {
		if strings.Contains(heard, longest(s.text)) {
			seen++
		} else {
			fmt.Printf("%s: %q\n", s.at, s.text)
		}
	}
	fmt.Printf("%d sentences, %d seen printed\n", len(all), seen)
	return nil
}

// sentencesOf lists the texts of a file that read as sentences.
func sentencesOf(path string) ([]sentence, error) {
	set := token.NewFileSet()
	file, err := parser.ParseFile(set, path, nil, 0)
	if err != nil {
		return nil, err
	}
	var all []sentence
	ast.Inspect(file, func(n ast.Node) bool {
		if _, imports := n.(*ast.ImportSpec); imports {
			return false
		}
		lit, ok := n.(*ast.BasicLit)
		if !ok || lit.Kind != token.STRING {
			return true
		}
		text, err := strconv.Unquote(lit.Value)
		words := 0
		for _, w := range strings.Fields(text) {
			if len(w) > 1 && strings.IndexFunc(w, func(r rune) bool {
				return !unicode.IsLetter(r) &&
					!strings.ContainsRune(",.;:'-()", r)
			}) < 0 {
				words++
			}
		}
		// Statements of SQL, schemas of names, and patterns are no sentences.
		if err == nil && words >= 3 && !strings.ContainsAny(text, "\n$^{") && !sql.MatchString(text) {
			all = append(all, sentence{fmt.Sprintf("%s:%d", path, set.Position(lit.Pos()).Line), text})
		}
		return true
	})
	return all, nil
}

var (
	sql  = regexp.MustCompile(`\b(SELECT|INSERT|UPDATE|WHERE|PRAGMA|FROM|VALUES)\b`)
	verb = regexp.MustCompile(`%[-+# 0]*[0-9*]*(\.[0-9]+)?[a-zA-Z%]`)
)

// longest is the longest stretch of a text between its values, squeezed.
func longest(text string) string {
	pieces := verb.Split(text, -1)
	for k := range pieces {
		pieces[k] = squeezed(pieces[k])
	}
	return slices.MaxFunc(pieces, func(a, b string) int { return len(a) - len(b) })
}

// squeezed is a text without the spaces at which it may have been broken.
func squeezed(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsSpace(r) || r == '"' || r == '\\' {
			return -1
		}
		return r
	}, text)
}
