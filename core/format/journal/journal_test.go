package journal_test

import (
	"bytes"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/require"

	"lockback/core/format/journal"
)

// log makes a journal of data objects, and one entry with all of them; compact offsets have 32 bits.
func log(compact bool, fields ...string) []byte {
	head := make([]byte, 208)
	copy(head, "LPKSHHRH")
	binary.LittleEndian.PutUint64(head[88:], uint64(len(head)))
	payload := 64
	if compact {
		binary.LittleEndian.PutUint32(head[12:], 16)
		payload = 72
	}
	b := head
	object := func(kind byte, size int) []byte {
		for len(b)%8 != 0 {
			b = append(b, 0)
		}
		o := make([]byte, size)
		o[0] = kind
		binary.LittleEndian.PutUint64(o[8:], uint64(size))
		return o
	}
	var places []uint64
	for _, f := range fields {
		o := object(1, payload+len(f))
		copy(o[payload:], f)
		places = append(places, uint64(len(b)))
		b = append(b, o...)
	}
	step := 16
	if compact {
		step = 4
	}
	o := object(3, 64+step*len(places))
	binary.LittleEndian.PutUint64(o[24:], 1773480413000000)
	for k, p := range places {
		if compact {
			binary.LittleEndian.PutUint32(o[64+step*k:], uint32(p))
		} else {
			binary.LittleEndian.PutUint64(o[64+step*k:], p)
		}
	}
	return append(b, o...)
}

func read(t testing.TB, b []byte) (all []journal.Entry) {
	t.Helper()
	require.NoError(t, journal.Read(bytes.NewReader(b), int64(len(b)), []string{journal.Resources},
		[]string{"UNIT", "_PID"}, func(e journal.Entry) { all = append(all, e) }))
	return all
}

func TestRead(t *testing.T) {
	for _, compact := range []bool{false, true} {
		all := read(t, log(compact, "MESSAGE_ID="+journal.Resources, "UNIT=tide.service", "_PID=1", "OTHER=x"))
		require.Len(t, all, 1)
		require.Equal(t, map[string]string{"MESSAGE_ID": journal.Resources, "UNIT": "tide.service", "_PID": "1"},
			all[0].Fields)
		require.Equal(t, int64(1773480413), all[0].Time.Unix())
		require.Empty(t, read(t, log(compact, "MESSAGE_ID=other", "UNIT=tide.service")))
	}
	require.ErrorIs(t, journal.Read(bytes.NewReader(nil), 0, nil, nil, nil), journal.ErrFormat)
}

// A message may be told by another field, and of a field only some values be wanted.
func TestReadByField(t *testing.T) {
	for text, want := range map[string]map[string]string{
		"(ines) CMD (/opt/tide)": {"SYSLOG_IDENTIFIER": "CRON", "MESSAGE": "(ines) CMD (/opt/tide)"},
		"pam_unix: opened":       {"SYSLOG_IDENTIFIER": "CRON"},
	} {
		b := log(false, "SYSLOG_IDENTIFIER=CRON", "MESSAGE="+text)
		var all []journal.Entry
		require.NoError(t, journal.Read(bytes.NewReader(b), int64(len(b)), []string{"SYSLOG_IDENTIFIER=CRON"},
			[]string{"MESSAGE=("}, func(e journal.Entry) { all = append(all, e) }))
		require.Len(t, all, 1)
		require.Equal(t, want, all[0].Fields)
		b = log(false, "SYSLOG_IDENTIFIER=CRONTAB", "MESSAGE="+text)
		require.NoError(t, journal.Read(bytes.NewReader(b), int64(len(b)), []string{"SYSLOG_IDENTIFIER=CRON"},
			[]string{"MESSAGE=("}, func(e journal.Entry) { require.Fail(t, "another's") }))
	}
}

func TestBoot(t *testing.T) {
	b := log(false, "MESSAGE_ID=x")
	require.Empty(t, journal.Boot(bytes.NewReader(b)), "no entry yet")
	for k := range 16 {
		b[56+k] = byte(k)
	}
	require.Equal(t, "000102030405060708090a0b0c0d0e0f", journal.Boot(bytes.NewReader(b)))
	require.Empty(t, journal.Boot(bytes.NewReader(b[:71])))
	b[0] = 'x'
	require.Empty(t, journal.Boot(bytes.NewReader(b)))
}

func FuzzRead(f *testing.F) {
	f.Add(log(false, "MESSAGE_ID="+journal.Resources, "UNIT=tide.service"))
	f.Add(log(true, "MESSAGE_ID="+journal.Resources, "UNIT=tide.service"))
	f.Fuzz(func(t *testing.T, b []byte) {
		journal.Read(bytes.NewReader(b), int64(len(b)), []string{journal.Resources}, []string{"UNIT"},
			func(e journal.Entry) {
				require.Equal(t, journal.Resources, e.Fields["MESSAGE_ID"])
			})
	})
}
