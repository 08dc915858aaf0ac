package registry

import (
	"errors"
	"fmt"
	"runtime"
	"strings"
	"unsafe"

	"lockback/core/machine/files"

	"golang.org/x/sys/windows"
	winreg "golang.org/x/sys/windows/registry"

	"lockback/core/format/regf"
	"lockback/core/format/windata"
)

// Names in the registry have a length, and may hold zero characters. Most interfaces end a name at the first,
// so what bears one is shown by no other program, and runs all the same. Values are read by their number,
// with their names counted; values with such a name are written and removed through the kernel's own calls.

var (
	procRegEnumValue    = windows.NewLazySystemDLL("advapi32.dll").NewProc("RegEnumValueW")
	procRegEnumKeyEx    = windows.NewLazySystemDLL("advapi32.dll").NewProc("RegEnumKeyExW")
	procNtSetValueKey   = windows.NewLazySystemDLL("ntdll.dll").NewProc("NtSetValueKey")
	procNtDeleteValueKy = windows.NewLazySystemDLL("ntdll.dll").NewProc("NtDeleteValueKey")
)

// maxName is the longest name of a value, in UTF-16 units, by "Registry Element Size Limits".
const maxName = 16383

// errZeroName says about a key why it cannot be looked into.
var errZeroName = errors.New("its name holds a zero character, which hides it from nearly every program; look at " +
	"this disk from another system")

// countedName is a name by its length.
func countedName(units []uint16) string {
	b := make([]byte, 2*len(units))
	for k, u := range units {
		b[2*k], b[2*k+1] = byte(u), byte(u>>8)
	}
	return windata.Decode(b)
}

// enumerateValues reads all values of a key.
func enumerateValues(k winreg.Key) (values []regf.Value, err error) {
	name, data := make([]uint16, maxName+1), make([]byte, 4<<10)
	var errs []error
	for index := 0; ; {
		length, size, kind := uint32(len(name)), uint32(len(data)), uint32(0)
		r, _, _ := procRegEnumValue.Call(uintptr(k), uintptr(index), uintptr(unsafe.Pointer(&name[0])),
			uintptr(unsafe.Pointer(&length)), 0,
			uintptr(unsafe.Pointer(&kind)), uintptr(unsafe.Pointer(&data[0])), uintptr(unsafe.Pointer(&size)))
		switch e := windows.Errno(r); {
		case e == windows.ERROR_NO_MORE_ITEMS:
			return values, errors.Join(errs...)
		case e == windows.ERROR_MORE_DATA && size > regf.MaxValue:
			errs = append(errs, fmt.Errorf("value %d: %w: %d bytes", index, files.ErrTooLarge, size))
			index++
		case e == windows.ERROR_MORE_DATA && int(size) > len(data):
			data = make([]byte, size+1024) // it may grow meanwhile
		case r != 0:
			return values, errors.Join(append(errs, liveError(e))...)
		default:
			values = append(values, regf.Value{Name: countedName(name[:length]), Type: regf.Type(kind),
				Data: append([]byte(nil), data[:size]...)})
			index++
		}
	}
}

// enumerateKeys reads the names of the keys below one.
func enumerateKeys(k winreg.Key) (names []string, err error) {
	name := make([]uint16, 512) // 255 at most
	for index := 0; ; index++ {
		length := uint32(len(name))
		r, _, _ := procRegEnumKeyEx.Call(uintptr(k), uintptr(index), uintptr(unsafe.Pointer(&name[0])),
			uintptr(unsafe.Pointer(&length)), 0, 0, 0, 0)
		switch e := windows.Errno(r); {
		case e == windows.ERROR_NO_MORE_ITEMS:
			return names, nil
		case r != 0:
			return names, liveError(e)
		}
		names = append(names, countedName(name[:length]))
	}
}

// ntString is a UNICODE_STRING.
type ntString struct {
	length, room uint16 // bytes
	buffer       *uint16
}

// withNTString calls with a name by its length.
func withNTString(name string, call func(s *ntString) uintptr) error {
	encoded := windata.Encode(name)
	if len(encoded) > 2*maxName {
		return windows.ERROR_INVALID_PARAMETER
	}
	units := make([]uint16, len(encoded)/2+1)
	for k := range len(encoded) / 2 {
		units[k] = uint16(encoded[2*k]) | uint16(encoded[2*k+1])<<8
	}
	s := &ntString{uint16(len(encoded)), uint16(len(encoded)), &units[0]}
	status := call(s)
	runtime.KeepAlive(units)
	if status != 0 {
		return windows.NTStatus(status).Errno()
	}
	return nil
}

// hasZero reports whether a name holds a zero character.
func hasZero(name string) bool { return strings.Contains(name, "\x00") }

// setCounted writes a value whose name holds a zero character.
func setCounted(k winreg.Key, v regf.Value) error {
	var data *byte
	if len(v.Data) > 0 {
		data = &v.Data[0]
	}
	return withNTString(v.Name, func(s *ntString) uintptr {
		r, _, _ := procNtSetValueKey.Call(uintptr(k), uintptr(unsafe.Pointer(s)), 0, uintptr(v.Type),
			uintptr(unsafe.Pointer(data)), uintptr(len(v.Data)))
		return r
	})
}

// deleteCounted removes such a value.
func deleteCounted(k winreg.Key, name string) error {
	return withNTString(name, func(s *ntString) uintptr {
		r, _, _ := procNtDeleteValueKy.Call(uintptr(k), uintptr(unsafe.Pointer(s)))
		return r
	})
}
