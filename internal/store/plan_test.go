package store

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is written costs the same however much is there already: no statement of the writer
// looks through a whole table.
func TestStatementsOfTheWriterUseAnIndex(t *testing.T) {
	s, err := Open(t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	for _, q := range queries {
		var params = map[string]any{}
		for _, p := range s.write.stmts[q].Params {
			params[p] = nil
		}
		steps, err := s.read.NamedQuery(`EXPLAIN QUERY PLAN `+q.sql, params)
		require.NoError(t, err, q.sql)
		for steps.Next() {
			row, err := steps.SliceScan()
			require.NoError(t, err)
			assert.NotContains(t, row[len(row)-1], "SCAN", q.sql)
		}
		require.NoError(t, steps.Close())
	}
}
