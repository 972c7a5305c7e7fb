// Command lookout is Stone Baton with a tool of its own, written in Go:
//
//	go run ./examples/lookout try light_range -dir examples/lookout/project -args '{"height_m": 24}'
//	go run ./examples/lookout serve examples/lookout/project
package main

import (
	"context"
	"math"

	"stonebaton.example/mason"
)

// Light is what the range of a light is reckoned from.
type Light struct {
	HeightM float64 `json:"height_m" desc:"Height of the light above the water" unit:"metres" min:"0" max:"300"`
	EyeM    float64 `json:"eye_m" desc:"Height of the eye above the water" unit:"metres" min:"0" default:"3"`
	Air     string  `json:"air" desc:"How clear the air is." enum:"clear,haze,fog" default:"clear"`
}

// Range is how far the light is seen.
type Range struct {
	Miles float64 `json:"miles" desc:"Range" unit:"sea miles"`
}

func lightRange(_ context.Context, l Light) (Range, error) {
	if l.Air == "fog" {
		return Range{}, mason.Refuse("in fog no range can be told")
	}
	miles := 2.08 * (math.Sqrt(l.HeightM) + math.Sqrt(l.EyeM))
	if l.Air == "haze" {
		miles *= 0.6
	}
	return Range{Miles: math.Round(miles*10) / 10}, nil
}

func main() {
	mason.Main(mason.Tool("light_range", "Reckon how far away a light of some height can be seen at sea, when somebody asks for its range.", lightRange,
		mason.Reads(), mason.Says("The light is seen from {{ result.miles }} sea miles.")))
}
