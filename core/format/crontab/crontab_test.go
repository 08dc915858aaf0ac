package crontab_test

import (
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/crontab"
)

const sample = `# comment
SHELL=/bin/sh
  MAILTO = "ines"

17 *	* * *	root	cd / && run-parts --report /etc/cron.hourly
@reboot	root  /opt/tidewatch/start 100%done
#lockback:off */5 0-6,12 1 jan-mar mon-fri root /opt/kelpline/update
	#lockback:off 	@daily root /opt/indented
#17 * * * * root /opt/commented
`

func TestReadSystemTable(t *testing.T) {
	table := crontab.Parse([]byte(sample), true)
	require.Equal(t, sample, string(table.Bytes()))
	require.Empty(t, table.Broken())
	jobs := table.Jobs()
	require.Len(t, jobs, 4)
	require.Equal(t, "17 * * * *", jobs[0].Schedule)
	require.Equal(t, "root", jobs[0].User)
	require.Equal(t, "cd / && run-parts --report /etc/cron.hourly", jobs[0].Command)
	require.EqualValues(t, 5, jobs[0].Number)
	require.Equal(t, "@reboot", jobs[1].Schedule)
	require.Equal(t, []bool{false, false, true, true}, []bool{jobs[0].Off, jobs[1].Off, jobs[2].Off, jobs[3].Off})
	require.Equal(t, "*/5 0-6,12 1 jan-mar mon-fri", jobs[2].Schedule)
	require.Equal(t, "/opt/indented", jobs[3].Command)
}

func TestSwitchingIsExact(t *testing.T) {
	for _, content := range []string{sample, strings.ReplaceAll(sample, "\n", "\r\n"), "@daily root x",
		"\t 5 4 * * * root  two  spaces \n"} {
		table := crontab.Parse([]byte(content), true)
		for _, job := range table.Jobs() {
			was := job.Off
			table.SetOff(job.Number, !was)
			again := crontab.Parse(table.Bytes(), true)
			require.Equal(t, !was, again.Lines[job.Number-1].Off, content)
			require.Equal(t, job.Command, again.Lines[job.Number-1].Command)
			again.SetOff(job.Number, was)
			if !was {
				require.Equal(t, content, string(again.Bytes()))
			}
			table = crontab.Parse([]byte(content), true)
		}
	}
}

func TestWhatCronRefuses(t *testing.T) {
	for content, broken := range map[string]string{
		"* * * * * root /x":         "the last line does not end",
		"* * * * root\n":            "a line cannot be parsed",
		"@often root /x\n":          "a line cannot be parsed",
		"61;1 * * * * root /x\n":    "a line cannot be parsed",
		"hello\n":                   "a line cannot be parsed",
		"#lockback:off hello\n":     "",
		"":                          "",
		"A=1\n'B C'=2\n\"D\" = 3\n": "",
		"* * * * * root /x a=b\n@daily root y=1 z\n": "",
	} {
		require.Equal(t, broken, crontab.Parse([]byte(content), true).Broken(), content)
	}
	require.Len(t, crontab.Parse([]byte("* * * * * X=1 /opt/run\n"), false).Jobs(), 1)
}

func TestShellOfALine(t *testing.T) {
	table := crontab.Parse([]byte("@reboot root a\nSHELL=/bin/bash\n@reboot root b\n\"SHELL\" = "+
		"'/usr/bin/tide'\r\nSHELLS=/x\n@reboot root c\n"), true)
	for k, shell := range []string{"/bin/sh", "/bin/bash", "/usr/bin/tide"} {
		require.Equal(t, shell, table.Jobs()[k].Shell)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(sample), true)
	f.Add([]byte("#lockback:off #lockback:off @daily x\n"), false)
	f.Fuzz(func(t *testing.T, content []byte, system bool) {
		table := crontab.Parse(content, system)
		require.True(t, bytes.Equal(content, table.Bytes()))
		table.Broken()
		for _, job := range table.Jobs() {
			if job.Off {
				continue
			}
			table.SetOff(job.Number, true)
			again := crontab.Parse(table.Bytes(), system)
			require.Len(t, again.Lines, len(table.Lines))
			require.True(t, again.Lines[job.Number-1].Off)
			again.SetOff(job.Number, false)
			require.True(t, bytes.Equal(content, again.Bytes()))
			table.SetOff(job.Number, false)
			if table.Broken() != "" || job.Kind == crontab.Bad {
				continue
			}
			with := crontab.Parse(table.With(job.Number, "@reboot root /bin/sleep"), system)
			require.Len(t, with.Lines, len(table.Lines)+1)
			require.Equal(t, "@reboot", with.Lines[job.Number].Schedule)
			require.Empty(t, with.Broken())
		}
	})
}

// Each schedule that has a name is one, and no other word is, crontab(5).
func TestNicknames(t *testing.T) {
	for _, name := range []string{"@reboot", "@yearly", "@annually", "@monthly", "@weekly", "@daily", "@midnight",
		"@hourly"} {
		jobs := crontab.Parse([]byte(name+" /bin/true\n"), false).Jobs()
		require.Len(t, jobs, 1, name)
		require.Equal(t, crontab.Job, jobs[0].Kind, name)
	}
	require.Equal(t, crontab.Bad, crontab.Parse([]byte("@never /bin/true\n"), false).Jobs()[0].Kind)
}
