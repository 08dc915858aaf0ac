// Package authdb reads the authorization database of macOS, a SQLite file: which
// plug-ins take part when somebody signs in or asks for a right. Its tables are
// those of the Security framework's authd.
//
//	steps, err := authdb.Parse(content)
//
// Plug-ins that are in no right's list are of no account, and left out.
package authdb

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"modernc.org/sqlite"
)

// Step is one plug-in's part in a right, as system.login.console.
type Step struct {
	Right      string
	Order      int64
	Plugin     string // the bundle's name without its ending; "builtin" of those that need none
	Mechanism  string // which of the plug-in's
	Privileged bool   // it runs as root
}

// ErrFormat says that the bytes are no authorization database.
var ErrFormat = errors.New("not an authorization database")

// The bounds that keep a hostile file from running us out of memory and time.
const (
	maxSteps = 10000
	maxTime  = 5 * time.Second
)

// query finds the steps. The three names must be tables: a view could be a
// program that never ends.
const (
	countTables = `SELECT count(*) FROM sqlite_master WHERE type = 'table' AND name IN ('rules', 'mechanisms', ` +
		`'mechanisms_map') AND sql NOT LIKE 'CREATE VIRTUAL%'`
	query = `SELECT r.name, map.ord, m.plugin, m.param, m.privileged FROM mechanisms_map map
		JOIN mechanisms m ON m.id = map.m_id JOIN rules r ON r.id = map.r_id ORDER BY r.name, map.ord, m.plugin, m.param LIMIT ?`
)

// Parse reads the database from memory. It fails with [ErrFormat].
func Parse(content []byte) ([]Step, error) {
	if len(content) < 100 || string(content[:16]) != "SQLite format 3\x00" {
		return nil, ErrFormat
	}
	content = slices.Clone(content)
	content[18], content[19] = 1, 1 // without its log file it is read as it is
	ctx, cancel := context.WithTimeout(context.Background(), maxTime)
	defer cancel()
	conn, err := (&sqlite.Driver{}).Open(":memory:")
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	steps, err := read(ctx, conn, content)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrFormat, err)
	}
	return steps, nil
}

func read(ctx context.Context, conn driver.Conn, content []byte) ([]Step, error) {
	if err := conn.(interface{ Deserialize([]byte) error }).Deserialize(content); err != nil {
		return nil, err
	}
	ask := conn.(driver.QueryerContext)
	var tables int64
	err := each(ctx, ask, countTables, nil, 1, func(row []driver.Value) { tables, _ = row[0].(int64) })
	if err != nil {
		return nil, err
	}
	if tables != 3 {
		return nil, errors.New("its tables are missing")
	}
	var steps []Step
	err = each(ctx, ask, query, []driver.NamedValue{{Ordinal: 1, Value: int64(maxSteps)}}, 5, func(row []driver.Value) {
		privileged, _ := row[4].(int64)
		order, _ := row[1].(int64)
		steps = append(steps, Step{Right: text(row[0]), Order: order, Plugin: text(row[2]), Mechanism: text(row[3]),
			Privileged: privileged != 0})
	})
	return steps, err
}

func each(ctx context.Context, ask driver.QueryerContext, query string, args []driver.NamedValue, columns int,
	visit func([]driver.Value)) error {
	rows, err := ask.QueryContext(ctx, query, args)
	if err != nil {
		return err
	}
	defer rows.Close()
	for row := make([]driver.Value, columns); ; {
		if err := rows.Next(row); err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		visit(row)
	}
}

func text(v driver.Value) string {
	switch v := v.(type) {
	case string:
		return v
	case []byte:
		return string(v)
	}
	return ""
}
