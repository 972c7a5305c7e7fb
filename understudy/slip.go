package understudy

import (
	"stonebaton/core/ledger"
	"stonebaton/core/prompt"
)

// slip makes calls go wrong on purpose.
func (p Part) slip(prompt.Request, []ledger.Ask) string { return "" }
