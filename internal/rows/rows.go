package rows

import "stonebaton.example/core/ledger"

// Run is a row of the list of runs. Its names are those of the run itself.
type Run struct {
	N       int64        `json:"-" db:"n"`
	ID      string       `json:"id" db:"id"`
	Session string       `json:"session" db:"session"`
	Person  string       `json:"person" db:"person"`
	Text    string       `json:"text" db:"text"`
	Status  string       `json:"status" db:"status"`
	Agent   string       `json:"agent" db:"agent"`
	Path    Names        `json:"path" db:"path"`     // the agents that held the baton, in order
	Called  Names        `json:"called" db:"called"` // tools
	Models  Names        `json:"models" db:"models"`
	Turns   int          `json:"turns" db:"turns"`
	Calls   int          `json:"calls" db:"calls"`
	Tokens  ledger.Usage `json:"tokens" db:"tokens"`
	Cost    float64      `json:"cost" db:"cost"`
	MS      int64        `json:"ms" db:"worked"` // of work, waits for people not counted
	Answer  string       `json:"answer" db:"answer"`
	Problem JSON         `json:"problem,omitempty" db:"problem"`
	Opened  Moment       `json:"opened_at" db:"opened_at"`
	Last    Moment       `json:"last_at" db:"last_at"`
}

// Session is a row of the list of sessions, with the sums of its runs.
type Session struct {
	N      int64        `json:"-" db:"n"` // of its newest run
	ID     string       `json:"id" db:"id"`
	Title  string       `json:"title" db:"title"`
	Person string       `json:"person" db:"person"`
	Runs   int          `json:"runs" db:"runs"`
	Last   string       `json:"last" db:"last"`
	Status string       `json:"status" db:"status"`
	Agent  string       `json:"agent" db:"agent"`
	Turns  int          `json:"turns" db:"turns"`
	Calls  int          `json:"calls" db:"calls"`
	Tokens ledger.Usage `json:"tokens" db:"tokens"`
	Cost   float64      `json:"cost" db:"cost"`
	MS     int64        `json:"ms" db:"worked"`
	LastAt Moment       `json:"last_at" db:"last_at"`
}

// Ticket is a row of the list of tickets.
type Ticket struct {
	ID         int64         `json:"id" db:"id"`
	Run        string        `json:"run" db:"run"`
	Step       string        `json:"step" db:"step"`
	Form       string        `json:"form" db:"form"`
	Agent      string        `json:"agent" db:"agent"`
	Tool       string        `json:"tool" db:"tool"`
	Args       JSON          `json:"args" db:"args"`
	Ask        string        `json:"ask" db:"ask"`
	By         List          `json:"by" db:"approvers"`
	Why        string        `json:"why" db:"why"`
	Reason     string        `json:"reason,omitempty" db:"reason"` // the model's own, for reason_first
	Diff       string        `json:"diff,omitempty" db:"diff"`     // of the file that the call would change
	Link       string        `json:"link,omitempty" db:"link"`     // opens the outside record that the call is about
	Shown      string        `json:"shown" db:"shown"`
	Due        *Moment       `json:"due,omitempty" db:"due"`
	Raised     Moment        `json:"raised_at" db:"raised_at"`
	Status     string        `json:"status" db:"status"`
	SettledBy  string        `json:"settled_by,omitempty" db:"settled_by"`
	SettledAs  string        `json:"settled_as,omitempty" db:"settled_as"` // the approver as which the last one settled it, where by: does not name them
	Because    string        `json:"because,omitempty" db:"because"`
	NewArgs    JSON          `json:"new_args,omitempty" db:"new_args"`
	Settled    *Moment       `json:"settled_at,omitempty" db:"settled_at"`
	Need       int           `json:"need" db:"need"`                         // how many have to agree
	Votes      Votes         `json:"votes" db:"votes"`                       // of those who have agreed to the arguments as they are
	Barred     string        `json:"barred,omitempty" db:"barred"`           // who asked, and may not agree as well
	Spare      bool          `json:"spare,omitempty" db:"spare"`             // one may say that this need not be asked again
	Escalates  *Moment       `json:"escalates_at,omitempty" db:"escalates"`  // when more people may settle it
	EscalateTo List          `json:"escalate_to,omitempty" db:"escalate_to"` // these
	Wants      JSON          `json:"wants,omitempty" db:"wants"`             // the JSON Schema of the answer to a question; none is any words
	Stepwise   bool          `json:"stepwise,omitempty" db:"stepwise"`       // a person looks at every such step of the run
	May        List          `json:"-" db:"may"`                             // the verbs that it takes; none is all of its kind
	Verbs      []ledger.Verb `json:"verbs" db:"-"`
}

// Finish fills in what follows from the other fields.
func (t *Ticket) Finish() {
	t.Verbs = ledger.TicketKind(t.Form).Verbs()
	if len(t.May) > 0 {
		t.Verbs = nil
		for _, v := range t.May {
			t.Verbs = append(t.Verbs, ledger.Verb(v))
		}
	}
	if t.Escalates == nil { // the others may settle it too
		t.By, t.EscalateTo = append(t.By, t.EscalateTo...), nil
	}
}

// Try is a line of the history of tries. Its names are those of the try itself.
type Try struct {
	ID     int64  `json:"id" db:"id"`
	Tool   string `json:"tool" db:"tool"`
	At     Moment `json:"at" db:"at"`
	Status string `json:"status" db:"status"`
	Way    string `json:"tools" db:"way"`
	MS     int64  `json:"ms" db:"ms"`
	Bytes  int64  `json:"bytes" db:"bytes"`
	Tokens int    `json:"tokens" db:"tokens"`
	Args   JSON   `json:"args" db:"args"`
	Words  string `json:"words" db:"words"` // their head
}

// Entry is a line of the record of who did what.
type Entry struct {
	N      int64  `json:"n" db:"n"`
	At     Moment `json:"at" db:"at"`
	Person string `json:"person" db:"person"`
	Via    string `json:"via" db:"via"` // how it is known who it was
	Did    string `json:"did" db:"did"`
	About  string `json:"about" db:"about"` // a run, a ticket, a session, a tool, a person
	Detail string `json:"detail,omitempty" db:"detail"`
}

// Notice is one time that people are told of a ticket.
type Notice struct {
	N      int64  `json:"-" db:"n"`
	Run    string `json:"-" db:"run"`
	Step   string `json:"-" db:"step"`
	Ticket int64  `json:"-" db:"ticket"`
	Kind   string `json:"kind" db:"kind"` // raised, reminder or escalated
	Due    Moment `json:"at" db:"due"`
	Every  int64  `json:"-" db:"every"` // seconds until the next reminder; 0 is never
	Tries  int    `json:"tries" db:"tries"`
	Told   List   `json:"told" db:"told"`
	Failed string `json:"failed,omitempty" db:"failed"`
	Status string `json:"status" db:"status"` // due, told, failed, or over: the ticket was settled before
}
