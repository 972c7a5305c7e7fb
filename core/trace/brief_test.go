package trace

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTheUnitOfAFigureIsShownAndNotTheEndOfANameOfWords(t *testing.T) {
	assert.Equal(t, "46 m · ann", brief([]byte(`{"length_m":46,"agreed_by":"ann"}`)))
}
