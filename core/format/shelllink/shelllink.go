// Package shelllink reads the shortcuts of Windows, files ending in .lnk, as
// MS-SHLLINK describes them:
//
//	link, err := shelllink.Parse(content)
//	fmt.Println(link.Target(), link.Arguments)
//
// Only what tells where a shortcut leads is understood; the rest is skipped.
// Nothing is written, so nothing can be lost.
package shelllink

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"lockback/core/format/windata"
)

// Link is what a shortcut says.
type Link struct {
	LocalPath   string // from LinkInfo: the target on a local volume
	NetworkPath string // from LinkInfo: the target on a share
	Environment string // the target with %variables%, which goes before the others
	IDList      string // the target as the shell's own item list spells it, as far as it is one of files
	Arguments   string
	WorkingDir  string
	Relative    string // the target, relative to the shortcut's folder
	Description string
	Icon        string
	Volume      string // label of the volume that the target was on
	Serial      uint32 // serial number of that volume
	Machine     string // NetBIOS name of the computer that the target was last seen on
	Size        uint32 // of the target, in bytes, when the shortcut was made
	Created     time.Time
	Modified    time.Time
	Show        uint32 // 1 normal, 3 maximised, 7 minimised
	AppID       string // of a packaged application, where the shortcut names no file
	// Uncertain says that LocalPath or NetworkPath has letters of a code page that is not known.
	Uncertain bool

	page func([]byte) (string, bool)
}

// ErrNotLink says that a file is no shell link.
var ErrNotLink = errors.New("not a shell link")

// linkCLSID follows the size at the head of every shell link, MS-SHLLINK 2.1.
var linkCLSID = []byte{0x01, 0x14, 0x02, 0, 0, 0, 0, 0, 0xc0, 0, 0, 0, 0, 0, 0, 0x46}

// Flags of the header, MS-SHLLINK 2.1.1.
const (
	hasIDList = 1 << iota
	hasLinkInfo
	hasName
	hasRelativePath
	hasWorkingDir
	hasArguments
	hasIcon
	isUnicode
	forceNoLinkInfo
)

const headerSize = 0x4c

// Parse reads a shell link. What is damaged behind the header is left out, and
// the error tells of it beside what could be read. Texts that are not in UTF-16 are in the code page of the system that
// made the link, which [ParseIn] is told.
func Parse(b []byte) (*Link, error) { return ParseIn(b, nil) }

// ParseIn is Parse, with texts that are not in UTF-16 decoded by page; ok is false where it does not know a text.
// Without page, and of what it does not know, only the letters are certain that all western code pages share, and
// [Link.Uncertain] says so.
func ParseIn(b []byte, page func([]byte) (text string, ok bool)) (*Link, error) {
	if len(b) < headerSize || binary.LittleEndian.Uint32(b) != headerSize || !bytes.Equal(b[4:20], linkCLSID) {
		return nil, ErrNotLink
	}
	flags := binary.LittleEndian.Uint32(b[20:])
	l := &Link{page: page, Created: windata.Time(binary.LittleEndian.Uint64(b[28:])),
		Modified: windata.Time(binary.LittleEndian.Uint64(b[44:])), Size: binary.LittleEndian.Uint32(b[52:]),
		Show: binary.LittleEndian.Uint32(b[60:])}
	b = b[headerSize:]
	if flags&hasIDList != 0 {
		list, rest, err := sized16(b)
		if err != nil {
			return l, fmt.Errorf("the list of items: %w", err)
		}
		l.IDList = l.itemPath(list)
		b = rest
	}
	if flags&hasLinkInfo != 0 {
		if len(b) < 4 {
			return l, errShort
		}
		n := binary.LittleEndian.Uint32(b)
		if n < 4 || uint64(n) > uint64(len(b)) {
			return l, fmt.Errorf("the place of the target: %w", errShort)
		}
		if flags&forceNoLinkInfo == 0 {
			l.linkInfo(b[:n])
		}
		b = b[n:]
	}
	for _, s := range []struct {
		flag uint32
		to   *string
	}{{hasName, &l.Description}, {hasRelativePath, &l.Relative}, {hasWorkingDir, &l.WorkingDir}, {hasArguments,
		&l.Arguments}, {hasIcon, &l.Icon}} {
		if flags&s.flag == 0 {
			continue
		}
		if len(b) < 2 {
			return l, errShort
		}
		n := int(binary.LittleEndian.Uint16(b))
		if flags&isUnicode != 0 {
			n *= 2
		}
		if b = b[2:]; n > len(b) {
			return l, errShort
		}
		if flags&isUnicode != 0 {
			*s.to = windata.Decode(b[:n])
		} else {
			*s.to, _ = l.narrow(b[:n])
		}
		b = b[n:]
	}
	// Extra data, MS-SHLLINK 2.5, ends with a block of less than four bytes.
	for len(b) >= 8 {
		n := binary.LittleEndian.Uint32(b)
		if n < 8 || uint64(n) > uint64(len(b)) {
			break
		}
		l.extra(binary.LittleEndian.Uint32(b[4:]), b[8:n])
		b = b[n:]
	}
	return l, nil
}

