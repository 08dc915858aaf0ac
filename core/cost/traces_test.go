package cost_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/cost"
)

const trace = `<?xml version="1.0" encoding="UTF-16"?><StartupData><Process Name="C:\a.exe" ` +
	`PID="4"><StartTime>x</StartTime><CommandLine><![CDATA["C:\a.exe"]]></CommandLine>` +
	`<DiskUsage Units="bytes">2048</DiskUsage><CpuUsage Units="us">1500</CpuUsage></Process><Process Name="b"><CpuUsage Units="ms">2</CpuUsage><DiskUsage Units="pages">9</DiskUsage></Process></StartupData>`

func TestParseTrace(t *testing.T) {
	wide := []byte{0xff, 0xfe}
	for _, c := range []byte(trace) {
		wide = append(wide, c, 0)
	}
	for _, text := range [][]byte{[]byte(trace), wide} {
		all, err := cost.ParseTrace(text)
		require.NoError(t, err)
		require.Equal(t, []cost.Process{{Program: `C:\a.exe`, CPU: 1500, Disk: 2048}, {Program: "b", CPU: 2000}}, all)
	}
	_, err := cost.ParseTrace([]byte("<StartupData>"))
	require.Error(t, err)
}

func FuzzParseTrace(f *testing.F) {
	f.Add([]byte(trace))
	f.Fuzz(func(t *testing.T, text []byte) {
		all, err := cost.ParseTrace(text)
		require.Equal(t, err == nil, len(all) > 0)
	})
}
