// Package expr compiles and evaluates the expressions of a project: CEL, the
// Common Expression Language, typed against the JSON Schemas of what is in scope.
//
// A condition is one whole expression. A template is a text with {{ }} in it.
// A mapping is a YAML or JSON value in which a string that begins with "=" is an
// expression and any other string a template; "==" at the head stands for "=".
// Everything is compiled when the project is read and never parsed again from
// values. Evaluation has a cost limit.
package expr
