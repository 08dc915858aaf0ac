package use

import (
	"encoding/binary"
	"strings"

	"lockback/core/autostart"
	"lockback/core/format/windata"
)

// assistKey is where the desktop of Windows counts, for each user, what is started from it: in
// UserAssist, by programs in the first of its lists and by shortcuts in the second.
const (
	assistKey     = `\Software\Microsoft\Windows\CurrentVersion\Explorer\UserAssist\`
	assistProgram = `{CEBFF5CD-ACE2-4F4F-9178-9926F41749EA}\Count`
)

// knownFolders are the folders that names begin with, by their ids (KnownFolders.h), as variables
// of the system.
var knownFolders = map[string]string{
	"{6D809377-6AF0-444B-8957-A3773F02200E}": "%ProgramFiles%",
	"{7C5A40EF-A0FB-4BFC-874A-C0F2E0B9FA8E}": "%ProgramFiles(x86)%",
	"{905E63B6-C1BF-494E-B29C-65B732D3D21A}": "%ProgramFiles%",
	"{1AC14E77-02E7-4E5D-B744-2EB1AE5198B7}": `%SystemRoot%\System32`,
	"{D65231B0-B2F1-4857-A4CE-A8E7C6EA7D27}": `%SystemRoot%\SysWOW64`,
	"{F38BF404-1D43-42F2-9305-67DE0B28FC23}": "%SystemRoot%",
	"{62AB5D82-FDC1-4DC3-A9DD-070D1D495D97}": "%ProgramData%",
}

func (u *Uses) windows() {
	for k := range u.machine.Users {
		user := &u.machine.Users[k]
		if user.SID == "" {
			continue
		}
		key, err := u.machine.Key(`HKU\` + user.SID + assistKey + assistProgram)
		if err != nil {
			continue
		}
		values, _ := key.Values()
		for _, v := range values {
			use, ok := ParseAssist(v.Data)
			if !ok {
				continue
			}
			name := rotate(v.Name)
			for id, folder := range knownFolders {
				if len(name) > len(id) && strings.EqualFold(name[:len(id)], id) {
					name = u.machine.Expand(folder, user) + name[len(id):]
					break
				}
			}
			use.User, use.Basis = autostart.Text(user.Name), "Windows' own counter of "+autostart.Text(user.Name)
			u.add(name, use)
		}
	}
}

// ParseAssist reads a counter: 72 bytes since Windows 7, with how often a program was started at 4
// and when at 60, as a FILETIME. ok is false where it was never started by hand, or the counter is
// of another kind.
func ParseAssist(b []byte) (use autostart.Use, ok bool) {
	if len(b) < 68 {
		return use, false
	}
	use.Count = int(binary.LittleEndian.Uint32(b[4:]))
	at := binary.LittleEndian.Uint64(b[60:])
	if at == 0 || use.Count == 0 || use.Count > 1<<24 {
		return use, false
	}
	use.Last = windata.Time(at)
	return use, !use.Last.IsZero()
}

// rotate undoes ROT13, which hides the names from a search.
func rotate(name string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z':
			return 'a' + (r-'a'+13)%26
		case r >= 'A' && r <= 'Z':
			return 'A' + (r-'A'+13)%26
		}
		return r
	}, name)
}
