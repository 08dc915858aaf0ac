package unix

import (
	"bytes"
	"fmt"
	"io/fs"
	"iter"
	"path"
	"slices"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/shellcommand"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/machine/artifact"
	"lockback/core/machine/files"
)

// maxOwnLines is how many lines are read of one user's files in a place: nobody can fill the memory of
// whoever looks.
const maxOwnLines = 10_000

// Lines is the form of files each line of which is an entry.
type Lines struct {
	// Comments are the characters that begin a comment.
	Comments string
	// Accepts says which names of a folder count; all where nil.
	Accepts func(name string) bool
	// Describe makes the item of a line, its name and command at least; nil if the line
	// is no entry.
	Describe func(s *location.Survey, f location.Found, line string) *location.Item
	// Key is what a line is known by; the line itself when nil.
	Key func(line string) string
	// Joined says that a line which ends in a backslash goes on in the next one.
	Joined bool
	// Section gets each line and returns the section that stands from it on, see
	// [location.Found], and whether the line is nothing else; nil where files have none.
	Section func(section, line string) (now string, only bool)
	// Shell says that the file is a script: only simple commands of its own, each alone on its line,
	// are entries, because no other line can be taken out of one.
	Shell bool
	// Follow names further files that a line has read in its place; nil if no line does.
	Follow func(s *location.Survey, f location.Found, line string) []location.Found
	// OffMark is what another program puts before a line that it turned off, and OffBy that program.
	OffMark, OffBy string
	// Ignored tells why the system skips a whole file; nil where it never does.
	Ignored func(s *location.Survey, f location.Found) string
}

// Word is [autostart.Comment].
func (Lines) Word() autostart.Switch { return autostart.Comment }

// Read reports the lines of the places.
func (l Lines) Read(s *location.Survey, places []location.Place) {
	reader := newLinesReader(l, s)
	s.Each(places, func(f location.Found) {
		if l.Accepts == nil || f.Dir == "" || l.Accepts(path.Base(f.Path)) {
			reader.file(f, 0)
		}
	})
}

// File reports the lines of one file.
func (l Lines) File(s *location.Survey, f location.Found) {
	newLinesReader(l, s).file(f, 0)
}

// EachLine visits the lines of a file that are neither empty nor comments, without reporting any.
func (l Lines) EachLine(s *location.Survey, f location.Found, visit func(line string)) {
	content, ok := s.File(f.Path)
	if !ok {
		return
	}
	for raw := range l.lines(content) {
		if line := strings.TrimSpace(join(strings.TrimRight(string(raw), "\r\n"))); line != "" &&
			strings.IndexByte(l.Comments, line[0]) < 0 {
			visit(line)
		}
	}
}

// lines are those of a content, each with those that it goes on in where the form has that.
func (l Lines) lines(content []byte) iter.Seq[[]byte] {
	if l.Joined {
		return part.JoinedLines(content)
	}
	return bytes.Lines(content)
}

// linesReader reads the files of one place.
type linesReader struct {
	Lines
	s    *location.Survey
	read map[string]int  // lines of each user's files
	once map[string]bool // files that lines lead to
}

func newLinesReader(l Lines, s *location.Survey) *linesReader {
	return &linesReader{Lines: l, s: s, read: map[string]int{}, once: map[string]bool{}}
}

// file reports the lines of a file, and of those that they lead to, which is not done deeper than
// [maxDepth].
func (l *linesReader) file(f location.Found, depth int) {
	s := l.s
	content, ok := s.File(f.Path)
	if !ok {
		return
	}
	most, whose := maxLines, f.Path
	if f.User != nil {
		most, whose = maxOwnLines, f.User.Name
	}
	if l.read[whose] += bytes.Count(content, []byte{'\n'}); l.read[whose] > most {
		s.Skip(f.Path, &fs.PathError{Op: "read", Path: f.Path, Err: fmt.Errorf("%w: more than %d lines",
			files.ErrTooLarge, most)})
		return
	}
	ignored := ""
	if l.Ignored != nil {
		ignored = l.Ignored(s, f)
	}
	var simple map[int]bool
	if l.Shell {
		var err error
		if simple, err = shellcommand.Alone(strings.ReplaceAll(string(content), part.OffMark, "")); err != nil {
			s.Skip(f.Path, &fs.PathError{Op: "read", Path: f.Path, Err: err})
			return
		}
	}
	number, next := 0, 1
	for raw := range l.lines(content) {
		number, next = next, next+max(1, bytes.Count(raw, []byte{'\n'}))
		text, isOff := strings.CutPrefix(strings.TrimRight(string(raw), "\r\n"), part.OffMark)
		whole := text
		if l.Joined {
			text = join(text)
		}
		byOther := false
		if l.OffMark != "" && !isOff {
			text, byOther = strings.CutPrefix(text, l.OffMark)
		}
		line := strings.TrimSpace(text)
		if line == "" || strings.IndexByte(l.Comments, line[0]) >= 0 {
			continue
		}
		if l.Section != nil && !isOff {
			var only bool
			if f.Section, only = l.Section(f.Section, line); only {
				continue
			}
		}
		if l.Shell && !simple[number] {
			continue
		}
		if l.Follow != nil && !isOff && depth < maxDepth {
			for _, more := range l.Follow(s, f, line) {
				if !l.once[more.Path] && len(l.once) < maxFollowed {
					l.once[more.Path] = true
					l.file(more, depth+1)
				}
			}
		}
		item := l.Describe(s, f, line)
		if item == nil {
			continue
		}
		item.Source = autostart.Source{Path: f.Path, Line: number}
		if item.State == "" {
			item.State = autostart.Enabled
		}
		if f.User != nil {
			item.User, item.For = autostart.Text(f.User.Name), f.User
		}
		own := part.NewLine(f.Path, number, text)
		if l.Joined {
			own = part.NewJoined(f.Path, number, whole)
		}
		l.switches(item, f, own, isOff, byOther, ignored)
		key := line
		if l.Key != nil {
			key = l.Key(line)
		}
		s.Add(f.Key+"\x00"+key, item)
	}
}

