package store

import (
	"context"
	"database/sql"
	"testing"

	"github.com/stretchr/testify/require"
)

// The digests are those of what the migrations make.
func TestSchemas(t *testing.T) {
	db, err := sql.Open("sqlite", ":memory:")
	require.NoError(t, err)
	defer db.Close()
	conn, err := db.Conn(context.Background())
	require.NoError(t, err)
	defer conn.Close()
	require.Len(t, schemas, len(migrations)+1)
	for k, script := range migrations {
		_, err := conn.ExecContext(context.Background(), script)
		require.NoError(t, err)
		digest, err := schemaDigest(conn)
		require.NoError(t, err)
		require.Equal(t, digest, schemas[k+1], "version %d", k+1)
	}
}
