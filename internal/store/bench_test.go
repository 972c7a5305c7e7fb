package store_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/project"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/store"
	"stonebaton.example/internal/tools"
)

func TestTriesAreKeptWithAllThatCameOfThem(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	long := fmt.Sprintf(`{"id":"look","words":%q}`, strings.Repeat("wave ", 4000))
	for i := range 5 {
		body := `{"id":"look"}`
		if i == 2 {
			body = long // over what stands in the row: a file
		}
		id, err := s.SaveTry(ctx, rows.Try{Tool: []string{"look", "tide"}[i%2], At: rows.Moment{Time: at}, Status: "returned", Way: "live", MS: 3, Bytes: 4, Tokens: 5, Args: rows.JSON(`{"n":1}`), Words: "w"}, []byte(body))
		require.NoError(t, err)
		assert.EqualValues(t, i+1, id)
	}
	list, err := s.Tries(ctx, "look", 0, 2)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.EqualValues(t, []int64{5, 3}, []int64{list[0].ID, list[1].ID}, "the newest first")
	assert.Equal(t, at, list[0].At.Time)
	list, err = s.Tries(ctx, "look", 3, 2)
	require.NoError(t, err)
	assert.EqualValues(t, 1, list[0].ID)
	n, err := s.CountTries(ctx, "look")
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	_, raw, err := s.Try(ctx, 3)
	require.NoError(t, err)
	assert.Equal(t, long, string(raw))
	_, _, err = s.Try(ctx, 99)
	assert.ErrorIs(t, err, store.ErrNoTry)
}

func TestMessagesChangesAndCatalogues(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	first, err := s.Send(ctx, "k1", tools.Message{At: at, Tool: "tell", To: "ann", Text: "Hello."})
	require.NoError(t, err)
	again, err := s.Send(ctx, "k1", tools.Message{At: at, Tool: "tell", To: "ann", Text: "Hello."})
	require.NoError(t, err)
	assert.Equal(t, first.ID, again.ID, "a key sends once")
	before := "old"
	require.NoError(t, s.SaveChange(ctx, tools.Change{Key: "c1", At: at, Path: "notes/a.md", Before: &before, After: "h"}))
	require.NoError(t, s.SaveChange(ctx, tools.Change{Key: "c2", At: at, Path: "notes/b.md", After: "h"}))
	require.NoError(t, s.MarkUndone(ctx, "c1", at))
	require.NoError(t, s.SaveCatalogue(ctx, "st", project.Catalogue{From: "station 1", Tools: []project.Offer{{Name: "f"}}}))
	require.NoError(t, s.Close())

	s = open(t, dir)
	defer s.Close()
	list, err := s.Messages(ctx, "ann")
	require.NoError(t, err)
	assert.Equal(t, []tools.Message{{ID: first.ID, At: at, Tool: "tell", To: "ann", Text: "Hello."}}, list)
	c, err := s.Change(ctx, "c1")
	require.NoError(t, err)
	assert.Equal(t, tools.Change{Key: "c1", At: at, Path: "notes/a.md", Before: &before, After: "h", Undone: &at}, c)
	c, err = s.Change(ctx, "c2")
	require.NoError(t, err)
	assert.Nil(t, c.Before, "the file did not exist")
	_, err = s.Change(ctx, "c3")
	assert.ErrorIs(t, err, tools.ErrNoChange)
	cat, ok, err := s.Catalogue(ctx, "st")
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, "station 1", cat.From)
	_, ok, err = s.Catalogue(ctx, "other")
	require.NoError(t, err)
	assert.False(t, ok)
}
