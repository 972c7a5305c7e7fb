package project_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/project"
)

func TestWhatIsShownBeside(t *testing.T) {
	with := func(beside string) (*project.Project, string) {
		p, probs := coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: strings.Replace(coretest.Main, "start: desk", "start: desk\nbeside: "+beside, 1)}})
		var said []string
		for _, x := range probs {
			said = append(said, x.Say)
		}
		return p, strings.Join(said, "\n")
	}
	p, _ := with("[{tool: look, title: The vessel, args: {name: \"=state.?booking.orValue('x')\"}}, {tool: tide}]")
	require.NotNil(t, p)
	assert.Equal(t, "The vessel", p.Beside[0].Title)
	assert.Equal(t, "tide", p.Beside[1].Title)
	assert.True(t, p.Users()["tide"].Beside, "so it is used")
	for beside, say := range map[string]string{"[{tool: reserve}]": `"reserve" is a write`, "[{tool: lok}]": `unknown tool "lok"`, "[{tool: look, args: {name: \"=nothing.x\"}}]": "nothing"} {
		p, said := with(beside)
		assert.Nil(t, p)
		assert.Contains(t, said, say)
	}
}
