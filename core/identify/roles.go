package identify

import (
	"strings"

	"lockback/core/autostart"
	"lockback/core/catalogue"
	"lockback/core/location"
)

// serviceGroups are what the groups are for that Windows loads services and drivers in, by the
// names that its documents give them ("Specifying Driver Load Order", the classes of file system
// filters), in small letters.
var serviceGroups = map[string]string{
	"keyboard port": "input", "keyboard class": "input", "pointer port": "input", "pointer class": "input",
	"video": "display", "video init": "display", "video save": "display", "uigroup": "display",
	"ndis": "network", "ndis wrapper": "network", "tdi": "network", "pnp_tdi": "network", "network": "network", "networkprovider": "network", "netbiosgroup": "network",
	"scsi miniport": "storage", "scsi class": "storage", "scsi cdrom class": "storage", "primary disk": "storage", "boot file system": "storage", "file system": "storage",
	"fsfilter anti-virus": "security", "fsfilter security enhancer": "security", "fsfilter activity monitor": "security", "fsfilter encryption": "storage",
	"fsfilter replication": "backup", "fsfilter continuous backup": "backup", "fsfilter system recovery": "backup", "fsfilter undelete": "backup",
	"audiogroup": "sound", "smartcardgroup": "security", "spoolergroup": "printing", "plugplay": "device", "base": "device", "extended base": "device",
	"boot bus extender": "device", "system bus extender": "device", "wdfloadgroup": "device", "cryptography": "security",
	"ms_windowslocalvalidation": "security", "ms_windowsremotevalidation": "security",
}

// placeRoles are what an entry is for by what its place makes of it.
var placeRoles = map[location.Role]string{
	location.Driver: "device", location.Module: "device", location.Device: "device", location.SignInStep: "security", location.Sound: "sound", location.Camera: "device", location.InputMode: "input",
}

// locationRoles are what the entries of a location are for, whoever made them.
var locationRoles = map[string]string{
	"windows.print": "printing", "windows.credential-providers": "security", "windows.amsi": "security", "windows.codecs": "media", "windows.network-providers": "network",
	"windows.winsock": "network", "windows.screensaver": "display", "macos.folder-actions": "helper",
}

// hurting are the roles whose loss hurts, and what is said of it.
var hurting = map[string]string{"security": "security", "input": "input", "display": "screen", "storage": "disks", "accessibility": "accessibility"}

// provenRole is what an entry is for, as far as its group, its place or its location proves it.
func provenRole(item *location.Item) string {
	if role := serviceGroups[strings.ToLower(item.Group)]; role != "" {
		return role
	}
	if role := locationRoles[item.Location]; role != "" {
		return role
	}
	return placeRoles[item.Role]
}

// withRole adds to what is known of a program what it is for by proof, where nothing else tells.
func withRole(known *autostart.Known, role string) *autostart.Known {
	if role == "" || known != nil && known.Role != "" {
		return known
	}
	var k autostart.Known
	if known != nil {
		k = *known
	}
	k.Role = role
	return &k
}

// guardOf is what a mistake with an entry of a role would cost; empty where it does not hurt.
func guardOf(role string) string { return catalogue.Protections[hurting[role]] }
