package near_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"stonebaton.example/core/near"
)

func TestPairs(t *testing.T) {
	assert.Equal(t, [][2]string{{"berth", "birth"}, {"berth", "berths"}, {"berth", "breth"}, {"höhe", "hähe"}},
		near.Pairs([]string{"berth", "birth", "berths", "breth", "quay", "line1", "line2", "line", "höhe", "hähe"}))
	assert.Empty(t, near.Pairs(nil))
	assert.Empty(t, near.Pairs([]string{"same", "same"}))
	assert.Len(t, near.Pairs([]string{"ber\xff", "berx"}), 1, "bytes that are not text do no harm")
	assert.Empty(t, near.Pairs([]string{strings.Repeat("berth", 1<<18), strings.Repeat("berth", 1<<18) + "s"}), "nobody mistakes those")
	var many []string
	for i := range 20_000 {
		many = append(many, fmt.Sprintf("param_%d_x", i))
	}
	assert.Empty(t, near.Pairs(many))
	for i := range many {
		many[i] = fmt.Sprintf("%c_berth", 0x4e00+i)
	}
	assert.Len(t, near.Pairs(many), 1000)
}

func TestList(t *testing.T) {
	assert.Equal(t, "a, b", near.List([]string{"a", "b"}))
	assert.Empty(t, near.List(nil))
	assert.Equal(t, strings.Repeat("x, ", 19)+"x and 980 more", near.List(slices.Repeat([]string{"x"}, 1000)))
}

func TestNames(t *testing.T) {
	tools := []string{"find_berth", "find_vessel", "assign_berth", "reckon_dues"}
	assert.Equal(t, []string{"find_berth"}, near.Names("find_bert", tools)[:1])
	assert.Equal(t, "reckon_dues", near.Names("recokn_dues", tools)[0], "a swap of neighbours is one edit")
	assert.Contains(t, near.Names("book_berth", tools), "assign_berth", "a word in common counts")
	assert.Empty(t, near.Names("invoices", tools))
	assert.Equal(t, ` Did you mean "a" or "b"?`, near.Hint("c", []string{"a", "b"}))
	assert.Empty(t, near.Hint("nothing", nil))
	assert.Empty(t, near.Names(strings.Repeat("berth", 1<<20), append(tools, strings.Repeat("berth", 1<<20))), "nobody misspells that")
	assert.Equal(t, []string{"höhe"}, near.Names("hohe", []string{"höhe", "tiefe", strings.Repeat("höhe", 1<<20)}))
}
