package registry

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"runtime"
	"strings"
	"time"
	"unsafe"

	"lockback/core/machine/files"

	"golang.org/x/sys/windows"
	winreg "golang.org/x/sys/windows/registry"

	"lockback/core/format/regf"
	"lockback/core/format/windata"
	"lockback/core/machine/artifact"
)

// MountRunning mounts the running winreg. What people have who are not signed in lies in their hive files.
func (r *Registry) MountRunning() {
	r.add("HKLM", &liveSource{winreg.LOCAL_MACHINE})
	r.add("HKU", &liveSource{winreg.USERS})
}

// liveSource is a part of the running winreg. Keys are opened for each call, so
// that nothing is held open.
type liveSource struct{ root winreg.Key }

var (
	advapi             = windows.NewLazySystemDLL("advapi32.dll")
	procRegSetValueEx  = advapi.NewProc("RegSetValueExW")
	procRegCreateKeyEx = advapi.NewProc("RegCreateKeyExW")
)

// liveNode is a key of the running winreg.
type liveNode struct {
	root     winreg.Key
	path     string
	name     string
	modified time.Time
}

func (s *liveSource) key(path string) (keyNode, error) { return openLive(s.root, path) }

func openLive(root winreg.Key, path string) (keyNode, error) {
	k, err := winreg.OpenKey(root, path, winreg.READ|winreg.WOW64_64KEY)
	if err != nil {
		return nil, liveError(err)
	}
	defer k.Close()
	n := liveNode{root: root, path: path, name: path[strings.LastIndexByte(path, '\\')+1:]}
	if info, err := k.Stat(); err == nil {
		n.modified = info.ModTime().UTC()
	}
	return n, nil
}

// liveError turns the system's error into ours.
func liveError(err error) error {
	if errors.Is(err, winreg.ErrNotExist) || errors.Is(err, windows.ERROR_PATH_NOT_FOUND) ||
		errors.Is(err, windows.ERROR_KEY_DELETED) {
		return fs.ErrNotExist
	}
	return err
}

func (n liveNode) Name() string        { return n.name }
func (n liveNode) Modified() time.Time { return n.modified }

// with opens the key for a call.
func (n liveNode) with(do func(k winreg.Key) error) error {
	k, err := winreg.OpenKey(n.root, n.path, winreg.READ|winreg.WOW64_64KEY)
	if err != nil {
		return liveError(err)
	}
	defer k.Close()
	return do(k)
}

