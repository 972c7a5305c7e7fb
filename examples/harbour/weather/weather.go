// Package weather is the harbour's weather station: a small tool server of the
// Model Context Protocol. Its weather is made up, the same for each day.
package weather

import (
	"context"
	"fmt"
	"hash/fnv"
	"math"
	"time"

	"github.com/google/jsonschema-go/jsonschema"
	"github.com/modelcontextprotocol/go-sdk/mcp"
)

// Asked is what the forecast is for.
type Asked struct {
	Day string `json:"day" jsonschema:"The day of the forecast, such as 2026-05-08."`
}

// Forecast is the weather of one day at the harbour.
type Forecast struct {
	Day    string  `json:"day" jsonschema:"the day"`
	WindKn float64 `json:"wind_kn" jsonschema:"mean wind in knots"`
	GustKn float64 `json:"gust_kn" jsonschema:"strongest gusts in knots"`
	From   string  `json:"from" jsonschema:"where the wind comes from"`
	SeaM   float64 `json:"sea_m" jsonschema:"height of the waves on the bar in metres"`
	Sky    string  `json:"sky" jsonschema:"what the sky looks like"`
}

// Warnings are what skippers are warned of.
type Warnings struct {
	Warnings []string `json:"warnings" jsonschema:"one sentence each; none, if empty"`
}

// On gives the weather of a day.
func On(day string) (Forecast, error) {
	at, err := time.Parse("2006-01-02", day)
	if err != nil {
		return Forecast{}, fmt.Errorf("%q is not a day such as 2026-05-08", day)
	}
	h := fnv.New32a()
	fmt.Fprint(h, "kelmere", day)
	seed := h.Sum32()
	season := 1 - math.Cos(2*math.Pi*float64(at.YearDay()-15)/365) // 0 in the middle of winter, 2 in summer
	wind := 6 + float64(seed%17) + 4*(1-season/2)
	return Forecast{Day: day, WindKn: math.Round(wind), GustKn: math.Round(wind * 1.4), From: []string{"north", "north-east", "east", "south-east", "south", "south-west", "west", "north-west"}[seed>>8%8],
		SeaM: math.Round(wind*wind/28) / 10, Sky: []string{"clear", "broken cloud", "overcast", "rain", "showers"}[seed>>16%5]}, nil
}

// Server gives the tool server.
func Server() *mcp.Server {
	s := mcp.NewServer(&mcp.Implementation{Name: "kelmere-weather", Version: "1.0"}, nil)
	read := &mcp.ToolAnnotations{ReadOnlyHint: true}
	day, err := jsonschema.For[Asked](nil)
	if err != nil {
		panic("the type is plain: " + err.Error())
	}
	day.Properties["day"].Format = "date"
	mcp.AddTool(s, &mcp.Tool{Name: "forecast", Annotations: read, InputSchema: day, Description: "Tell the weather at Kelmere on a day: wind, gusts and waves on the bar; use it before you advise anybody to come in."},
		func(_ context.Context, _ *mcp.CallToolRequest, in Asked) (*mcp.CallToolResult, Forecast, error) {
			f, err := On(in.Day)
			return nil, f, err
		})
	mcp.AddTool(s, &mcp.Tool{Name: "warnings", Annotations: read, InputSchema: day, Description: "List the warnings to skippers that are in force at Kelmere on a day, such as gales."},
		func(_ context.Context, _ *mcp.CallToolRequest, in Asked) (*mcp.CallToolResult, Warnings, error) {
			f, err := On(in.Day)
			w := Warnings{Warnings: []string{}}
			if f.GustKn >= 27 {
				w.Warnings = append(w.Warnings, fmt.Sprintf("Gusts of %g knots from the %s.", f.GustKn, f.From))
			}
			if f.SeaM >= 1.5 {
				w.Warnings = append(w.Warnings, fmt.Sprintf("Waves of %g m on the bar.", f.SeaM))
			}
			return nil, w, err
		})
	mcp.AddTool(s, &mcp.Tool{Name: "log_sighting", Description: "Sighting"},
		func(_ context.Context, _ *mcp.CallToolRequest, in struct {
			What string `json:"what"`
		}) (*mcp.CallToolResult, any, error) {
			return &mcp.CallToolResult{Content: []mcp.Content{&mcp.TextContent{Text: "Noted: " + in.What}}}, nil, nil
		})
	return s
}
