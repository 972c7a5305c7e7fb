// Package api holds the types of the HTTP API, shared by the service and the
// client. The document that describes them is internal/service/openapi.yaml; a test
// holds every answer of the service against it.
package api

import (
	"encoding/json"
	"strings"
	"time"

	"stonebaton.example/core/drill"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/project"
	"stonebaton.example/core/prompt"
	"stonebaton.example/core/right"
	"stonebaton.example/core/trace"
	"stonebaton.example/core/value"
	"stonebaton.example/core/view"
	"stonebaton.example/internal/rows"
	"stonebaton.example/internal/tools"
)

// Problem is an error as RFC 9457 has it, with a remedy and a place.
type Problem struct {
	Type   string         `json:"type"`
	Title  string         `json:"title"`
	Status int            `json:"status"`
	Detail string         `json:"detail"`
	Remedy string         `json:"remedy,omitempty"`
	Place  *project.Place `json:"place,omitempty"`
}

func (p *Problem) Error() string {
	s := p.Detail
	if p.Place != nil && p.Place.File != "" && !strings.Contains(s, p.Place.File+":") {
		s = p.Place.String() + ": " + s
	}
	if p.Remedy != "" {
		s += "\n" + p.Remedy
	}
	return s
}

// Choose is what POST /api/choose takes.
type Choose struct {
	Text   string `json:"text"`
	Agent  string `json:"agent,omitempty"`
	Person string `json:"person,omitempty"`
}

// Choice is what POST /api/choose gives.
type Choice = view.Choice

// Start is what POST /api/runs takes.
type Start struct {
	Text     string                 `json:"text"`
	Session  string                 `json:"session,omitempty"`
	Agent    string                 `json:"agent,omitempty"`
	Tools    ledger.Tools           `json:"tools,omitempty"`
	Rung     ledger.Rung            `json:"rung,omitempty"`      // for all tools; none goes higher than the files let it
	Rungs    map[string]ledger.Rung `json:"rungs,omitempty"`     // for some
	Relay    string                 `json:"relay,omitempty"`     // to go through in place of asking an agent
	Input    json.RawMessage        `json:"input,omitempty"`     // of the relay; where it has one text, Text is that
	From     string                 `json:"from,omitempty"`      // the leg that the relay begins with
	Kept     json.RawMessage        `json:"kept,omitempty"`      // what it has kept by then
	Until    string                 `json:"until,omitempty"`     // the leg that it ends with
	Turns    int                    `json:"turns,omitempty"`     // in place of the project's limit
	PersonAt []ledger.Place         `json:"person_at,omitempty"` // where a person looks at every step of the run
	Model    string                 `json:"model,omitempty"`
	Person   string                 `json:"person,omitempty"`
	State    map[string]any         `json:"state,omitempty"`
}

// Begun is what POST /api/runs gives. A message that waits has no run yet.
type Begun struct {
	Run      string `json:"run,omitempty"`
	Session  string `json:"session"`
	Status   string `json:"status"` // going or waiting
	WaitsFor string `json:"waits_for,omitempty"`
	Settled  int64  `json:"settled,omitempty"` // the ticket that the message settled, in place of beginning a run: a plain yes or no
	Broken   string `json:"broken,omitempty"`  // the first error of the files, where the last good version answers
}

// Rows of lists, and what they are made of.
type (
	RunRow     = rows.Run
	SessionRow = rows.Session
	TicketRow  = rows.Ticket
	TryRow     = rows.Try
	Message    = tools.Message
	Moment     = rows.Moment
)

// RunList is a page of runs.
type RunList struct {
	Runs []RunRow `json:"runs"`
	Next string   `json:"next,omitempty"` // cursor of the next page
}

// SessionList is a page of sessions.
type SessionList struct {
	Sessions []SessionRow `json:"sessions"`
	Next     string       `json:"next,omitempty"`
}

// TicketList is a page of tickets.
type TicketList struct {
	Tickets []TicketRow `json:"tickets"`
	Next    string      `json:"next,omitempty"`
}

// Outbox is a page of the messages that tools have sent.
type Outbox struct {
	Messages []Message `json:"messages"`
	Next     string    `json:"next,omitempty"`
}

// Trust is what waits until a person lets it run outside the sandbox.
type Trust struct {
	Waiting []project.Outside `json:"waiting"`
}

// Run is one run with its steps.
type Run struct {
	Run     trace.Totals  `json:"run"`
	Steps   []*trace.Step `json:"steps"`
	Tickets []TicketRow   `json:"tickets"`
	Waiting []string      `json:"waiting"` // messages in the session's inbox
}

