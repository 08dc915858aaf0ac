package win

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/core/format/taskxml"
	"lockback/core/machine/artifact"
)

// How a task is registered, and when that cannot be done because only the scheduler has its password.
func TestTasksThatSignIn(t *testing.T) {
	t.Parallel()
	definition := func(principal, enabled, command string) artifact.Image {
		return artifact.NewFile(
			[]byte(`<Task xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task"><Principals><Principal>`+
				principal+`</Principal></Principals><Settings><Enabled>`+enabled+
				`</Enabled></Settings><Actions><Exec><Command>`+command+`</Command></Exec></Actions></Task>`), 0, -1,
			-1, time.Time{})
	}
	for principal, want := range map[string]int{
		"": logonInteractive, "<UserId>S-1-5-18</UserId>": logonService,
		`<UserId>NT AUTHORITY\LocalService</UserId><LogonType>S4U</LogonType>`:   logonService,
		"<GroupId>S-1-5-32-545</GroupId>":                                        logonGroup,
		"<UserId>ines</UserId><LogonType>S4U</LogonType>":                        logonS4U,
		"<UserId>ines</UserId><LogonType>Password</LogonType>":                   logonPassword,
		"<UserId>ines</UserId><LogonType>InteractiveToken</LogonType>":           logonInteractive,
		"<UserId>ines</UserId><LogonType>InteractiveTokenOrPassword</LogonType>": logonEither,
		"<UserId>ines</UserId><LogonType>Other</LogonType>":                      logonInteractive,
	} {
		task, err := taskxml.Parse(definition(principal, "true", "a").Content)
		require.NoError(t, err)
		require.Equal(t, want, logonOf(task), principal)
	}
	const password = "<UserId>ines</UserId><LogonType>Password</LogonType>"
	for _, row := range []struct {
		name          string
		before, after artifact.Image
		want          error
	}{
		{"turned off", definition(password, "true", "a"), definition(password, "false", "a"), nil},
		{"another command", definition(password, "true", "a"), definition(password, "true", "b"), ErrPassword},
		{"brought back", artifact.Image{Kind: artifact.Absent}, definition(password, "true", "a"), ErrPassword},
		{"brought back, for the user", artifact.Image{Kind: artifact.Absent}, definition("<LogonType>S4U</LogonType>",
			"true", "a"), nil},
		{"brought back, and runs where the user is signed in", artifact.Image{Kind: artifact.Absent},
			definition("<LogonType>InteractiveTokenOrPassword</LogonType>", "true", "a"), nil},
		{"taken away", definition(password, "true", "a"), artifact.Image{Kind: artifact.Absent}, nil},
		{"not understood", definition(password, "true", "a"), artifact.NewFile([]byte("x"), 0, -1, -1, time.Time{}),
			nil},
	} {
		require.Equal(t, row.want, registrable(row.before, row.after), row.name)
	}
}
