// Package apkdb reads the database of apk, the package manager of Alpine Linux: one file with a
// paragraph for each installed package, which names its folders and files with their sums.
//
//	for p := range apkdb.Packages(content) {
//		fmt.Println(p.Name, p.Version)
//	}
//
// The letters before the colons are those of "Alpine package format" of Alpine's wiki, installed
// database V2.
package apkdb

import (
	"encoding/base64"
	"encoding/hex"
	"iter"
	"strings"
)

// Package is an installed package.
type Package struct {
	Name, Version, Description, Maintainer string
	Depends, Provides                      []string
	// InstallIf are packages with which this one comes by itself, once all of them are there; none: it does not.
	InstallIf []string
	Files     []File
}

// File is a file of a package. SHA1 is that of its content, in hexadecimal; empty if there is
// none, of links for example.
type File struct{ Path, SHA1 string }

// Packages are the paragraphs of the database. One that names no package is skipped. The files
// of a package are kept where wanted says so of their path.
func Packages(content string, wanted func(path string) bool) iter.Seq[Package] {
	return func(yield func(Package) bool) {
		var p Package
		folder := ""
		last := false // whether the last file is wanted, whose sum follows
		done := func() bool {
			ok := p.Name == "" || yield(p)
			p, folder, last = Package{}, "", false
			return ok
		}
		for line := range strings.Lines(content) {
			line = strings.TrimRight(line, "\r\n")
			if line == "" {
				if !done() {
					return
				}
				continue
			}
			letter, value, ok := strings.Cut(line, ":")
			if !ok {
				continue
			}
			switch letter {
			case "P":
				p.Name = value
			case "V":
				p.Version = value
			case "T":
				p.Description = value
			case "m":
				p.Maintainer = value
			case "D":
				p.Depends = strings.Fields(value)
			case "p":
				p.Provides = strings.Fields(value)
			case "i":
				p.InstallIf = strings.Fields(value)
			case "F":
				folder = "/" + strings.Trim(value, "/")
			case "R":
				file := strings.TrimSuffix(folder, "/") + "/" + value
				if last = wanted(file); last {
					p.Files = append(p.Files, File{Path: file})
				}
			case "Z":
				if last {
					p.Files[len(p.Files)-1].SHA1 = sha1Of(value)
				}
			}
		}
		done()
	}
}

// sha1Of decodes a sum: "Q1" and the SHA-1 in Base64.
func sha1Of(value string) string {
	encoded, ok := strings.CutPrefix(value, "Q1")
	if !ok {
		return ""
	}
	sum, err := base64.StdEncoding.DecodeString(encoded)
	if err != nil || len(sum) != 20 {
		return ""
	}
	return hex.EncodeToString(sum)
}
