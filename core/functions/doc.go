// Package functions reads what a file of functions says of them: their documentation, as
// docstrings and JSDoc have it, their parameters, and the comment that names their effect. It
// makes of each function what a source offers. It runs no code: what can be known only by
// loading a file is told to it in a [Function].
package functions
