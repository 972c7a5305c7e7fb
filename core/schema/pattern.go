package schema

import (
	"regexp"
	"time"

	"github.com/dlclark/regexp2/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// patternTime bounds one match of a pattern that may go back and forth without end.
const patternTime = 100 * time.Millisecond

// pattern reads a regular expression. Those that RE2 reads take time by the length of the text.
// The others are of ECMAScript (ECMA-262), as JSON Schema has them: they may look ahead and
// behind, and their matches are bounded.
func pattern(s string) (jsonschema.Regexp, error) {
	if re, err := regexp.Compile(s); err == nil {
		return re, nil
	}
	re, err := regexp2.Compile(s, regexp2.ECMAScript)
	if err != nil {
		return nil, err
	}
	re.MatchTimeout = patternTime
	return &backtracking{re, s}, nil
}

type backtracking struct {
	re   *regexp2.Regexp
	text string
}

// MatchString says whether a text matches; one that takes too long does not.
func (b *backtracking) MatchString(s string) bool {
	ok, err := b.re.MatchString(s)
	return ok && err == nil
}

func (b *backtracking) String() string { return b.text }
