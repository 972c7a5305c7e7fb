package project

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"stonebaton.example/core/expr"
	"stonebaton.example/core/ledger"
	"stonebaton.example/core/schema"
)

// Project is everything the files say, compiled. It is never changed after Read.
type Project struct {
	Name       string
	Summary    string
	Zone       *time.Location
	Start      string
	Models     map[string]*Model
	Limits     Limits
	State      *schema.Schema
	Approvers  []string
	deciders   []string // whom gates name, beside them
	Databases  map[string]*Database
	Beside     []Beside           // what is shown beside conversations, in order
	Notices    map[string]*Notice // the rules by which people are told of tickets, by name; Always is the project's own
	Agents     map[string]*Agent
	Tools      map[string]*Tool
	Sources    map[string]*SourceDoc
	Relays     map[string]*Relay
	own        map[string]*Agent         // of legs that are a prompt, by RELAY.LEG
	explains   map[string]*expr.Template // the wordings of handoffs and consults
	Rung       ledger.Rung
	Bare       bool // commands run with no sandbox
	Drills     []*Drill
	Version    ledger.Hash
	Files      map[string]string    // every file read, by path
	Catalogues map[string]Catalogue // what its sources offered of the tools it takes
}

// Agent finds who acts under a name: an agent, or what a leg that is a prompt asks; nil where
// there is none.
func (p *Project) Agent(name string) *Agent {
	if a := p.Agents[name]; a != nil {
		return a
	}
	return p.own[name]
}

// Model is one way to reach a model.
type Model struct {
	Name        string
	Speaks      string        // "understudy" or "chat-completions"
	URL, Key    string        // may hold ${NAME} and ${secret:NAME}
	Remote      string        // its name at the endpoint
	Lines       string        // glob of understudy lines
	Slips       float64       // how often an understudy's call goes wrong on purpose, from 0 to 1
	Seed        int           // which of its calls do
	Latency     time.Duration // what an understudy waits before its first word
	Word        time.Duration // and between words
	Headers     map[string]string
	Temperature *float64 // nil: not sent, so the endpoint's own holds
	MaxTokens   int
	Schema      bool              // the endpoint takes the schema that an answer has to fit
	Pictures    bool              // it takes pictures
	Written     bool              // it writes its calls into its text
	Can         Can               // what a test found
	Extra       map[string]any    // more fields of the request's body
	Fields      map[string]string // other names for fields of the request's body
	Price       Price
	Timeout     time.Duration // how long it may say nothing
	Longest     time.Duration // how long one reply may take in all
	Retries     int
	Fallback    string
	Place       Place
}

// Rate bounds the live calls of a tool, over all runs; 0 is no bound. Tools that share a name have
// one count.
type Rate struct {
	PerSecond, PerMinute, PerDay int
	Shared                       string
}

// None says that there is no bound.
func (r Rate) None() bool { return r == Rate{} }

func (r Rate) String() string {
	var out []string
	for _, b := range []struct {
		n    int
		time string
	}{{r.PerSecond, "second"}, {r.PerMinute, "minute"}, {r.PerDay, "day"}} {
		if b.n > 0 {
			out = append(out, fmt.Sprintf("%d in a %s", b.n, b.time))
		}
	}
	s := strings.Join(out, ", ")
	if r.Shared != "" {
		s += " for all that share " + r.Shared
	}
	return s
}

// Can is what a test found a model able to do; nil is not known.
type Can struct {
	Calls    *bool `json:"calls,omitempty"`    // makes calls
	Several  *bool `json:"several,omitempty"`  // several in one reply
	Schema   *bool `json:"schema,omitempty"`   // answers in a schema
	Pictures *bool `json:"pictures,omitempty"` // is shown pictures
	Streams  *bool `json:"streams,omitempty"`  // its words come one by one
	Context  int   `json:"context,omitempty"`  // tokens of a request, at least so many; 0: not known
}

// Price is money for a million tokens.
type Price struct{ Input, Output float64 }

// Of gives the cost of some tokens.
func (p Price) Of(u ledger.Usage) float64 {
	return (p.Input*float64(u.In) + p.Output*float64(u.Out)) / 1e6
}

// Limits bound one run. Zero tokens, cost or time is no bound.
type Limits struct {
	More                 *Gate // by which people may give a run more than that; nil: a limit that is reached ends it
	Turns, Calls, Tokens int
	Legs                 int // visits of the legs of relays
	Cost                 float64
	Time                 time.Duration
	SameCall, Passes     int
	LastWord             bool // a limit that is reached ends in one more turn, which sums up
}

