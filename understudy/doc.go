// Package understudy is the stand-in model that ships with Stone Baton: it
// needs no network, no key and no money, and answers the same request the same
// way every time.
//
// It plays from lines where one fits: rules that say, for who is asked, what
// was said and what came back, which words and calls follow. Where none fits it
// works on its own: it splits the request into clauses, scores the tools by the
// words of their names, summaries, parameters and allowed values, fills the
// arguments by their schemas, asks for what is missing, calls, and answers from
// the results in plain sentences or a table. It knows a tool by its description
// alone, so a poor description makes a poor choice, as with any model.
//
// It runs in process, or as an HTTP endpoint of the wire chat-completions.
package understudy
