package people_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/right"
	"stonebaton.example/internal/people"
)

var now = time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)

func TestABookIsChangedBySeveralAtOnce(t *testing.T) {
	dir := t.TempDir()
	var all sync.WaitGroup
	for i := range 20 {
		all.Go(func() { // each as a program of its own would
			_, err := people.Open(dir).Add(people.Person{Name: fmt.Sprintf("p%02d", i), Rights: []right.Right{right.Talk}}, now)
			assert.NoError(t, err)
		})
	}
	all.Wait()
	list, err := people.Open(dir).List()
	require.NoError(t, err)
	assert.Len(t, list, 20, "nobody is lost")
	info, err := os.Stat(filepath.Join(dir, people.File))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestATokenIsGoodUntilTheNext(t *testing.T) {
	b := people.Open(t.TempDir())
	none, err := b.None()
	require.NoError(t, err)
	assert.True(t, none)
	first, err := b.Add(people.Person{Name: "mara", Rights: []right.Right{right.Build}, Is: []string{"harbourmaster"}}, now)
	require.NoError(t, err)
	p, err := b.ByToken(first)
	require.NoError(t, err)
	assert.Equal(t, []string{"mara", "harbourmaster", "view", "build"}, p.Stands(), "build includes view")
	second, err := b.Renew("mara")
	require.NoError(t, err)
	for _, token := range []string{first, "", "mara", "mara.", "mara." + strings.Repeat("x", 43), second + "x", strings.ToUpper(second)} {
		_, err = b.ByToken(token)
		require.ErrorIs(t, err, people.ErrToken, token)
	}
	require.NoError(t, b.Remove("mara"))
	_, err = b.ByToken(second)
	require.ErrorIs(t, err, people.ErrToken)
	var no *people.UnknownError
	require.ErrorAs(t, b.Remove("mara"), &no)
}

func TestWhoCannotBeInTheBook(t *testing.T) {
	b := people.Open(t.TempDir())
	for say, p := range map[string]people.Person{
		"cannot be a name: it begins":                 {Name: "Mara", Rights: []right.Right{right.Talk}},
		"it means something else":                     {Name: "approve", Rights: []right.Right{right.Talk}},
		"has no rights":                               {Name: "mara"},
		`no right "tlak". Did you mean "talk"?`:       {Name: "mara", Rights: []right.Right{"tlak"}},
		`is: "asker" cannot be a name`:                {Name: "mara", Rights: []right.Right{right.Talk}, Is: []string{"asker"}},
		"it is not a public key":                      {Name: "portal", Rights: []right.Right{right.Talk}, Key: "x"},
		"\"ma\\x1b[2Jra\" cannot be a name: it begin": {Name: "ma\x1b[2Jra", Rights: []right.Right{right.Talk}},
	} {
		_, err := b.Add(p, now)
		require.ErrorContains(t, err, say)
	}
	list, err := b.List()
	require.NoError(t, err)
	assert.Empty(t, list)
}

func TestWhoIsMeant(t *testing.T) {
	b := people.Open(t.TempDir())
	of := func(names ...string) (out []string) {
		list, err := b.Of(names)
		require.NoError(t, err)
		for _, p := range list {
			out = append(out, p.Name)
		}
		return out
	}
	assert.Equal(t, []string{"harbourmaster"}, of("harbourmaster"), "with nobody in the book everybody is who they are called")
	for name, is := range map[string]string{"mara": "harbourmaster", "siv": "deputy"} {
		_, err := b.Add(people.Person{Name: name, Rights: []right.Right{right.Talk, right.Approve}, Is: []string{is}}, now)
		require.NoError(t, err)
	}
	assert.Equal(t, []string{"mara"}, of("harbourmaster"))
	assert.Equal(t, []string{"mara", "siv"}, of("approve"))
	assert.Equal(t, []string{"siv"}, of("siv"))
	assert.Empty(t, of("treasurer"))
}

func TestALinkIsSignedAndEnds(t *testing.T) {
	dir := t.TempDir()
	s, err := people.NewSigner(dir)
	require.NoError(t, err)
	l := people.NewLink(7, "mara", now.Add(time.Hour))
	token, err := s.Sign(l, now)
	require.NoError(t, err)
	same, err := people.NewSigner(dir)
	require.NoError(t, err)
	got, err := same.Read(token, now.Add(59*time.Minute))
	require.NoError(t, err, "also after a restart")
	assert.Equal(t, l.ID, got.ID)
	assert.Equal(t, int64(7), got.Ticket)
	assert.Equal(t, "mara", got.Person)
	_, err = s.Read(token, now.Add(61*time.Minute))
	require.ErrorIs(t, err, people.ErrExpired)
	other, err := people.NewSigner(t.TempDir())
	require.NoError(t, err)
	parts := strings.Split(token, ".")
	for _, forged := range []string{"", token[:len(token)-5], parts[0] + "." + parts[1] + ".", "eyJhbGciOiJub25lIn0." + parts[1] + "."} {
		_, err = s.Read(forged, now)
		require.ErrorIs(t, err, people.ErrLink, forged)
	}
	_, err = other.Read(token, now)
	require.ErrorIs(t, err, people.ErrLink, "of another service")
	assert.NotEqual(t, l.ID, people.NewLink(7, "mara", l.Expires).ID)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "link.key"), []byte("short"), 0o600))
	_, err = people.NewSigner(dir)
	require.ErrorContains(t, err, "too short for a key")
}
