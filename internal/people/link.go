package people

// Link is what a signed link lets its bearer decide: one ticket, as one person.
type Link struct {
	ID     string // its own
	Ticket int64
	Person string // whom it was sent to
}
