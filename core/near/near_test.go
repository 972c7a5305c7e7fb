package near_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"stonebaton/core/near"
)

func TestNames(t *testing.T) {
	tools := []string{"find_berth", "find_vessel", "assign_berth", "reckon_dues"}
	assert.Equal(t, []string{"find_berth"}, near.Names("find_bert", tools)[:1])
	assert.Equal(t, "reckon_dues", near.Names("recokn_dues", tools)[0], "a swap of neighbours is one edit")
	assert.Contains(t, near.Names("book_berth", tools), "assign_berth", "a word in common counts")
	assert.Empty(t, near.Names("weather", tools))
	assert.Equal(t, ` Did you mean "a" or "b"?`, near.Hint("c", []string{"a", "b"}))
	assert.Empty(t, near.Hint("nothing", nil))
}
