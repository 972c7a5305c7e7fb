// Package project says what a project is and reads it from its files: strictly,
// with file, line and column for every problem, and with every expression
// compiled and typed. The shape of each kind of document is a JSON Schema in
// kinds.yaml; it is both what is published and what is read by.
package project
