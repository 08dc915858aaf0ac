package identify

import (
	"cmp"
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
	"ndis": "network", "ndis wrapper": "network", "tdi": "network", "pnp_tdi": "network", "network": "network",
	"networkprovider": "network", "netbiosgroup": "network",
	"scsi miniport": "storage", "scsi class": "storage", "scsi cdrom class": "storage", "primary disk": "storage",
	"boot file system": "storage", "file system": "storage",
	"fsfilter anti-virus": "security", "fsfilter security enhancer": "security",
	"fsfilter activity monitor": "security", "fsfilter encryption": "storage",
	"fsfilter replication": "backup", "fsfilter continuous backup": "backup", "fsfilter system recovery": "backup",
	"fsfilter undelete": "backup",
	"audiogroup":        "sound", "smartcardgroup": "security", "spoolergroup": "printing", "plugplay": "device",
	"base": "device", "extended base": "device",
	"boot bus extender": "device", "system bus extender": "device", "wdfloadgroup": "device",
	"cryptography":              "security",
	"ms_windowslocalvalidation": "security", "ms_windowsremotevalidation": "security",
}

// setupClasses are what devices are for by their setup class, "System-Defined Device Setup Classes
// Available to Vendors" and "... Reserved for System Use" of Microsoft's documents.
var setupClasses = map[string]string{
	"{4d36e96b-e325-11ce-bfc1-08002be10318}": "input",    // Keyboard
	"{4d36e96f-e325-11ce-bfc1-08002be10318}": "input",    // Mouse
	"{745a17a0-74d3-11d0-b6fe-00a0c90f57da}": "input",    // HIDClass
	"{4d36e968-e325-11ce-bfc1-08002be10318}": "display",  // Display
	"{4d36e96e-e325-11ce-bfc1-08002be10318}": "display",  // Monitor
	"{4d36e96c-e325-11ce-bfc1-08002be10318}": "sound",    // Media
	"{c166523c-fe0c-4a94-a586-f1a80cfbbf3e}": "sound",    // AudioEndpoint
	"{4d36e972-e325-11ce-bfc1-08002be10318}": "network",  // Net
	"{4d36e973-e325-11ce-bfc1-08002be10318}": "network",  // NetClient
	"{4d36e974-e325-11ce-bfc1-08002be10318}": "network",  // NetService
	"{4d36e975-e325-11ce-bfc1-08002be10318}": "network",  // NetTrans
	"{4d36e96d-e325-11ce-bfc1-08002be10318}": "network",  // Modem
	"{e0cbf06c-cd8b-4647-bb8a-263b43f0f974}": "network",  // Bluetooth
	"{4d36e967-e325-11ce-bfc1-08002be10318}": "storage",  // DiskDrive
	"{4d36e965-e325-11ce-bfc1-08002be10318}": "storage",  // CDROM
	"{4d36e96a-e325-11ce-bfc1-08002be10318}": "storage",  // HDC
	"{4d36e97b-e325-11ce-bfc1-08002be10318}": "storage",  // SCSIAdapter
	"{71a27cdd-812a-11d0-bec7-08002be2092f}": "storage",  // Volume
	"{4d36e979-e325-11ce-bfc1-08002be10318}": "printing", // Printer
	"{50dd5230-ba8a-11d1-bf5d-0000f805f530}": "security", // SmartCardReader
	"{53d29ef7-377c-4d14-864b-eb3a85769359}": "security", // Biometric
	"{d94ee5d8-d189-4994-83d2-f68d7d41b0e6}": "security", // SecurityDevices
}

// placeRoles are what an entry is for by what its place makes of it.
var placeRoles = map[location.Role]string{
	location.Driver: "device", location.Module: "device", location.Device: "device", location.SignInStep: "security",
	location.Sound: "sound", location.Camera: "device", location.InputMode: "input",
}

// hurting are the roles whose loss hurts, and what is said about it.
var hurting = map[string]string{"security": "security", "input": "input", "display": "screen", "storage": "disks",
	"accessibility": "accessibility"}

// provenRole is what an entry is for, as far as the class of its device, its group, its place or its
// location proves it, and what of these it is.
func provenRole(item *location.Item) (role, basis string) {
	if role := setupClasses[item.DeviceClass]; role != "" {
		return role, "the class of its device"
	}
	if role := serviceGroups[strings.ToLower(item.Group)]; role != "" {
		return role, "its service group"
	}
	if role := cmp.Or(item.Purpose(), placeRoles[item.Role]); role != "" {
		return role, byPlace
	}
	return "", ""
}

// byService is the basis of what is known of an entry by the name of the service that it is.
const byService = "the name of its service"

// byPlace is the basis of what is known about an entry by the kind of place that it starts from.
const byPlace = "its place"

// withRole adds to what is known about a program what it is for by proof, where nothing else tells.
func withRole(known *autostart.Known, role, basis string) *autostart.Known {
	if role == "" || known != nil && known.Role != "" {
		return known
	}
	var k autostart.Known
	if known != nil {
		k = *known
	}
	k.Role, k.RoleBasis = role, basis
	return &k
}

// guardOf is what a mistake with an entry of a role would cost; empty where it does not hurt.
func guardOf(role string) string { return catalogue.Protections[hurting[role]] }
