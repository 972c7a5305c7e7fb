// Package office is the stand-in for the harbour office's own system in the
// demo: vessels, berths, bookings, tides. Everything in it is invented and made
// from a seed, the same every time. It keeps its records in SQLite, wants a
// bearer token, and has knobs to fail, to be slow, or to be down.
package office

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"time"

	"database/sql"

	"github.com/jmoiron/sqlx"
	"github.com/labstack/echo/v5"
	_ "modernc.org/sqlite" // the driver

	"stonebaton.example/core/near"
	"stonebaton.example/internal/sqlite"

	"stonebaton.example/examples/harbour"
)

// document describes the office; it is among the demo's files, as a source.
var document = func() []byte {
	raw, err := harbour.Files.ReadFile("data/office.json")
	if err != nil {
		panic("the demo's files: " + err.Error())
	}
	return raw
}()

// Office is an open office.
type Office struct {
	db    *sqlx.DB
	token string
	zone  *time.Location

	mu   sync.Mutex
	knob Knob
}

// Knob makes the office misbehave: it fails the next Fail requests, waits Slow
// before each answer, or is down.
type Knob struct {
	Fail   int  `json:"fail"`
	SlowMS int  `json:"slow_ms"`
	Down   bool `json:"down"`
}

// Vessel is an entry of the register.
type Vessel struct {
	Name    string  `json:"vessel" db:"name"`
	Length  float64 `json:"length_m" db:"length_m"`
	Draught float64 `json:"draught_m" db:"draught_m"`
	Kind    string  `json:"kind" db:"kind"`
	Home    string  `json:"home" db:"home"`
}

// Berth is a berth.
type Berth struct {
	Code   string  `json:"berth" db:"code"`
	Length float64 `json:"length_m" db:"length_m"`
	Depth  float64 `json:"depth_m" db:"depth_m"`
	Fuel   int     `json:"fuel_m" db:"fuel_m"` // way to the fuel pontoon
}

// Waiver is a part of a vessel's dues that it need not pay.
type Waiver struct {
	ID      string  `json:"id"`
	Vessel  string  `json:"vessel"`
	EUR     float64 `json:"eur"`
	Left    float64 `json:"left_eur"` // what is still owed
	Because string  `json:"because"`
	By      string  `json:"agreed_by"`
}

// Booking is a reserved stay.
type Booking struct {
	ID      string `json:"id" db:"id"`
	Berth   string `json:"berth" db:"berth"`
	Vessel  string `json:"vessel" db:"vessel"`
	Arrives string `json:"arrives" db:"arrives"`
	Leaves  string `json:"leaves" db:"leaves"`
}

const tables = `
CREATE TABLE IF NOT EXISTS vessel (name TEXT PRIMARY KEY COLLATE NOCASE, length_m REAL, draught_m REAL, kind TEXT, home TEXT);
CREATE TABLE IF NOT EXISTS berth (code TEXT PRIMARY KEY, length_m REAL, depth_m REAL, fuel_m INTEGER);
CREATE TABLE IF NOT EXISTS booking (n INTEGER PRIMARY KEY, id TEXT UNIQUE, berth TEXT, vessel TEXT, arrives TEXT, leaves TEXT, from_s INTEGER, to_s INTEGER, key TEXT UNIQUE);
CREATE TABLE IF NOT EXISTS debt (vessel TEXT PRIMARY KEY COLLATE NOCASE, eur REAL);
CREATE TABLE IF NOT EXISTS waiver (n INTEGER PRIMARY KEY, vessel TEXT COLLATE NOCASE, eur REAL, because TEXT, agreed_by TEXT, key TEXT UNIQUE);`

