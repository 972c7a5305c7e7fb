package service_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/api"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/internal/app"
)

func TestAnAgreementIsNotSpentOnAnExpiredToken(t *testing.T) {
	token := func(exp time.Time) string {
		s, err := jwt.NewWithClaims(jwt.SigningMethodHS256, jwt.RegisteredClaims{ExpiresAt: jwt.NewNumericDate(exp)}).SignedString([]byte("the key of the other side"))
		require.NoError(t, err)
		return s
	}
	for name, c := range map[string]struct{ token, leads string }{
		"expired": {token(time.Date(2025, 5, 4, 9, 0, 0, 0, time.UTC)), "The call would fail as things are: the token ${secret:PARCEL_TOKEN} expired at 2025-05-04 09:00 UTC; put a new one in its place."},
		"good":    {token(time.Now().Add(24 * time.Hour)), ""},
		"opaque":  {"parcel-5f1c.29.7", ""},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			for file, text := range map[string]string{
				project.Main: "project: parcels\nstart: desk\nmodels: {house: {speaks: understudy, lines: lines.yaml}}\n---\ntool: send_parcel\nsummary: Send the parcel when somebody asks for it.\ngate: {by: [foreman]}\nhttp: {method: POST, url: \"http://127.0.0.1:9/parcels\", bearer: \"${secret:PARCEL_TOKEN}\"}\n---\nagent: desk\nsummary: Sends parcels.\nprompt: You send parcels.\ntools: [send_parcel]\n",
				"lines.yaml": "lines:\n  - {who: desk, said: send, calls: [{tool: send_parcel}]}\n",
				".env":       "PARCEL_TOKEN=" + c.token + "\n",
			} {
				require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o600))
			}
			r := served(t, app.Config{Dir: dir})
			var b api.Begun
			require.Equal(t, 201, r.post("/api/runs", api.Start{Text: "Please send it."}, &b))
			require.NoError(t, r.app.Engine.Wait(ctx))
			open, err := r.app.Store.Tickets(ctx, ticketsOf(b.Run))
			require.NoError(t, err)
			require.Len(t, open, 1)
			_, _, body := r.get("/api/tickets/" + strconv.FormatInt(open[0].ID, 10))
			var got api.Ticket
			require.NoError(t, json.Unmarshal([]byte(body), &got))
			var want []string
			if c.leads != "" {
				want = []string{c.leads}
			}
			assert.Equal(t, want, got.Leads[ledger.Allow])
			assert.NotContains(t, body, c.token, "the token itself is not shown")
			_, _, problems := r.get("/api/problems")
			assert.Equal(t, c.leads != "", strings.Contains(problems, "cannot be called: the token"), "and a reader of the project is warned: %s", problems)
		})
	}
}
