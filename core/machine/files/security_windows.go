package files

import (
	"unsafe"

	"golang.org/x/sys/windows"
)

// recordedSecurity are the parts of a security descriptor that reading and
// writing need no more than the rights of an owner for.
const recordedSecurity = windows.OWNER_SECURITY_INFORMATION | windows.GROUP_SECURITY_INFORMATION |
	windows.DACL_SECURITY_INFORMATION

// SecurityOf reads a security descriptor; nil where it may not be read.
func SecurityOf(h windows.Handle, kind windows.SE_OBJECT_TYPE) []byte {
	sd, err := windows.GetSecurityInfo(h, kind, recordedSecurity)
	if err != nil || sd == nil || !sd.IsValid() {
		return nil
	}
	return append([]byte(nil), unsafe.Slice((*byte)(unsafe.Pointer(sd)), sd.Length())...)
}

// Descriptor makes a descriptor of recorded bytes; nil if they are none.
func Descriptor(b []byte) *windows.SECURITY_DESCRIPTOR {
	if len(b) < 20 {
		return nil
	}
	sd := (*windows.SECURITY_DESCRIPTOR)(unsafe.Pointer(&b[0]))
	if !sd.IsValid() || int(sd.Length()) > len(b) {
		return nil
	}
	return sd
}
