package part

import (
	"bytes"
	"fmt"
	"iter"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"lockback/core/format/crontab"
	"lockback/core/machine/artifact"
)

// OffMark begins a line of a text file that Lock Back turned off.
const OffMark = crontab.OffMark

// Line is one line of a text file, turned off by a mark before it.
type Line struct {
	File   string
	Number int // counted from 1, in the file that it was read from
	// Vendor is the file that File stands before, where it does: while File is not there, the
	// line is the vendor's.
	Vendor string
	// Joined says that a line which ends in a backslash goes on in the next one: the part is all
	// of them, and Number that of the first.
	Joined bool
	// text is the line that stands there, as lineKey makes it; empty in a line from the record.
	text string
}

// NewLine is a line that was read.
func NewLine(file string, number int, text string) Line {
	return Line{File: file, Number: number, text: keyOf(text)}
}

// NewJoined is a line that was read from a file whose lines go on behind a backslash.
func NewJoined(file string, number int, text string) Line {
	return Line{File: file, Number: number, Joined: true, text: keyOf(text)}
}

// In is the file.
func (l Line) In() artifact.Artifact { return artifact.File(l.File) }

// encode is short, because a machine can have a hundred thousand lines.
func (l Line) encode() string {
	text := strconv.Itoa(l.Number)
	if l.Joined {
		text += joinedSign
	}
	text += " " + strconv.Quote(l.File)
	if l.Vendor != "" {
		text += " " + strconv.Quote(l.Vendor)
	}
	return text
}

// joinedSign stands behind the number of a joined line in the record.
const joinedSign = "+"

func decodeLine(text string) (Part, error) {
	number, rest, _ := strings.Cut(text, " ")
	var l Line
	var err error
	number, l.Joined = strings.CutSuffix(number, joinedSign)
	if l.Number, err = strconv.Atoi(number); err != nil || l.Number < 1 {
		return nil, fmt.Errorf("%q is no number of a line", number)
	}
	for _, name := range []*string{&l.File, &l.Vendor} {
		quoted, err := strconv.QuotedPrefix(rest)
		if err != nil {
			return nil, err
		}
		if *name, err = strconv.Unquote(quoted); err != nil {
			return nil, err
		}
		if rest = strings.TrimPrefix(rest[len(quoted):], " "); rest == "" {
			break
		}
	}
	return l, nil
}

// lineKey is what makes two lines the same: turned off or not, and whatever ends them.
func lineKey(line []byte) string { return keyOf(string(line)) }

func keyOf(line string) string {
	text := strings.TrimRight(line, "\r\n")
	if strings.Contains(text, "\n") { // a joined one
		lines := strings.Split(text, "\n")
		for k, l := range lines {
			lines[k] = keyOf(l)
		}
		return strings.TrimRight(strings.Join(lines, "\n"), "\r\n")
	}
	if rest, off := strings.CutPrefix(strings.TrimLeft(text, " \t"), OffMark); off {
		return rest
	}
	return text
}

// Carry brings the line over. A line from the record is the one at its number in from, where
// from has so many lines, and is else taken out of into; one that was read is looked for.
func (l Line) Carry(images Images, into, from artifact.Image, now time.Time) (artifact.Image, error) {
	base, err := l.vendors(images)
	if err != nil {
		return into, err
	}
	source, err := l.content(from, base)
	if err != nil {
		return into, err
	}
	target, err := l.content(into, base)
	if err != nil {
		return into, err
	}
	theirs, ours := l.split(source), l.split(target)
	there, in := l.find(theirs), l.find(ours)
	switch {
	case there >= 0:
		line := theirs[there]
		if k := nth(ours, lineKey(line), before(theirs, there)); k >= 0 {
			ours[k] = line
		} else {
			k = insertAt(theirs, there, ours, sameLine)
			ours = append(ours[:k:k], append([][]byte{line}, ours[k:]...)...)
		}
	case in >= 0:
		ours = append(ours[:in:in], ours[in+1:]...)
	default:
		return into, fmt.Errorf("line %d is in neither state of %s", l.Number, l.File)
	}
	content := ended(joinLines(ours), source, target)
	switch {
	case bytes.Equal(content, source):
		return from, nil
	case bytes.Equal(content, target):
		return into, nil
	case into.Kind != artifact.Regular:
		into = from
	}
	return made(content, into, base, now), nil
}

