// Package difference says in words what is different between two images of an artifact, as a
// technician would say it: "adds Hidden=true", "line 7 commented out", "Start 2 → 4", "link
// removed".
//
//	for _, words := range difference.Words(step.Artifact, step.Before, step.After) {
//		fmt.Println(words)
//	}
//
// The words are for people; what scripts need are the images themselves.
package difference

import (
	"bytes"
	"cmp"
	"fmt"
	"io/fs"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"lockback/core/autostart"
	"lockback/core/format/crontab"
	"lockback/core/format/plist"
	"lockback/core/machine/artifact"
)

// Bounds of what is worded: beyond them only sizes are given.
const (
	maxText   = 1 << 20 // bytes of a file that is looked into
	maxLine   = 120     // characters of a line that are shown
	maxListed = 4       // differences that are named one by one
)

// Words says what is different at an artifact after it went from one image to another. It is
// never empty if the images differ.
func Words(a artifact.Artifact, before, after artifact.Image) []string {
	switch {
	case before.Kind == artifact.Absent && after.Kind == artifact.Absent:
		return nil
	case before.Kind == artifact.Absent:
		return []string{made(a, after)}
	case after.Kind == artifact.Absent:
		return []string{removed(a, before)}
	case before.Kind != after.Kind:
		return []string{fmt.Sprintf("%s becomes %s", noun(before), noun(after))}
	}
	var words []string
	switch before.Kind {
	case artifact.Regular:
		words = contents(before.Content, after.Content)
	case artifact.Symlink:
		if before.Target != after.Target {
			words = append(words, fmt.Sprintf("link leads to %s instead of %s", shown(after.Target),
				shown(before.Target)))
		}
	case artifact.Value:
		words = values(a, before, after)
	case artifact.Tree:
		if !bytes.Equal(before.Content, after.Content) {
			words = append(words, "values below the key differ")
		}
	case artifact.LoginItemKind:
		if !bytes.Equal(before.Content, after.Content) {
			words = append(words, "login item differs")
		}
	}
	words = append(words, metadata(before, after)...)
	if len(words) == 0 && !before.Same(after) {
		words = append(words, "differs in what has no short word")
	}
	return words
}

// noun names what an image is of.
func noun(i artifact.Image) string {
	switch i.Kind {
	case artifact.Absent:
		return "nothing"
	case artifact.Regular:
		return "a file"
	case artifact.Symlink:
		return "a link to " + shown(i.Target)
	case artifact.Folder:
		return "a folder"
	case artifact.Special:
		return "a device, pipe or socket"
	case artifact.Value:
		return "a value"
	case artifact.Key, artifact.Tree:
		return "a key"
	case artifact.LoginItemKind:
		return "a login item"
	}
	return string(i.Kind)
}

// made words something that was not there.
func made(a artifact.Artifact, i artifact.Image) string {
	switch i.Kind {
	case artifact.Symlink:
		return "link to " + shown(i.Target) + " made"
	case artifact.Folder:
		return "folder made"
	case artifact.Key:
		return "key made"
	case artifact.Tree:
		return "key put back, with all below it"
	case artifact.Value:
		if words, ok := approval(a, i); ok {
			return words
		}
		return fmt.Sprintf("%s set to %s", valueName(a), valueText(i))
	case artifact.LoginItemKind:
		return "login item added"
	}
	if lines, ok := linesOf(i.Content); ok && len(lines) <= maxListed && len(lines) > 0 {
		return "file made: " + strings.Join(quotedAll(lines), ", ")
	}
	return fmt.Sprintf("file made, %d bytes", len(i.Content))
}

// removed words something that is there no more.
func removed(a artifact.Artifact, i artifact.Image) string {
	switch i.Kind {
	case artifact.Symlink:
		return "link to " + shown(i.Target) + " removed"
	case artifact.Folder:
		return "empty folder removed"
	case artifact.Key:
		return "empty key removed"
	case artifact.Tree:
		return "key removed, with all below it"
	case artifact.Value:
		if _, ok := approval(a, i); ok {
			return valueName(a) + " no longer marked in Windows' own startup settings"
		}
		return fmt.Sprintf("%s removed, was %s", valueName(a), valueText(i))
	case artifact.LoginItemKind:
		return "login item removed"
	}
	return fmt.Sprintf("file removed, %d bytes", len(i.Content))
}

// valueName is the name of a registry value.
func valueName(a artifact.Artifact) string {
	_, name := a.Value()
	return cmp.Or(shown(name), "the key's own value")
}

