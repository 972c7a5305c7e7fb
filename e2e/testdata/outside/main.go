// Command lamps is a program of another module: Stone Baton with a tool of its own.
package main

import (
	"context"

	"stonebaton.example/mason"
)

type oil struct {
	Litres float64 `json:"litres" desc:"Oil in the lamp" unit:"litres" min:"0"`
}

type burning struct {
	Hours float64 `json:"hours" desc:"How long it burns" unit:"hours"`
}

func main() {
	mason.Main(mason.Tool("lamp_hours", "Reckon how long the lamp burns with some oil, when somebody asks for its hours.",
		func(_ context.Context, o oil) (burning, error) { return burning{Hours: o.Litres * 8}, nil },
		mason.Reads(), mason.Says("The lamp burns for {{ result.hours }} hours.")))
}