// Open opens an office on a file; bookings are made for the weeks after from.
func Open(file, token string, from time.Time) (*Office, error) {
	zone, err := time.LoadLocation("Europe/Dublin")
	if err != nil {
		return nil, err
	}
	db, err := sqlx.Open("sqlite", sqlite.DSN(file, "_pragma=busy_timeout(5000)", "_pragma=journal_mode(WAL)", "_txlock=immediate"))
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	o := &Office{db: db, token: token, zone: zone}
	if _, err := db.Exec(tables); err != nil {
		db.Close()
		return nil, err
	}
	var n int
	if err := db.Get(&n, "SELECT count(*) FROM vessel"); err != nil {
		db.Close()
		return nil, err
	}
	if n == 0 {
		if err := o.fill(from.In(zone)); err != nil {
			db.Close()
			return nil, err
		}
	}
	return o, nil
}

// Close closes its records.
func (o *Office) Close() error { return o.db.Close() }

// Turn sets the knobs.
func (o *Office) Turn(k Knob) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.knob = k
}

var firstNames = strings.Fields("Marrow Gannet Petrel Silver Old Quiet Long Amber North Salt Copper Early Kelm Grey Merry")
var lastNames = strings.Fields("Light Hope Star Tern")
var homes = []string{"Kelmere", "Ardmallow", "Port Halloran", "Stranmure", "Westerhithe"}

