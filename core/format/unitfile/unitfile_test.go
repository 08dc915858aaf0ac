package unitfile_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/unitfile"
)

const sample = `# comment
[Unit]
Description=Tide gauge \
  # a comment between
  reader
Wants=a.service b.service
Wants=
Wants=c.service
[Service]
; another comment
ExecStart=-/opt/tide\x20watch/run "one two" 'three' four\
 five
ExecStart = /second
[Install]
WantedBy=multi-user.target
junk without equals
`

func TestRead(t *testing.T) {
	f := unitfile.Parse([]byte(sample))
	require.Equal(t, "Tide gauge    reader", f.Last("Unit", "Description"))
	require.Equal(t, []string{"c.service"}, f.List("Unit", "Wants"))
	require.Equal(t, "/second", f.Last("Service", "ExecStart"))
	require.Len(t, f.All("Service", "ExecStart"), 2)
	require.Equal(t, []string{"multi-user.target"}, f.List("Install", "WantedBy"))
	require.Empty(t, f.Last("Service", "WantedBy"))
	f.Merge(unitfile.Parse([]byte("[Service]\nExecStart=\nExecStart=/third\n")))
	require.Equal(t, []string{"/third"}, f.All("Service", "ExecStart"))
}

func TestNames(t *testing.T) {
	for name, valid := range map[string]bool{
		"cron.service": true, "getty@tty1.service": true, "getty@.service": true, `dev-disk-by\x2dlabel.swap`: true,
		"": false, ".service": false, "cron": false, "a b.service": false, "cron.conf": false, "@x.service": false,
		strings.Repeat("a", 250) + ".service": false, "../x.service": false,
	} {
		require.Equal(t, valid, unitfile.Valid(name), name)
	}
	template, instance, ok := unitfile.Template("getty@tty1.service")
	require.True(t, ok)
	require.Equal(t, "getty@.service/tty1", template+"/"+instance)
	_, _, ok = unitfile.Template("getty@.service")
	require.False(t, ok)
	require.True(t, unitfile.IsTemplate("getty@.service"))
	require.Equal(t, "getty@tty1.service getty tty1 a/b % getty", unitfile.Expand("%n %p %i a/b %% %j",
		"getty@tty1.service"))
}

func TestSplitCommand(t *testing.T) {
	for command, want := range map[string][]string{
		`-/bin/true "one two" 'three' four`: {"/bin/true", "one two", "three", "four"},
		`@+!!/bin/a\x20b`:                   {`/bin/a\x20b`},
		`/bin/a\sb`:                         {"/bin/a b"},
		``:                                  nil,
		`"open`:                             {"open"},
	} {
		require.Equal(t, want, unitfile.SplitCommand(command), command)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(sample), "getty@tty1.service")
	f.Add([]byte("[a\\\n]\\"), "@.")
	f.Fuzz(func(t *testing.T, content []byte, name string) {
		file := unitfile.Parse(content)
		for _, a := range file.Assignments {
			require.NotContains(t, a.Key, "\n")
			require.Positive(t, a.Line)
			unitfile.SplitCommand(unitfile.Expand(a.Value, name))
		}
		file.List("Unit", "Wants")
		if template, instance, ok := unitfile.Template(name); ok {
			require.NotEmpty(t, instance)
			require.True(t, unitfile.IsTemplate(template))
		}
		unitfile.Valid(name)
	})
}