// Events is a page of a run's events.
type Events struct {
	Events []ledger.Event `json:"events"`
	Next   string         `json:"next,omitempty"`
}

// Change is one message of a run's event stream.
type Change struct {
	Event  ledger.Event  `json:"event"`
	Steps  []*trace.Step `json:"steps"` // that the event changed
	Totals trace.Totals  `json:"totals"`
}

// Delta is a piece of a turn's words, or a line that a call under way logs, in the
// event stream.
type Delta struct {
	Step ledger.StepID `json:"step"`
	Text string        `json:"text"`
	// Trouble keeps the run from going on for now, in words; "" with an empty Step says that it goes on.
	Trouble string `json:"trouble,omitempty"`
}

// Request is the exact request of a turn.
type Request struct {
	Step     ledger.StepID      `json:"step"`
	Agent    string             `json:"agent"`
	Model    string             `json:"model"`
	Attempt  int                `json:"attempt"`
	System   string             `json:"system"`
	Tools    []project.Contract `json:"tools"`
	Messages []ledger.Message   `json:"messages"`
	Same     bool               `json:"same"`           // this program would build the same request today
	Differs  string             `json:"differs"`        // why not, where it would not
	Wire     json.RawMessage    `json:"wire,omitempty"` // the body as it was sent
	Parts    []prompt.Part      `json:"parts"`          // what is not of the conversation, and where it comes from, as it is built today
}

// Session is one session with its runs, the oldest first.
type Session struct {
	SessionRow
	Shared  []string       `json:"shared"` // with whom, beside its own person
	Aside   []string       `json:"aside"`  // runs of calls that wait for people beside the conversation
	Talk    []Said         `json:"talk"`
	State   map[string]any `json:"state"`
	Waiting []string       `json:"waiting"`
}

// Said is one part of a session's conversation.
type Said = view.Said

// Project is the project in use.
type Project struct {
	Name     string         `json:"name"`
	Summary  string         `json:"summary"`
	Dir      string         `json:"dir"`
	Version  ledger.Hash    `json:"version"`
	Start    string         `json:"start"`
	Zone     string         `json:"zone"`
	Agents   []Agent        `json:"agents"`
	Relays   []Relay        `json:"relays"`
	Models   []Model        `json:"models"`
	State    map[string]any `json:"state_schema"`
	Errors   int            `json:"errors"`
	Warnings int            `json:"warnings"`
	Hints    int            `json:"hints"`
	Older    bool           `json:"older"` // the files have errors; this is the last good version
}

// Agent is an agent of the project.
type Agent struct {
	ID       string         `json:"id"`
	Status   string         `json:"status"`
	Summary  string         `json:"summary"`
	Model    string         `json:"model"`
	Tools    []string       `json:"tools"`
	PassesTo []string       `json:"passes_to"`
	Takes    map[string]any `json:"takes"` // JSON Schema of what it is consulted with
	Place    project.Place  `json:"place"`
}

// Relay is a relay of the project.
type Relay struct {
	ID      string         `json:"id"`
	Status  string         `json:"status"` // start, where conversations go through it; ok
	Summary string         `json:"summary"`
	Effect  ledger.Effect  `json:"effect"` // the strongest of its legs'
	Input   map[string]any `json:"input"`
	Spoken  string         `json:"spoken,omitempty"` // the field of the input that a message fills; "" where a form has to
	Legs    []string       `json:"legs"`
	Place   project.Place  `json:"place"`
}

// Model is a model of the project. Keys are named, never shown.
type Model struct {
	ID       string  `json:"id"`
	Status   string  `json:"status"` // used, fallback or unused
	Speaks   string  `json:"speaks"`
	URL      string  `json:"url,omitempty"`
	Name     string  `json:"name,omitempty"`
	Key      string  `json:"key,omitempty"`
	Fallback string  `json:"fallback,omitempty"`
	Input    float64 `json:"price_input"`
	Output   float64 `json:"price_output"`
}

// ModelTest is the result of asking a model one question.
type ModelTest struct {
	ID     string          `json:"id"`
	Status string          `json:"status"` // answers or fails
	MS     int64           `json:"ms"`
	Answer string          `json:"answer,omitempty"`
	Model  string          `json:"model,omitempty"`
	Tokens ledger.Usage    `json:"tokens"`
	Error  *ledger.Problem `json:"error,omitempty"`
	Can    *project.Can    `json:"can,omitempty"`  // what it was found able to do
	Kept   *project.Edit   `json:"kept,omitempty"` // where that was written
}

