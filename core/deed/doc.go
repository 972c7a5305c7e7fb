// Package deed says what crosses the ports between the loop and the world: what a model is
// asked and what it replies, what a tool is told and what it brings back, and how each
// fails. Models and tools import this and the core alone.
package deed
