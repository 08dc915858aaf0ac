package win

import (
	"bytes"
	"errors"
	"fmt"
	"runtime"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"

	"lockback/core/format/taskxml"
	"lockback/core/machine/artifact"
)

// The task scheduler's interface, taskschd.h. Its objects are called through
// their tables of functions; the numbers are places in those.
var (
	clsidTaskScheduler = windows.GUID{Data1: 0x0f87369f, Data2: 0xa4e5, Data3: 0x4cfc, Data4: [8]byte{0xbd, 0x3e, 0x73,
		0xe6, 0x15, 0x45, 0x72, 0xdd}}
	iidTaskService = windows.GUID{Data1: 0x2faba4c7, Data2: 0x4da9, Data3: 0x4013, Data4: [8]byte{0x96, 0x97, 0x20,
		0xcc, 0x3f, 0xd4, 0x0f, 0x85}}

	ole                  = windows.NewLazySystemDLL("ole32.dll")
	procCoCreateInstance = ole.NewProc("CoCreateInstance")
	oleaut               = windows.NewLazySystemDLL("oleaut32.dll")
	procSysAllocString   = oleaut.NewProc("SysAllocString")
	procSysFreeString    = oleaut.NewProc("SysFreeString")
)

const (
	objectRelease = 2

	serviceGetFolder = 7
	serviceConnect   = 10

	folderGetTask      = 13
	folderDeleteTask   = 15
	folderRegisterTask = 16

	taskGetEnabled = 10
	taskPutEnabled = 11

	createOrUpdate = 6
)

// object is a COM object: a pointer to its table.
type object struct{ table *[64]uintptr }

func (o *object) call(function int, args ...uintptr) error {
	r, _, _ := syscall.SyscallN(o.table[function], append([]uintptr{uintptr(unsafe.Pointer(o))}, args...)...)
	if int32(r) < 0 {
		return windows.Errno(uint32(r))
	}
	return nil
}

func (o *object) release() {
	if o != nil {
		o.call(objectRelease)
	}
}

// variant is an empty VARIANT; larger than two words, it is handed over by its
// address.
type variant [24]byte

func bstr(text string) uintptr {
	wide, err := windows.UTF16PtrFromString(text)
	if err != nil {
		return 0
	}
	r, _, _ := procSysAllocString.Call(uintptr(unsafe.Pointer(wide)))
	return r
}

// withScheduler connects to the task scheduler and hands over its root folder.
func withScheduler(do func(root *object) error) error {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if err := windows.CoInitializeEx(0, windows.COINIT_MULTITHREADED); err != nil && !errors.Is(err, syscall.Errno(1)) {
		return fmt.Errorf("the task scheduler cannot be reached: %w", err)
	}
	defer windows.CoUninitialize()
	var service, root *object
	const inProcess = 1
	r, _, _ := procCoCreateInstance.Call(uintptr(unsafe.Pointer(&clsidTaskScheduler)), 0, inProcess,
		uintptr(unsafe.Pointer(&iidTaskService)), uintptr(unsafe.Pointer(&service)))
	if int32(r) < 0 {
		return fmt.Errorf("the task scheduler cannot be reached: %w", windows.Errno(uint32(r)))
	}
	defer service.release()
	var none [4]variant
	err := service.call(serviceConnect, uintptr(unsafe.Pointer(&none[0])), uintptr(unsafe.Pointer(&none[1])),
		uintptr(unsafe.Pointer(&none[2])), uintptr(unsafe.Pointer(&none[3])))
	runtime.KeepAlive(&none)
	if err != nil {
		return fmt.Errorf("the task scheduler does not answer: %w", err)
	}
	path := bstr(`\`)
	defer procSysFreeString.Call(path)
	if err := service.call(serviceGetFolder, path, uintptr(unsafe.Pointer(&root))); err != nil {
		return fmt.Errorf("the task scheduler does not show its tasks: %w", err)
	}
	defer root.release()
	return do(root)
}

// enabled asks the scheduler whether a task is on.
func enabled(root *object, task string) (bool, error) {
	path := bstr(task)
	defer procSysFreeString.Call(path)
	var t *object
	if err := root.call(folderGetTask, path, uintptr(unsafe.Pointer(&t))); err != nil {
		return false, err
	}
	defer t.release()
	var is int16
	err := t.call(taskGetEnabled, uintptr(unsafe.Pointer(&is)))
	return is != 0, err
}

// setTask brings a task to a definition, through the scheduler: by its switch
// where nothing else differs, else by registering it. What the scheduler then
// says and has stored decides, not what it reported.
func (s *System) setTask(a artifact.Artifact, task string, want artifact.Image) error {
	current, err := s.files.Image(a)
	if err != nil {
		return err
	}
	return withScheduler(func(root *object) error {
		path := bstr(task)
		defer procSysFreeString.Call(path)
		if want.Kind == artifact.Absent {
			if current.Kind == artifact.Absent {
				return nil
			}
			return root.call(folderDeleteTask, path, 0)
		}
		definition, err := taskxml.Parse(want.Content)
		if err != nil {
			return err
		}
		if sameBut, err := taskxml.SetEnabled(current.Content, definition.Enabled); err == nil &&
			current.Kind == artifact.Regular && taskxml.Equal(sameBut, want.Content) {
			if err := putEnabled(root, path, definition.Enabled); err == nil {
				s.files.ForgetNames()
				now, err := s.files.Image(a)
				if is, eerr := enabled(root, task); err == nil && eerr == nil && is == definition.Enabled &&
					taskxml.Equal(now.Content, want.Content) {
					return s.restoreTaskTime(a, want)
				}
			}
			// It reported success and did nothing: registering is the way round.
		}
		if err := register(root, path, task, definition, want.Content); err != nil {
			return err
		}
		s.files.ForgetNames()
		if now, err := s.files.Image(a); err == nil && len(now.Content) > len(want.Content) &&
			bytes.HasPrefix(now.Content, want.Content) {
			// A scheduler that writes over the old definition without cutting
			// off what is left of it.
			if err := root.call(folderDeleteTask, path, 0); err != nil {
				return err
			}
			if err := register(root, path, task, definition, want.Content); err != nil {
				return err
			}
		}
		return s.restoreTaskTime(a, want)
	})
}

// restoreTaskTime gives the file of a definition the time of its image.
func (s *System) restoreTaskTime(a artifact.Artifact, want artifact.Image) error {
	if want.ModTime.IsZero() {
		return nil
	}
	return s.files.SetTime(a, want.ModTime)
}

func putEnabled(root *object, path uintptr, on bool) error {
	var t *object
	if err := root.call(folderGetTask, path, uintptr(unsafe.Pointer(&t))); err != nil {
		return err
	}
	defer t.release()
	word := uintptr(0)
	if on {
		word = 0xffff // VARIANT_TRUE
	}
	return t.call(taskPutEnabled, word)
}

func register(root *object, path uintptr, task string, definition *taskxml.Task, content []byte) error {
	text, err := taskxml.Text(content)
	if err != nil {
		return err
	}
	xml := bstr(text)
	defer procSysFreeString.Call(xml)
	logon := uintptr(logonOf(definition))
	var none [3]variant
	var t *object
	err = root.call(folderRegisterTask, path, xml, createOrUpdate, uintptr(unsafe.Pointer(&none[0])),
		uintptr(unsafe.Pointer(&none[1])), logon,
		uintptr(unsafe.Pointer(&none[2])), uintptr(unsafe.Pointer(&t)))
	runtime.KeepAlive(&none)
	if err != nil {
		return fmt.Errorf("the task scheduler refuses %s: %w", task, err)
	}
	t.release()
	return nil
}