// fill makes the register: 60 vessels, 24 berths in six basins, 40 bookings.
func (o *Office) fill(from time.Time) error {
	r := rand.New(rand.NewPCG(1207, 44))
	tx, err := o.db.Beginx()
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // nothing to undo once it is committed
	kinds := []struct {
		name string
		l, d float64
	}{{"ketch", 11, 1.7}, {"trawler", 22, 3.1}, {"coaster", 48, 4.2}, {"workboat", 15, 1.9}, {"buoy tender", 38, 4.1}}
	fixed := []Vessel{{"Marrow Light", 46, 5.2, "buoy tender", "Kelmere"}, {"Petrel", 12.4, 1.9, "ketch", "Ardmallow"}, {"Gannet", 18.5, 2.6, "workboat", "Kelmere"}, {"Long Hope", 71, 5.8, "coaster", "Stranmure"}}
	seen := map[string]bool{}
	for _, v := range fixed {
		seen[v.Name] = true
	}
	vessels := fixed
	for i := 0; len(vessels) < 60; i++ {
		name := firstNames[i%len(firstNames)] + " " + lastNames[(i/len(firstNames))%len(lastNames)]
		if seen[name] {
			name += fmt.Sprintf(" %s", []string{"II", "III"}[i%2])
			if seen[name] {
				continue
			}
		}
		seen[name] = true
		k := kinds[r.IntN(len(kinds))]
		f := 0.8 + 0.5*r.Float64()
		vessels = append(vessels, Vessel{name, round(k.l * f), round(k.d * f), k.name, homes[r.IntN(len(homes))]})
	}
	for _, v := range vessels {
		if _, err := tx.NamedExec(`INSERT INTO vessel VALUES (:name, :length_m, :draught_m, :kind, :home)`, v); err != nil {
			return err
		}
	}
	var berths []Berth
	basins := []struct {
		l, d float64
		fuel int
	}{{15, 3.2, 120}, {24, 3.9, 260}, {52, 6.1, 40}, {60, 5.8, 310}, {90, 7.4, 520}, {32, 4.6, 180}}
	for b, x := range basins {
		for n := 1; n <= 4; n++ {
			code := fmt.Sprintf("%c%d", 'A'+b, n)
			berths = append(berths, Berth{code, round(x.l + float64(n-4)*1.5), round(x.d - float64(4-n)*0.1), x.fuel + 15*(4-n)})
		}
	}
	for _, b := range berths {
		if _, err := tx.NamedExec(`INSERT INTO berth VALUES (:code, :length_m, :depth_m, :fuel_m)`, b); err != nil {
			return err
		}
	}
	day := time.Date(from.Year(), from.Month(), from.Day(), 0, 0, 0, 0, from.Location())
	for n := 1001; n <= 1040; n++ {
		v := vessels[4+r.IntN(len(vessels)-4)]
		var fits []Berth
		for _, b := range berths {
			if b.Length >= v.Length && b.Depth >= v.Draught+0.3 && b.Code != "C4" && b.Code[0] != 'A' {
				fits = append(fits, b)
			}
		}
		if len(fits) == 0 {
			fits = berths[16:20]
		}
		b := fits[r.IntN(len(fits))]
		a := day.AddDate(0, 0, r.IntN(28)).Add(time.Duration(8+r.IntN(10)) * time.Hour)
		l := a.Add(time.Duration(1+r.IntN(4)) * 24 * time.Hour)
		if _, err := tx.Exec(`INSERT INTO booking (n, id, berth, vessel, arrives, leaves, from_s, to_s, key) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			n, fmt.Sprintf("B-%d", n), b.Code, v.Name, a.Format(time.RFC3339), l.Format(time.RFC3339), a.Unix(), l.Unix(), fmt.Sprintf("seed-%d", n)); err != nil {
			return err
		}
	}
	for name, eur := range map[string]float64{"Gannet": 840, "Marrow Light": 211.2, "Petrel": 57.68, "Long Hope": 1204} {
		if _, err := tx.Exec(`INSERT INTO debt VALUES (?, ?)`, name, eur); err != nil {
			return err
		}
	}
	return tx.Commit()
}

func round(x float64) float64 { return math.Round(x*10) / 10 }

// Handler answers requests.
func (o *Office) Handler() http.Handler {
	e := echo.New()
	e.HTTPErrorHandler = func(c *echo.Context, err error) {
		code := echo.StatusCode(err)
		if code == 0 {
			code = http.StatusInternalServerError
		}
		_ = c.JSON(code, map[string]string{"error": err.Error()}) // the peer is gone
	}
	e.GET("/openapi.json", func(c *echo.Context) error { return c.Blob(http.StatusOK, "application/json", document) })
	e.POST("/knob", func(c *echo.Context) error {
		var k Knob
		if err := json.NewDecoder(c.Request().Body).Decode(&k); err != nil {
			return say(http.StatusBadRequest, "%v", err)
		}
		o.Turn(k)
		return c.JSON(http.StatusOK, k)
	}, o.guard)
	g := e.Group("", o.guard, o.moods)
	g.GET("/vessels/:name", o.vessel)
	g.GET("/berths", o.berths)
	g.POST("/berths/:berth/bookings", o.book)
	g.GET("/bookings", o.bookings)
	g.GET("/dues/:vessel", o.dues)
	g.POST("/dues/:vessel/waivers", o.waive)
	g.GET("/tides", o.tides)
	return e
}

type reply struct {
	code int
	text string
}

func (r *reply) Error() string   { return r.text }
func (r *reply) StatusCode() int { return r.code }

func say(code int, format string, args ...any) error {
	return &reply{code, fmt.Sprintf(format, args...)}
}

func (o *Office) guard(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if c.Request().Header.Get("Authorization") != "Bearer "+o.token {
			return say(http.StatusUnauthorized, "the office wants its token")
		}
		return next(c)
	}
}

func (o *Office) moods(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		o.mu.Lock()
		k := o.knob
		if o.knob.Fail > 0 {
			o.knob.Fail--
		}
		o.mu.Unlock()
		if k.SlowMS > 0 {
			select {
			case <-time.After(time.Duration(k.SlowMS) * time.Millisecond):
			case <-c.Request().Context().Done():
				return nil
			}
		}
		if k.Down || k.Fail > 0 {
			return say(http.StatusServiceUnavailable, "the office is closed for the moment")
		}
		return next(c)
	}
}

func (o *Office) vessel(c *echo.Context) error {
	name := c.Param("name")
	var v Vessel
	err := o.db.Get(&v, `SELECT * FROM vessel WHERE name = ?`, name)
	if errors.Is(err, sql.ErrNoRows) {
		var all []string
		if err := o.db.Select(&all, `SELECT name FROM vessel ORDER BY name`); err != nil {
			return err
		}
		hint := ""
		if n := near.Names(name, all); len(n) > 0 {
			hint = fmt.Sprintf("; %q is nearest", n[0])
		}
		return say(http.StatusNotFound, "the register has no vessel \"%s\"%s", name, hint)
	}
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"vessel": v})
}

type stay struct{ from, to time.Time }

func span(arrives, leaves string) (stay, error) {
	a, err1 := time.Parse(time.RFC3339, arrives)
	l, err2 := time.Parse(time.RFC3339, leaves)
	if err1 != nil || err2 != nil {
		return stay{}, say(http.StatusBadRequest, "arrives and leaves must be dates with a time and an offset")
	}
	if !l.After(a) {
		return stay{}, say(http.StatusUnprocessableEntity, "a stay must end after it begins: arrives %s, leaves %s", arrives, leaves)
	}
	return stay{a, l}, nil
}

const free = `NOT EXISTS (SELECT 1 FROM booking WHERE booking.berth = berth.code AND from_s < ? AND to_s > ?)`

func (o *Office) berths(c *echo.Context) error {
	s, err := span(c.QueryParam("arrives"), c.QueryParam("leaves"))
	if err != nil {
		return err
	}
	length, err1 := echo.QueryParam[float64](c, "length_m")
	draught, err2 := echo.QueryParam[float64](c, "draught_m")
	if err1 != nil || err2 != nil {
		return say(http.StatusBadRequest, "length_m and draught_m must be numbers")
	}
	list := []Berth{}
	err = o.db.Select(&list, `SELECT * FROM berth WHERE length_m >= ? AND depth_m >= ? + 0.3 AND `+free+` ORDER BY length_m - ? > 20, fuel_m, code LIMIT 4`, length, draught, s.to.Unix(), s.from.Unix(), length)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"berths": list})
}

func (o *Office) book(c *echo.Context) error {
	var in struct{ Vessel, Arrives, Leaves string }
	if err := json.NewDecoder(c.Request().Body).Decode(&in); err != nil {
		return say(http.StatusBadRequest, "%v", err)
	}
	s, err := span(in.Arrives, in.Leaves)
	if err != nil {
		return err
	}
	key := c.Request().Header.Get("Idempotency-Key")
	if key == "" {
		sum := sha256.Sum256([]byte(time.Now().String()))
		key = hex.EncodeToString(sum[:])
	}
	tx, err := o.db.Beginx()
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // nothing to undo once it is committed
	var b Booking
	const cols = `SELECT id, berth, vessel, arrives, leaves FROM booking WHERE key = ?`
	if err := tx.Get(&b, cols, key); err == nil {
		return c.JSON(http.StatusOK, map[string]any{"booking": b}) // the same request again
	}
	var n int
	if err := tx.Get(&n, `SELECT count(*) FROM berth WHERE code = ?`, c.Param("berth")); err != nil {
		return err
	}
	if n == 0 {
		return say(http.StatusNotFound, "there is no berth %s", c.Param("berth"))
	}
	if err := tx.Get(&n, `SELECT count(*) FROM berth WHERE code = ? AND `+free, c.Param("berth"), s.to.Unix(), s.from.Unix()); err != nil {
		return err
	}
	if n == 0 {
		return say(http.StatusConflict, "%s is taken at that time", c.Param("berth"))
	}
	if err := tx.Get(&n, `SELECT max(n) + 1 FROM booking`); err != nil {
		return err
	}
	b = Booking{fmt.Sprintf("B-%d", n), c.Param("berth"), in.Vessel, in.Arrives, in.Leaves}
	if _, err := tx.Exec(`INSERT INTO booking (n, id, berth, vessel, arrives, leaves, from_s, to_s, key) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, n, b.ID, b.Berth, b.Vessel, b.Arrives, b.Leaves, s.from.Unix(), s.to.Unix(), key); err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]any{"booking": b})
}