// Problems is what is wrong with the project's files.
type Problems struct {
	Problems []project.Problem `json:"problems"`
	Older    bool              `json:"older"`
	Read     time.Time         `json:"read_at"`
}

// Tool is a tool's contract and what is known of it.
type Tool struct {
	ID          string            `json:"id"`
	Status      string            `json:"status"` // live, or stub where it has nothing else
	Summary     string            `json:"summary"`
	Effect      ledger.Effect     `json:"effect"`
	Handler     string            `json:"handler"`
	Runs        string            `json:"runs,omitempty"` // what carries it out, in a line
	Source      string            `json:"source,omitempty"`
	Rung        ledger.Rung       `json:"rung"` // how far the files let it
	ReasonFirst bool              `json:"reason_first,omitempty"`
	Direct      bool              `json:"direct,omitempty"`
	Timeout     string            `json:"timeout"`
	Rate        string            `json:"rate,omitempty"` // in words
	Price       float64           `json:"price,omitempty"`
	Problems    []project.Problem `json:"problems"` // of its definition
	Resend      string            `json:"resend,omitempty"`
	Stubs       int               `json:"stubs"`
	Gate        string            `json:"gate,omitempty"` // when a person is asked, in words
	By          []string          `json:"by"`
	Agents      []string          `json:"agents"` // that have it
	Hooks       []string          `json:"hooks"`  // agents whose hooks call it
	Gates       []string          `json:"gates"`  // tools whose gates look things up with it
	Relays      []string          `json:"relays"` // with a leg that calls it, or a plan that may
	Input       map[string]any    `json:"input"`
	Output      map[string]any    `json:"output,omitempty"`
	Seen        project.Contract  `json:"contract"` // as models see it
	Place       project.Place     `json:"place"`
}

// Try is what POST /api/tools/{name}/try takes.
type Try struct {
	Args  value.Object `json:"args"`
	Tools ledger.Tools `json:"tools,omitempty"` // live or stubs
	State value.Object `json:"state,omitempty"`
}

// Tried is the result of a try.
type Tried struct {
	ID      int64          `json:"id,omitempty"` // its number in the history; none where it is not kept
	Tool    string         `json:"tool"`
	At      time.Time      `json:"at"`
	Status  string         `json:"status"` // returned, failed or refused
	Tools   ledger.Tools   `json:"tools"`  // live or stubs
	Rung    ledger.Rung    `json:"rung"`
	Handler string         `json:"handler"`
	Args    value.Object   `json:"args"`              // as they were sent
	Repairs []string       `json:"repairs,omitempty"` // what was put right in them
	Result  any            `json:"result,omitempty"`
	Words   string         `json:"words"`         // what the model would read
	Cut     bool           `json:"cut,omitempty"` // the words leave something out
	Tokens  int            `json:"tokens"`        // of the words, about
	Bytes   int            `json:"bytes"`         // of the result
	Sets    map[string]any `json:"sets,omitempty"`
	Gate    string         `json:"gate,omitempty"` // why a run would ask a person first
	Class   string         `json:"class,omitempty"`
	Error   string         `json:"error,omitempty"`
	Known   ledger.Outcome `json:"outcome,omitempty"`
	Sent    *ledger.Sent   `json:"sent,omitempty"`
	MS      int64          `json:"ms"`
}

// UnmarshalJSON reads a try, its result as exactly as it was written.
func (t *Tried) UnmarshalJSON(raw []byte) error {
	type plain Tried
	in := struct {
		*plain
		Result json.RawMessage `json:"result"`
	}{plain: (*plain)(t)}
	err := json.Unmarshal(raw, &in)
	if err == nil && len(in.Result) > 0 {
		t.Result, err = value.Read(in.Result)
	}
	return err
}

// TryList is a page of the history of tries, the newest first.
type TryList struct {
	Tries []TryRow `json:"tries"`
	Count int      `json:"count"` // in all
	Next  string   `json:"next,omitempty"`
}

// NewStub is what POST /api/tools/{name}/stubs takes: a try, a recorded call, or
// the stub itself.
type NewStub struct {
	Try     int64           `json:"try,omitempty"`
	Run     string          `json:"run,omitempty"`
	Step    string          `json:"step,omitempty"`
	Args    value.Object    `json:"args,omitempty"` // of the call that it answers; every call by default
	Returns json.RawMessage `json:"returns,omitempty"`
	Fails   string          `json:"fails,omitempty"`
	Status  int             `json:"status,omitempty"`
	After   string          `json:"after,omitempty"`
}

