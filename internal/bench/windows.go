package bench

import (
	"bufio"
	"fmt"
	"os"
	"strings"
	"time"

	"lockback/core/format/regf"
)

// WindowsSize is how much a made-up Windows disk holds.
type WindowsSize struct {
	Classes  int // keys of classes in the SOFTWARE hive, with a library each
	Services int
	Users    int
	Tasks    int
	Filler   int // keys in the SYSTEM hive that are no services
}

// LargeWindows makes a SOFTWARE hive of about 150 MB and a SYSTEM hive of about
// 20 MB.
var LargeWindows = WindowsSize{Classes: 285000, Services: 900, Users: 6, Tasks: 300, Filler: 58000}

// BuildWindows makes a Windows disk of that size in an existing folder.
func BuildWindows(root string, size WindowsSize) error {
	b := builder{root: root}
	now := time.Date(2026, 3, 14, 9, 26, 53, 0, time.UTC)
	const cv = `Microsoft\Windows\CurrentVersion\`
	const nt = `Microsoft\Windows NT\CurrentVersion\`
	software := hiveBuilder{hive: regf.Create(make([]byte, 20), now), now: now}
	software.set(`Microsoft\Cryptography`, regf.NewText("MachineGuid", "00112233-4455-6677-8899-aabbccddeeff"))
	software.set(`Microsoft\Windows NT\CurrentVersion`, regf.NewText("ProductName", "Windows 10 Pro"),
		regf.NewText("CurrentBuild", "19045"), regf.NewText("SystemRoot", `C:\Windows`))
	for k := range size.Users {
		software.set(fmt.Sprintf(nt+`ProfileList\S-1-5-21-1-2-3-%d`, 1001+k), regf.NewExpand("ProfileImagePath",
			fmt.Sprintf(`C:\Users\person%d`, k)))
	}
	for k := range 100 {
		software.set(cv+"Run", regf.NewText(fmt.Sprintf("Tide %d", k),
			fmt.Sprintf(`"C:\Program Files\Tide\tide%d.exe" --tray`, k)))
		b.file(fmt.Sprintf("Program Files/Tide/tide%d.exe", k), "MZ")
	}
	// Classes are made in lists of their own, as a real hive has them by the
	// hundred thousand: ids, with the library that each is in.
	classes := software.key(`Classes\CLSID`)
	for k := range size.Classes {
		if k%150 == 0 && k > 0 {
			classes = software.key(fmt.Sprintf(`Classes\Installer%d\CLSID`, k/150))
		}
		name := fmt.Sprintf("{%08X-1887-4001-8314-%012X}", k*2654435761&0xffffffff, k)
		id := software.sub(classes, name)
		software.put(id, regf.NewText("", fmt.Sprintf("Tide class %d", k)))
		in := software.sub(id, "InprocServer32")
		software.put(in, regf.NewText("", fmt.Sprintf(`C:\Program Files\Tide\Library Folder Of Some Length\tide%d.dll`,
			k%100)), regf.NewText("ThreadingModel", "Apartment"))
		if k < 150 {
			software.set(fmt.Sprintf(`Classes\*\shellex\ContextMenuHandlers\Tide %d`, k), regf.NewText("", name))
		}
	}
	software.write(&b, "Windows/System32/config/SOFTWARE")
	system := hiveBuilder{hive: regf.Create(make([]byte, 20), now), now: now}
	system.set(`Select`, regf.NewNumber("Current", 1))
	for k := range size.Services {
		key := fmt.Sprintf(`ControlSet001\Services\tide%d`, k)
		kind, image := uint32(0x10), fmt.Sprintf(`"C:\Program Files\Tide\tide%d.exe" /service`, k%100)
		if k%3 == 0 {
			kind, image = 1, fmt.Sprintf(`\SystemRoot\System32\drivers\tide%d.sys`, k)
			b.file(fmt.Sprintf("Windows/System32/drivers/tide%d.sys", k), "MZ")
		}
		system.set(key, regf.NewNumber("Type", kind), regf.NewNumber("Start", uint32(2+k%3)),
			regf.NewExpand("ImagePath", image), regf.NewText("DisplayName", fmt.Sprintf("Tide service %d", k)))
	}
	for k := range size.Filler {
		system.set(fmt.Sprintf(`ControlSet001\Enum\Root\Tide%d\%d`, k/200, k), regf.NewText("DeviceDesc",
			strings.Repeat("a gauge ", 10)), regf.NewNumber("Capabilities", uint32(k)))
	}
	system.write(&b, "Windows/System32/config/SYSTEM")
	for k := range size.Users {
		user := hiveBuilder{hive: regf.Create(make([]byte, 20), now), now: now}
		for n := range 20 {
			user.set(`Software\`+cv+"Run", regf.NewText(fmt.Sprintf("Fog %d", n),
				fmt.Sprintf(`"C:\Program Files\Tide\tide%d.exe"`, n)))
		}
		for n := range 5000 {
			user.set(fmt.Sprintf(`Software\Tide\Settings%d\%d`, n/100, n), regf.NewText("value", strings.Repeat("text ",
				20)))
		}
		user.write(&b, fmt.Sprintf("Users/person%d/NTUSER.DAT", k))
	}
	for k := range size.Tasks {
		b.file(fmt.Sprintf("Windows/System32/Tasks/Tide/task%d", k), fmt.Sprintf(`<?xml version="1.0"?>
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">
  <Triggers><CalendarTrigger><ScheduleByDay><DaysInterval>1</DaysInterval></ScheduleByDay></CalendarTrigger></Triggers>
  <Settings><Enabled>true</Enabled></Settings>
  <Actions><Exec><Command>C:\Program Files\Tide\tide%d.exe</Command></Exec></Actions>
</Task>`, k%100))
	}
	return b.err
}

// hiveBuilder fills a hive; the first error stays.
type hiveBuilder struct {
	hive *regf.Hive
	now  time.Time
	keys map[string]*regf.Key
	err  error
}

func (h *hiveBuilder) key(path string) *regf.Key {
	if k := h.keys[path]; k != nil || h.err != nil {
		return k
	}
	k, err := h.hive.Root()
	for name := range strings.SplitSeq(path, `\`) {
		if err != nil {
			break
		}
		sub, serr := k.Subkey(name)
		if serr != nil {
			sub, serr = h.hive.CreateKey(k, name, nil, h.now)
		}
		k, err = sub, serr
	}
	if h.err = err; h.keys == nil {
		h.keys = map[string]*regf.Key{}
	}
	h.keys[path] = k
	return k
}

func (h *hiveBuilder) sub(parent *regf.Key, name string) *regf.Key {
	if h.err != nil {
		return parent
	}
	k, err := h.hive.CreateKey(parent, name, nil, h.now)
	if err != nil {
		h.err = err
		return parent
	}
	return k
}

func (h *hiveBuilder) put(k *regf.Key, values ...regf.Value) {
	for _, v := range values {
		if h.err == nil {
			h.err = h.hive.SetValue(k, v)
		}
	}
}

func (h *hiveBuilder) set(path string, values ...regf.Value) { h.put(h.key(path), values...) }

func (h *hiveBuilder) write(b *builder, name string) {
	if b.err == nil {
		b.err = h.err
	}
	name = b.at(name)
	if b.err != nil {
		return
	}
	h.hive.Seal(h.now)
	file, err := os.Create(name)
	if err != nil {
		b.err = err
		return
	}
	w := bufio.NewWriterSize(file, 1<<20)
	_, err = h.hive.WriteTo(w)
	if err == nil {
		err = w.Flush()
	}
	if cerr := file.Close(); err == nil {
		err = cerr
	}
	b.err = err
}
