package windows

import (
	"lockback/core/autostart"
	"lockback/core/location"
)

// NotLookedAt lists the kinds of places that Windows starts things from and that are not read
// yet: a short list must not be taken for a clean machine.
func NotLookedAt() []location.Location {
	return []location.Location{
		location.NotLookedAt("windows.class-filters", autostart.Boot, "Filter drivers of device classes", `HKLM\SYSTEM\CurrentControlSet\Control\Class`),
		location.NotLookedAt("windows.user-interface", autostart.SignIn, "Program in place of the desktop (policy)", `HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Policies\System`, `HKCU\Software\Microsoft\Windows\CurrentVersion\Policies\System`),
		location.NotLookedAt("windows.crash-debugger", autostart.Event, "Crash debugger", `HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\AeDebug`),
		location.NotLookedAt("windows.accessibility", autostart.Event, "Accessibility programs", `HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Accessibility`),
		location.NotLookedAt("windows.shims", autostart.Attach, "Compatibility databases", `HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\AppCompatFlags`),
		location.NotLookedAt("windows.policy-extensions", autostart.Attach, "Group policy extensions", `HKLM\SOFTWARE\Microsoft\Windows NT\CurrentVersion\Winlogon\GPExtensions`),
	}
}
