// Package chart makes the map of a project: its agents, tools and relays and what leads
// where, or the legs of one relay with every way out of them; and the paths that runs took
// through it. A chart is laid out once and can be written as text, DOT, Mermaid and SVG 1.1.
// All of it may be used side by side.
package chart
