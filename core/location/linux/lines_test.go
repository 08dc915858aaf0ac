package linux

import (
	"io/fs"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/location"
	"lockback/core/machine"
)

// nowhere is a machine on which nothing is.
type nowhere struct{ location.View }

func (nowhere) Stat(name string) (fs.FileInfo, error)           { return nil, fs.ErrNotExist }
func (nowhere) ReadFile(name string, max int64) ([]byte, error) { return nil, fs.ErrNotExist }

func FuzzLines(f *testing.F) {
	for _, line := range []string{"install tide /opt/tide", ":book:E::slt::/opt/reader:OC", "7\t10 weekly /opt/weekly",
		`/srv/two\ words IN_CREATE /opt/seen`, "tide stream tcp nowait nobody /usr/sbin/tcpd /opt/tided",
		"ca::ctrlaltdel:+/sbin/shutdown",
		"export LD_PRELOAD=/a:/b", "LD_AUDIT DEFAULT= OVERRIDE=/opt/audit.so", "/opt/a.so:/opt/b.so", "é:é", "=",
		"\\"} {
		f.Add(line)
	}
	f.Fuzz(func(t *testing.T, line string) {
		if line == "" {
			return // the form leaves such lines out
		}
		s := &location.Survey{View: nowhere{}, Machine: &machine.Reader{}}
		for _, describe := range []func(*location.Survey, location.Found, string) *location.Item{describeModule,
			describeRule, describeInterface, describeTunnel, describeOpenVPN, describeAlias, describeForward,
			describeRecipe, describeSudo, describeAptHook,
			describeDpkgHook, describeAlpmHook, describeDNFPlugin, describePython, describeSession, describeGreetd,
			describeGreeter, describeTilingExec, describeHyprExec, describeNiriSpawn, describeWayfire,
			describeScriptLine, describeLXSession, describeLXC, describeDracut, describeMkinitcpio, describeModprobe,
			describeBinfmt, describeAnacron, describeIncron, describeInetd, describeInittab, describeVariable,
			describePAMVariable} {
			if item := describe(s, location.Found{Path: "/etc/tide"}, line); item != nil {
				require.Empty(t, item.Source.Path, "the form fills it in")
			}
		}
	})
}

func FuzzFiles(f *testing.F) {
	for _, content := range []string{`<channel><property name="Client0_Command"><value value="a"/></property>`,
		`{"ExtensionInstallForcelist":["a;b"]}`, "GRUB_CMDLINE_LINUX=\"init=/opt/x\"", "auth [a=b c] pam_exec.so /x"} {
		f.Add(content)
	}
	f.Fuzz(func(t *testing.T, content string) {
		clients, _ := xfceClients([]byte(content))
		require.LessOrEqual(t, len(clients), len(content))
		for _, file := range []string{"/etc/default/grub", "/boot/grub/grub.cfg", "/boot/loader/entries/a.conf",
			runningKernel} {
			for _, arg := range kernelArgs(file, content) {
				require.Contains(t, content, arg)
			}
		}
		if module, args := pamModule(content); module == "" {
			require.Empty(t, args)
		}
	})
}
