package office_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/examples/harbour/office"
)

var day = time.Date(2026, 5, 4, 9, 0, 0, 0, time.UTC)

type desk struct {
	t   *testing.T
	o   *office.Office
	url string
}

func open(t *testing.T, file string) *desk {
	t.Helper()
	o, err := office.Open(file, "token", day)
	require.NoError(t, err)
	srv := httptest.NewServer(o.Handler())
	t.Cleanup(func() { srv.Close(); o.Close() })
	return &desk{t, o, srv.URL}
}

func (d *desk) call(method, path, body, key string) (int, map[string]any) {
	d.t.Helper()
	req, err := http.NewRequest(method, d.url+path, bytes.NewReader([]byte(body)))
	require.NoError(d.t, err)
	req.Header.Set("Authorization", "Bearer token")
	req.Header.Set("Idempotency-Key", key)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(d.t, err)
	defer resp.Body.Close()
	var out map[string]any
	require.NoError(d.t, json.NewDecoder(resp.Body).Decode(&out))
	return resp.StatusCode, out
}

func (d *desk) get(path string) (int, map[string]any) {
	d.t.Helper()
	return d.call("GET", path, "", "")
}

func TestItsDataIsTheSameEveryTime(t *testing.T) {
	a, b := open(t, filepath.Join(t.TempDir(), "a.db")), open(t, filepath.Join(t.TempDir(), "b.db"))
	for _, path := range []string{"/vessels/marrow%20light", "/bookings", "/tides?day=2026-05-08&draught_m=5.2", "/berths?length_m=12&draught_m=2&arrives=2026-05-08T12:00:00%2B01:00&leaves=2026-05-10T12:00:00%2B01:00"} {
		_, x := a.get(path)
		_, y := b.get(path)
		assert.Equal(t, x, y, path)
	}
	_, list := a.get("/bookings")
	assert.Len(t, list["bookings"], 40)
	_, v := a.get("/vessels/marrow%20light")
	assert.Equal(t, "Marrow Light", v["vessel"].(map[string]any)["vessel"], "in any case of letters")
	code, miss := a.get("/vessels/Marow%20Light")
	assert.Equal(t, 404, code)
	assert.Contains(t, miss["error"], `"Marrow Light" is nearest`)
}

func TestABerthIsBookedOnce(t *testing.T) {
	file := filepath.Join(t.TempDir(), "o.db")
	d := open(t, file)
	stay := `{"vessel":"Marrow Light","arrives":"2026-05-08T12:00:00+01:00","leaves":"2026-05-10T12:00:00+01:00"}`
	code, one := d.call("POST", "/berths/C4/bookings", stay, "k1")
	assert.Equal(t, 201, code)
	assert.Equal(t, "B-1041", one["booking"].(map[string]any)["id"])
	code, again := d.call("POST", "/berths/C4/bookings", stay, "k1")
	assert.Equal(t, 200, code, "the same key books once")
	assert.Equal(t, one, again)
	code, taken := d.call("POST", "/berths/C4/bookings", stay, "k2")
	assert.Equal(t, 409, code)
	assert.Equal(t, "C4 is taken at that time", taken["error"])
	code, _ = d.call("POST", "/berths/Z9/bookings", stay, "k3")
	assert.Equal(t, 404, code)
	code, _ = d.call("POST", "/berths/C4/bookings", `{"vessel":"x","arrives":"2026-05-08T12:00:00Z","leaves":"2026-05-07T12:00:00Z"}`, "k4")
	assert.Equal(t, 422, code)
	_, free := d.get("/berths?length_m=46&draught_m=5.2&arrives=2026-05-09T12:00:00Z&leaves=2026-05-09T18:00:00Z")
	for _, b := range free["berths"].([]any) {
		assert.NotEqual(t, "C4", b.(map[string]any)["berth"])
	}
	e := open(t, file)
	_, list := e.get("/bookings")
	assert.Len(t, list["bookings"], 41, "it keeps its records")
}

func TestTheTideLetsADeepDraughtInForLess(t *testing.T) {
	d := open(t, filepath.Join(t.TempDir(), "o.db"))
	open := func(draught float64) (minutes float64) {
		_, r := d.get(fmt.Sprintf("/tides?day=2026-05-08&draught_m=%g", draught))
		for _, w := range r["windows"].([]any) {
			m := w.(map[string]any)
			from, err := time.Parse("15:04", m["opens"].(string))
			require.NoError(t, err)
			to, err := time.Parse("15:04", m["closes"].(string))
			require.NoError(t, err)
			if to.Before(from) {
				to = to.Add(24 * time.Hour)
			}
			minutes += to.Sub(from).Minutes()
		}
		return minutes
	}
	assert.Greater(t, open(2), open(4))
	assert.Zero(t, open(9))
	code, _ := d.get("/tides?day=Friday&draught_m=2")
	assert.Equal(t, 400, code)
	code, _ = d.get("/tides?day=2026-05-08&draught_m=deep")
	assert.Equal(t, 400, code)
}

func TestKnobsAndToken(t *testing.T) {
	d := open(t, filepath.Join(t.TempDir(), "o.db"))
	code, _ := d.call("POST", "/knob", `{"fail":1}`, "")
	assert.Equal(t, 200, code)
	code, _ = d.get("/vessels/Petrel")
	assert.Equal(t, 503, code)
	code, _ = d.get("/vessels/Petrel")
	assert.Equal(t, 200, code)
	d.o.Turn(office.Knob{Down: true})
	code, _ = d.get("/vessels/Petrel")
	assert.Equal(t, 503, code)
	resp, err := http.Get(d.url + "/vessels/Petrel")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 401, resp.StatusCode)
	resp, err = http.Get(d.url + "/openapi.json")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 200, resp.StatusCode, "its document is open")
}
