// Package chat speaks the wire chat-completions: the JSON-over-HTTP request
// that most hosted and local model servers accept, with streamed deltas as
// Server-Sent Events. Types of the wire are shared with the stand-in endpoint.
package chat