var errShort = errors.New("it is cut short")

// Target is where the shortcut leads: the path with variables where it has one, else the local or network path, else
// what the item list spells. The item list, which is in UTF-16, comes first where the code page of the path is not
// known.
func (l *Link) Target() string {
	order := []string{l.Environment, l.LocalPath, l.NetworkPath, l.IDList}
	if l.Uncertain {
		order = []string{l.Environment, l.IDList, l.LocalPath, l.NetworkPath}
	}
	for _, s := range order {
		if s != "" {
			return s
		}
	}
	return ""
}

func sized16(b []byte) (part, rest []byte, err error) {
	if len(b) < 2 {
		return nil, nil, errShort
	}
	n := int(binary.LittleEndian.Uint16(b))
	if n > len(b)-2 {
		return nil, nil, errShort
	}
	return b[2 : 2+n], b[2+n:], nil
}

// linkInfo reads the structure of MS-SHLLINK 2.3.
func (l *Link) linkInfo(b []byte) {
	if len(b) < 28 {
		return
	}
	at := func(field int) []byte {
		n := binary.LittleEndian.Uint32(b[field:])
		if n == 0 || uint64(n) >= uint64(len(b)) {
			return nil
		}
		return b[n:]
	}
	header, flags := binary.LittleEndian.Uint32(b[4:]), binary.LittleEndian.Uint32(b[8:])
	suffix, certain := l.terminated(at(24))
	long := header >= 0x24 && len(b) >= 0x24
	if long {
		if s := at(32); s != nil {
			suffix, certain = windata.Text(s), true
		}
	}
	if flags&1 != 0 { // a volume and a path on it
		base, sure := l.terminated(at(16))
		if long {
			if s := at(28); s != nil {
				base, sure = windata.Text(s), true
			}
		}
		l.LocalPath, l.Uncertain = joinPath(base, suffix), !certain || !sure
		if v := at(12); len(v) >= 16 {
			l.Serial = binary.LittleEndian.Uint32(v[8:])
			if n := binary.LittleEndian.Uint32(v[12:]); n == 0x14 && len(v) >= 20 {
				if u := binary.LittleEndian.Uint32(v[16:]); uint64(u) < uint64(len(v)) {
					l.Volume = windata.Text(v[u:])
				}
			} else if uint64(n) < uint64(len(v)) {
				l.Volume, _ = l.terminated(v[n:])
			}
		}
	}
	if flags&2 != 0 { // a share
		if s := at(20); len(s) >= 12 {
			if n := binary.LittleEndian.Uint32(s[8:]); uint64(n) < uint64(len(s)) {
				base, sure := l.terminated(s[n:])
				l.NetworkPath, l.Uncertain = joinPath(base, suffix), l.Uncertain || !certain || !sure
			}
		}
	}
}

