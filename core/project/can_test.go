package project_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"stonebaton.example/core/coretest"
	"stonebaton.example/core/project"
)

func TestAgentsAreHeldAgainstWhatTheirModelsCanDo(t *testing.T) {
	said := func(model string) string {
		main := strings.Replace(coretest.Main, "models: {m: {speaks: understudy, retry: 1, fallback: spare}", "models: {m: {speaks: chat-completions, url: \"http://127.0.0.1:1/v1\", "+model+"}", 1)
		_, probs := coretest.Reader.Compile(project.Source{Files: map[string]string{project.Main: main}, Env: map[string]string{}})
		var out []string
		for _, p := range probs {
			out = append(out, string(p.Grade)+" "+p.Say)
		}
		return strings.Join(out, "\n")
	}
	assert.Contains(t, said("can: {calls: false}"), "error desk has 5 tools, and a test found that its model m makes no calls")
	assert.NotContains(t, said("calls: written, can: {calls: false}"), "makes no calls")
	assert.NotContains(t, said("can: {calls: true}"), "makes no calls")
	assert.Contains(t, said("can: {context: 50}"), "and a test found that m takes 50")
	assert.NotContains(t, said("can: {context: 5000}"), "takes 5000")
	assert.Contains(t, said("takes_schema: true, can: {schema: false}"), "warning a test found that \"m\" does not answer in a schema")
	assert.Contains(t, said("takes_pictures: true, can: {pictures: false}"), "warning a test found that \"m\" is not shown pictures")
}

func TestWhatAModelCanDoIsWrittenIntoTheFile(t *testing.T) {
	yes, no := true, false
	can := project.Can{Calls: &yes, Pictures: &no}
	for name, c := range map[string]struct{ was, want string }{
		"in braces":     {"models: {m: {speaks: understudy, lines: \"a}b\"}}\n", "models: {m: {speaks: understudy, lines: \"a}b\", can: {calls: true, pictures: false}}}\n"},
		"in lines":      {"models:\n  m:\n    speaks: understudy   # ours\n    retry: 1\n", "models:\n  m:\n    speaks: understudy   # ours\n    retry: 1\n    can: {calls: true, pictures: false}\n"},
		"once more":     {"models:\n  m: {speaks: understudy, can: {calls: false, context: 4096}, retry: 1}\n", "models:\n  m: {speaks: understudy, can: {calls: true, pictures: false, context: 4096}, retry: 1}\n"},
		"more in lines": {"models:\n  m:\n    speaks: understudy\n    can: {calls: false}\n    retry: 1\n", "models:\n  m:\n    speaks: understudy\n    can: {calls: true, pictures: false}\n    retry: 1\n"},
	} {
		e, err := project.Keep(project.Source{Files: map[string]string{project.Main: "project: quay\nstart: desk\n" + c.was}}, "m", can)
		require.NoError(t, err, name)
		assert.Equal(t, "project: quay\nstart: desk\n"+c.want, e.Body, name)
	}
	_, err := project.Keep(project.Source{Files: map[string]string{project.Main: "project: quay\nmodels: {}\n"}}, "m", can)
	assert.ErrorContains(t, err, `has no model "m"`)
}
