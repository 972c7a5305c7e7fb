// Package reading reads plain English as people write it in a hurry: it cuts a
// text into words and clauses, and finds what they mention: figures with their
// units, days and times, codes, names, quotes and addresses, each with the words
// that say what it is for. It knows nothing of tools; whoever wants to plan,
// judge, sum up or search by a text reads it here first.
//
// All functions are pure, give the same for the same text, and may be called
// side by side. Positions are byte offsets into the text.
package reading
