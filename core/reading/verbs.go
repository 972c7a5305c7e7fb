package reading

// verbs are the words that begin a request in the imperative.
var verbs = Set(`accept add adjust alert allow amend answer append apply approve archive arrange ask assign attach award ban block boil book borrow bring build buy calculate call cancel change charge check choose clean clear close
collect combine come compare complete compute confirm connect convert cook copy count create cut deactivate decline decrease delete deliver describe design dim disable discard dispatch do download draft draw drop duplicate email empty
enable encode encrypt decode decrypt end enrol enroll enter erase estimate exchange explain export extend fetch figure file fill filter find finish fire fix flag flip forward freeze generate get give go grant guess hand hang harvest have heat help hide hire
hold import include increase inform insert inspect install invite invoice issue join keep launch leave lend let list load locate lock log look lower mail make mark measure merge message mix mount move mow mute need note
notify open order organise organize pack paint pass pause pay phone pick ping place plan plant play please post postpone prepare print process provide publish pull purchase push put queue raise rank rate read reboot receive recommend record redeem
redirect reduce refund refuse register reject release reload remind remove rename renew rent repair repeat replace reply report request reschedule reserve reset resolve restart restore resume retrieve return reverse review revoke ring rotate run
save say scan schedule search see select sell send set share shift ship show shut sign skip solve sort sow split start stop store submit subscribe subtract suggest sum summarise summarize suspend swap switch take tell test text
track transfer translate trim try turn uninstall undo unlock unsubscribe update upgrade upload use validate verify view visit void wake wash watch water weigh withdraw work write cost`)

// Verb says whether a word can begin a request.
func Verb(low string) bool { return verbs[low] }

// common are words that are no names though they may open a sentence.
var common = Set(`free trains train letters price prices anything all new open tickets ticket weather note fare status trips seats seat times time hours stock orders rooms room next another more less same make one two three four five six seven eight nine ten half
people nobody somebody everyone whatever maybe sure nope yep yeah yup cheers fine cool alright instead rather again actually meant lost left sold sent done need looks repeat reserve cancel release there's total sum average list
details info information directions urgent quick reminder today's tonight's latest current change changes tours tour guided`)

// Common says whether a word is an everyday one: it means nothing as a name.
func Common(low string) bool {
	return stop[low] || verbs[low] || common[low] || notNames[low] || len(senses().groups[Root(low)]) > 0
}
