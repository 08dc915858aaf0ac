package taskxml_test

import (
	"bytes"
	"encoding/binary"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/require"

	"lockback/core/format/taskxml"
)

const sample = `<?xml version="1.0" encoding="UTF-16"?>
<Task version="1.4" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">
  <RegistrationInfo><Author>Kelpline &amp; Sons</Author><URI>\Kelpline\Update</URI></RegistrationInfo>
  <Triggers>
    <LogonTrigger><Enabled>false</Enabled><UserId>TICKET-DESK\odile</UserId><Delay>PT30S</Delay></LogonTrigger>
    <CalendarTrigger><StartBoundary>2026-01-01T06:00:00</StartBoundary><Repetition><Interval>PT1H</Interval></Repetition>
      <ScheduleByDay><DaysInterval>1</DaysInterval></ScheduleByDay></CalendarTrigger>
    <CalendarTrigger><ScheduleByWeek><WeeksInterval>2</WeeksInterval><DaysOfWeek><Monday /><Friday /></DaysOfWeek></ScheduleByWeek></CalendarTrigger>
    <CalendarTrigger><ScheduleByMonth><DaysOfMonth><Day>1</Day><Day>Last</Day></DaysOfMonth><Months><March /></Months></ScheduleByMonth></CalendarTrigger>
    <CalendarTrigger><ScheduleByMonthDayOfWeek><Weeks><Week>2</Week></Weeks><DaysOfWeek><Tuesday /></DaysOfWeek><Months><January /><July /></Months></ScheduleByMonthDayOfWeek></CalendarTrigger>
    <SessionStateChangeTrigger><StateChange>SessionUnlock</StateChange></SessionStateChangeTrigger>
    <EventTrigger><Subscription>&lt;QueryList/&gt;</Subscription></EventTrigger>
    <WnfStateChangeTrigger><StateName>75</StateName></WnfStateChangeTrigger>
  </Triggers>
  <Principals><Principal id="Author"><UserId>S-1-5-18</UserId><RunLevel>HighestAvailable</RunLevel></Principal></Principals>
  <Settings><Enabled>true</Enabled><Hidden>true</Hidden></Settings>
  <Actions Context="Author">
    <Exec><Command>"C:\Program Files\Kelpline\updater.exe"</Command><Arguments>/q</Arguments></Exec>
    <ComHandler><ClassId>{5A17ABCD-1887-4001-8314-000000000001}</ClassId><Data>x</Data></ComHandler>
    <SendEmail><Server>x</Server></SendEmail>
  </Actions>
</Task>
`

func wide(s string, order binary.AppendByteOrder, mark bool) []byte {
	var b []byte
	if mark {
		b = order.AppendUint16(b, 0xfeff)
	}
	for _, u := range utf16.Encode([]rune(s)) {
		b = order.AppendUint16(b, u)
	}
	return b
}

// encodings are the ways in which a definition may be written.
var encodings = map[string][]byte{
	"UTF-16":                wide(sample, binary.LittleEndian, true),
	"UTF-16, high first":    wide(sample, binary.BigEndian, true),
	"UTF-16 without mark":   wide(sample, binary.LittleEndian, false),
	"UTF-8":                 []byte(sample),
	"UTF-8 with its mark":   append([]byte{0xef, 0xbb, 0xbf}, sample...),
	"with carriage returns": wide(strings.ReplaceAll(sample, "\n", "\r\n"), binary.LittleEndian, true),
}

func TestParse(t *testing.T) {
	for name, content := range encodings {
		t.Run(name, func(t *testing.T) {
			task, err := taskxml.Parse(content)
			require.NoError(t, err)
			require.Equal(t, "Kelpline & Sons", task.Author)
			require.True(t, task.Enabled && task.Hidden)
			require.Equal(t, "S-1-5-18", task.UserID)
			var words []string
			for _, tr := range task.Triggers {
				words = append(words, tr.Kind+": "+tr.Schedule)
			}
			require.Equal(t, []string{"LogonTrigger: ", "CalendarTrigger: every day",
				"CalendarTrigger: every 2 weeks on Monday, Friday", "CalendarTrigger: day 1, Last of March",
				"CalendarTrigger: week 2, Tuesday, of January, July", "SessionStateChangeTrigger: ", "EventTrigger: ",
				"WnfStateChangeTrigger: "}, words)
			require.False(t, task.Triggers[0].Enabled)
			require.Equal(t, "PT1H", task.Triggers[1].Interval)
			require.Equal(t, []taskxml.Exec{{Command: `"C:\Program Files\Kelpline\updater.exe"`, Arguments: "/q"}},
				task.Execs)
			require.Equal(t, []string{"SendEmail"}, task.Others)
			require.Len(t, task.Handlers, 1)
		})
	}
}

func TestSwitching(t *testing.T) {
	for name, content := range encodings {
		t.Run(name, func(t *testing.T) {
			off, err := taskxml.SetEnabled(content, false)
			require.NoError(t, err)
			task, err := taskxml.Parse(off)
			require.NoError(t, err)
			require.False(t, task.Enabled)
			require.False(t, taskxml.Equal(content, off))
			on, err := taskxml.SetEnabled(off, true)
			require.NoError(t, err)
			require.True(t, bytes.Equal(content, on), "not to the byte")
		})
	}
	silent := strings.Replace(sample, "<Enabled>true</Enabled><Hidden>", "<Hidden>", 1)
	off, err := taskxml.SetEnabled([]byte(silent), false)
	require.NoError(t, err)
	task, err := taskxml.Parse(off)
	require.NoError(t, err)
	require.False(t, task.Enabled)
}

func TestDamaged(t *testing.T) {
	for _, text := range []string{"", "MZ\x90\x00", "<Task>", "<html/>", sample[:len(sample)/2],
		strings.Repeat("<Task>", 1000)} {
		_, err := taskxml.Parse([]byte(text))
		require.Error(t, err, "%.20q", text)
	}
}

func FuzzTask(f *testing.F) {
	for _, content := range encodings {
		f.Add(content)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if _, err := taskxml.Parse(b); err != nil {
			return
		}
		off, err := taskxml.SetEnabled(b, false)
		if err != nil {
			return
		}
		task, err := taskxml.Parse(off)
		if err == nil {
			require.False(t, task.Enabled)
		}
	})
}

// What a trigger says about its times.
func TestBoundaries(t *testing.T) {
	task, err := taskxml.Parse(
		[]byte(`<Task xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task"><Triggers><TimeTrigger>` +
			`<StartBoundary>2026-01-02T03:04:05</StartBoundary><EndBoundary>2027-01-01T00:00:00</EndBoundary><Enabled>1</Enabled></TimeTrigger></Triggers></Task>`))
	require.NoError(t, err)
	require.Len(t, task.Triggers, 1)
	require.Equal(t, []string{"2026-01-02T03:04:05", "2027-01-01T00:00:00"}, []string{task.Triggers[0].Start,
		task.Triggers[0].End})
	require.True(t, task.Triggers[0].Enabled)
}