// Source is a place that brings tools.
type Source struct {
	ID     string        `json:"id"`
	Status string        `json:"status"` // openapi, mcp or code
	From   string        `json:"from"`
	Take   []string      `json:"take"`
	Place  project.Place `json:"place"`
}

// Inspected is what a source offers.
type Inspected struct {
	ID     string   `json:"id"`
	From   string   `json:"from"`
	Offers []Offer  `json:"offers"`
	Also   []string `json:"also"` // what it has beside tools

	Broken []project.Broken `json:"broken"` // files of functions that cannot be loaded
	// Installing says how far the package is that its program comes in; nil where it is there.
	Installing *Installing `json:"installing,omitempty"`
}

// Installing is a package on its way.
type Installing struct {
	Package string    `json:"package"`
	Since   time.Time `json:"since"`
	Line    string    `json:"line"` // what the installer said last; ""
}

// FunctionFile is a file of functions that is to be looked at.
type FunctionFile struct {
	File string `json:"file"` // its name
	Text string `json:"text"`
}

// Offer is one tool of a source, with what is doubtful about it.
type Offer struct {
	ID      string           `json:"id"`     // its name here
	Status  string           `json:"status"` // taken, offered or broken
	Name    string           `json:"name"`   // its name there
	Summary string           `json:"summary"`
	Says    string           `json:"says"`             // what the source says of its effect, read or write, or "": a hint, never trusted
	Effect  ledger.Effect    `json:"effect,omitempty"` // what a file of functions says of its effect, which holds
	Request string           `json:"request,omitempty"`
	Fault   string           `json:"fault,omitempty"`
	Place   project.Place    `json:"place,omitzero"` // where a function begins
	Input   map[string]any   `json:"input"`
	Change  string           `json:"change,omitempty"` // that tune: makes to it, as a unified difference
	Remarks []project.Remark `json:"remarks"`
}

// Ticket is a ticket with what a person needs to decide it.
type Ticket struct {
	TicketRow
	Schema map[string]any `json:"schema"` // of the values
	Talk   []Said         `json:"talk"`   // what led here

	Leads map[ledger.Verb][]string `json:"leads"` // what settling it will lead to, by the verb
	Told  []rows.Notice            `json:"told"`  // how people were told of it
}

// LinkTicket is what GET /api/link gives: the ticket of a link, and for whom it is.
type LinkTicket struct {
	Ticket
	Person  string    `json:"person"`
	Expires time.Time `json:"expires_at"`
	Project string    `json:"project"`
}

// Settle is what POST /api/tickets/{id}/settle takes.
type Settle struct {
	Verb    ledger.Verb     `json:"verb"`
	Because string          `json:"because,omitempty"`
	Args    value.Object    `json:"args,omitempty"`
	Result  json.RawMessage `json:"result,omitempty"`
	As      string          `json:"as,omitempty"`
	ID      string          `json:"id,omitempty"`
	Shown   ledger.Hash     `json:"shown,omitempty"`
	Spare   bool            `json:"spare,omitempty"` // this need not be asked again in the session
}

// Stop is what POST /api/runs/{id}/stop takes.
type Stop struct {
	Because string `json:"because,omitempty"`
}

// Drills is what POST /api/drills takes; no names are all drills.
type Drills struct {
	Names []string `json:"names,omitempty"`
}

// DrillList is a list of drills with their newest results. A drill that has not
// been run has the status "new".
type DrillList struct {
	Drills []drill.Result `json:"drills"`
}

// Me is who asks.
type Me struct {
	Name   string        `json:"name"` // "" where it is nobody
	Rights []right.Right `json:"rights"`
	Is     []string      `json:"is"`    // the approvers that they are
	Via    string        `json:"via"`   // how it is known
	Local  bool          `json:"local"` // it is the one person of a service that does not know who is who
	// Keyless says that they did not show the key of the records, so that they look and talk alone.
	Keyless bool `json:"keyless"`
	People  bool `json:"people"`  // there are people who may sign in
	SignIn  bool `json:"sign_in"` // one has to
}

// ModelOffers are the models that an endpoint has.
type ModelOffers struct {
	Models []string `json:"models"`
}

// SignIn is what POST /api/sign-in takes.
type SignIn struct {
	Token string `json:"token"`
}