// switches gives an item its state, and the way in which its line is switched.
func (l *linesReader) switches(item *location.Item, f location.Found, own part.Line, isOff, byOther bool,
	ignored string) {
	item.Artifacts = Files(f.Path)
	if f.Vendor != "" {
		own.File, own.Vendor = f.Own, f.Vendor
		item.Artifacts = Files(f.Own, f.Vendor)
	}
	none, fixed := item.Switcher.(location.NoSwitch)
	item.Switcher = TextLine{own}
	if none.Of = own; fixed {
		item.Switcher = none
	}
	switch {
	case f.Foreign:
		item.Switcher = location.NoSwitch{Why: "a user's own configuration has it read, and it is not that " +
			"user's file; change it there, or the configuration", Of: own}
		if isOff {
			item.State = autostart.Disabled
		}
	case f.Masked != "":
		item.State, item.Mode = autostart.Disabled, "masked by "+f.Masked
		item.Switcher = location.NoSwitch{Why: f.Masked + " masks the whole file; take that away", Of: own}
	case isOff:
		item.State = autostart.Disabled
	case byOther:
		item.State, item.Mode = autostart.Disabled, "turned off by "+l.OffBy
		item.Switcher = location.NoSwitch{Why: l.OffBy + " turned it off, and turns it on again", Of: own}
	case ignored != "":
		item.State, item.Mode, item.Ignored = autostart.Disabled, "", ignored
		item.Problems = append(item.Problems, autostart.Ignored)
	}
}

// Brackets is the section of files whose sections are headed by a name in brackets.
func Brackets(section, line string) (string, bool) {
	if line[0] == '[' {
		return line, true
	}
	return section, false
}

// Braces is the section of files whose blocks stand in braces: the heads of all that are open, one
// behind the other.
func Braces(section, line string) (string, bool) {
	switch {
	case line == "}":
		return section[:max(0, strings.LastIndex(section, "{"))], true
	case strings.HasSuffix(line, "{"):
		return section + "{" + strings.TrimSpace(strings.TrimSuffix(line, "{")), true
	}
	return section, false
}

// How far lines are followed into further files.
const (
	maxDepth    = 8
	maxFollowed = 200
)

// join makes one line of those that it goes on in: without the backslashes, without comments in the
// middle, and without the marks of ours.
func join(text string) string {
	if !strings.Contains(text, "\n") {
		return text
	}
	var joined strings.Builder
	for n, one := range strings.Split(text, "\n") {
		one = strings.TrimRight(strings.TrimPrefix(one, part.OffMark), "\r")
		if bare := strings.TrimLeft(one, " \t"); n > 0 {
			if one = bare; strings.HasPrefix(bare, "#") {
				continue
			}
		}
		joined.WriteString(strings.TrimSuffix(one, "\\"))
	}
	return joined.String()
}

// TextLine is the switch of one line of a file of lines: a mark before it that makes it a
// comment. For a line of a vendor's file a copy of that stands before it.
type TextLine struct{ part.Line }

// Word is [autostart.Comment].
func (TextLine) Word() autostart.Switch { return autostart.Comment }

// Part is the line.
func (l TextLine) Part() part.Part { return l.Line }

// Plan marks the line, or takes the mark away; a copy that has become like the vendor's file
// goes.
func (l TextLine) Plan(images location.Images, want location.Want) ([]location.Edit, error) {
	edits, errs := l.PlanGroup(images, want, []location.Switcher{l})
	return edits, errs[0]
}

// Group is the file that the line stands in.
func (l TextLine) Group() artifact.Artifact { return l.In() }

// PlanGroup switches several lines of the file.
func (l TextLine) PlanGroup(images location.Images, want location.Want, group []location.Switcher) ([]location.Edit,
	[]error) {
	return InOnePass(images, want, l.In(), len(group), func(image artifact.Image) (artifact.Image, []error, error) {
		if image.Kind == artifact.Symlink {
			return image, nil, fmt.Errorf("%w: %s is a link; switch the entry at %s", location.ErrNoSwitch, l.File,
				path.Join(path.Dir(l.File), image.Target))
		}
		lines := make([]part.Line, len(group))
		for k, other := range group {
			lines[k] = other.(TextLine).Line
		}
		marked, there, err := part.Mark(images, image, lines, want.State == autostart.Disabled, want.Now)
		return marked, Gone(there, "the line is no longer in %s; list again", l.File), err
	})
}

// InOnePass plans several switches that share a file: set makes its new image, and has an error for each that is not
// set, or one for all of them.
func InOnePass(images location.Images, want location.Want, file artifact.Artifact, n int,
	set func(artifact.Image) (artifact.Image, []error, error)) ([]location.Edit, []error) {
	fail := func(err error) ([]location.Edit, []error) { return nil, slices.Repeat([]error{err}, n) }
	image, err := images.Image(file)
	if err != nil {
		return fail(err)
	}
	image, errs, err := set(image)
	switch {
	case err != nil:
		return fail(err)
	case !slices.Contains(errs, nil):
		return nil, errs
	}
	return []location.Edit{{Artifact: file, Image: image}}, errs
}

// Gone has an error for each that is not there, in the words of a format for the file.
func Gone(there []bool, format, file string) []error {
	errs := make([]error, len(there))
	for k := range there {
		if !there[k] {
			errs[k] = fmt.Errorf(format, file)
		}
	}
	return errs
}