// Mark is the image in which lines of one file are turned off by the mark, or on without it, in one pass; there says of
// each whether it is in the file.
func Mark(images Images, image artifact.Image, list []Line, off bool, now time.Time) (marked artifact.Image,
	there []bool, err error) {
	there = make([]bool, len(list))
	base, err := list[0].vendors(images)
	if err != nil {
		return image, there, err
	}
	content, err := list[0].content(image, base)
	if err != nil {
		return image, there, err
	}
	lines := list[0].split(content)
	places := map[int]int{} // the number of a line, to its place
	for k, n := 0, 1; k < len(lines); k++ {
		places[n] = k
		n += max(1, bytes.Count(lines[k], []byte{'\n'}))
	}
	set := make(map[int][]byte, len(list)) // by places: what is looked for is what stands there before
	for n, l := range list {
		k, known := places[l.Number]
		if !known || l.text != "" && lineKey(lines[k]) != l.text {
			if k = -1; l.text != "" {
				k = nth(lines, l.text, 0)
			}
		}
		if there[n] = k >= 0; !there[n] {
			continue
		}
		var with []byte
		for one := range bytes.Lines(lines[k]) { // each, where one goes on in the next
			if off {
				with = append(with, OffMark...)
			}
			with = append(with, bytes.TrimPrefix(one, []byte(OffMark))...)
		}
		set[k] = with
	}
	if len(set) == 0 {
		return image, there, nil
	}
	for k, with := range set {
		lines[k] = with
	}
	return made(bytes.Join(lines, nil), image, base, now), there, nil
}

// made is the image of a file with other content: none if that is the vendor's, because then no
// file need stand before it.
func made(content []byte, image, vendors artifact.Image, now time.Time) artifact.Image {
	switch {
	case vendors.Kind == artifact.Regular && bytes.Equal(content, vendors.Content):
		return artifact.Image{Kind: artifact.Absent}
	case image.Kind == artifact.Regular:
		return image.WithContent(content, now)
	}
	return artifact.NewFile(content, vendors.Mode.Perm()&^0o022, 0, 0, now)
}

// find returns the place of the line among others: its number, unless it is known to read
// otherwise and stands elsewhere; -1 where it is not there.
func (l Line) find(lines [][]byte) int {
	k := l.at(lines)
	switch {
	case l.text == "" && k < len(lines):
		return k
	case l.text == "":
		return -1
	case k >= len(lines) || lineKey(lines[k]) != l.text:
		return nth(lines, l.text, 0)
	}
	return k
}

// Without takes the line out.
func (l Line) Without(image artifact.Image, now time.Time) (artifact.Image, bool, error) {
	lines := l.split(image.Content)
	k := l.find(lines)
	if image.Kind != artifact.Regular || k < 0 {
		return image, false, nil
	}
	return image.WithContent(joinLines(append(lines[:k:k], lines[k+1:]...)), now), true, nil
}

func (l Line) like(images Images, now Part, from artifact.Image) bool {
	other, ok := now.(Line)
	base, err := l.vendors(images)
	if !ok || err != nil {
		return false
	}
	content, err := l.content(from, base)
	lines := l.split(content)
	k := l.at(lines)
	return err == nil && k < len(lines) && lineKey(lines[k]) == other.text
}

// vendors is the image of the vendor's file, absent if there is none.
func (l Line) vendors(images Images) (artifact.Image, error) {
	if l.Vendor == "" {
		return artifact.Image{Kind: artifact.Absent}, nil
	}
	return images.Image(artifact.File(l.Vendor))
}

// content is what counts while File has an image.
func (l Line) content(i, base artifact.Image) ([]byte, error) {
	switch {
	case i.Kind == artifact.Regular:
		return i.Content, nil
	case i.Kind == artifact.Absent && base.Kind == artifact.Regular:
		return base.Content, nil
	case i.Kind == artifact.Absent:
		return nil, nil
	}
	return nil, fmt.Errorf("%s is %s, not a file", l.File, i)
}

// split cuts a content into its lines, those that go on in the next one together with it.
func (l Line) split(content []byte) [][]byte {
	lines := make([][]byte, 0, bytes.Count(content, []byte{'\n'})+1)
	if !l.Joined {
		return slices.AppendSeq(lines, bytes.Lines(content))
	}
	for group := range JoinedLines(content) {
		lines = append(lines, group)
	}
	return lines
}

// JoinedLines cuts a content into lines, each with those that it goes on in: a line goes on where it
// ends in a backslash. A comment does not, and one in the middle is skipped, as udev(7) defines it.
// What is turned off is split as it was.
func JoinedLines(content []byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		begin, end, goesOn := 0, 0, false
		for l := range bytes.Lines(content) {
			end += len(l)
			bare := bytes.TrimLeft(bytes.TrimPrefix(l, []byte(OffMark)), " \t")
			if comment := bytes.HasPrefix(bare, []byte{'#'}); !comment {
				goesOn = bytes.HasSuffix(bytes.TrimRight(bare, "\r\n"), []byte{'\\'})
			}
			if !goesOn {
				if !yield(content[begin:end:end]) {
					return
				}
				begin = end
			}
		}
		if begin < end {
			yield(content[begin:end:end])
		}
	}
}

