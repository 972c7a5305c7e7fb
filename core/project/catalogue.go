package project

import (
	"encoding/json"
	"maps"
	"reflect"
	"slices"
)

// writtenCatalogue is a catalogue as it is kept: definitions that several of its schemas
// have stand in it once, since those of a large API are most of it.
type writtenCatalogue struct {
	plainCatalogue
	Defs  map[string]any      `json:"defs,omitempty"`
	Share map[int]sharedNames `json:"share,omitempty"` // by the offer's place, what it has of defs
}

type plainCatalogue Catalogue

type sharedNames struct {
	Input  []string `json:"input,omitempty"`
	Output []string `json:"output,omitempty"`
}

// MarshalJSON writes the catalogue.
func (c Catalogue) MarshalJSON() ([]byte, error) {
	w := writtenCatalogue{plainCatalogue: plainCatalogue(c), Defs: map[string]any{}, Share: map[int]sharedNames{}}
	w.Tools = slices.Clone(c.Tools)
	for i := range w.Tools {
		o := &w.Tools[i]
		var names sharedNames
		o.Input, names.Input = w.lift(o.Input)
		o.Output, names.Output = w.lift(o.Output)
		if len(names.Input)+len(names.Output) > 0 {
			w.Share[i] = names
		}
	}
	return json.Marshal(w)
}

// lift gives a schema without the definitions that stand in the catalogue, and their names.
func (w *writtenCatalogue) lift(doc map[string]any) (map[string]any, []string) {
	defs, ok := doc["$defs"].(map[string]any)
	if !ok {
		return doc, nil
	}
	var names []string
	own := map[string]any{}
	for _, name := range keysOf(defs) {
		def := defs[name]
		if was, ok := w.Defs[name]; ok && !reflect.DeepEqual(was, def) { // quick, where it is the same map
			own[name] = def
			continue
		}
		w.Defs[name] = def
		names = append(names, name)
	}
	doc = maps.Clone(doc)
	doc["$defs"] = own
	return doc, names
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (c *Catalogue) UnmarshalJSON(raw []byte) error {
	var w writtenCatalogue
	if err := json.Unmarshal(raw, &w); err != nil {
		return err
	}
	for i := range w.Tools {
		o := &w.Tools[i]
		names := w.Share[i]
		w.put(o.Input, names.Input)
		w.put(o.Output, names.Output)
	}
	*c = Catalogue(w.plainCatalogue)
	return nil
}

// put gives a schema its definitions of the catalogue back.
func (w *writtenCatalogue) put(doc map[string]any, names []string) {
	if len(names) == 0 {
		return
	}
	defs, ok := doc["$defs"].(map[string]any)
	if !ok {
		return
	}
	for _, name := range names {
		if def, ok := w.Defs[name]; ok {
			defs[name] = def
		}
	}
}
