package linux

import (
	"strings"

	"lockback/core/format/unitfile"
)

// whenKeys are the keys that say when a timer, path or socket starts its unit, systemd.timer(5),
// systemd.path(5) and systemd.socket(5), with the words around their values.
var whenKeys = map[string][]struct{ section, key, before, after string }{
	".timer": {
		{"Timer", "OnBootSec", "", " after startup"}, {"Timer", "OnStartupSec", "",
			" after the service manager starts"},
		{"Timer", "OnActiveSec", "", " after the timer starts"}, {"Timer", "OnCalendar", "", ""},
		{"Timer", "OnUnitActiveSec", "again ", " after its last start"}, {"Timer", "OnUnitInactiveSec", "again ",
			" after it last ended"},
	},
	".path": {
		{"Path", "PathExists", "when there is ", ""}, {"Path", "PathExistsGlob", "when there is ", ""},
		{"Path", "PathChanged", "when ", " changes"},
		{"Path", "PathModified", "when ", " changes"}, {"Path", "DirectoryNotEmpty", "when something lies in ", ""},
	},
	".socket": {
		{"Socket", "ListenStream", "when something connects to ", ""}, {"Socket", "ListenDatagram",
			"when something is sent to ", ""},
		{"Socket", "ListenSequentialPacket", "when something connects to ", ""}, {"Socket", "ListenFIFO",
			"when something is written to ", ""},
		{"Socket", "ListenSpecial", "when there is something to read in ", ""}, {"Socket", "ListenNetlink",
			"on a message of the kernel: ", ""},
		{"Socket", "ListenMessageQueue", "when something is sent to ", ""}, {"Socket", "ListenUSBFunction",
			"when a USB function is used: ", ""},
	},
}

// calendarWords are words for the calendar events of systemd.time(7) that have a name.
var calendarWords = map[string]string{"minutely": "every minute", "hourly": "every hour", "daily": "every day at 00:00",
	"monthly": "on day 1 of every month at 00:00",
	"weekly":  "every Monday at 00:00", "yearly": "every year on 1 January at 00:00",
	"annually":  "every year on 1 January at 00:00",
	"quarterly": "every three months", "semiannually": "every six months"}

// when words when a unit starts that a time or an event starts; empty for the others.
func when(name string, f unitfile.File) string {
	var parts []string
	for _, k := range whenKeys[unitfile.Suffix(name)] {
		for _, value := range f.All(k.section, k.key) {
			value = unitfile.Expand(value, name)
			if strings.HasPrefix(k.key, "Listen") && strings.Trim(value, "0123456789") == "" && value != "" {
				value = "port " + value
			}
			if k.key == "OnCalendar" {
				if words, known := calendarWords[value]; known {
					value = words
				} else {
					value = "at the times " + value
				}
			}
			if part := k.before + value + k.after; value != "" && len(parts) < maxWhen {
				parts = append(parts, part)
			}
		}
	}
	return strings.Join(parts, ", ")
}

// maxWhen is how many times and events are named.
const maxWhen = 6