// at is the place of the line's number among others: len(lines) or more where it has none.
func (l Line) at(lines [][]byte) int {
	if !l.Joined {
		return l.Number - 1
	}
	for k, n := 0, 1; k < len(lines); k++ {
		if n >= l.Number {
			return k
		}
		n += lineCount(lines[k])
	}
	return len(lines)
}

// lineCount is how many lines a joined one has.
func lineCount(line []byte) int {
	n := bytes.Count(line, []byte{'\n'})
	if !bytes.HasSuffix(line, []byte{'\n'}) {
		n++
	}
	return n
}

// numbers are those of all lines that the part has in a content.
func (l Line) numbers(content []byte) []int {
	if !l.Joined {
		return []int{l.Number}
	}
	var all []int
	lines := l.split(content)
	if k := l.at(lines); k < len(lines) {
		for n := range lineCount(lines[k]) {
			all = append(all, l.Number+n)
		}
	}
	return all
}

// ended ends the last line of what was put together where the one that it was put into had its last line ended, and
// it is not the other one as that was: a daemon can pass over a line without an end.
func ended(content, source, target []byte) []byte {
	if n := len(content); n == 0 || content[n-1] == '\n' || bytes.Equal(content, source) ||
		!bytes.HasSuffix(target, []byte{'\n'}) {
		return content
	}
	return append(content, '\n')
}

// joinLines joins lines and ends all but the last one, where that is needed.
func joinLines(lines [][]byte) []byte {
	var content []byte
	for k, l := range lines {
		content = append(content, l...)
		if k < len(lines)-1 && l[len(l)-1] != '\n' {
			content = append(content, '\n')
		}
	}
	return content
}

// sameLine finds a line again beside which another one stood; blank ones stand anywhere.
func sameLine(a, b []byte) bool {
	key := lineKey(a)
	return strings.TrimSpace(key) != "" && key == lineKey(b)
}

// before counts the lines before the k-th one that are like it.
func before(lines [][]byte, k int) (n int) {
	key := lineKey(lines[k])
	for _, l := range lines[:k] {
		if lineKey(l) == key {
			n++
		}
	}
	return n
}

// nth finds the line of that key before which n others of it stand, else -1.
func nth(lines [][]byte, key string, n int) int {
	for k, l := range lines {
		if lineKey(l) == key {
			if n == 0 {
				return k
			}
			n--
		}
	}
	return -1
}

// assignment finds the name of a variable that a line sets, as in cron's tables.
var assignment = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`^[ \t]*["']?([A-Za-z_][A-Za-z_0-9]*)["']?[ \t]*=`)
})

// keepLines brings a text file back to its earlier image and keeps what was added to it
// since: lines that the earlier one does not have, each behind the line that it
// stands behind now. Numbers in dropped are lines of now that are not kept: they are what
// earlier lines became. A variable that has another value since gets its earlier
// one.
func keepLines(earlier, now artifact.Image, dropped map[int]bool, at time.Time) Merged {
	var old [][]byte
	where := map[string][]int{} // a line, to its places in the earlier file
	for l := range bytes.Lines(earlier.Content) {
		where[lineKey(l)] = append(where[lineKey(l)], len(old))
		old = append(old, l)
	}
	matched := make([]bool, len(old))
	type addition struct {
		line   []byte
		number int
	}
	behind := map[int][]addition{} // what was added, by the earlier line before it; -1: at the top
	number, anchor := 0, -1
	for l := range bytes.Lines(now.Content) {
		number++
		if places := where[lineKey(l)]; len(places) > 0 {
			where[lineKey(l)] = places[1:]
			matched[places[0]], anchor = true, places[0]
		} else if !dropped[number] {
			behind[anchor] = append(behind[anchor], addition{l, number})
		}
	}
	lost := map[string]bool{} // variables whose earlier line is not there now
	for k, l := range old {
		if m := assignment().FindSubmatch(l); m != nil && !matched[k] {
			lost[string(m[1])] = true
		}
	}
	var content []byte
	add := func(l []byte) {
		if len(content) > 0 && content[len(content)-1] != '\n' {
			content = append(content, '\n')
		}
		content = append(content, l...)
	}
	merged := Merged{Image: earlier}
	more := false
	for k := -1; k < len(old); k++ {
		if k >= 0 {
			add(old[k])
		}
		for _, a := range behind[k] {
			text := strings.TrimRight(string(a.line), "\r\n")
			if m := assignment().FindStringSubmatch(text); m != nil && lost[m[1]] {
				merged.GaveWay = append(merged.GaveWay, text)
				continue
			}
			if add(a.line); a.line[len(a.line)-1] != '\n' {
				content = append(content, '\n')
			}
			more = true
			if strings.TrimSpace(text) != "" {
				merged.Kept = append(merged.Kept, text)
			}
		}
	}
	if more {
		merged.Image = earlier.WithContent(content, at)
	}
	return merged
}