func (o *Office) bookings(c *echo.Context) error {
	list := []Booking{}
	if err := o.db.Select(&list, `SELECT id, berth, vessel, arrives, leaves FROM booking ORDER BY n DESC LIMIT 100`); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"bookings": list})
}

// owed gives what a vessel owes now.
func owed(db sqlx.Queryer, vessel string) (eur float64, err error) {
	err = sqlx.Get(db, &eur, `SELECT coalesce((SELECT eur FROM debt WHERE vessel = ?), 0) - coalesce((SELECT sum(eur) FROM waiver WHERE vessel = ?), 0)`, vessel, vessel)
	return math.Round(eur*100) / 100, err
}

func (o *Office) dues(c *echo.Context) error {
	eur, err := owed(o.db, c.Param("vessel"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"dues": map[string]any{"vessel": c.Param("vessel"), "eur": eur}})
}

func (o *Office) waive(c *echo.Context) error {
	in := Waiver{Vessel: c.Param("vessel")}
	if err := json.NewDecoder(c.Request().Body).Decode(&in); err != nil {
		return say(http.StatusBadRequest, "%v", err)
	}
	key := c.Request().Header.Get("Idempotency-Key")
	if key == "" {
		return say(http.StatusBadRequest, "a waiver needs an Idempotency-Key, so that it is entered once")
	}
	tx, err := o.db.Beginx()
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // nothing to undo once it is committed
	left, err := owed(tx, in.Vessel)
	if err != nil {
		return err
	}
	var n int64
	switch err := tx.Get(&n, `SELECT n FROM waiver WHERE key = ?`, key); {
	case err == nil: // the same request again
	case !errors.Is(err, sql.ErrNoRows):
		return err
	case in.EUR <= 0 || in.EUR > left:
		return say(http.StatusUnprocessableEntity, "the %s owes %.2f EUR, so %.2f cannot be waived", in.Vessel, left, in.EUR)
	default:
		r, err := tx.Exec(`INSERT INTO waiver (vessel, eur, because, agreed_by, key) VALUES (?, ?, ?, ?, ?)`, in.Vessel, in.EUR, in.Because, in.By, key)
		if err != nil {
			return err
		}
		if n, err = r.LastInsertId(); err != nil {
			return err
		}
		left = math.Round((left-in.EUR)*100) / 100
	}
	in.ID, in.Left = fmt.Sprintf("W-%d", 300+n), left
	if err := tx.Commit(); err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]any{"waiver": in})
}

