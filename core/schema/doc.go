// Package schema compiles and applies JSON Schema, draft 2020-12, and explains
// what does not fit in sentences that name what would have been right: the same
// sentence serves a person and a model.
package schema
