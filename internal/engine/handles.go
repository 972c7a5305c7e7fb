package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"stonebaton.example/core/deed"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/loop"
	"stonebaton.example/core/project"
	"stonebaton.example/core/schema"
)

// whole puts the results that handles name into a call's arguments, and looks
// at what the arguments then are.
func (d *driver) whole(ctx context.Context, t *project.Tool, args any) (any, *deed.Failure) {
	if !strings.Contains(fmt.Sprint(args), loop.HandlePrefix) {
		return args, nil
	}
	read := map[string][]ledger.Event{}
	out, err := loop.PutHandles(args, func(handle string) (json.RawMessage, error) {
		run, step, ok := loop.SplitHandle(d.run, handle)
		if !ok {
			return nil, nil
		}
		if read[run] == nil {
			events, err := All(d.e.Log.Read(ctx, run, 0))
			if err != nil {
				return nil, fmt.Errorf("%s cannot be read: %w", handle, err)
			}
			read[run] = events
		}
		for _, ev := range read[run] {
			if ret, ok := ev.Data.(*ledger.CallReturned); ok && ev.Step == step {
				return ret.Result, nil
			}
		}
		return nil, fmt.Errorf("there is no result %s", handle)
	})
	if err == nil {
		if faults := t.Input.Check(out); len(faults) > 0 {
			err = fmt.Errorf("%s", schema.Say(faults))
		}
	}
	if err != nil {
		return nil, &deed.Failure{Outcome: ledger.NotDone, Class: "args", Say: err.Error()}
	}
	return out, nil
}