// Agent is instructions, a model, tools, and whom it may hand over to.
type Agent struct {
	Name           string
	Summary        string
	Prompt         []Piece // what is sent before the messages, in order
	Model          string
	Settings       Settings
	SendsReasoning bool   // of its earlier turns, with later requests
	Aside          bool   // calls that wait for people do so beside the conversation
	Rejoin         string // start: the next message begins where conversations do; "" is here
	Tools          []string
	Asks           bool // it may put questions to the person
	PassesTo       []string
	Sees           map[string]ledger.Sees // what those that it passes to see of the conversation; "" is all
	Consults       []*Consult
	Input          *schema.Schema           // of what it is consulted with beside the question; nil: nothing
	Answer         *schema.Schema           // that its answers have to fit; nil: any text
	PersonAt       []ledger.Place           // where a person looks at every step of it
	Gate           *Gate                    // where people decide about its answers; nil: nowhere
	Good           *Good                    // what has to hold of its answers; nil: nothing
	Window         int                      // messages kept; 0 is all
	On             map[ledger.Moment][]Hook // what happens with no model
	Turns          int                      // turns on one thread; 0 is no bound of its own
	Box            Toolbox
	Asking         Toolbox // where it may put questions to the person as well
	Place          Place
	Said           Place // of the prompt
}

// Piece is a part of what is sent before the messages, and where it comes from.
type Piece struct {
	Name  string // instructions, wording NAME, example N
	Text  *expr.Template
	Place Place
}

// Settings are an agent's own, before those of its model.
type Settings struct {
	Temperature *float64
	Seed        *int   // the same reply to the same request, where an endpoint heeds it
	MaxTokens   int    // of a reply
	Calls       string // none, some, or a tool that the first turn after a message has to call; "" is free
}

// DeepestConsult is how many threads may lie under one another.
const DeepestConsult = 8

// Consult is an agent that another may ask.
type Consult struct {
	Agent  string
	Kept   bool           // it remembers, over the session, what this one asked it
	Asks   bool           // it may put questions to the person through the one who asked
	Params *schema.Schema // question, and the fields of its input
}

// Consulted finds whom an agent may ask; nil where it may not.
func (a *Agent) Consulted(agent string) *Consult {
	for _, c := range a.Consults {
		if c.Agent == agent {
			return c
		}
	}
	return nil
}

// Tool is a contract and what carries it out: the work of its kind, or a tool of a
// source. A tool with neither has stubs alone.
type Tool struct {
	Name        string
	Summary     string
	Input       *schema.Schema
	Output      *schema.Schema
	Effect      ledger.Effect
	Resend      string // "", "safe" or "key"
	Timeout     time.Duration
	Retries     int
	Rung        ledger.Rung // how far the files let it
	ReasonFirst bool
	Unless      []Saying
	LooksUp     []Lookup // for Checks, in order of their names
	Checks      []Saying // the rules of unless over what is looked up
	Rate        Rate
	Price       float64 // of a live call
	Link        *expr.Template
	Cache       time.Duration // 0: none
	Shared      bool          // what is kept is the same for everybody
	Direct      bool
	Rows        int // of a list that the model reads
	Tokens      int // of a result that the model reads
	Work        Work
	Remote      *Remote // nil: not of a source
	Stubs       []Stub
	Done        *expr.Template
	Failed      []Saying
	Sets        []Setting
	Gate        *Gate
	Source      string // that brought it; "" for a document of its own
	Document    string // the file of its document
	Place       Place
}

// Handler names what carries the tool out.
func (t *Tool) Handler() string {
	switch {
	case t.Work.Kind != "":
		return t.Work.Kind
	case t.Remote != nil && t.Remote.Source.Code != nil:
		return "code"
	case t.Remote != nil && t.Remote.Operation != nil:
		return "openapi"
	case t.Remote != nil:
		return "mcp"
	}
	return "stub"
}

// Line says in a line what carries the tool out; "" where stubs alone do.
func (t *Tool) Line() string {
	switch {
	case t.Remote != nil && t.Remote.Operation != nil:
		return t.Remote.Operation.Method + " " + t.Remote.Operation.Path
	case t.Remote != nil && t.Remote.File != "":
		return t.Remote.Name + " of " + t.Remote.File
	case t.Remote != nil:
		return t.Remote.Name
	}
	return t.Work.Line
}

