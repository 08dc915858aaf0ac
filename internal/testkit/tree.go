//go:build unix

package testkit

import (
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// Picture is a whole tree: a line for each file, link and folder with all that a
// restore must bring back. It is taken without any code of Lock Back.
type Picture map[string]string

// Tree takes the picture of a tree. Folders named in leave (relative) are left
// out.
func Tree(t testing.TB, root string, leave ...string) Picture {
	t.Helper()
	p := Picture{}
	err := filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(root, name)
		for _, l := range leave {
			if rel == l {
				return fs.SkipDir
			}
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		st := info.Sys().(*syscall.Stat_t)
		line := fmt.Sprintf("%v %d:%d mtime=%d", info.Mode(), st.Uid, st.Gid, info.ModTime().UnixNano())
		switch {
		case info.Mode().IsRegular():
			content, err := os.ReadFile(name)
			if err != nil {
				return err
			}
			line += fmt.Sprintf(" %x", sha256.Sum256(content))
		case info.Mode()&fs.ModeSymlink != 0:
			target, err := os.Readlink(name)
			if err != nil {
				return err
			}
			line += " -> " + target
		}
		p[rel] = line + attributes(name)
		return nil
	})
	require.NoError(t, err)
	return p
}

// attributes lists the extended attributes of a file.
func attributes(name string) string {
	buf := make([]byte, 4096)
	n, err := unix.Llistxattr(name, buf)
	if err != nil || n == 0 {
		return ""
	}
	text := ""
	keys := strings.Split(strings.TrimRight(string(buf[:n]), "\x00"), "\x00")
	slices.Sort(keys) // the file system's order is that of their making
	for _, key := range keys {
		value := make([]byte, 4096)
		if m, err := unix.Lgetxattr(name, key, value); err == nil {
			text += fmt.Sprintf(" %s=%x", key, value[:m])
		}
	}
	return text
}

// Same wants two pictures to be equal, and says where they are not.
func Same(t testing.TB, want, have Picture) {
	t.Helper()
	require.Empty(t, Differences(want, have))
}

// Differences lists where two pictures differ.
func Differences(want, have Picture) []string {
	var d []string
	for name, line := range want {
		if have[name] != line {
			d = append(d, fmt.Sprintf("%s: was %q, is %q", name, line, have[name]))
		}
	}
	for name, line := range have {
		if _, ok := want[name]; !ok {
			d = append(d, fmt.Sprintf("%s: is new, %q", name, line))
		}
	}
	return d
}
