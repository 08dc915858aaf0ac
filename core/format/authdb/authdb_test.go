package authdb

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lockback/internal/testkit"
)

var tables = []string{
	`CREATE TABLE rules (id INTEGER PRIMARY KEY, name TEXT)`,
	`CREATE TABLE mechanisms (id INTEGER PRIMARY KEY, plugin TEXT, param TEXT, privileged INTEGER)`,
	`CREATE TABLE mechanisms_map (r_id INTEGER, m_id INTEGER, ord INTEGER)`,
	`INSERT INTO rules VALUES (1, 'system.login.console'), (2, 'unused')`,
	`INSERT INTO mechanisms VALUES (1, 'builtin', 'policy-banner', 0), (2, 'TideLogin', 'check', 1), (3, 'Nobody', ` +
		`'x', 0)`,
	`INSERT INTO mechanisms_map VALUES (1, 2, 1), (1, 1, 0)`,
}

func TestReadsSteps(t *testing.T) {
	want := []Step{{"system.login.console", 0, "builtin", "policy-banner", false}, {"system.login.console", 1,
		"TideLogin", "check", true}}
	for _, journal := range []string{"PRAGMA journal_mode=DELETE", "PRAGMA journal_mode=WAL"} {
		steps, err := Parse(testkit.Database(t, append([]string{journal}, tables...)...))
		require.NoError(t, err)
		require.Equal(t, want, steps)
	}
}

// A view in the place of a table, a table without columns, half a file.
func TestHostile(t *testing.T) {
	whole := testkit.Database(t, tables...)
	started := time.Now()
	for name, content := range map[string][]byte{
		"nothing": nil, "no database": make([]byte, 4096), "another database": testkit.Database(t,
			`CREATE TABLE x (y)`),
		"an endless view": testkit.Database(t, tables[1], tables[2],
			`CREATE VIEW rules AS WITH RECURSIVE t(id, name) AS (SELECT 1, 'a' UNION ALL SELECT id + 1, 'a' FROM `+
				`t) SELECT * FROM t`),
		"no columns": testkit.Database(t, `CREATE TABLE rules (x)`, tables[1], tables[2]),
		"half":       whole[:len(whole)/2],
	} {
		_, err := Parse(content)
		require.ErrorIs(t, err, ErrFormat, name)
	}
	for at := 100; at < len(whole); at += 61 {
		broken := append([]byte(nil), whole...)
		broken[at] ^= 0x55
		_, _ = Parse(broken)
	}
	require.Less(t, time.Since(started), time.Minute)
}

func FuzzParse(f *testing.F) {
	f.Add(testkit.Database(f, tables...))
	f.Fuzz(func(t *testing.T, b []byte) {
		steps, err := Parse(b)
		if err == nil && len(steps) > maxSteps {
			t.Fatal("too many steps")
		}
	})
}