// Because is the argument in which a model says why, for reason_first.
const Because = "because"

// Auth is how a request says who it is. One of the parts is set; their values
// name secrets.
type Auth struct {
	Bearer         string
	User, Password string
	Header         map[string]string
	Query          map[string]string
	OAuth          *OAuth
	Login          *Login
}

// Login is a route that takes credentials and answers with a token.
type Login struct {
	URL   string
	Body  map[string]any // whose texts may name secrets
	Where string         // the token is, as an expression
	Token *expr.Mapping  `json:"-"` // the same, ready
}

// OAuth is the client-credentials grant of RFC 6749.
type OAuth struct {
	TokenURL     string `json:"token_url"`
	ClientID     string `json:"client_id"`
	ClientSecret string `json:"client_secret"`
	Scopes       []string
	Audience     string
}

// Remote is a tool of a source. Operation is set for one of an OpenAPI document.
type Remote struct {
	Source    *SourceDoc
	Name      string // there
	File      string // of a function
	Operation *Operation
	Hash      ledger.Hash // of its input, as it was offered
	Reading   Reading
}

// Reading is what is taken from an HTTP reply.
type Reading struct {
	Pick      *expr.Mapping // nil: the whole body
	FailsWhen *expr.Expr    // nil: the status alone decides
	NotFound  bool          // what is empty is a failure
}

// SourceDoc is a place that brings many tools.
type SourceDoc struct {
	Name      string
	Command   []string
	Env       map[string]string
	Package   *Package // that Command is a program of; nil where it is one of the machine
	Bounds    Bounds   // of the program that Command starts
	URL       string   // of a tool server
	Document  string   // of an API
	Code      *Code    // functions of the project
	Server    string
	Auth      *Auth
	Timeout   time.Duration
	Redirects bool
	Private   bool
	Take      []string
	Tuned     map[string]map[string]any // what tune: puts in place of inputs, by the names in take
	Prefix    string
	Place     Place
}

// Package is what the program of a tool server is installed with.
type Package struct {
	Language string // python3 or node
	Name     string // as name or name@version; "" is one that cannot be installed as it is written
	Registry string // the address of one; "" is the installer's own
}

// Bounds are those of a program in the sandbox, and what it is granted.
type Bounds struct {
	Bare      bool // it runs outside the sandbox
	Reads     []string
	Writes    []string
	Network   Network
	MemoryMB  int
	DiskMB    int
	Processes int
}

// Key is the same for two documents of the same source, reached in the same way.
func (s *SourceDoc) Key() string {
	raw, err := json.Marshal([]any{s.Name, s.Command, s.Package, s.Env, s.Bounds, s.URL, s.Document, s.Code, s.Auth})
	if err != nil {
		panic(err) // all of it is texts
	}
	return string(raw)
}

// Stub is a canned answer; the first whose When holds is taken.
type Stub struct {
	When    *expr.Expr // nil: always
	After   time.Duration
	Returns *expr.Mapping
	Fails   *expr.Template
	Status  int    // of a failure
	Class   string // of a failure
	Outcome ledger.Outcome
}

// Saying is what the model reads where When holds.
type Saying struct {
	When *expr.Expr
	Say  *expr.Template
}

// Setting puts part of a result into the state.
type Setting struct {
	Name string
	To   *expr.Mapping
}

// Drill is a test of the project.
type Drill struct {
	Name     string
	Summary  string
	Says     []DrillSay
	Now      time.Time // zero: a fixed day
	Person   string
	Tools    ledger.Tools
	Rungs    map[string]ledger.Rung
	Model    string
	Slips    *float64 // in place of the understudies' own; nil leaves them
	Seed     int
	State    map[string]any
	Gates    map[string][]DrillGate   // by the tool, or the leg: what is done one time after another, the last as often as there is need
	Consults map[string]ledger.Canned // what agents answer without being run
	Legs     map[string]ledger.Canned // what legs of its relay bring without being gone into
	Stubs    map[string][]Stub        // tried before the tools' own
	Place    Place
}

// DrillSay is one message of a drill and what must follow from it.
type DrillSay struct {
	Text   string
	Relay  string         // to go through; "": an agent is asked
	Input  map[string]any // of the relay
	Expect *Expect
}

