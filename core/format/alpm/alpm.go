// Package alpm reads the database of pacman, the package manager of Arch Linux and its family: a
// folder for each installed package, with the files desc, files and mtree.
//
//	desc := alpm.Parse(content)
//	fmt.Println(desc["NAME"], desc["DEPENDS"])
//
// The form of desc and files is a heading between percent signs, and a line for each value, as
// libalpm's be_local.c writes it; mtree is that of mtree(5), as libarchive writes it.
package alpm

import (
	"bytes"
	"compress/gzip"
	"io"
	"iter"
	"strconv"
	"strings"
)

// Parse reads a file of headings and values.
func Parse(content []byte) map[string][]string {
	all := map[string][]string{}
	heading := ""
	for line := range strings.Lines(string(content)) {
		line = strings.TrimRight(line, "\r\n")
		switch {
		case line == "":
			heading = ""
		case heading == "" && len(line) > 2 && line[0] == '%' && line[len(line)-1] == '%':
			heading = line[1 : len(line)-1]
		case heading != "":
			all[heading] = append(all[heading], line)
		}
	}
	return all
}

// maxTree is how many bytes of a packed list of sums are read.
const maxTree = 64 << 20

// Sums reads the list mtree, which is packed, and yields the paths of files, beginning with a
// slash, and their SHA-256 sums in hexadecimal. What cannot be unpacked yields nothing more.
func Sums(packed []byte) iter.Seq2[string, string] {
	return func(yield func(file, sum string) bool) {
		unpacked, err := gzip.NewReader(bytes.NewReader(packed))
		if err != nil {
			return
		}
		content, _ := io.ReadAll(io.LimitReader(unpacked, maxTree))
		for line := range strings.Lines(string(content)) {
			name, rest, ok := strings.Cut(strings.TrimRight(line, "\n"), " ")
			if !ok || !strings.HasPrefix(name, "./") {
				continue
			}
			for word := range strings.FieldsSeq(rest) {
				if sum, ok := strings.CutPrefix(word, "sha256digest="); ok {
					if !yield(unescape(name[1:]), sum) {
						return
					}
				}
			}
		}
	}
}

// unescape undoes what mtree(5) does to bytes that are not plain: a backslash and three octal
// digits.
func unescape(name string) string {
	if !strings.Contains(name, `\`) {
		return name
	}
	var b strings.Builder
	for k := 0; k < len(name); k++ {
		if name[k] == '\\' && k+3 < len(name) {
			if n, err := strconv.ParseUint(name[k+1:k+4], 8, 8); err == nil {
				b.WriteByte(byte(n))
				k += 3
				continue
			}
		}
		b.WriteByte(name[k])
	}
	return b.String()
}
