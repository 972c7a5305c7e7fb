// Package pages is the stand-in for a search of the web in the demo: a few hundred pages about Kelmere and
// around, made of tables, the same every time, and a search of them by words. Everything in it is invented.
package pages

import (
	"cmp"
	"encoding/json"
	"fmt"
	"html"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// Page is one page.
type Page struct {
	ID    int
	Title string
	Text  string
}

var places = []string{"Kelmere", "Ardmallow", "Ness", "Tollan", "Sallowbridge", "Crake Point", "Hallin", "Old Weir", "Merrow Sands", "Birk Island", "Lower Fenby", "Upper Fenby", "Stannick", "Grey Holm", "Corran Mouth", "Whin Hill", "Dunnet Pool", "Rushey", "Larkstone", "Eel Pie Quay"}

// topics are what the pages of a place are about. Each sentence takes the place, and up to two numbers.
var topics = []struct {
	title string
	says  []string
}{
	{"ferry", []string{"The ferry at %s crosses every %d minutes from April to October.", "A crossing costs %d.50 EUR; bicycles go free on weekdays.", "In strong wind from the north-west it does not run."}},
	{"slipway", []string{"The slipway of %s takes boats of up to %d m and is free to use after six.", "A winch can be had from the caretaker for %d EUR an hour.", "It dries at low water springs."}},
	{"fuel and water", []string{"Diesel is sold at %s from eight to %d hours, petrol only by the can.", "Water is on the pontoon, at %d cents for a hundred litres."}},
	{"sailmaker", []string{"The sailmaker of %s repairs sails within %d days, and canvas while you wait.", "The loft is at Rope Walk %d, above the chandler."}},
	{"chandler", []string{"The chandler at %s keeps rope, paint and shackles, and orders what is not there in %d days.", "It opens at nine, on Sundays from %d o'clock."}},
	{"market", []string{"The market of %s is held on the quay every second Saturday, with %d stalls.", "Smoked eel sells out by eleven; parking costs %d EUR."}},
	{"regatta", []string{"The regatta of %s has been sailed for %d years, in the second week of August.", "Boats up to %d m may enter; the course goes round the middle buoy twice."}},
	{"walk along the shore", []string{"The path from %s along the shore is %d km long and marked in white.", "Allow %d hours, and mind the tide at the second gate."}},
	{"seals", []string{"Around %d seals lie on the sand off %s in June.", "Keep a distance of %d m, and turn the engine off."}},
	{"weather station", []string{"The weather station of %s reports wind and pressure every %d minutes.", "Its mast stands %d m above the quay."}},
	{"bakery", []string{"The bakery of %s opens at six and bakes rye bread on %d days of the week.", "For boats it delivers to the pontoon from %d loaves on."}},
	{"museum", []string{"The museum of %s shows the rope works, with a walk of %d m.", "A ticket costs %d EUR; children go in free."}},
	{"bridge", []string{"The bridge at %s opens for masts on request, %d minutes after the call on channel 11.", "It leaves %d m of air when it is shut."}},
	{"doctor", []string{"The doctor at %s has hours from nine, and sees visitors after %d o'clock.", "The pharmacy next door shuts at %d."}},
	{"history", []string{"%s was first named in a charter about nets, %d years after the great flood.", "The harbour wall was built in %d months by three families."}},
	{"birds", []string{"At %s %d kinds of waders have been counted in one autumn.", "The hide on the dyke has room for %d people."}},
}

// All gives every page.
func All() []Page {
	var out []Page
	for i, place := range places {
		for j, t := range topics {
			var text []string
			for k, s := range t.says {
				n, m := 4+(i*7+j*3+k*5)%23, 2+(i*5+j*11+k)%17
				switch {
				case strings.HasPrefix(s, "Around"):
					s = fmt.Sprintf(s, n, place)
				case strings.Contains(s, "%s") && strings.Contains(s, "%d"):
					s = fmt.Sprintf(s, place, n)
				case strings.Contains(s, "%d"):
					s = fmt.Sprintf(s, m)
				}
				text = append(text, s)
			}
			out = append(out, Page{ID: len(out) + 1, Title: strings.ToUpper(t.title[:1]) + t.title[1:] + " of " + place, Text: strings.Join(text, " ")})
		}
	}
	return out
}

// Index finds pages by their words.
type Index struct {
	pages []Page
	words []map[string]int // of each page: how often
	in    map[string]int   // pages that have a word
}

// NewIndex reads pages.
func NewIndex(list []Page) *Index {
	x := &Index{pages: list, in: map[string]int{}}
	for _, p := range list {
		n := map[string]int{}
		for _, w := range wordsOf(p.Title + " " + p.Title + " " + p.Text) { // the title counts twice
			n[w]++
		}
		for w := range n {
			x.in[w]++
		}
		x.words = append(x.words, n)
	}
	return x
}

func wordsOf(text string) []string {
	var out []string
	for _, w := range strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		if len(w) > 2 {
			out = append(out, strings.TrimSuffix(w, "s"))
		}
	}
	return out
}

// Search gives the pages that have words of the question, the best first: rare words count more.
func (x *Index) Search(question string, most int) []Page {
	type hit struct {
		page  Page
		score float64
	}
	var hits []hit
	for i, p := range x.pages {
		score := 0.0
		for _, w := range wordsOf(question) {
			if n := x.words[i][w]; n > 0 {
				score += (1 + math.Log(float64(n))) * math.Log(float64(1+len(x.pages))/float64(x.in[w]))
			}
		}
		if score > 0 {
			hits = append(hits, hit{p, score})
		}
	}
	slices.SortStableFunc(hits, func(a, b hit) int { return cmp.Compare(b.score, a.score) })
	var out []Page
	for _, h := range hits[:min(most, len(hits))] {
		out = append(out, h.page)
	}
	return out
}

// Handler serves the search, GET /search?q=…&count=…, to whoever has the key in X-Key, and the pages,
// GET /pages/N, to everybody. Base is where it can be reached.
func Handler(base, key string) http.Handler {
	all := All()
	x := NewIndex(all)
	mux := http.NewServeMux()
	mux.HandleFunc("GET /search", func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("X-Key") != key {
			http.Error(w, `{"message":"the key is missing or wrong"}`, http.StatusUnauthorized)
			return
		}
		count, err := strconv.Atoi(cmp.Or(r.URL.Query().Get("count"), "5"))
		if err != nil || count < 1 || count > 20 || strings.TrimSpace(r.URL.Query().Get("q")) == "" {
			http.Error(w, `{"message":"q is what is looked for, and count is 1 to 20"}`, http.StatusBadRequest)
			return
		}
		results := []map[string]string{}
		for _, p := range x.Search(r.URL.Query().Get("q"), count) {
			results = append(results, map[string]string{"title": p.Title, "url": fmt.Sprintf("%s/pages/%d", base, p.ID), "snippet": p.Text})
		}
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{"results": results}) // a client that is gone is gone
	})
	mux.HandleFunc("GET /pages/{id}", func(w http.ResponseWriter, r *http.Request) {
		id, err := strconv.Atoi(r.PathValue("id"))
		if err != nil || id < 1 || id > len(all) {
			http.NotFound(w, r)
			return
		}
		p := all[id-1]
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprintf(w, "<!doctype html><title>%[1]s</title><h1>%[1]s</h1><p>%[2]s</p>\n", html.EscapeString(p.Title), html.EscapeString(p.Text))
	})
	return mux
}
