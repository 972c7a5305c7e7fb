// Package station is the harbour's signal station: a small tool server of the
// Model Context Protocol. What it reports is made up, the same for each day.
package station

import (
	"context"
	"fmt"
	"hash/fnv"
	"math"
	"time"

	"github.com/google/jsonschema-go/jsonschema"
	"github.com/modelcontextprotocol/go-sdk/mcp"
)

// Asked is the day that a report is for.
type Asked struct {
	Day string `json:"day" jsonschema:"The day of the report, such as 2026-05-08."`
}

// Report is the state of the bar on one day.
type Report struct {
	Day    string  `json:"day" jsonschema:"the day"`
	WindKn float64 `json:"wind_kn" jsonschema:"mean wind in knots"`
	From   string  `json:"from" jsonschema:"where the wind comes from"`
	SwellM float64 `json:"swell_m" jsonschema:"height of the swell on the bar in metres"`
	Fit    bool    `json:"fit" jsonschema:"whether the bar is fit to cross"`
}

// Notices are what skippers have to know of a day.
type Notices struct {
	Notices []string `json:"notices" jsonschema:"one sentence each; an empty list if there are none"`
}

// What the bar can take.
const (
	mostSwell = 1.2 // metres
	mostWind  = 24  // knots
)

var (
	winds  = []string{"north", "north-east", "east", "south-east", "south", "south-west", "west", "north-west"}
	lights = []string{"Inner Stack", "Gannet Ledge", "Kelm Mole"}
	basins = []string{"Customs", "Dolphin", "Ferry"}
)

// On gives the report of a day.
func On(day string) (Report, error) {
	at, err := time.Parse("2006-01-02", day)
	if err != nil {
		return Report{}, fmt.Errorf("%q is not a day such as 2026-05-08", day)
	}
	seed := seedOf(day)
	season := 1 - math.Cos(2*math.Pi*float64(at.YearDay()-15)/365) // 0 in the middle of winter, 2 in summer
	r := Report{Day: day, WindKn: math.Round(6 + float64(seed%17) + 4*(1-season/2)), From: winds[seed>>8%8]}
	r.SwellM = math.Round(r.WindKn*r.WindKn/28) / 10
	r.Fit = r.SwellM <= mostSwell && r.WindKn <= mostWind
	return r, nil
}

// NoticesOn gives the notices of a day.
func NoticesOn(day string) (Notices, error) {
	out := Notices{Notices: []string{}}
	if _, err := time.Parse("2006-01-02", day); err != nil {
		return out, fmt.Errorf("%q is not a day such as 2026-05-08", day)
	}
	seed := seedOf(day)
	if seed%3 == 0 {
		out.Notices = append(out.Notices, fmt.Sprintf("The light on %s is out.", lights[seed>>4%3]))
	}
	if seed%4 == 0 {
		out.Notices = append(out.Notices, fmt.Sprintf("Dredging in the %s basin from 08:00 to 16:00.", basins[seed>>6%3]))
	}
	return out, nil
}

func seedOf(day string) uint32 {
	h := fnv.New32a()
	fmt.Fprint(h, "kelmere", day)
	return h.Sum32()
}

// Server gives the tool server.
func Server() *mcp.Server {
	s := mcp.NewServer(&mcp.Implementation{Name: "kelmere-station", Version: "1.0"}, nil)
	read := &mcp.ToolAnnotations{ReadOnlyHint: true}
	day, err := jsonschema.For[Asked](nil)
	if err != nil {
		panic("the type is plain: " + err.Error())
	}
	day.Properties["day"].Format = "date"
	mcp.AddTool(s, &mcp.Tool{Name: "bar_report", Annotations: read, InputSchema: day, Description: "Tell whether the bar of Kelmere is fit to cross on a day, with wind and swell; use it before you advise anybody to come in."},
		func(_ context.Context, _ *mcp.CallToolRequest, in Asked) (*mcp.CallToolResult, Report, error) {
			r, err := On(in.Day)
			return nil, r, err
		})
	mcp.AddTool(s, &mcp.Tool{Name: "notices", Annotations: read, InputSchema: day, Description: "List the notices to skippers that are in force at Kelmere on a day, such as lights that are out, or dredging."},
		func(_ context.Context, _ *mcp.CallToolRequest, in Asked) (*mcp.CallToolResult, Notices, error) {
			n, err := NoticesOn(in.Day)
			return nil, n, err
		})
	mcp.AddTool(s, &mcp.Tool{Name: "log_sighting", Description: "Sighting"},
		func(_ context.Context, _ *mcp.CallToolRequest, in struct {
			What string `json:"what"`
		}) (*mcp.CallToolResult, any, error) {
			return &mcp.CallToolResult{Content: []mcp.Content{&mcp.TextContent{Text: "Noted: " + in.What}}}, nil, nil
		})
	return s
}
