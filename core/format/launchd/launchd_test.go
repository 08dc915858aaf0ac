package launchd

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"howett.net/plist"
)

// Each row is a job as a person writes it, and how it is told.
func TestWhen(t *testing.T) {
	for _, row := range []struct {
		job  string
		when string
		kind Kind
	}{
		{`{}`, "only when asked for", OnRequest},
		{`{RunAtLoad = <*BY>;}`, "at load", AtLoad},
		{`{RunAtLoad = <*BN>; KeepAlive = <*BY>;}`, "kept running", AtLoad},
		{`{OnDemand = <*BN>;}`, "kept running", AtLoad},
		{`{OnDemand = <*BY>;}`, "only when asked for", OnRequest},
		{`{KeepAlive = {SuccessfulExit = <*BN>; Crashed = <*BY>;};}`, "again after a crash, again after it failed",
			AtLoad},
		{`{KeepAlive = {PathState = {"/tmp/tide" = <*BY>; "/tmp/ebb" = <*BN>;};};}`,
			"kept running while /tmp/ebb is not there, kept running while /tmp/tide is there", AtLoad},
		{`{KeepAlive = {OtherJobEnabled = {org.gullrock.a = <*BY>;}; NetworkState = <*BY>;};}`,
			"kept running with a network, where the system still reads that, kept running while org.gullrock.a is loaded", AtLoad},
		{`{LaunchEvents = {"com.apple.xpc.activity" = {a = {Interval = <*I3600>;}; b = {};}; other = {};};}`,
			"about every 1 h, once, when the system finds the time, on an event of other", OnSchedule},
		{`{KeepAlive = {AfterInitialDemand = <*BY>;}; MachServices = {org.gullrock.a = <*BY>;};}`,
			"kept running once asked for, when a program asks for org.gullrock.a", OnEvent},
		{`{StartInterval = <*I3600>;}`, "every 1 h", OnSchedule},
		{`{StartInterval = <*I90>; RunAtLoad = <*BY>;}`, "at load, every 90 s", AtLoad},
		{`{StartInterval = <*I172800>;}`, "every 2 d", OnSchedule},
		{`{StartInterval = <*I0>;}`, "only when asked for", OnRequest},
		{`{StartInterval = <*I-5>;}`, "only when asked for", OnRequest},
		{`{StartInterval = often;}`, "only when asked for", OnRequest},
		{`{StartCalendarInterval = {Hour = <*I3>; Minute = <*I5>;};}`, "every day at 03:05", OnSchedule},
		{`{StartCalendarInterval = {Hour = <*I3>;};}`, "every day every minute from 03:00 to 03:59", OnSchedule},
		{`{StartCalendarInterval = {Minute = <*I15>;};}`, "every hour at minute 15", OnSchedule},
		{`{StartCalendarInterval = {};}`, "every minute", OnSchedule},
		{`{StartCalendarInterval = {Weekday = <*I7>; Hour = <*I0>; Minute = <*I0>;};}`, "every Sunday at 00:00",
			OnSchedule},
		{`{StartCalendarInterval = {Weekday = <*I1>; Day = <*I5>; Month = <*I2>; Hour = <*I9>; Minute = <*I30>;};}`,
			"every Monday and on day 5 of the month in February at 09:30", OnSchedule},
		{`{StartCalendarInterval = {Month = <*I12>; Hour = <*I9>; Minute = <*I30>;};}`,
			"every day in December at 09:30", OnSchedule},
		{`{StartCalendarInterval = {Month = <*I13>;};}`, "only when asked for", OnRequest},
		{`{StartCalendarInterval = ({Hour = <*I1>; Minute = <*I0>;}, {Hour = <*I2>; Minute = <*I0>;}, x, {Hour = ` +
			`<*I3>; Minute = <*I0>;}, {Hour = <*I4>; Minute = <*I0>;});}`,
			"every day at 01:00, every day at 02:00, every day at 03:00, and at 1 more times", OnSchedule},
		{`{WatchPaths = ("/a b"); QueueDirectories = "/in"; StartOnMount = <*BY>; Sockets = {L = {};}; ` +
			`LaunchEvents = {x = {};};}`,
			"when /a b changes, when something is put into /in, when a volume is mounted, and on 2 more events",
			OnEvent},
	} {
		var d map[string]any
		_, err := plist.Unmarshal([]byte(row.job), &d)
		require.NoError(t, err, row.job)
		j := Parse(d)
		require.Equal(t, row.when, j.When(), row.job)
		require.Equal(t, row.kind, j.Kind(), row.job)
	}
}

func TestIntervalsThatDoNotCount(t *testing.T) {
	for _, v := range []any{int64(0), int64(-5), int64(1 << 31), "300", nil} {
		require.Zero(t, Parse(map[string]any{"Label": "x", "StartInterval": v}).Interval, "%v", v)
	}
	require.Equal(t, 5*time.Minute, Parse(map[string]any{"StartInterval": int64(300)}).Interval)
}

func TestCommand(t *testing.T) {
	for _, row := range []struct{ job, command string }{
		{`{}`, ""},
		{`{Program = "/a";}`, "/a"},
		{`{ProgramArguments = ("/a", "-b", "c d");}`, "/a|-b|c d"},
		{`{Program = "/real"; ProgramArguments = (name, "-b");}`, "/real|-b"},
		{`{BundleProgram = "Contents/MacOS/helper";}`, "Contents/MacOS/helper"},
		{`{ProgramArguments = "/not an array";}`, ""},
	} {
		var d map[string]any
		_, err := plist.Unmarshal([]byte(row.job), &d)
		require.NoError(t, err, row.job)
		require.Equal(t, row.command, strings.Join(Parse(d).Command(), "|"), row.job)
	}
	j := Parse(map[string]any{"Label": uint64(5), "EnvironmentVariables": map[string]any{"A": "b", "C": uint64(1)},
		"LimitLoadToSessionType": []any{"Aqua", true}})
	require.Empty(t, j.Label)
	require.Equal(t, map[string]string{"A": "b"}, j.Environment)
	require.Equal(t, []string{"Aqua"}, j.Sessions)
}

// FuzzJob: whatever a property list holds, a job is made of it and told.
func FuzzJob(f *testing.F) {
	f.Add([]byte(`{Label = a; StartCalendarInterval = ({Hour = <*I3>;}, x); KeepAlive = {PathState = {"/x" = ` +
		`<*BY>;};}; Sockets = {L = {};};}`))
	f.Add([]byte(`{ProgramArguments = (a, (b)); StartInterval = <*R1e300>; LimitLoadToSessionType = {};}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		var d map[string]any
		func() {
			defer func() { _ = recover() }() // bounds are the reader's of property lists
			_, _ = plist.Unmarshal(b, &d)
		}()
		j := Parse(d)
		if j.When() == "" || j.Kind() < AtLoad || j.Kind() > OnRequest {
			t.Fatal("a job is told in some words")
		}
		_ = j.Command()
	})
}