func (n liveNode) subkeys() (nodes []keyNode, err error) {
	var names []string
	err = n.with(func(k winreg.Key) error {
		names, err = enumerateKeys(k)
		return err
	})
	var errs []error
	for _, name := range names {
		if hasZero(name) {
			errs = append(errs, fmt.Errorf("key %q: %w", name, errZeroName))
			continue
		}
		sub, serr := openLive(n.root, strings.TrimPrefix(n.path+`\`+name, `\`))
		if serr != nil {
			if !errors.Is(serr, fs.ErrNotExist) {
				errs = append(errs, fmt.Errorf("%s: %w", name, serr))
			}
			continue
		}
		nodes = append(nodes, sub)
	}
	return nodes, errors.Join(append(errs, err)...)
}

func (n liveNode) subkey(name string) (keyNode, error) {
	return openLive(n.root, strings.TrimPrefix(n.path+`\`+name, `\`))
}

func (n liveNode) Values() (values []regf.Value, err error) {
	err = n.with(func(k winreg.Key) error {
		values, err = enumerateValues(k)
		return err
	})
	return values, err
}

func (n liveNode) Value(name string) (v regf.Value, err error) {
	err = n.with(func(k winreg.Key) error {
		v, err = readLive(k, name)
		return err
	})
	return v, err
}

func readLive(k winreg.Key, name string) (regf.Value, error) {
	if hasZero(name) {
		values, err := enumerateValues(k)
		for _, v := range values {
			if strings.EqualFold(v.Name, name) {
				return v, nil
			}
		}
		return regf.Value{}, cmp.Or(err, fs.ErrNotExist)
	}
	size, kind, err := k.GetValue(name, nil)
	for range 10 {
		if err != nil && !errors.Is(err, winreg.ErrShortBuffer) {
			return regf.Value{}, liveError(err)
		}
		if size > regf.MaxValue {
			return regf.Value{}, fmt.Errorf("value %q: %w: %d bytes", name, files.ErrTooLarge, size)
		}
		data := make([]byte, size)
		if size, kind, err = k.GetValue(name, data); err == nil {
			return regf.Value{Name: name, Type: regf.Type(kind), Data: data[:size]}, nil
		}
	}
	return regf.Value{}, fmt.Errorf("value %q does not keep still: %w", name, err)
}

func (n liveNode) Class() (class []byte, err error) {
	err = n.with(func(k winreg.Key) error {
		buf := make([]uint16, 512)
		size := uint32(len(buf))
		if err := windows.RegQueryInfoKey(windows.Handle(k), &buf[0], &size, nil, nil, nil, nil, nil, nil, nil, nil,
			nil); err != nil {
			return nil // longer ones are nobody's
		}
		class = windata.Encode(windows.UTF16ToString(buf[:size]))
		return nil
	})
	return class, err
}

func (n liveNode) Security() (security []byte, err error) {
	err = n.with(func(k winreg.Key) error {
		security = files.SecurityOf(windows.Handle(k), windows.SE_REGISTRY_KEY)
		return nil
	})
	return security, err
}

func (s *liveSource) edit(path string, change func(keyEditor) error) error {
	_, err := openLive(s.root, path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return change(&liveEditor{s.root, path, err == nil})
}

// writable asks the system for the right to write, on the nearest key that
// there is.
func (s *liveSource) writable(path string) error {
	if key, _, ok := strings.Cut(path, artifact.ValueSeparator); ok {
		path = key
	}
	for {
		k, err := winreg.OpenKey(s.root, path, winreg.SET_VALUE|winreg.CREATE_SUB_KEY|winreg.WOW64_64KEY)
		if err == nil {
			k.Close()
			return nil
		}
		if errors.Is(err, windows.ERROR_ACCESS_DENIED) {
			return files.ErrNeedsRights
		}
		cut := strings.LastIndexByte(path, '\\')
		if cut < 0 {
			return err
		}
		path = path[:cut]
	}
}

func (s *liveSource) commit(string, func(string)) error { return nil }

func (s *liveSource) discard(string) error { return nil }

func (s *liveSource) file() string { return "" }

func (s *liveSource) stale() error { return nil }
func (s *liveSource) abandon()     {}
func (s *liveSource) close()       {}

// liveEditor changes a key of the running winreg.
type liveEditor struct {
	root  winreg.Key
	path  string
	there bool
}

func (e *liveEditor) exists() bool { return e.there }

func (e *liveEditor) open(access uint32) (winreg.Key, error) {
	k, err := winreg.OpenKey(e.root, e.path, access|winreg.WOW64_64KEY)
	return k, liveError(err)
}

// setValue writes a value. The start type of a service goes through the service
// control manager, which else would not know of it until the next start.
func (e *liveEditor) setValue(v regf.Value, _ int) error {
	if name, ok := e.service(v); ok {
		done, err := setStartType(name, v)
		if done || err != nil {
			return err
		}
	}
	k, err := e.open(winreg.SET_VALUE)
	if err != nil {
		return err
	}
	defer k.Close()
	if hasZero(v.Name) {
		return setCounted(k, v)
	}
	name, err := windows.UTF16PtrFromString(v.Name)
	if err != nil {
		return err
	}
	var data *byte
	if len(v.Data) > 0 {
		data = &v.Data[0]
	}
	r, _, _ := procRegSetValueEx.Call(uintptr(k), uintptr(unsafe.Pointer(name)), 0, uintptr(v.Type),
		uintptr(unsafe.Pointer(data)), uintptr(len(v.Data)))
	if r != 0 {
		return windows.Errno(r)
	}
	return nil
}

// service tells which service a value is the start type of.
func (e *liveEditor) service(v regf.Value) (string, bool) {
	const services = `SYSTEM\CurrentControlSet\Services\`
	name, ok := CutFold(e.path, services)
	return name, ok && e.root == winreg.LOCAL_MACHINE && !strings.Contains(name, `\`) &&
		strings.EqualFold(v.Name, "Start") && v.Type == regf.DWord
}

// setStartType sets how a service starts, and reads it back. A service that the
// manager does not know is left to the winreg.
func setStartType(name string, v regf.Value) (done bool, err error) {
	want, _ := v.Number()
	manager, err := windows.OpenSCManager(nil, nil, windows.SC_MANAGER_CONNECT)
	if err != nil {
		return false, fmt.Errorf("the service control manager does not answer: %w", err)
	}
	defer windows.CloseServiceHandle(manager)
	wide, err := windows.UTF16PtrFromString(name)
	if err != nil {
		return false, err
	}
	h, err := windows.OpenService(manager, wide, windows.SERVICE_QUERY_CONFIG|windows.SERVICE_CHANGE_CONFIG)
	if errors.Is(err, windows.ERROR_SERVICE_DOES_NOT_EXIST) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer windows.CloseServiceHandle(h)
	if err := windows.ChangeServiceConfig(h, windows.SERVICE_NO_CHANGE, uint32(want), windows.SERVICE_NO_CHANGE, nil,
		nil, nil, nil, nil, nil, nil); err != nil {
		return false, err
	}
	buf := make([]byte, 8192) // the largest that the manager gives
	var needed uint32
	config := (*windows.QUERY_SERVICE_CONFIG)(unsafe.Pointer(&buf[0]))
	if err := windows.QueryServiceConfig(h, config, uint32(len(buf)), &needed); err != nil {
		return false, err
	}
	if uint64(config.StartType) != want {
		return false, fmt.Errorf("the service control manager reported success, but the service still has the "+
			"start type %d", config.StartType)
	}
	return true, nil
}

func (e *liveEditor) deleteValue(name string) error {
	k, err := e.open(winreg.SET_VALUE)
	if err != nil {
		return err
	}
	defer k.Close()
	if hasZero(name) {
		return liveError(deleteCounted(k, name))
	}
	return liveError(k.DeleteValue(name))
}

func (e *liveEditor) createKey(name string, image artifact.Image) (keyEditor, error) {
	child := &liveEditor{e.root, e.path + `\` + name, true}
	path, err := windows.UTF16PtrFromString(child.path)
	if err != nil {
		return nil, err
	}
	var class *uint16
	if c := image.Xattrs[artifact.ClassAttribute]; len(c) > 0 {
		if class, err = windows.UTF16PtrFromString(windata.Decode(c)); err != nil {
			return nil, err
		}
	}
	attributes := &windows.SecurityAttributes{SecurityDescriptor: files.Descriptor(
		image.Xattrs[artifact.SecurityAttribute])}
	attributes.Length = uint32(unsafe.Sizeof(*attributes))
	var k winreg.Key
	r, _, _ := procRegCreateKeyEx.Call(uintptr(e.root), uintptr(unsafe.Pointer(path)), 0,
		uintptr(unsafe.Pointer(class)), 0,
		winreg.SET_VALUE|winreg.CREATE_SUB_KEY|winreg.WOW64_64KEY, uintptr(unsafe.Pointer(attributes)),
		uintptr(unsafe.Pointer(&k)), 0)
	runtime.KeepAlive(image)
	if r != 0 {
		return nil, windows.Errno(r)
	}
	k.Close()
	return child, nil
}

// deleteKey takes a key away with everything below it, the deepest first.
func (e *liveEditor) deleteKey(name string) error {
	child := &liveEditor{e.root, e.path + `\` + name, true}
	k, err := child.open(winreg.READ)
	if err != nil {
		return err
	}
	names, err := k.ReadSubKeyNames(-1)
	k.Close()
	if err != nil {
		return err
	}
	for _, sub := range names {
		if err := child.deleteKey(sub); err != nil {
			return err
		}
	}
	return liveError(winreg.DeleteKey(e.root, child.path))
}

// dress sets a key's rights. Its time is the system's to write.
func (e *liveEditor) dress(image artifact.Image) error {
	sd := files.Descriptor(image.Xattrs[artifact.SecurityAttribute])
	if sd == nil {
		return nil
	}
	k, err := e.open(winreg.READ | windows.WRITE_DAC)
	if err != nil {
		return err
	}
	defer k.Close()
	if string(files.SecurityOf(windows.Handle(k), windows.SE_REGISTRY_KEY)) == string(
		image.Xattrs[artifact.SecurityAttribute]) {
		return nil
	}
	dacl, _, err := sd.DACL()
	if err != nil {
		return nil
	}
	return windows.SetSecurityInfo(windows.Handle(k), windows.SE_REGISTRY_KEY, windows.DACL_SECURITY_INFORMATION, nil,
		nil, dacl, nil)
}