// values words how a registry value differs.
func values(a artifact.Artifact, before, after artifact.Image) []string {
	if before.Type == after.Type && bytes.Equal(before.Content, after.Content) {
		if before.Place != after.Place {
			return []string{fmt.Sprintf("%s stands at another place in its key", valueName(a))}
		}
		return nil
	}
	if words, ok := approval(a, after); ok {
		return []string{words}
	}
	if was, is := before.Value().Strings(), after.Value().Strings(); before.Type == after.Type && len(was) > 0 &&
		len(is) > 0 && len(was) != len(is) {
		if words := items(valueName(a), was, is); words != nil {
			return words
		}
	}
	words := []string{fmt.Sprintf("%s %s → %s", valueName(a), valueText(before), valueText(after))}
	if before.Type != after.Type {
		words = append(words, fmt.Sprintf("type %s → %s", before.Value().Type, after.Value().Type))
	}
	return words
}

// valueText is what a registry value holds: a number, text in quotes, or its type and bytes.
func valueText(i artifact.Image) string {
	v := i.Value()
	if n, ok := v.Number(); ok {
		return strconv.FormatUint(n, 10)
	}
	if v.IsText() {
		var all []string
		for _, s := range v.Strings() {
			all = append(all, `"`+shown(s)+`"`)
		}
		return cmp.Or(strings.Join(all, ", "), `""`)
	}
	return shown(v.String())
}

