package reading

import (
	"regexp"
	"strings"
)

var (
	greetRE  = regexp.MustCompile(`(?i)^\W*(hello|hi|hey|hiya|howdy|good\s+(?:morning|day|afternoon|evening)|greetings|morning|moin)\b[\s,!.]*(?:there|all|everyone|again|you|team|folks)?[\s,!.]*`)
	thanksRE = regexp.MustCompile(`(?i)^\W*(?:(?:ok|okay|great|perfect|lovely|super|cool|fine|good|brilliant|alright|nice|wonderful|excellent|right)\b[\s,!.]*)*(?:many\s+)?(?:thanks|thank\s+you|thx|ty|cheers|much\s+appreciated)\b[\s,!.]*(?:so\s+much|very\s+much|a\s+lot|a\s+million|again|for\s+(?:that|the\s+help|your\s+help|helping))?[\s,!.]*`)
	byeRE    = regexp.MustCompile(`(?i)^\W*(?:good\s*bye|bye(?:\s*bye)?|see\s+you(?:\s+\w+)?|that'?s\s+all|that\s+is\s+all|that\s+will\s+be\s+all|nothing\s+else)\b[\s,!.]*$`)
	fineRE   = regexp.MustCompile(`(?i)^\W*(?:ok|okay|great|perfect|lovely|super|cool|fine|good|brilliant|alright|nice|wonderful|excellent|got\s+it|i\s+see|understood)\b[\s,!.]*$`)
	yesRE    = regexp.MustCompile(`(?i)^\W*(?:yes|yep|yeah|yup|sure|ok|okay|please\s+do|do\s+it|do\s+that|go\s+ahead|of\s+course|correct|exactly|right|absolutely|definitely|confirm(?:ed)?|fine|y)\b(?:[\s,!.]*(?:please|thanks|thank\s+you|do|do\s+it|do\s+that|go\s+ahead|sure|that'?s\s+right|sounds\s+good))*[\s,!.]*$`)
	noRE     = regexp.MustCompile(`(?i)^\W*(?:no|nope|nah|not\s+now|never\s*mind|forget\s+it|leave\s+it|don'?t|rather\s+not|n|stop|cancel\s+that)\b[\s,!.]*(?:thanks|thank\s+you|please|it'?s\s+fine|that'?s\s+fine|that'?s\s+all)?[\s,!.]*$`)
	sorryRE  = regexp.MustCompile(`(?i)^\W*(?:(?:oh|oops|ah|no|wait|sorry|hang\s+on|hold\s+on|my\s+mistake|my\s+bad|excuse\s+me)\b[\s,!.–—-]*)*(?:i\s+(?:meant|mean)|i\s+should\s+have\s+said|make\s+(?:it|that)|actually|rather|correction|not\s+\S+\s*,?\s*but|better)\b[\s,:]*|^\W*(?:(?:oh|oops|ah|wait|sorry|no|hang\s+on|my\s+mistake)\b[\s,!.–—-]+)+`)
	alsoRE   = regexp.MustCompile(`(?i)^\W*(?:(?:ok|okay|so|thanks|great|right)\b[\s,!.]*)*(?:and|also|what\s+about|how\s+about|same\s+(?:for|with|again)|the\s+same|or|now|then|again)\b[\s,]*`)
	// what one asks of a helper, not of the world
	ablesRE = regexp.MustCompile(`(?i)\bwhat\s+(?:all\s+)?(?:can|could|do)\s+(?:you|i|we)\s+(?:do|help|offer|ask|know)\b(?:\s+(?:for\s+(?:me|us)|here|with|me\s+with|about|you))*\W*$|\bwhat\s+(?:are|is)\s+(?:you|this)\s+(?:able|good|capable|for)\b|\bhow\s+(?:can|could|do|does|will)\s+(?:you|this)\s+(?:help|work)\b|^\W*(?:help|help\s+me|options|menu|commands|usage)\W*$|\b(?:what|which)\s+(?:other\s+|kind\s+of\s+|kinds\s+of\s+)?(?:tools?|functions?|commands?|abilities|skills|capabilities|features|options)\b(?:\s+(?:do|can|are|have|you|i|we|use|there|got|available|here|of|yours|is|at|hand|your|disposal|know|with|to))*\W*$|\b(?:list|show|tell)\s+(?:me\s+)?(?:all\s+)?(?:your|the|what|which)\s+(?:available\s+)?(?:tools?|functions|commands|abilities|skills|capabilities)\b(?:\s+(?:do|you|have|can|use|available))*\W*$|\bwho\s+are\s+you\b|\bwhat\s+are\s+you\b\W*$|\bwhat\s+(?:can|do)\s+you\s+(?:help|assist)\b|\bare\s+you\s+(?:a\s+)?(?:bot|human|robot|machine|real|person)\b|\bwhat\s+(?:is|are)\s+your\s+(?:job|tools?|skills|role|abilities)\b`)
)

// Manners is what a text says beside what it is about.
type Manners struct {
	Greets  bool // hello
	Thanks  bool
	Leaves  bool   // bye, that is all
	Yes, No bool   // a plain yes or no, and nothing else
	Fine    bool   // ok, great, and nothing else
	Amends  bool   // sorry, I meant …
	Adds    bool   // and …, what about …
	Ables   bool   // asks what can be done here, or by which tools
	Rest    string // what is left without them
}

// ReadManners finds the courtesies of a text and what is left of it.
func ReadManners(text string) Manners {
	m := Manners{Rest: strings.TrimSpace(text)}
	m.Yes, m.No, m.Fine = yesRE.MatchString(m.Rest), noRE.MatchString(m.Rest), fineRE.MatchString(m.Rest)
	for again := true; again; {
		again = false
		if g := greetRE.FindString(m.Rest); g != "" {
			m.Greets, m.Rest, again = true, strings.TrimSpace(m.Rest[len(g):]), true
		}
		if g := thanksRE.FindString(m.Rest); g != "" {
			m.Thanks, m.Rest, again = true, strings.TrimSpace(m.Rest[len(g):]), true
		}
	}
	if byeRE.MatchString(m.Rest) {
		m.Leaves, m.Rest = true, ""
	}
	if strings.Trim(m.Rest, " .,!?;:") == "" {
		m.Rest = ""
	}
	m.Ables = ablesRE.MatchString(m.Rest)
	if s := sorryRE.FindString(m.Rest); s != "" && len(s) < len(m.Rest) {
		m.Amends = true
	} else if s := trailRE.FindString(m.Rest); s != "" && len(strings.Fields(m.Rest)) <= 7 {
		m.Amends = true
	}
	m.Adds = alsoRE.MatchString(m.Rest)
	return m
}

var trailRE = regexp.MustCompile(`(?i)[,\s]+(?:sorry|instead|rather|i\s+mean(?:t)?)\W*$`)

var backRE = regexp.MustCompile(`(?i)\b(it|its|that|that one|those|them|they|their|there|then|he|him|his|she|her|same|again|this|these|the (?:first|second|third|last|other|next|cheapest|earliest|latest|biggest|smallest|longest|shortest) (?:one)?)\b`)

// RefersBack says whether a text points at what was said before: it, that one, there.
func RefersBack(text string) bool { return backRE.MatchString(text) }