// The tide is the sum of four harmonic constituents: amplitude in metres,
// speed in degrees an hour, phase in degrees.
var constituents = []struct{ amp, speed, phase float64 }{
	{1.62, 28.9841042, 140}, {0.54, 30.0, 175}, {0.19, 15.0410686, 60}, {0.14, 13.9430356, 310},
}

const (
	barDepth = 3.4 // at mean water
	underway = 0.4 // water wanted under the keel
)

// height gives the water over mean level.
func height(t time.Time) float64 {
	hours := t.Sub(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)).Hours()
	h := 0.0
	for _, c := range constituents {
		h += c.amp * math.Cos((c.speed*hours-c.phase)*math.Pi/180)
	}
	return h
}

func (o *Office) tides(c *echo.Context) error {
	day, err := time.ParseInLocation("2006-01-02", c.QueryParam("day"), o.zone)
	if err != nil {
		return say(http.StatusBadRequest, "day must be a date such as 2026-05-08")
	}
	draught, err := echo.QueryParam[float64](c, "draught_m")
	if err != nil || draught <= 0 {
		return say(http.StatusBadRequest, "draught_m must be a number above 0")
	}
	type window struct {
		Opens  string  `json:"opens"`
		Closes string  `json:"closes"`
		Depth  float64 `json:"depth_m"`
	}
	windows := []window{}
	open := false
	for m := 0; m <= 24*60; m += 5 {
		t := day.Add(time.Duration(m) * time.Minute)
		depth := barDepth + height(t)
		passes := depth >= draught+underway && m < 24*60
		switch {
		case passes && !open:
			windows = append(windows, window{Opens: t.Format("15:04"), Depth: round(depth)})
		case !passes && open:
			windows[len(windows)-1].Closes = t.Format("15:04")
		}
		if passes {
			w := &windows[len(windows)-1]
			w.Depth = math.Max(w.Depth, round(depth))
		}
		open = passes
	}
	return c.JSON(http.StatusOK, map[string]any{"day": day.Format("2006-01-02"), "windows": windows})
}