func joinPath(base, suffix string) string {
	if base != "" && suffix != "" && !strings.HasSuffix(base, `\`) {
		return base + `\` + suffix
	}
	return base + suffix
}

// Signatures of the blocks of extra data, MS-SHLLINK 2.5.
const (
	environmentBlock = 0xa0000001
	trackerBlock     = 0xa0000003
	propertyBlock    = 0xa0000009
)

func (l *Link) extra(signature uint32, b []byte) {
	switch signature {
	case environmentBlock: // 260 bytes, then 520 bytes of UTF-16
		if len(b) >= 780 {
			l.Environment = windata.Text(b[260:780])
		}
		if l.Environment == "" && len(b) >= 260 {
			l.Environment, _ = l.terminated(b[:260])
		}
	case trackerBlock:
		if len(b) >= 24 {
			l.Machine, _ = l.terminated(b[8:24])
		}
	case propertyBlock:
		l.AppID = appID(b)
	}
}

// appUserModel is the property set that holds an application's id, in the order
// of bytes of the file; its property 5 is the id.
var appUserModel = []byte{0x55, 0x28, 0x4c, 0x9f, 0x79, 0x9f, 0x39, 0x4b, 0xa8, 0xd0, 0xe1, 0xd4, 0x2d, 0xe1, 0xd5,
	0xf3}

// appID finds the application's id in serialised properties, MS-PROPSTORE.
func appID(b []byte) string {
	for len(b) >= 24 {
		n := binary.LittleEndian.Uint32(b)
		if n < 24 || uint64(n) > uint64(len(b)) {
			return ""
		}
		if bytes.Equal(b[8:24], appUserModel) {
			for values := b[24:n]; len(values) >= 13; {
				size := binary.LittleEndian.Uint32(values)
				if size < 13 || uint64(size) > uint64(len(values)) {
					break
				}
				// Id 5 of type VT_LPWSTR: a count of units, and the text.
				if binary.LittleEndian.Uint32(values[4:]) == 5 && size >= 17 &&
					binary.LittleEndian.Uint16(values[9:]) == 0x1f {
					return windata.Text(values[17:size])
				}
				values = values[size:]
			}
		}
		b = b[n:]
	}
	return ""
}

// itemPath spells a list of items, MS-SHLLINK 2.2, as far as they are a drive,
// folders and a file. The kinds are those of the shell's own folders.
func (l *Link) itemPath(list []byte) string {
	var b strings.Builder
	for len(list) >= 2 {
		item, rest, ok := nextItem(list)
		if !ok {
			break
		}
		list = rest
		if len(item) == 0 {
			return b.String()
		}
		switch kind := item[0]; {
		case kind&0x70 == 0x20 && len(item) >= 4: // a drive: its letter and :\
			b.Reset()
			drive, _ := l.terminated(item[1:])
			b.WriteString(drive)
		case kind&0x70 == 0x30 && b.Len() > 0:
			name := l.fileItem(item)
			if name == "" {
				return ""
			}
			if !strings.HasSuffix(b.String(), `\`) {
				b.WriteByte('\\')
			}
			b.WriteString(name)
		}
	}
	return b.String()
}

// nextItem cuts the next item, whose size counts its own two bytes.
func nextItem(list []byte) (item, rest []byte, ok bool) {
	n := int(binary.LittleEndian.Uint16(list))
	if n == 0 {
		return nil, nil, true
	}
	if n < 3 || n > len(list) {
		return nil, nil, false
	}
	return list[2:n], list[n:], true
}

// fileItem returns the name of a file or folder: the long one from the
// extension block where there is one, else the short one.
func (l *Link) fileItem(item []byte) string {
	if len(item) < 13 {
		return ""
	}
	if item[0]&0x04 != 0 {
		return windata.Text(item[12:])
	}
	short, _ := l.terminated(item[12:])
	if k := bytes.Index(item, []byte{0x04, 0x00, 0xef, 0xbe}); k >= 4 {
		version := binary.LittleEndian.Uint16(item[k-2:])
		// Where the name begins depends on what the version put before it.
		at := k - 4
		if version >= 3 {
			at += 20
		}
		switch {
		case version >= 9:
			at = k - 4 + 46
		case version >= 8:
			at = k - 4 + 42
		case version >= 7:
			at = k - 4 + 38
		}
		if at > k && at < len(item) {
			if long := windata.Text(item[at:]); long != "" {
				return long
			}
		}
	}
	return short
}

func (l *Link) terminated(b []byte) (text string, certain bool) {
	if k := bytes.IndexByte(b, 0); k >= 0 {
		b = b[:k]
	}
	return l.narrow(b)
}

// narrow decodes a text in the system's code page; UTF-8 is taken as such.
func (l *Link) narrow(b []byte) (text string, certain bool) {
	if utf8.Valid(b) && (l.page == nil || !slices.ContainsFunc(b, func(c byte) bool { return c >= utf8.RuneSelf })) {
		return string(b), true
	}
	if l.page != nil {
		if text, ok := l.page(b); ok {
			return text, true
		}
	}
	r := make([]rune, len(b))
	for k, c := range b {
		r[k] = rune(c)
	}
	return string(r), false
}

// Encode writes a shell link that leads to a local path, with the texts, the
// volume and the machine of l: enough for Windows to follow it.
func (l *Link) Encode() []byte {
	flags := uint32(hasLinkInfo | isUnicode)
	var texts []byte
	for _, s := range []struct {
		flag uint32
		text string
	}{{hasName, l.Description}, {hasRelativePath, l.Relative}, {hasWorkingDir, l.WorkingDir}, {hasArguments,
		l.Arguments}, {hasIcon, l.Icon}} {
		if s.text != "" {
			flags |= s.flag
			text := windata.Encode(s.text)
			texts = append(binary.LittleEndian.AppendUint16(texts, uint16(len(text)/2)), text...)
		}
	}
	b := make([]byte, headerSize)
	binary.LittleEndian.PutUint32(b, headerSize)
	copy(b[4:], linkCLSID)
	binary.LittleEndian.PutUint32(b[20:], flags)
	binary.LittleEndian.PutUint32(b[24:], 0x20) // FILE_ATTRIBUTE_ARCHIVE
	for at, t := range map[int]time.Time{28: l.Created, 36: l.Modified, 44: l.Modified} {
		if !t.IsZero() {
			binary.LittleEndian.PutUint64(b[at:], windata.FileTime(t))
		}
	}
	binary.LittleEndian.PutUint32(b[52:], l.Size)
	binary.LittleEndian.PutUint32(b[60:], max(l.Show, 1))
	b = append(b, l.info()...)
	b = append(b, texts...)
	if l.Machine != "" {
		b = binary.LittleEndian.AppendUint32(b, 0x60)
		b = binary.LittleEndian.AppendUint32(b, trackerBlock)
		b = binary.LittleEndian.AppendUint32(b, 0x58)
		b = binary.LittleEndian.AppendUint32(b, 0)
		b = append(b, append([]byte(l.Machine), make([]byte, 16)...)[:16]...)
		b = append(b, make([]byte, 64)...)
	}
	return binary.LittleEndian.AppendUint32(b, 0)
}

// info is the LinkInfo of a local path: in single bytes, and in UTF-16.
func (l *Link) info() []byte {
	const header = 0x24
	volume := binary.LittleEndian.AppendUint32(nil, uint32(17+len(l.Volume)))
	volume = binary.LittleEndian.AppendUint32(volume, 3) // DRIVE_FIXED
	volume = binary.LittleEndian.AppendUint32(volume, l.Serial)
	volume = binary.LittleEndian.AppendUint32(volume, 16)
	volume = append(append(volume, l.Volume...), 0)
	narrowPath := strings.Map(func(r rune) rune {
		if r >= utf8.RuneSelf {
			return '?'
		}
		return r
	}, l.LocalPath)
	path := append([]byte(narrowPath), 0)
	wide := append(windata.Encode(l.LocalPath), 0, 0)
	at := uint32(header)
	offsets := make([]uint32, 0, 5)
	for _, part := range [][]byte{volume, path, {0}, wide, {0, 0}} {
		offsets = append(offsets, at)
		at += uint32(len(part))
	}
	b := binary.LittleEndian.AppendUint32(nil, at)
	for _, v := range []uint32{header, 1, offsets[0], offsets[1], 0, offsets[2], offsets[3], offsets[4]} {
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	b = append(append(append(b, volume...), path...), 0)
	return append(append(b, wide...), 0, 0)
}
