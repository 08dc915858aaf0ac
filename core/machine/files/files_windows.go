package files

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"unsafe"

	"lockback/core/machine/artifact"

	"golang.org/x/sys/windows"
)

// On Windows a file's image also has its security descriptor and its alternate
// streams, both among the extended attributes. A link's own time cannot be set,
// and neither can numeric owners, because there are none.

// lacking reports whether the system does not have a call at all.
func lacking(err error) bool {
	return errors.Is(err, windows.ERROR_INVALID_FUNCTION) || errors.Is(err, windows.ERROR_NOT_SUPPORTED) ||
		errors.Is(err, windows.ERROR_CALL_NOT_IMPLEMENTED)
}

func readOnly(*os.File) bool { return false }

func (d *folder) readXattrs(base string) (map[string][]byte, error) {
	attrs := map[string][]byte{}
	file, err := d.Open(base)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	if sd := SecurityOf(windows.Handle(file.Fd()), windows.SE_FILE_OBJECT); sd != nil {
		attrs[artifact.SecurityAttribute] = sd
	}
	for _, name := range streams(windows.Handle(file.Fd())) {
		s, err := d.stream(base, name, windows.GENERIC_READ, windows.FILE_OPEN)
		if err != nil {
			return nil, err
		}
		content, err := io.ReadAll(io.LimitReader(s, MaxImageSize+1))
		s.Close()
		if err != nil {
			return nil, err
		}
		if len(content) > MaxImageSize {
			return nil, &fs.PathError{Op: "read", Path: base + ":" + name, Err: ErrTooLarge}
		}
		attrs[artifact.StreamAttribute+name] = content
	}
	return attrs, nil
}

// streams lists a file's alternate streams, by FILE_STREAM_INFO.
func streams(h windows.Handle) []string {
	buf := make([]byte, 64<<10)
	if windows.GetFileInformationByHandleEx(h, windows.FileStreamInfo, &buf[0], uint32(len(buf))) != nil {
		return nil // the file system has none
	}
	var names []string
	for {
		next, n := binary.LittleEndian.Uint32(buf), binary.LittleEndian.Uint32(buf[4:])
		if n > uint32(len(buf)-24) {
			return names
		}
		units := unsafe.Slice((*uint16)(unsafe.Pointer(&buf[24])), n/2)
		// ":name:$DATA"; the one without a name is the file's content.
		if name, ok := strings.CutSuffix(windows.UTF16ToString(units), ":$DATA"); ok && len(name) > 1 {
			names = append(names, name[1:])
		}
		if next == 0 || next > uint32(len(buf)-24) {
			return names
		}
		buf = buf[next:]
	}
}

// stream opens an alternate stream of a file in the folder, without following
// anything out of it.
func (d *folder) stream(base, name string, access, disposition uint32) (*os.File, error) {
	path, err := windows.NewNTUnicodeString(base + ":" + name)
	if err != nil {
		return nil, err
	}
	attributes := windows.OBJECT_ATTRIBUTES{RootDirectory: windows.Handle(d.self.Fd()), ObjectName: path,
		Attributes: windows.OBJ_CASE_INSENSITIVE}
	attributes.Length = uint32(unsafe.Sizeof(attributes))
	var h windows.Handle
	var status windows.IO_STATUS_BLOCK
	err = windows.NtCreateFile(&h, access|windows.SYNCHRONIZE, &attributes, &status, nil, 0, windows.FILE_SHARE_READ,
		disposition,
		windows.FILE_SYNCHRONOUS_IO_NONALERT|windows.FILE_OPEN_REPARSE_POINT, 0, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: base + ":" + name, Err: err}
	}
	return os.NewFile(uintptr(h), base+":"+name), nil
}

func (d *folder) writeXattrs(base string, want map[string][]byte) error {
	if want == nil {
		return nil
	}
	have, err := d.readXattrs(base)
	if err != nil {
		return err
	}
	for name, content := range want {
		stream, ok := strings.CutPrefix(name, artifact.StreamAttribute)
		if !ok || bytes.Equal(have[name], content) && have[name] != nil {
			continue
		}
		s, err := d.stream(base, stream, windows.GENERIC_WRITE, windows.FILE_OVERWRITE_IF)
		if err != nil {
			return err
		}
		_, err = s.Write(content)
		if err = errors.Join(err, s.Close()); err != nil {
			return err
		}
	}
	return d.setSecurity(base, have[artifact.SecurityAttribute], want[artifact.SecurityAttribute])
}

// setSecurity gives a file its owner, group and access list again.
func (d *folder) setSecurity(base string, have, want []byte) error {
	sd := Descriptor(want)
	if sd == nil || artifact.SameSecurity(have, want) {
		return nil
	}
	owner, _, err := sd.Owner()
	if err != nil {
		return err
	}
	group, _, err := sd.Group()
	if err != nil {
		return err
	}
	dacl, _, err := sd.DACL()
	if err != nil {
		return err
	}
	err = windows.SetNamedSecurityInfo(filepath.Join(d.Root.Name(), base), windows.SE_FILE_OBJECT, recordedSecurity,
		owner, group, dacl, nil)
	if err != nil {
		return fmt.Errorf("its rights cannot be set: %w", err)
	}
	return nil
}

// frozen: Windows has no such flags.
func frozen(int) error { return nil }

func (d *folder) fd() int { return -1 }

// EnablePrivileges lets an elevated process give files back to their owners.
// Without it only that is refused.
func EnablePrivileges() {
	var token windows.Token
	if windows.OpenProcessToken(windows.CurrentProcess(), windows.TOKEN_ADJUST_PRIVILEGES|windows.TOKEN_QUERY,
		&token) != nil {
		return
	}
	defer token.Close()
	for _, name := range []string{"SeRestorePrivilege", "SeBackupPrivilege"} {
		wide, err := windows.UTF16PtrFromString(name)
		if err != nil {
			continue
		}
		p := windows.Tokenprivileges{PrivilegeCount: 1}
		p.Privileges[0].Attributes = windows.SE_PRIVILEGE_ENABLED
		if windows.LookupPrivilegeValue(nil, wide, &p.Privileges[0].Luid) == nil {
			windows.AdjustTokenPrivileges(token, false, &p, 0, nil, nil)
		}
	}
}