// approval words the value by which Windows' own settings pages switch a startup entry: of its
// first byte, the lowest bit says that it is off.
func approval(a artifact.Artifact, i artifact.Image) (string, bool) {
	key, _ := a.Value()
	if !strings.Contains(strings.ToLower(key), `\explorer\startupapproved\`) || len(i.Content) == 0 {
		return "", false
	}
	if i.Content[0]&1 == 1 {
		return valueName(a) + " marked off in Windows' own startup settings", true
	}
	return valueName(a) + " marked on in Windows' own startup settings", true
}

// items words what was added to a list and taken out of it.
func items(name string, was, is []string) []string {
	var words []string
	for _, w := range was {
		if !slices.Contains(is, w) {
			words = append(words, fmt.Sprintf(`"%s" taken out of %s`, shown(w), name))
		}
	}
	for _, w := range is {
		if !slices.Contains(was, w) {
			words = append(words, fmt.Sprintf(`"%s" added to %s`, shown(w), name))
		}
	}
	return words
}

// contents words how two contents of a file differ.
func contents(before, after []byte) []string {
	if bytes.Equal(before, after) {
		return nil
	}
	was, ok := linesOf(before)
	is, ok2 := linesOf(after)
	if ok && ok2 {
		if words := lines(was, is); len(words) > 0 {
			return words
		}
	}
	if words := properties(before, after); words != nil {
		return words
	}
	return []string{fmt.Sprintf("content differs, %d → %d bytes", len(before), len(after))}
}

// linesOf splits what is text.
func linesOf(content []byte) ([]string, bool) {
	if len(content) > maxText || !utf8.Valid(content) || bytes.IndexByte(content, 0) >= 0 ||
		bytes.HasPrefix(content, []byte("<?xml")) || bytes.HasPrefix(content, []byte("bplist")) {
		return nil, false
	}
	var all []string
	for line := range strings.Lines(string(content)) {
		all = append(all, strings.TrimRight(line, "\r\n"))
	}
	return all, true
}

// lines words how two texts differ: line by line where they have as many, else by what stands
// between the lines that they begin and end with.
func lines(was, is []string) []string {
	var words []string
	off, on := []int{}, []int{}
	add := func(format string, args ...any) { words = append(words, fmt.Sprintf(format, args...)) }
	if len(was) == len(is) {
		for k := range was {
			switch {
			case was[k] == is[k]:
			case is[k] == crontab.OffMark+was[k]:
				off = append(off, k+1)
			case was[k] == crontab.OffMark+is[k]:
				on = append(on, k+1)
			default:
				add("line %d: %s → %s", k+1, quoted(was[k]), quoted(is[k]))
			}
		}
		if len(off) > 0 {
			add("%s commented out", numbered(off))
		}
		if len(on) > 0 {
			add("%s no longer commented out", numbered(on))
		}
		return limited(words)
	}
	from := 0
	for from < len(was) && from < len(is) && was[from] == is[from] {
		from++
	}
	end := 0
	for end < len(was)-from && end < len(is)-from && was[len(was)-1-end] == is[len(is)-1-end] {
		end++
	}
	for _, l := range was[from : len(was)-end] {
		add("takes out %s", quoted(l))
	}
	for _, l := range is[from : len(is)-end] {
		add("adds %s", quoted(l))
	}
	return limited(words)
}

// numbered names lines by their numbers.
func numbered(at []int) string {
	if len(at) == 1 {
		return fmt.Sprintf("line %d", at[0])
	}
	var words []string
	for _, n := range at[:min(len(at), maxListed)] {
		words = append(words, strconv.Itoa(n))
	}
	if more := len(at) - maxListed; more > 0 {
		return fmt.Sprintf("lines %s and %d more", strings.Join(words, ", "), more)
	}
	return "lines " + strings.Join(words, ", ")
}

// properties words how two property lists differ; nil if they are none.
func properties(before, after []byte) []string {
	was, err := plist.Parse(before)
	if err != nil {
		return nil
	}
	is, err := plist.Parse(after)
	if err != nil {
		return nil
	}
	var words []string
	compareProperties("", was.Root, is.Root, &words)
	if len(words) == 0 {
		return []string{"written in another form, with the same content"}
	}
	return limited(words)
}

// compareProperties adds what is different below a path of keys.
func compareProperties(path string, was, is any, words *[]string) {
	a, aDict := was.(map[string]any)
	b, bDict := is.(map[string]any)
	if !aDict || !bDict {
		if !reflect.DeepEqual(was, is) {
			*words = append(*words, fmt.Sprintf("%s %s → %s", cmp.Or(path, "content"), property(was), property(is)))
		}
		return
	}
	keys := maps.Clone(a)
	maps.Copy(keys, b)
	for _, k := range slices.Sorted(maps.Keys(keys)) {
		at := shown(k)
		if path != "" {
			at = path + " > " + at
		}
		x, had := a[k]
		y, has := b[k]
		switch {
		case !had:
			*words = append(*words, fmt.Sprintf("adds %s = %s", at, property(y)))
		case !has:
			*words = append(*words, fmt.Sprintf("takes out %s, was %s", at, property(x)))
		default:
			compareProperties(at, x, y, words)
		}
	}
}

// property words a value of a property list.
func property(v any) string {
	switch v := v.(type) {
	case map[string]any:
		return fmt.Sprintf("a dictionary of %d", len(v))
	case []any:
		return fmt.Sprintf("a list of %d", len(v))
	case []byte:
		return fmt.Sprintf("%d bytes", len(v))
	case string:
		return quoted(v)
	}
	return shown(fmt.Sprint(v))
}

// metadata words how rights, owner, attributes and times differ. A time alone is given only where
// nothing else is different: whatever is written gets a new one.
func metadata(before, after artifact.Image) []string {
	var words []string
	if before.Mode != after.Mode && before.Kind != artifact.Symlink {
		const execute fs.FileMode = 0o111
		switch was, is := before.Mode&execute, after.Mode&execute; {
		case before.Mode&^execute == after.Mode&^execute && is == 0:
			words = append(words, "no longer executable")
		case before.Mode&^execute == after.Mode&^execute && was == 0:
			words = append(words, "executable again")
		default:
			words = append(words, fmt.Sprintf("rights %04o → %04o", unixMode(before.Mode), unixMode(after.Mode)))
		}
	}
	if before.UID >= 0 && after.UID >= 0 && (before.UID != after.UID || before.GID != after.GID) {
		words = append(words, fmt.Sprintf("owner %d:%d → %d:%d", before.UID, before.GID, after.UID, after.GID))
	}
	if before.Xattrs != nil && after.Xattrs != nil && !reflect.DeepEqual(before.Xattrs, after.Xattrs) {
		words = append(words, "extended attributes differ")
	}
	sameContent := before.Type == after.Type && before.Target == after.Target &&
		bytes.Equal(before.Content, after.Content)
	if len(words) == 0 && sameContent && !before.ModTime.IsZero() && !after.ModTime.IsZero() &&
		!before.ModTime.Equal(after.ModTime) {
		words = append(words, fmt.Sprintf("time of last change %s → %s", before.ModTime.UTC().Format(time.RFC3339),
			after.ModTime.UTC().Format(time.RFC3339)))
	}
	return words
}

// unixMode is a mode as chmod(1) takes it.
func unixMode(m fs.FileMode) uint32 {
	n := uint32(m.Perm())
	for _, b := range []struct {
		bit fs.FileMode
		as  uint32
	}{{fs.ModeSetuid, 0o4000}, {fs.ModeSetgid, 0o2000}, {fs.ModeSticky, 0o1000}} {
		if m&b.bit != 0 {
			n |= b.as
		}
	}
	return n
}

// limited names a few differences and counts the others.
func limited(words []string) []string {
	if len(words) <= maxListed {
		return words
	}
	return append(words[:maxListed:maxListed], fmt.Sprintf("and %d more differences", len(words)-maxListed))
}

// shown is text from the machine, cut where it is long, with a mark that it is.
func shown(s string) string {
	s = autostart.Text(s)
	if r := []rune(s); len(r) > maxLine {
		return string(r[:maxLine]) + "…"
	}
	return s
}

// quoted is a line of a file: bare where it reads as a setting, else in quotes.
func quoted(line string) string {
	s := shown(strings.TrimSpace(line))
	if s != "" && !strings.ContainsAny(s, " \t\"") {
		return s
	}
	return `"` + s + `"`
}

func quotedAll(lines []string) []string {
	words := make([]string, len(lines))
	for k, l := range lines {
		words[k] = quoted(l)
	}
	return words
}
