// Package understudy is the stand-in model that ships with Stone Baton: it
// needs no network, no key and no money, and answers the same request the same
// way every time.
//
// It plays from lines where one fits (lines.go). Where none fits it works on its
// own, from what the request holds and nothing else, except that it knows the
// schemas of results where it has the project:
//
//   - card.go reads the descriptions of tools, once for each set of them;
//   - thought.go finds what the person wants, with the messages before it where
//     the newest answers, amends or points back, and cuts it into goals;
//   - weigh.go scores every tool for a goal, by words and by what fits;
//   - fill.go fills arguments, with a file for each sort: figures.go, moments.go,
//     strings.go, texts.go, and results.go for what tools brought;
//   - think.go takes the goals a step on: calls, a question, a handoff, or the
//     answer; rules.go has what comes before a call, condition.go what it hangs on;
//   - plan.go has whom a plan can set to work weighed as tools are;
//   - compose.go does what an agent with no tools does with a text, and gives answers the
//     shape that they have to have;
//   - ask.go and say.go word questions and answers, why.go the reasons.
//
// The reading of language is core/reading. A tool is known by its description
// alone, so a poor one makes a poor choice, as with any model.
//
// It runs in process (wire.go), or as an HTTP endpoint of the wire
// chat-completions (server.go).
package understudy