// DrillGate is what the drill's person does at a gate. Verb is "" to leave it waiting.
type DrillGate struct {
	Verb    ledger.Verb
	Because string
	Args    map[string]any
	Answer  string
}

// Expect is what must hold of a run; what is unset is not looked at.
type Expect struct {
	Status   string          `json:"status"`
	Path     []string        `json:"path"`
	Calls    []ExpectCall    `json:"calls"`
	Never    []string        `json:"never"`
	Legs     []string        `json:"legs"`
	Visits   map[string]int  `json:"visits"`
	Course   []string        `json:"course"`
	Kept     map[string]any  `json:"kept"`
	Consults []ExpectConsult `json:"consults"`
	Answer   ExpectAnswer    `json:"answer"`
	Problem  string          `json:"problem"`
	State    map[string]any  `json:"state"`
	WhereIs  string          `json:"where"`
	Where    *expr.Expr      `json:"-"`
	Raw      json.RawMessage `json:"-"`
	Place    Place           `json:"-"`
}

// ExpectCall is a call that must have happened.
type ExpectCall struct {
	Tool   string         `json:"tool"`
	Args   map[string]any `json:"args"`
	Gate   string         `json:"gate"`
	Status string         `json:"status"` // "" is what Due gives
}

// ExpectConsult is a consult that must have happened.
type ExpectConsult struct {
	Agent   string `json:"agent"`
	By      string `json:"by"`
	Asked   string `json:"asked"`
	Answer  string `json:"answer"`
	Outcome string `json:"outcome"` // "" is done
}

// Due is the status that the call must have: it must have returned, if nothing else is
// said, or have ended as its gate does.
func (c ExpectCall) Due() string {
	switch {
	case c.Status != "":
		return c.Status
	case c.Gate == string(ledger.RefuseIt) || c.Gate == string(ledger.Lapsed):
		return "refused"
	case c.Gate == "open":
		return "waiting"
	}
	return "returned"
}

// ExpectAnswer is what the answer must and must not say, in any case of letters.
type ExpectAnswer struct {
	Says   []string `json:"says"`
	Avoids []string `json:"avoids"`
}

// Place is where something stands in the files.
type Place struct {
	File string `json:"file"`
	Line int    `json:"line,omitempty"`
	Col  int    `json:"col,omitempty"`
}

// String gives the place as FILE:LINE:COL, as far as it is known.
func (p Place) String() string {
	s := p.File
	if p.Line > 0 {
		s += ":" + strconv.Itoa(p.Line)
		if p.Col > 0 {
			s += ":" + strconv.Itoa(p.Col)
		}
	}
	return s
}

// Grade says whether a problem keeps runs from starting.
type Grade string

// The grades of problems.
const (
	Error   Grade = "error"
	Warning Grade = "warning"
	Hint    Grade = "hint"
)

// Rank gives the place of a grade among the others: 0 is the worst.
func (g Grade) Rank() int { return slices.Index([]Grade{Error, Warning, Hint}, g) }

// Problem is something about the files that is wrong or doubtful.
type Problem struct {
	Grade Grade  `json:"grade"`
	Code  string `json:"code,omitempty"` // names what can be accepted in place
	Tool  string `json:"tool,omitempty"` // whose definition it is about
	Place
	Say    string `json:"say"`
	Remedy string `json:"remedy,omitempty"`
	Text   string `json:"text,omitempty"` // the line that causes it
}

// PassPrefix begins the name under which a model sees a handoff, ConsultPrefix that of a
// consult.
const (
	PassPrefix    = "pass_to_"
	ConsultPrefix = "consult_"
)

// NextStep is the name under which the agent of a plan sees the tool that takes its next step.
const NextStep = "next_step"

// StepOfAgent is the title of an agent among the definitions of that tool's parameters.
const StepOfAgent = "an agent"

// AskPerson is the name under which a model sees a question to the person, and Question the
// argument in which it, and a consult, says what is asked.
const (
	AskPerson = "ask_person"
	Question  = "question"
)

// WithStubs gives the project with some stubs tried before its tools' own, by tool.
func (p *Project) WithStubs(stubs map[string][]Stub) *Project {
	if len(stubs) == 0 {
		return p
	}
	with := *p
	with.Tools = maps.Clone(p.Tools)
	for name, list := range stubs {
		t := *p.Tools[name]
		t.Stubs = append(slices.Clone(list), t.Stubs...)
		with.Tools[name] = &t
	}
	return &with
}
