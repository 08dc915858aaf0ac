package crontab

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// nicknameWords say when the schedules are that have a name, crontab(5).
var nicknameWords = map[string]string{"@reboot": "at startup", "@yearly": "every year on 1 January at 00:00",
	"@annually": "every year on 1 January at 00:00",
	"@monthly":  "on day 1 of every month at 00:00", "@weekly": "every Sunday at 00:00", "@daily": "every day at 00:00",
	"@midnight": "every day at 00:00", "@hourly": "every hour"}

var (
	weekdayNames = []string{"Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"}
	monthNames   = []string{"", "January", "February", "March", "April", "May", "June", "July", "August", "September",
		"October", "November", "December"}
)

// Words says in words when a schedule is: "every 10 minutes", "Monday to Friday at 18:30". What
// has no short words stays as it is written.
func Words(schedule string) string {
	if words, ok := nicknameWords[schedule]; ok {
		return words
	}
	raw := "on the schedule " + strings.Join(strings.Fields(schedule), " ")
	f := strings.Fields(schedule)
	if len(f) != 5 {
		return raw
	}
	times, ok := timeWords(f[0], f[1])
	if !ok {
		return raw
	}
	days, ok := dayWords(f[2], f[3], f[4])
	if !ok {
		return raw
	}
	switch {
	case strings.HasPrefix(times, "at ") && days == "":
		return "every day " + times
	case strings.HasPrefix(times, "at "):
		return days + " " + times
	case days == "":
		return times
	}
	return times + ", " + days
}

// mostTimes is how many times of a day are listed one by one.
const mostTimes = 4

// timeWords words the minute and the hour.
func timeWords(minute, hour string) (string, bool) {
	step, everyStep := strings.CutPrefix(minute, "*/")
	switch {
	case minute == "*" && hour == "*":
		return "every minute", true
	case everyStep && hour == "*":
		n, err := strconv.Atoi(step)
		switch {
		case err != nil || n < 1:
			return "", false
		case n == 1:
			return "every minute", true
		case 60%n != 0: // the last stretch of each hour is shorter
			return fmt.Sprintf("every %d minutes of each hour", n), true
		}
		return fmt.Sprintf("every %d minutes", n), true
	}
	minutes, ok := numbers(minute, 0, 59, nil)
	if !ok || len(minutes) > mostTimes {
		return "", false
	}
	if hour == "*" {
		if len(minutes) == 1 {
			return fmt.Sprintf("every hour at minute %d", minutes[0]), true
		}
		return "every hour at the minutes " + joined(minutes, nil), true
	}
	if step, ok := strings.CutPrefix(hour, "*/"); ok && len(minutes) == 1 {
		if n, err := strconv.Atoi(step); err == nil && n > 1 && 24%n == 0 {
			return fmt.Sprintf("every %d hours at minute %d", n, minutes[0]), true
		}
	}
	hours, ok := numbers(hour, 0, 23, nil)
	if !ok || len(hours)*len(minutes) > mostTimes {
		return "", false
	}
	var times []string
	for _, h := range hours {
		for _, m := range minutes {
			times = append(times, fmt.Sprintf("%02d:%02d", h, m))
		}
	}
	return "at " + strings.Join(times, ", "), true
}

// dayWords words the days; empty if it is every day. As in crontab(5), a day of the month and
// a day of the week are alternatives where both are restricted, and both must fit where one
// begins with a star.
func dayWords(dom, month, dow string) (string, bool) {
	var parts []string
	if dom != "*" {
		days, ok := numbers(dom, 1, 31, nil)
		if !ok || len(days) > mostTimes {
			return "", false
		}
		parts = append(parts, "on day "+joined(days, nil)+" of the month")
	}
	if dow != "*" {
		days, ok := numbers(dow, 0, 7, weekdayNames)
		if !ok {
			return "", false
		}
		for k, d := range days {
			days[k] = d % 7
		}
		slices.Sort(days)
		days = slices.Compact(days)
		word := "every " + joined(days, weekdayNames)
		if n := len(days); n > 2 && days[n-1]-days[0] == n-1 {
			word = weekdayNames[days[0]] + " to " + weekdayNames[days[n-1]]
		}
		parts = append(parts, word)
	}
	and := " and "
	if strings.HasPrefix(dom, "*") || strings.HasPrefix(dow, "*") {
		and = " if it is "
	}
	text := strings.Join(parts, and)
	if month != "*" {
		months, ok := numbers(month, 1, 12, monthNames[1:])
		if !ok {
			return "", false
		}
		if text == "" {
			text = "every day"
		}
		text += " in " + joined(months, monthNames)
	}
	return text, true
}

// numbers reads a field of single numbers, names and ranges, with steps. Names are those of the
// values from the smallest on, of which three letters stand.
func numbers(field string, low, high int, names []string) ([]int, bool) {
	var all []int
	one := func(s string) (int, bool) {
		for k, name := range names {
			if len(s) == 3 && strings.EqualFold(s, name[:3]) {
				return low + k, true
			}
		}
		n, err := strconv.Atoi(s)
		return n, err == nil && n >= low && n <= high
	}
	for piece := range strings.SplitSeq(field, ",") {
		span, stepText, stepped := strings.Cut(piece, "/")
		from, to, isRange := strings.Cut(span, "-")
		if span == "*" {
			from, to, isRange = strconv.Itoa(low), strconv.Itoa(high), true
		}
		first, ok := one(from)
		if !ok {
			return nil, false
		}
		last, step := first, 1
		if isRange {
			if last, ok = one(to); !ok || last < first {
				return nil, false
			}
		}
		if stepped {
			var err error
			if step, err = strconv.Atoi(stepText); err != nil || step < 1 || !isRange {
				return nil, false
			}
		}
		for n := first; n <= last; n += step {
			all = append(all, n)
		}
	}
	slices.Sort(all)
	return slices.Compact(all), true
}

// joined lists numbers, or what they are called.
func joined(all []int, names []string) string {
	words := make([]string, len(all))
	for k, n := range all {
		if words[k] = strconv.Itoa(n); names != nil {
			words[k] = names[n]
		}
	}
	return strings.Join(words, ", ")
}