// SignOut is what POST /api/sign-out takes.
type SignOut struct {
	Everywhere bool `json:"everywhere,omitempty"` // in all browsers
}

// Person is somebody who may use the service.
type Person struct {
	ID      string        `json:"id"`
	Rights  []right.Right `json:"rights"`
	Is      []string      `json:"is"`                // the approvers that they are
	Address string        `json:"address,omitempty"` // where notices go
	Vouches bool          `json:"vouches"`           // an application that says for whom it asks
	Through []string      `json:"through,omitempty"` // applications that may ask for them
	Since   time.Time     `json:"since"`
}

// PeopleList is everybody who may use the service.
type PeopleList struct {
	People []Person `json:"people"`
}

// NewPerson is what POST /api/people takes.
type NewPerson struct {
	Name    string        `json:"name"`
	Rights  []right.Right `json:"rights"`
	Is      []string      `json:"is,omitempty"`
	Address string        `json:"address,omitempty"`
	Key     string        `json:"key,omitempty"` // of an application: its public key, PEM
	Through []string      `json:"through,omitempty"`
}

// ChangePerson is what POST /api/people/{name} takes.
type ChangePerson struct {
	Rights  []right.Right `json:"rights"`
	Is      []string      `json:"is,omitempty"`
	Address string        `json:"address,omitempty"`
	Through []string      `json:"through,omitempty"` // nil: as it is
}

// Token is a person, and their token where a new one was made. It is not kept: nobody can see
// it again.
type Token struct {
	Person
	Token string `json:"token,omitempty"`
}

// Entry is a line of the record.
type Entry = rows.Entry

// Record is a page of who did what.
type Record struct {
	Entries []Entry `json:"entries"`
	Next    string  `json:"next,omitempty"`
}

// Share is what POST /api/sessions/{id}/share takes.
type Share struct {
	With    []string `json:"with,omitempty"`
	Without []string `json:"without,omitempty"`
}

// Keep is what POST /api/runs/{id}/steps/{step}/keep takes.
type Keep struct {
	Name    string `json:"name"`    // of the tool
	Summary string `json:"summary"` // what it does and when it is wanted
}

// Add is what POST /api/add takes: a document that the project is to have more.
type Add struct {
	Kind       string   `json:"kind"` // agent, tool or drill
	Name       string   `json:"name"`
	Like       string   `json:"like,omitempty"`        // the one of its kind whose text it begins with
	Summary    string   `json:"summary,omitempty"`     // in place of that of the text
	PassesFrom []string `json:"passes_from,omitempty"` // agents that hand over to it
	To         []string `json:"to,omitempty"`          // agents that have it, where it is a tool
}

// Take is what POST /api/sources/{name}/take takes: which of its tools the project has.
type Take struct {
	Take    []string          `json:"take"`              // all of them, by their names there
	Effects map[string]string `json:"effects,omitempty"` // of those of which somebody says it
	To      []string          `json:"to,omitempty"`      // agents that get the new ones
}

// Added says which files were changed, the new one first.
type Added struct {
	Edits []project.Edit `json:"edits"`
}

// Shown is what a read gives that is shown beside a conversation.
type Shown struct {
	Title   string `json:"title"`
	Tool    string `json:"tool"`
	Status  string `json:"status"` // read or failed
	Value   any    `json:"value"`
	Problem string `json:"problem,omitempty"`
}

// Database is a small database of the project.
type Database struct {
	ID      string        `json:"id"`     // its name
	Status  string        `json:"status"` // there, or broken
	Problem string        `json:"problem,omitempty"`
	Tables  []Table       `json:"tables"`
	Place   project.Place `json:"place"`
}

// Table is a table of a database, with its first rows.
type Table struct {
	Name    string   `json:"name"`
	Columns []string `json:"columns"`
	Count   int      `json:"count"` // of all its rows
	Rows    [][]any  `json:"rows"`
}

// KeptTool is a program of a run that became a tool of the project.
type KeptTool struct {
	File    string `json:"file"`              // of the tool
	Program string `json:"program,omitempty"` // of the program; "" where it stands in the tool's file
	Line    string `json:"line,omitempty"`    // the command line with which it runs outside, from the project's folder
}

// Changes is what a run has changed in files and nobody has undone, the newest first.
type Changes struct {
	Changes []tools.Change `json:"changes"`
	Diff    string         `json:"diff,omitempty"` // all of it as one: from before the run to now
}
