package store

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"unsafe"

	"golang.org/x/sys/windows"
)

// ownersOnly gives the owner, the administrators and the system all rights, and nobody
// else any: what C:\ProgramData would pass on lets every user add files.
const ownersOnly = "D:P(A;OICI;FA;;;OW)(A;OICI;FA;;;BA)(A;OICI;FA;;;SY)"

// makeFolders makes the folders of a record, the last one for its owner only.
func makeFolders(dir string) error {
	if _, err := os.Stat(dir); err == nil {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o700); err != nil {
		return err
	}
	sd, err := windows.SecurityDescriptorFromString(ownersOnly)
	if err != nil {
		return err
	}
	name, err := windows.UTF16PtrFromString(dir)
	if err != nil {
		return err
	}
	sa := windows.SecurityAttributes{SecurityDescriptor: sd}
	sa.Length = uint32(unsafe.Sizeof(sa))
	if err := windows.CreateDirectory(name, &sa); err != nil && err != windows.ERROR_ALREADY_EXISTS {
		return &fs.PathError{Op: "mkdir", Path: dir, Err: err}
	}
	return nil
}

// trustedSIDs are who may write to a record: this user, the administrators, the system and
// its installer.
func trustedSIDs() ([]string, error) {
	user, err := windows.GetCurrentProcessToken().GetTokenUser()
	if err != nil {
		return nil, err
	}
	return []string{user.User.Sid.String(), "S-1-5-32-544", "S-1-5-18",
		"S-1-5-80-956008885-3418522649-1831038044-1853292631-2271478464"}, nil
}

// The rights by which a file or folder can be changed, winnt.h.
const changing = windows.FILE_WRITE_DATA | windows.FILE_APPEND_DATA | windows.DELETE | windows.WRITE_DAC |
	windows.WRITE_OWNER | windows.GENERIC_WRITE | windows.GENERIC_ALL | 0x40 // FILE_DELETE_CHILD

// alone fails where a file or folder belongs to somebody else than this user, the
// administrators or the system, or others may write to it. The folders above the
// record's own are the system's business. A disk that keeps no rights (FAT) lets everyone
// write, and nothing can be asked of it.
func alone(path string, info fs.FileInfo, above bool) error {
	if above || !keepsRights(path) {
		return nil
	}
	sd, err := windows.GetNamedSecurityInfo(path, windows.SE_FILE_OBJECT,
		windows.OWNER_SECURITY_INFORMATION|windows.DACL_SECURITY_INFORMATION)
	if err != nil {
		return &fs.PathError{Op: "read the rights of", Path: path, Err: err}
	}
	trusted, err := trustedSIDs()
	if err != nil {
		return err
	}
	owner, _, err := sd.Owner()
	if err != nil || owner == nil || !slices.Contains(trusted, owner.String()) {
		return fmt.Errorf("%w: %s belongs to another user", ErrNotOurs, path)
	}
	dacl, _, err := sd.DACL()
	if err != nil || dacl == nil {
		return fmt.Errorf("%w: everyone may write to %s", ErrNotOurs, path)
	}
	for k := range uint32(dacl.AceCount) {
		var ace *windows.ACCESS_ALLOWED_ACE
		if err := windows.GetAce(dacl, k, &ace); err != nil {
			return err
		}
		if ace.Header.AceType != windows.ACCESS_ALLOWED_ACE_TYPE || ace.Header.AceFlags&windows.INHERIT_ONLY_ACE != 0 ||
			ace.Mask&changing == 0 {
			continue
		}
		sid := (*windows.SID)(unsafe.Pointer(&ace.SidStart)).String()
		if sid != "S-1-3-4" && !slices.Contains(trusted, sid) { // the owner's rights
			return fmt.Errorf("%w: others may write to %s", ErrNotOurs, path)
		}
	}
	return nil
}

// keepsRights reports whether the volume of a path keeps access lists.
func keepsRights(path string) bool {
	volume, err := windows.UTF16PtrFromString(filepath.VolumeName(path) + `\`)
	if err != nil {
		return true
	}
	var flags uint32
	if err := windows.GetVolumeInformation(volume, nil, 0, nil, nil, &flags, nil, 0); err != nil {
		return true
	}
	const persistentACLs = 0x8
	return flags&persistentACLs != 0
}
