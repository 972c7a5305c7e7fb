package store

import (
	"fmt"
	"strings"
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
		st := s.write.stmts[q]
		steps, err := s.read.Queryx(`EXPLAIN QUERY PLAN `+st.QueryString, make([]any, strings.Count(st.QueryString, "?"))...)
		require.NoError(t, err, q.sql)
		for steps.Next() {
			row, err := steps.SliceScan()
			require.NoError(t, err)
			step := fmt.Sprint(row[len(row)-1])
			assert.False(t, strings.HasPrefix(step, "SCAN") && !strings.HasSuffix(step, "VALUES CLAUSE"), "%s: %s", step, q.sql)
		}
		require.NoError(t, steps.Close())
	}
}
