package taskxml_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/taskxml"
)

func TestNew(t *testing.T) {
	now := time.Date(2026, 3, 14, 9, 26, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		task taskxml.New
		kind string
		user string
	}{
		"sign-in": {taskxml.New{Trigger: taskxml.AtLogon, User: "S-1-5-21-1", Delay: 90 * time.Second}, "LogonTrigger",
			"S-1-5-21-1"},
		"everyone": {taskxml.New{Trigger: taskxml.AtLogon}, "LogonTrigger", ""},
		"startup":  {taskxml.New{Trigger: taskxml.AtBoot}, "BootTrigger", "S-1-5-18"},
		"daily":    {taskxml.New{Daily: true, At: 2*time.Hour + 30*time.Minute}, "CalendarTrigger", "S-1-5-18"},
		"hourly":   {taskxml.New{Every: time.Hour}, "TimeTrigger", "S-1-5-18"},
	} {
		c.task.Description, c.task.Command, c.task.Arguments, c.task.Now = "Tide & board <1>",
			`C:\Program Files\Tide\board.exe`, `--full "a & b"`, now
		task, err := taskxml.Parse(c.task.Encode())
		require.NoError(t, err, name)
		require.Equal(t, "Tide & board <1>", task.Description)
		require.Equal(t, []taskxml.Exec{{Command: c.task.Command, Arguments: c.task.Arguments}}, task.Execs)
		require.Equal(t, c.user, task.UserID, name)
		require.True(t, task.Enabled)
		require.Len(t, task.Triggers, 1)
		require.Equal(t, c.kind, task.Triggers[0].Kind)
		if c.task.Delay > 0 {
			require.Equal(t, "PT90S", task.Triggers[0].Delay)
		}
	}
}

func TestSetDelay(t *testing.T) {
	const head, tail = `<Task xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task"><Triggers>`, `</Triggers><Actions><Exec><Command>a</Command></Exec></Actions></Task>`
	for in, want := range map[string]string{
		`<BootTrigger/>`: `<BootTrigger><Delay>PT60S</Delay></BootTrigger>`,
		`<LogonTrigger><Enabled>true</Enabled></LogonTrigger>`:                                      `<LogonTrigger><Enabled>true</Enabled><Delay>PT60S</Delay></LogonTrigger>`,
		`<LogonTrigger><UserId>a</UserId><Delay>PT5S</Delay></LogonTrigger>`:                        `<LogonTrigger><UserId>a</UserId><Delay>PT60S</Delay></LogonTrigger>`,
		`<LogonTrigger><Delay>PT5S</Delay></LogonTrigger><BootTrigger></BootTrigger>`:               `<LogonTrigger><Delay>PT60S</Delay></LogonTrigger><BootTrigger><Delay>PT60S</Delay></BootTrigger>`,
		`<TimeTrigger><RandomDelay>PT1S</RandomDelay></TimeTrigger><BootTrigger><a/></BootTrigger>`: `<TimeTrigger><RandomDelay>PT1S</RandomDelay></TimeTrigger><BootTrigger><a/><Delay>PT60S</Delay></BootTrigger>`,
	} {
		out, ok, err := taskxml.SetDelay([]byte(head+in+tail), time.Minute)
		require.NoError(t, err)
		require.True(t, ok)
		require.Equal(t, head+want+tail, string(out))
	}
	out, ok, err := taskxml.SetDelay([]byte(head+`<TimeTrigger/>`+tail), time.Minute)
	require.NoError(t, err)
	require.False(t, ok)
	require.Equal(t, head+`<TimeTrigger/>`+tail, string(out))
}

func FuzzSetDelay(f *testing.F) {
	f.Add([]byte(`<Task><Triggers><BootTrigger/><LogonTrigger><Delay>PT5S</Delay></LogonTrigger></Triggers></Task>`))
	f.Fuzz(func(t *testing.T, b []byte) {
		out, ok, err := taskxml.SetDelay(b, time.Minute)
		if err == nil && !ok {
			require.Equal(t, len(b) > 0, len(out) > 0)
		}
	})
}
