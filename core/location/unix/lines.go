package unix

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"lockback/core/autostart"
	"lockback/core/location"
	"lockback/core/location/part"
	"lockback/core/machine"
)

// maxOwnLines is how many lines are read of one user's files in a place: nobody can fill the memory of
// whoever looks.
const maxOwnLines = 10_000

// Lines is the form of files each line of which is an entry.
type Lines struct {
	// Comments are the characters that begin a comment.
	Comments string
	// Describe makes the item of a line, its name and command at least; nil where the line
	// is no entry.
	Describe func(s *location.Survey, f location.Found, line string) *location.Item
	// Key is what a line is known by; the line itself when nil.
	Key func(line string) string
	// OffMark is what another program puts before a line that it turned off, and OffBy that program.
	OffMark, OffBy string
	// Ignored tells why the system passes over a whole file; nil where it never does.
	Ignored func(s *location.Survey, f location.Found) string
}

// Word is [autostart.Comment].
func (Lines) Word() autostart.Switch { return autostart.Comment }

// Read reports the lines of the places.
func (l Lines) Read(s *location.Survey, places []location.Place) {
	read := map[string]int{} // lines of each user's files
	s.Each(places, func(f location.Found) {
		content, ok := s.File(f.Path)
		if !ok {
			return
		}
		most, whose := maxLines, f.Path
		if f.User != nil {
			most, whose = maxOwnLines, f.User.Name
		}
		if read[whose] += bytes.Count(content, []byte{'\n'}); read[whose] > most {
			s.Skip(f.Path, &fs.PathError{Op: "read", Path: f.Path, Err: fmt.Errorf("%w: more than %d lines", machine.ErrTooLarge, most)})
			return
		}
		ignored := ""
		if l.Ignored != nil {
			ignored = l.Ignored(s, f)
		}
		number := 0
		for raw := range strings.Lines(string(content)) {
			number++
			text, isOff := strings.CutPrefix(strings.TrimRight(raw, "\r\n"), part.OffMark)
			byOther := false
			if l.OffMark != "" && !isOff {
				text, byOther = strings.CutPrefix(text, l.OffMark)
			}
			line := strings.TrimSpace(text)
			if line == "" || strings.IndexByte(l.Comments, line[0]) >= 0 {
				continue
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
			item.Artifacts = Files(f.Path)
			if f.Vendor != "" {
				own.File, own.Vendor = f.Own, f.Vendor
				item.Artifacts = Files(f.Own, f.Vendor)
			}
			item.Switcher = TextLine{own}
			switch {
			case f.Masked != "":
				item.State, item.Mode = autostart.Disabled, "masked by "+f.Masked
				item.Switcher = location.NoSwitch{Why: f.Masked + " masks the whole file; take that away"}
			case isOff:
				item.State = autostart.Disabled
			case byOther:
				item.State, item.Mode = autostart.Disabled, "turned off by "+l.OffBy
				item.Switcher = location.NoSwitch{Why: l.OffBy + " turned it off, and turns it on again"}
			case ignored != "":
				item.State, item.Mode = autostart.Disabled, "ignored: "+ignored
				item.Problems = append(item.Problems, autostart.Ignored)
			}
			key := line
			if l.Key != nil {
				key = l.Key(line)
			}
			s.Add(f.Key+"\x00"+key, item)
		}
	})
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
	if want.User != nil {
		return nil, location.ErrNotPerUser
	}
	image, err := images.Image(l.In())
	if err != nil {
		return nil, err
	}
	if image.Kind == machine.Symlink {
		return nil, fmt.Errorf("%w: %s is a link; switch the entry at %s", location.ErrNoSwitch, l.File, path.Join(path.Dir(l.File), image.Target))
	}
	marked, ok, err := l.Marked(images, image, want.State == autostart.Disabled, want.Now)
	switch {
	case err != nil:
		return nil, err
	case !ok:
		return nil, fmt.Errorf("the line is no longer in %s; list again", l.File)
	}
	return []location.Edit{{Artifact: l.In(), Image: marked}}, nil
}
