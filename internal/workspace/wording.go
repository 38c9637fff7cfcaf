package workspace

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"ivytable.example/ivytable/internal/core/number"
)

// Wording is a letter in one language. What stands in braces is filled in; a
// paragraph with something in braces that is empty is left out.
type Wording struct {
	Subject    string
	Paragraphs []string
	Link       string // what is written on the link, "" for none
	Why        string // why the letter came
	Item       string // of a letter about several groups: what stands in its list for each
}

// Letters returns the letters that the service writes, by language and kind.
func Letters() map[string]map[string]Wording {
	out := map[string]map[string]Wording{}
	for tag, l := range languages {
		out[tag] = l.letters
	}
	return out
}

// language is what notices can be written in.
type language struct {
	date    func(time.Time) string
	days    func(int) string // when something is, in so many days
	roles   map[string]string
	sender  string
	letters map[string]Wording
}

// languages are those in which notices are written, by their tags (RFC 5646). Each
// has the same letters with the same braces.
var languages = map[string]language{"en": english, "de": german}

// LanguageNames lists the tags of the languages in which notices are written.
func LanguageNames() []string { return slices.Sorted(maps.Keys(languages)) }

// LanguageName returns what the language of a tag is called in English.
func LanguageName(tag string) string {
	if name := map[string]string{"en": "English", "de": "German"}[tag]; name != "" {
		return name
	}
	return tag
}

// languageOf returns a language by its tag, English for a tag that is not known.
func languageOf(tag string) language {
	if l, ok := languages[tag]; ok {
		return l
	}
	return english
}

// KnownLanguage reports whether notices are written in a language.
func KnownLanguage(tag string) bool {
	_, ok := languages[tag]
	return ok
}

// DateIn writes a day in a language.
func DateIn(tag string, t time.Time) string { return languageOf(tag).date(t) }

// DaysIn says in a language when something is that is so many days ahead.
func DaysIn(tag string, n int) string { return languageOf(tag).days(n) }

// RoleIn names a role in a language, with its article.
func RoleIn(tag, role string) string { return languageOf(tag).roles[role] }

// Letters that the service writes.
const (
	LetterDue           = "due"
	LetterLapsed        = "lapsed"
	LetterRetired       = "retired"
	LetterNearer        = "nearer"
	LetterManager       = "manager"
	LetterCaretaker     = "caretaker"
	LetterPostDeclined  = "post declined"
	LetterAdded         = "added"
	LetterInvitation    = "invitation"
	LetterRequest       = "request"
	LetterApproved      = "request approved"
	LetterRefused       = "request declined"
	LetterHandedOver    = "handed over"
	LetterRuleWaits     = "rule waits"
	LetterOwnerless     = "ownerless"
	LetterPassword      = "password"
	LetterGuessing      = "guessing"
	LetterFactorTaken   = "factor taken"
	LetterOwnsMany      = "owns many"
	LetterCeiling       = "ceiling"
	LetterSeal          = "seal"
	LetterVouchesMany   = "vouches many"
	LetterMoved         = "moved"
	LetterEnding        = "ending"
	LetterNestAsked     = "nest asked"
	LetterNestAgreed    = "nest agreed"
	LetterNestEnded     = "nest ended"
	LetterConsentOver   = "consent over"
	LetterVoucherLeft   = "voucher left"
	LetterOwnPage       = "own page"
	LetterMailPaused    = "mail paused"
	LetterMailPausedOf  = "mail paused of"
	LetterVouching      = "vouching"
	LetterProof         = "proof"
	LetterProofAccount  = "proof account"
	LetterAnswer        = "answer"
	LetterHelps         = "helps"
	LetterPostRead      = "post read"
	LetterSelfAppointed = "self appointed"
	LetterHelpOver      = "help over"
	LetterPostsWait     = "posts wait"
	LetterYourPostWaits = "your post waits"
	LetterFindings      = "findings"
	LetterRound         = "round"
	LetterRoundAgain    = "round again"
	LetterRoundSilent   = "round silent"
	LetterRoundHanded   = "round handed"
	whyOwnerEnglish     = "This came because you own the group {address}, or take care of groups that nobody owns."
	whyOwnerGerman      = "Sie erhalten dies, weil Ihnen die Gruppe {address} gehört oder weil Sie sich um Gruppen ohne Eigentümer kümmern."
)

// aboutMany names the letter that is written in place of several of a kind that one change sends
// to the same people.
var aboutMany = map[string]string{LetterDue: "several due", LetterLapsed: "several lapsed", LetterRetired: "several retired", LetterNearer: "several nearer", LetterManager: "several for a manager", LetterAdded: "several added", LetterHandedOver: "several handed over",
	LetterOwnerless: "several ownerless", LetterRuleWaits: "several rules wait", LetterEnding: "several ending", LetterNestAsked: "several nests asked", LetterConsentOver: "several consents over", LetterVoucherLeft: "several vouchers left", LetterPostsWait: "several groups with posts that wait", LetterSelfAppointed: "several self appointed", LetterVouching: "several vouchings"}

var english = language{
	date: func(t time.Time) string { return t.Format("2 Jan 2006") },
	days: func(n int) string {
		if n == 1 {
			return "tomorrow"
		}
		return fmt.Sprintf("in %d days", n)
	},
	roles:  map[string]string{"member": "a member", "moderator": "a moderator", "owner": "an owner"},
	sender: "Mail groups",
	letters: map[string]Wording{
		LetterDue: {"{name} expires {when}, on {date}", []string{
			"The group {name} ({address}) expires {when}, on {date}.",
			"It was to expire on {was}. You were not told in time, so it was given more.",
			"Renew it if it is still needed: open the page below and press Renew. You need not sign in for that. Where it is not needed any more, or is somebody else's to keep, that page says what to do.",
			"If nobody renews it, it takes no more mail from that day on. Everything in it can be restored for {recovery} days after."},
			"Renew {name}", whyOwnerEnglish, ""},
		LetterLapsed: {"{name} has lapsed and can be restored until {date}", []string{
			"The group {name} ({address}) was not renewed and has lapsed. Mail to it is refused.",
			"You can restore it, with everything in it, until {date}. After that it is gone."},
			"Restore {name}", whyOwnerEnglish, ""},
		LetterRetired: {"{name} was retired and can be restored until {date}", []string{
			"The group {name} ({address}) was retired. Mail to it is refused.",
			"You can restore it, with everything in it, until {date}. After that it is gone."},
			"Look at {name}", whyOwnerEnglish, ""},
		LetterNearer: {"{name} now expires on {date}", []string{
			"The rule {rule} says from now on how long the group {name} ({address}) lives: it expires on {date}, unless somebody renews it.",
			"Before, that was {was}.",
			"You need not do anything now. You will be told again before it expires."},
			"Look at {name}", whyOwnerEnglish, ""},
		LetterManager: {"{name} expires {when}, and its owners have not answered", []string{
			"The group {name} ({address}) expires {when}, on {date}. Its owners were told and have not renewed it.",
			"If it is still needed, ask them to renew it. After that day everything in it can be restored for {recovery} days."},
			"Look at {name}", "This came because somebody who owns the group {address} reports to you.", ""},
		LetterCaretaker: {"Will you take care of mail groups that nobody owns?", []string{
			"{by} named {address} to be told of mail groups that have no owner, such as when one of them is about to expire.",
			"Open the page below and say that you agree. Until then nothing is sent to you. If this is not meant for you, do nothing."},
			"Answer", "This came because an administrator wrote down this address.", ""},
		LetterPostDeclined: {"Declined: {subject}", []string{
			"Your message \"{subject}\" to {name} ({address}) was not passed on.",
			"The reason given: {reason}"},
			"", "This came because you wrote to a group whose messages wait for approval.", ""},
		LetterAdded: {"You are now in {name}", []string{
			"{by} put you into the mail group {name} ({address}).",
			"What it is for: {description}",
			"{welcome}",
			"Mail to {address} reaches you from now on: {delivery}.",
			"To change that, or to leave, open the page below, or write to its owners at {owners}."},
			"Open {name}", "This came because you were put into the group {address}.", ""},
		LetterInvitation: {"{by} invites you into {name}", []string{
			"{by} invites you into the mail group {name} ({address}) as {role}.",
			"What it is for: {description}",
			"Open the page below to accept or to decline. Nothing happens until you do.",
			"The invitation ends on {date}. Questions go to its owners at {owners}."},
			"Answer the invitation", "This came because somebody who runs the group {address} gave your address.", ""},
		LetterRequest: {"{person} {asks} {name}", []string{
			"{person} ({from}) {asks} {name} ({address}).",
			"What they say: {note}",
			"Open the page below to approve or to decline."},
			"Decide", whyOwnerEnglish, ""},
		LetterApproved: {"Approved: {name}", []string{
			"{by} approved that you {did} {name} ({address}).",
			"What they say: {reason}"},
			"Open {name}", "This came because you asked for it.", ""},
		LetterRefused: {"Declined: {name}", []string{
			"{by} declined that you {did} {name} ({address}).",
			"The reason given: {reason}",
			"You can write to its owners at {owners}."},
			"", "This came because you asked for it.", ""},
		LetterHandedOver: {"You now own {name}", []string{
			"{person} leaves the organisation and was the last owner of {name} ({address}). {by} made you an owner.",
			"What it is for: {description}",
			"Open the page below to see who is in it. If it is not yours to run, make somebody else an owner."},
			"Open {name}", "This came because you were made an owner of the group {address}.", ""},
		LetterRuleWaits: {"Many people would leave {name}: please look", []string{
			"By its rule, {count} would no longer be in the group {name} ({address}). That is more than its guard allows, so nobody was removed yet.",
			"The cause: {cause}",
			"Open the page below to let it happen, or to change the rule."},
			"Look at the rule", whyOwnerEnglish, ""},
		LetterVoucherLeft: {"Nobody vouches for {count} of {name} any more", []string{
			"{person} left the organisation and vouched for {count} of the group {name} ({address}).",
			"They are: {for}",
			"They are still in it. Open the page below and name somebody else who answers for them, or take them out."},
			"Look at external members", whyOwnerEnglish, ""},
		LetterProof: {"Is this your address? {name}", []string{
			"Somebody, probably you, gave {address_given} on the public page of the mail group {name} ({address}) to be in it.",
			"What it is for: {description}",
			"Open the page below to go on. Nothing happens until you do. If it was not you, do nothing: no mail of the group comes."},
			"It is my address", "This came because somebody gave {address_given} on the page of {address}.", ""},
		LetterProofAccount: {"You have an account: {name}", []string{
			"Somebody, probably you, gave {address_given} on the public page of the mail group {name} ({address}) to be in it.",
			"You have an account here. Open the page below, sign in, and join it there. If it was not you, do nothing."},
			"Open {name}", "This came because somebody gave {address_given} on the page of {address}.", ""},
		LetterOwnPage: {"You are in {name}", []string{
			"You are in the mail group {name} ({address}) now.",
			"What it is for: {description}",
			"{welcome}",
			"On the page below you choose whether its mail reaches you, or leave it. It needs no account: keep this letter."},
			"My part in {name}", "This came because you came into the group {address}.", ""},
		LetterMailPaused: {"No mail of groups reaches {address_given} any more", []string{
			"{count} of mail groups to {address_given} came back, the last from {name} ({address}). What was said: {reply}",
			"So no mail of any group goes to this address until somebody says that it works again. If you read this, it may work again.",
			"On the page below you let it go on. What came meanwhile is not sent later."},
			"Let it go on", "This came because mail to {address_given} came back.", ""},
		LetterMailPausedOf: {"Mail to {person} comes back", []string{
			"{person} ({address_given}) is an external member of {name} ({address}) and of others perhaps. {count} to them came back. What was said last: {reply}",
			"No mail of any group goes to this address until somebody says that it works again.",
			"Ask them whether they have another address, or take them out on the page below."},
			"Look at {person}", "This came because you answer for {person}, or own {name}.", ""},
		LetterPostsWait: {"{count} for {name}: waiting for you", []string{
			"Waiting for approval in {name} ({address}): {count}, the oldest \"{subject}\" by {from}, since {since}.",
			"Nobody has decided about it since {late}, so it comes to you.",
			"Open the page below to read, approve or decline. Deciding needs you to sign in."},
			"Look at what waits", "This came because you decide about messages to {address}, or take care of it.", "{name} ({address}): {count}, the oldest \"{subject}\" by {from}, since {since}"},
		LetterPostRead: {"An administrator read mail to {name}", []string{
			"{by}, an administrator, whom no role in {name} ({address}) lets read its mail, read the message \"{subject}\" by {from}, which waits for approval.",
			"Why: {reason}",
			"You are told at most once a day; the history has each."},
			"Open the history", whyOwnerEnglish, ""},
		LetterSelfAppointed: {"An administrator is {role} of {name} now", []string{
			"{by}, an administrator, made themselves {role} of {name} ({address}).",
			"If you did not expect this, ask them why. The history has everything that they do in it."},
			"Look at its people", whyOwnerEnglish, ""},
		LetterHelps: {"You help with the groups of {area}", []string{
			"{person}, {by} made you a helper for the groups of {area}.",
			"You find all of them, see who is in them and read their history. Beside that you may change: {powers}.",
			"What you do there stands in the history, with your name."},
			"Look at the groups", "This came because {address} was made a helper.", ""},
		LetterHelpOver: {"You no longer help with the groups of {area}", []string{
			"{person}, {by} ended that you help with the groups of {area}. What you own or moderate yourself stays yours."},
			"Look at my groups", "This came because {address} was a helper.", ""},
		LetterAnswer: {"Auto: {subject}", []string{
			"Your message \"{subject}\" has arrived at {name} ({address}).",
			"{answer}",
			"{notice}"},
			"", "This is an automatic answer: you wrote to {name} ({address}).", ""},
		LetterYourPostWaits: {"Waiting for approval: {subject}", []string{
			"Your message \"{subject}\" to {name} ({address}) has arrived and waits for approval.",
			"Why: {why}",
			"{answer}",
			"{notice}",
			"You need not send it again. You are told if it is not passed on."},
			"", "This came because you wrote to a group whose messages wait for approval.", ""},
		LetterVouching: {"You answer for {external} in {name}", []string{
			"{by} named you as who answers for {external}, an external member of the group {name} ({address}).",
			"Why they are in it: {reason}",
			"You are told when their time in it ends. If you can't answer for them, say so to its owners at {owners}."},
			"For whom I answer", "This came because you were named as who answers for an external member of {address}.", ""},
		LetterNestAsked: {"May {inner} be in {outer}?", []string{
			"{by} asks that the group {inner} ({inner_address}) be in the group {outer} ({outer_address}): its people would get the mail of that group.",
			"It is in it already, since {since}, and stays while you decide.",
			"What {outer} is for: {outer_description}",
			"You choose whether its people are seen there, or only counted. You can end it at any time.",
			"Open the page below to agree or to decline."},
			"Decide", whyOwnerEnglish, ""},
		LetterNestAgreed: {"{inner} is in {outer} now", []string{
			"{by} agreed that the group {inner} ({inner_address}) is in {outer} ({outer_address}). Its people get the mail of {outer}; {scope}."},
			"Open {outer}", "This came because you asked for it, or own the group {outer_address}.", ""},
		LetterNestEnded: {"{inner} is not in {outer}", []string{
			"{by} {did} that the group {inner} ({inner_address}) is in {outer} ({outer_address}). Its people get no mail of {outer} by it.",
			"The reason given: {reason}"},
			"Open {name}", whyOwnerEnglish, ""},
		LetterConsentOver: {"{inner} in {outer}: to be agreed again", []string{
			"{by} changed the policy of a group, and it no longer fits what was agreed about {inner} ({inner_address}) in {outer} ({outer_address}).",
			"{why}",
			"The people of {inner} still get the mail of {outer}, and are neither seen nor counted there. The owners of {inner} decide whether it goes on."},
			"Look at it", whyOwnerEnglish, ""},
		LetterOwnerless: {"{name} has no owner", []string{
			"{person} left the organisation and was the last owner of {name} ({address}). Nobody owns it now.",
			"Open the page below and name an owner."},
			"Name an owner", whyOwnerEnglish, ""},
		LetterPassword: {"Choose your password for the mail groups", []string{
			"{person}, with the page below you choose the password with which {address} signs in to the mail groups.",
			"{by} sent you this link.",
			"It works once, until {date}. If you did not expect it, do nothing: all stays as it is."},
			"Choose a password", "This came because somebody asked for it for {address}.", ""},
		LetterGuessing: {"Somebody tries passwords at your account", []string{
			"{person}, in the last quarter of an hour wrong passwords for {address} came from {count} places.",
			"Nobody got in by them. From where you signed in before you can go on signing in; from elsewhere you may have to wait a little.",
			"If your password is short or used elsewhere too, choose another on the page below."},
			"Your password", "This came because {address} signs in to the mail groups.", ""},
		LetterFactorTaken: {"Your second factor was turned off", []string{
			"{by} turned off the second factor with which {address} signs in to the mail groups.",
			"If you asked for that, set up another on the page below. If not, tell your administrators at once."},
			"Set up a second factor", "This came because {address} signs in to the mail groups.", ""},
		LetterFindings: {"{count} to look at in your groups", []string{
			"{by} asks you to look at what the review of the directory found about groups that are yours to look after:",
			"{note}",
			"The page below lists it, with what mends each. What is fine as it is, say so to {by}: it is not asked again then."},
			"Look at what was found", "This came because {address} owns these groups, or helps with them.", ""},
		LetterRound: {"Please confirm your groups by {date}", []string{
			"{by} asks everybody who owns groups to look at them once more: {round}. These are yours:",
			"{note}",
			"Please confirm of each: {questions}.",
			"By the page below you can say for all of them that they are right as they are. To take people out, to hand a group over or to retire it, sign in there.",
			"{silence}"},
			"Answer for these groups", "This came because {address} owns these groups, or answers for groups that nobody owns.", ""},
		LetterRoundAgain: {"Still to confirm by {date}", []string{
			"Nobody has answered yet about these groups, which {by} asks their owners to confirm: {round}.",
			"{note}",
			"Please confirm of each: {questions}.",
			"By the page below you can say for all of them that they are right as they are. To take people out, to hand a group over or to retire it, sign in there.",
			"{silence}"},
			"Answer for these groups", "This came because {address} owns these groups, or answers for groups that nobody owns.", ""},
		LetterRoundHanded: {"You now own {name}: please confirm it by {date}", []string{
			"{by} handed {name} ({address}) over to you, and it is you who is asked about it now: {round}.",
			"{note}",
			"What it is for: {description}",
			"Open the page below to confirm it, to hand it on, or to retire it."},
			"Answer for {name}", "This came because you were made an owner of the group {address}.", ""},
		LetterRoundSilent: {"Nobody has answered about {count}", []string{
			"The round {round} is over, and nobody has answered about these groups. You take care of them now:",
			"Write to their owners, give them new ones, or retire what is not needed."},
			"Look at the round", "This came because {address} takes care of groups about which nobody answers.", ""},
		LetterOwnsMany: {"You now own {count}", []string{
			"{by} made you an owner of {count} in one change.",
			"Open the page below to see which they are and who is in them. If some are not yours to run, make somebody else an owner of those."},
			"Look at my groups", "This came because {address} was made an owner of groups.", ""},
		LetterVouchesMany: {"You answer for the external members of {count}", []string{
			"{by} made you answer for external members of {count} in one change.",
			"Open the page below to see who they are. If you don't know why somebody is in a group, ask its owners, or take them out."},
			"Look at them", "This came because {address} answers for external members.", ""},
		LetterSeal: {"The history of the mail groups, sealed on {date}", []string{
			"Please keep this letter: with it anybody can prove later that nothing before it was changed.",
			"Place {place}, seal {seal}",
			"To prove it, sign in as an administrator or auditor and run: ivytable history verify --kept \"{place} {seal}\""},
			"Look at the history", "This came because administrators chose {address} to keep the seals of the history.", ""},
		LetterCeiling: {"The reach of {count} of your groups is narrower now", []string{
			"{by} changed how far groups may go. What you had chosen for {groups} went further, so it was brought down.",
			"{why}",
			"The history of each group says what changed. If that can't be, write to your administrators."},
			"Look at my groups", "This came because {address} owns these groups.", ""},
		LetterMoved: {"Your address for the mail groups is {address} now", []string{
			"{person}, {by} changed your address here from {from} to {address}. You are in your groups as before, and mail to them now reaches you at {address}.",
			"Sign in with {address} from now on. Mail that you write from {from} still counts as yours.",
			"If this is not right, tell your administrators at once."},
			"Open the mail groups", "This came because {from} was your address in the mail groups.", ""},
		LetterEnding: {"You are in {name} until {date}", []string{
			"{person} is in the group {name} ({address}) until {date}. After that day mail to it no longer reaches them.",
			"If that is too early, its owners can choose a later day: write to {owners}."},
			"Open {name}", "This came because the time of {person} in the group {address} ends.", ""},
		aboutMany[LetterDue]: {"{number} groups expire soon", []string{
			"These groups that you own, or take care of, expire:",
			"Renew those that are still needed: open the page below, which lists them, and press Renew. You need not sign in for that.",
			"A group that nobody renews takes no more mail from its day on. Everything in it can be restored for {recovery} days after."},
			"Renew them", "This came because you own these groups, or take care of groups that nobody owns.", "{name} ({address}): {when}, on {date}{moved}"},
		aboutMany[LetterLapsed]: {"{number} groups have lapsed and can be restored", []string{
			"These groups were not renewed and have lapsed. Mail to them is refused.",
			"You can restore each, with everything in it, until its day. After that it is gone."},
			"Look at my groups", "This came because you own these groups, or take care of groups that nobody owns.", "{name} ({address}): until {date}"},
		aboutMany[LetterRetired]: {"{number} groups were retired and can be restored", []string{
			"These {number} groups were retired. Mail to them is refused.",
			"You can restore them, with everything in them, until the days above. After that they are gone."},
			"Look at them", "This came because you own these groups, or take care of groups that nobody owns.", "{name} ({address}): until {date}"},
		aboutMany[LetterNearer]: {"{number} groups expire earlier than before", []string{
			"Rules of the workspace say from now on how long these {number} groups live, unless somebody renews them:",
			"You need not do anything now. You will be told again before they expire."},
			"Look at them", "This came because you own these groups, or take care of groups that nobody owns.", "{name} ({address}): on {date}"},
		aboutMany[LetterManager]: {"{number} groups expire soon, and their owners have not answered", []string{
			"These {number} groups expire soon. Their owners were told and have not renewed them.",
			"If they are still needed, ask the owners to renew them. After those days everything in them can be restored for {recovery} days."},
			"Look at them", "This came because people who own these groups report to you.", "{name} ({address}): {when}, on {date}"},
		aboutMany[LetterAdded]: {"You are now in {number} more groups", []string{
			"{by} put you into these mail groups:",
			"Mail to them reaches you from now on, as far as each passes it on to you. To change that, or to leave, open the page below."},
			"Look at my groups", "This came because you were put into these groups.", "{name} ({address}) {welcome}"},
		aboutMany[LetterSelfAppointed]: {"An administrator is in {number} of your groups now", []string{
			"{by}, an administrator, gave themselves a role in these {number} groups:",
			"If you did not expect this, ask them why. The history of each has everything that they do in it."},
			"Look at my groups", "This came because you own these groups.", "{name} ({address}): {role}"},
		aboutMany[LetterHandedOver]: {"You now own {number} more groups", []string{
			"Their last owner leaves the organisation, and {by} made you an owner of these groups:",
			"Open the page below to see who is in them. If some are not yours to run, make somebody else an owner of those."},
			"Look at my groups", "This came because you were made an owner of these groups.", "{name} ({address}), until now of {person}"},
		aboutMany[LetterOwnerless]: {"{number} groups have no owner", []string{
			"The last owners of these groups left the organisation. Nobody owns them now:",
			"Open the page below and name an owner for each."},
			"Look at the groups", "This came because you take care of groups that nobody owns.", "{name} ({address}), until now of {person}"},
		aboutMany[LetterRuleWaits]: {"Many people would leave {number} groups: please look", []string{
			"By their rules, many people would no longer be in these groups. That is more than their guards allow, so nobody was removed yet:",
			"The cause: {cause}",
			"Open the page below to let it happen, or to change the rules."},
			"Look at what waits", "This came because you own these groups, or take care of groups that nobody owns.", "{name} ({address}): {count}"},
		aboutMany[LetterNestAsked]: {"May {number} groups be in others?", []string{
			"You are asked about these groups. The people of each would get the mail of the group that it is in; what is in one already stays while you decide:",
			"Open the page below to agree or to decline."},
			"Decide", "This came because you own these groups, or take care of groups that nobody owns.", "{inner} ({inner_address}) in {outer} ({outer_address}), as {by} asks"},
		aboutMany[LetterVoucherLeft]: {"Nobody vouches for external members of {number} groups any more", []string{
			"{person} left the organisation and vouched for external members of these groups, who are still in them:",
			"Open the page below and name somebody else who answers for them, or take them out."},
			"Look at external members", "This came because you own these groups, or take care of groups that nobody owns.", "{name} ({address}): {for}"},
		aboutMany[LetterPostsWait]: {"Messages to {number} groups wait for you", []string{
			"Messages to these groups wait for approval:",
			"Open the page below to read, approve or decline. Deciding needs you to sign in."},
			"Look at what waits", "This came because you decide about messages to these groups, or take care of them.", "{name} ({address}): {count}, the oldest \"{subject}\" by {from}, since {since}"},
		aboutMany[LetterVouching]: {"You answer for {number} external members", []string{
			"{by} named you as who answers for these external members:",
			"You are told when their time ends. If you can't answer for them, say so to the owners of the group."},
			"For whom I answer", "This came because you were named as who answers for external members.", "{external} in {name} ({address})"},
		aboutMany[LetterConsentOver]: {"{number} groups in others: to be agreed again", []string{
			"{by} changed policies, and they no longer fit what was agreed about these groups. Their people still get the mail, and are neither seen nor counted in the other group:",
			"The owners of the inner groups decide whether it goes on."},
			"Look at them", "This came because you own these groups, or take care of groups that nobody owns.", "{inner} ({inner_address}) in {outer} ({outer_address}). {why}"},
		aboutMany[LetterEnding]: {"In {number} groups somebody's time ends soon", []string{
			"After these days mail to these groups no longer reaches them:",
			"If that is too early, the owners of each group can choose a later day."},
			"Look at my groups", "This came because the time of somebody in a group ends.", "{person} in {name} ({address}): until {date}"},
	},
}

var germanMonths = strings.Fields("Januar Februar März April Mai Juni Juli August September Oktober November Dezember")

var german = language{
	date: func(t time.Time) string {
		return fmt.Sprintf("%d. %s %d", t.Day(), germanMonths[t.Month()-1], t.Year())
	},
	days: func(n int) string {
		if n == 1 {
			return "morgen"
		}
		return fmt.Sprintf("in %d Tagen", n)
	},
	roles:  map[string]string{"member": "Mitglied", "moderator": "Moderator oder Moderatorin", "owner": "Eigentümer oder Eigentümerin"},
	sender: "E-Mail-Gruppen",
	letters: map[string]Wording{
		LetterDue: {"{name} läuft {when} ab, am {date}", []string{
			"Die Gruppe {name} ({address}) läuft {when} ab, am {date}.",
			"Sie sollte am {was} ablaufen. Das wurde Ihnen nicht rechtzeitig mitgeteilt, darum wurde ihre Zeit verlängert.",
			"Wird sie noch gebraucht, verlängern Sie sie: Öffnen Sie die Seite unten und wählen Sie „Renew“. Dafür müssen Sie sich nicht anmelden. Wird sie nicht mehr gebraucht oder soll jemand anders sie behalten, steht dort auch, was zu tun ist.",
			"Verlängert sie niemand, nimmt sie von diesem Tag an keine E-Mails mehr an. Alles darin lässt sich danach noch {recovery} Tage lang wiederherstellen."},
			"{name} verlängern", whyOwnerGerman, ""},
		LetterLapsed: {"{name} ist abgelaufen; wiederherstellbar bis {date}", []string{
			"Die Gruppe {name} ({address}) wurde nicht verlängert und ist abgelaufen. E-Mails an sie werden abgewiesen.",
			"Bis zum {date} können Sie sie mit allem, was darin ist, wiederherstellen. Danach ist sie fort."},
			"{name} wiederherstellen", whyOwnerGerman, ""},
		LetterRetired: {"{name} wurde stillgelegt; wiederherstellbar bis {date}", []string{
			"Die Gruppe {name} ({address}) wurde stillgelegt. E-Mails an sie werden abgewiesen.",
			"Bis zum {date} können Sie sie mit allem, was darin ist, wiederherstellen. Danach ist sie fort."},
			"{name} ansehen", whyOwnerGerman, ""},
		LetterNearer: {"{name} läuft jetzt am {date} ab", []string{
			"Die Regel {rule} bestimmt von jetzt an, wie lange die Gruppe {name} ({address}) lebt: Sie läuft am {date} ab, wenn niemand sie verlängert.",
			"Bisher war das der {was}.",
			"Sie müssen jetzt nichts tun. Bevor sie abläuft, schreiben wir Ihnen noch einmal."},
			"{name} ansehen", whyOwnerGerman, ""},
		LetterManager: {"{name} läuft {when} ab, und ihre Eigentümer haben nicht geantwortet", []string{
			"Die Gruppe {name} ({address}) läuft {when} ab, am {date}. Ihre Eigentümer wissen das und haben sie nicht verlängert.",
			"Wird sie noch gebraucht, bitten Sie sie, sie zu verlängern. Nach diesem Tag lässt sich alles darin noch {recovery} Tage lang wiederherstellen."},
			"{name} ansehen", "Sie erhalten dies, weil Ihnen jemand unterstellt ist, dem die Gruppe {address} gehört.", ""},
		LetterCaretaker: {"Kümmern Sie sich um E-Mail-Gruppen, die niemandem gehören?", []string{
			"{by} hat {address} benannt, damit Sie von E-Mail-Gruppen ohne Eigentümer erfahren, etwa wenn eine davon bald abläuft.",
			"Öffnen Sie die Seite unten und sagen Sie zu. Bis dahin schreiben wir Ihnen nichts. Sind Sie nicht gemeint, tun Sie nichts."},
			"Antworten", "Sie erhalten dies, weil jemand aus der Verwaltung diese Adresse eingetragen hat.", ""},
		LetterPostDeclined: {"Abgelehnt: {subject}", []string{
			"Ihre Nachricht „{subject}“ an {name} ({address}) wurde nicht weitergeleitet.",
			"Als Grund wurde angegeben: {reason}"},
			"", "Sie erhalten dies, weil Sie an eine Gruppe geschrieben haben, deren Nachrichten freigegeben werden müssen.", ""},
		LetterAdded: {"Sie sind jetzt in {name}", []string{
			"{by} hat Sie in die E-Mail-Gruppe {name} ({address}) aufgenommen.",
			"Wofür sie da ist: {description}",
			"{welcome}",
			"E-Mails an {address} erreichen Sie von nun an: {delivery}.",
			"Um das zu ändern oder die Gruppe zu verlassen, öffnen Sie die Seite unten, oder schreiben Sie an {owners}."},
			"{name} öffnen", "Sie erhalten dies, weil Sie in die Gruppe {address} aufgenommen wurden.", ""},
		LetterInvitation: {"{by} lädt Sie in {name} ein", []string{
			"{by} lädt Sie in die E-Mail-Gruppe {name} ({address}) ein, als {role}.",
			"Wofür sie da ist: {description}",
			"Öffnen Sie die Seite unten, um zuzusagen oder abzusagen. Bis dahin geschieht nichts.",
			"Die Einladung endet am {date}. Fragen beantworten die Eigentümer unter {owners}."},
			"Einladung beantworten", "Sie erhalten dies, weil jemand, der die Gruppe {address} führt, Ihre Adresse angegeben hat.", ""},
		LetterRequest: {"{person} {asks} {name}", []string{
			"{person} ({from}) {asks} {name} ({address}).",
			"Dazu schreibt die Person: {note}",
			"Öffnen Sie die Seite unten, um zuzustimmen oder abzulehnen."},
			"Entscheiden", whyOwnerGerman, ""},
		LetterApproved: {"Zugestimmt: {name}", []string{
			"{by} hat zugestimmt, dass Sie {did} {name} ({address}).",
			"Dazu: {reason}"},
			"{name} öffnen", "Sie erhalten dies, weil Sie darum gebeten haben.", ""},
		LetterRefused: {"Abgelehnt: {name}", []string{
			"{by} hat abgelehnt, dass Sie {did} {name} ({address}).",
			"Als Grund wurde angegeben: {reason}",
			"Die Eigentümer erreichen Sie unter {owners}."},
			"", "Sie erhalten dies, weil Sie darum gebeten haben.", ""},
		LetterHandedOver: {"{name} gehört jetzt Ihnen", []string{
			"{person} verlässt die Organisation, und niemand sonst war Eigentümer von {name} ({address}). {by} hat die Gruppe Ihnen übergeben.",
			"Wofür sie da ist: {description}",
			"Öffnen Sie die Seite unten, um zu sehen, wer darin ist. Sollen nicht Sie sie führen, machen Sie jemand anderen zum Eigentümer."},
			"{name} öffnen", "Sie erhalten dies, weil Ihnen die Gruppe {address} übergeben wurde.", ""},
		LetterRuleWaits: {"Viele Personen würden {name} verlassen: bitte prüfen", []string{
			"Nach ihrer Regel wären {count} nicht mehr in der Gruppe {name} ({address}). Das ist mehr, als ihr Schutz erlaubt; bisher wurde niemand entfernt.",
			"Der Anlass: {cause}",
			"Öffnen Sie die Seite unten, um es geschehen zu lassen oder die Regel zu ändern."},
			"Regel ansehen", whyOwnerGerman, ""},
		LetterVoucherLeft: {"Für {count} von {name} bürgt niemand mehr", []string{
			"{person} hat die Organisation verlassen und bürgte für {count} der Gruppe {name} ({address}).",
			"Es sind: {for}",
			"Sie sind weiterhin darin. Öffnen Sie die Seite unten und nennen Sie jemanden, der für sie einsteht, oder nehmen Sie sie heraus."},
			"Externe Mitglieder ansehen", whyOwnerGerman, ""},
		LetterProof: {"Ist das Ihre Adresse? {name}", []string{
			"Jemand, wahrscheinlich Sie, hat {address_given} auf der öffentlichen Seite der E-Mail-Gruppe {name} ({address}) angegeben, um darin zu sein.",
			"Wofür sie da ist: {description}",
			"Öffnen Sie die Seite unten, um fortzufahren. Bis dahin geschieht nichts. Waren Sie es nicht, tun Sie nichts: Sie bekommen keine E-Mails der Gruppe."},
			"Das ist meine Adresse", "Sie erhalten dies, weil jemand {address_given} auf der Seite von {address} angegeben hat.", ""},
		LetterProofAccount: {"Sie haben ein Konto: {name}", []string{
			"Jemand, wahrscheinlich Sie, hat {address_given} auf der öffentlichen Seite der E-Mail-Gruppe {name} ({address}) angegeben, um darin zu sein.",
			"Sie haben hier ein Konto. Öffnen Sie die Seite unten, melden Sie sich an und treten Sie dort bei. Waren Sie es nicht, tun Sie nichts."},
			"{name} öffnen", "Sie erhalten dies, weil jemand {address_given} auf der Seite von {address} angegeben hat.", ""},
		LetterOwnPage: {"Sie sind in {name}", []string{
			"Sie sind jetzt in der E-Mail-Gruppe {name} ({address}).",
			"Wofür sie da ist: {description}",
			"{welcome}",
			"Auf der Seite unten wählen Sie, ob ihre E-Mails Sie erreichen, oder verlassen sie. Dafür brauchen Sie kein Konto: bewahren Sie diesen Brief auf."},
			"Mein Teil in {name}", "Sie erhalten dies, weil Sie in die Gruppe {address} gekommen sind.", ""},
		LetterMailPaused: {"Keine E-Mail von Gruppen erreicht mehr {address_given}", []string{
			"{count} von E-Mail-Gruppen an {address_given} kam zurück, zuletzt von {name} ({address}). Dabei hieß es: {reply}",
			"Darum geht keine E-Mail einer Gruppe mehr an diese Adresse, bis jemand sagt, dass sie wieder geht. Wenn Sie dies lesen, geht sie vielleicht wieder.",
			"Auf der Seite unten lassen Sie es weitergehen. Was inzwischen kam, wird nicht nachgeschickt."},
			"Weitergehen lassen", "Sie erhalten dies, weil E-Mail an {address_given} zurückkam.", ""},
		LetterMailPausedOf: {"E-Mail an {person} kommt zurück", []string{
			"{person} ({address_given}) ist externes Mitglied von {name} ({address}) und vielleicht von anderen. {count} dorthin kam zurück. Zuletzt hieß es: {reply}",
			"Keine E-Mail einer Gruppe geht mehr an diese Adresse, bis jemand sagt, dass sie wieder geht.",
			"Fragen Sie nach einer anderen Adresse, oder nehmen Sie die Person auf der Seite unten heraus."},
			"{person} ansehen", "Sie erhalten dies, weil Sie für {person} einstehen oder {name} gehört.", ""},
		LetterPostsWait: {"{count} an {name}: wartet auf Sie", []string{
			"{count} an {name} ({address}) wartet auf Zustimmung, am längsten „{subject}“ von {from}, seit {since}.",
			"Seit {late} hat niemand entschieden, darum kommt es zu Ihnen.",
			"Öffnen Sie die Seite unten, um zu lesen, zuzustimmen oder abzulehnen. Dafür melden Sie sich an."},
			"Wartendes ansehen", "Sie erhalten dies, weil Sie über Nachrichten an {address} entscheiden oder sich um die Gruppe kümmern.", "{name} ({address}): {count}, am längsten „{subject}“ von {from}, seit {since}"},
		LetterPostRead: {"Ein Administrator hat E-Mail an {name} gelesen", []string{
			"{by} hat als Administrator, ohne eine Rolle in {name} ({address}), die das erlaubt, die Nachricht „{subject}“ von {from} gelesen, die auf Zustimmung wartet.",
			"Warum: {reason}",
			"Sie erfahren das höchstens einmal am Tag; im Verlauf steht jedes Mal."},
			"Verlauf öffnen", whyOwnerGerman, ""},
		LetterSelfAppointed: {"Ein Administrator ist jetzt in {name}", []string{
			"{by} hat sich als Administrator selbst in {name} ({address}) eingetragen, als {role}.",
			"Wenn Sie das nicht erwartet haben, fragen Sie nach dem Grund. Im Verlauf steht alles, was dort geschieht."},
			"Personen ansehen", whyOwnerGerman, ""},
		LetterHelps: {"Sie helfen bei den Gruppen von {area}", []string{
			"{person}, {by} hat Sie zum Helfer für die Gruppen von {area} gemacht.",
			"Sie finden alle davon, sehen, wer darin ist, und lesen ihren Verlauf. Daneben dürfen Sie ändern: {powers}.",
			"Was Sie dort tun, steht mit Ihrem Namen im Verlauf."},
			"Die Gruppen ansehen", "Sie erhalten dies, weil {address} zum Helfer gemacht wurde.", ""},
		LetterHelpOver: {"Sie helfen nicht mehr bei den Gruppen von {area}", []string{
			"{person}, {by} hat beendet, dass Sie bei den Gruppen von {area} helfen. Was Sie selbst führen oder moderieren, bleibt Ihnen."},
			"Meine Gruppen ansehen", "Sie erhalten dies, weil {address} Helfer war.", ""},
		LetterAnswer: {"Automatische Antwort: {subject}", []string{
			"Ihre Nachricht „{subject}“ ist bei {name} ({address}) angekommen.",
			"{answer}",
			"{notice}"},
			"", "Dies ist eine automatische Antwort: Sie haben an {name} ({address}) geschrieben.", ""},
		LetterYourPostWaits: {"Wartet auf Zustimmung: {subject}", []string{
			"Ihre Nachricht „{subject}“ an {name} ({address}) ist angekommen und wartet auf Zustimmung.",
			"Warum: {why}",
			"{answer}",
			"{notice}",
			"Sie müssen sie nicht noch einmal senden. Wird sie nicht weitergegeben, erfahren Sie es."},
			"", "Sie erhalten dies, weil Sie an eine Gruppe geschrieben haben, deren Nachrichten auf Zustimmung warten.", ""},
		LetterVouching: {"Sie stehen für {external} in {name} ein", []string{
			"{by} hat Sie als die Person genannt, die für {external} einsteht, ein externes Mitglied der Gruppe {name} ({address}).",
			"Warum es darin ist: {reason}",
			"Sie erfahren, wenn die Zeit darin endet. Können Sie nicht dafür einstehen, sagen Sie es den Eigentümern: {owners}."},
			"Für wen ich einstehe", "Sie erhalten dies, weil Sie für ein externes Mitglied von {address} genannt wurden.", ""},
		LetterNestAsked: {"Darf {inner} in {outer} sein?", []string{
			"{by} bittet darum, dass die Gruppe {inner} ({inner_address}) in der Gruppe {outer} ({outer_address}) ist: ihre Personen bekämen deren E-Mails.",
			"Sie ist seit {since} darin und bleibt es, bis Sie entscheiden.",
			"Wozu {outer} dient: {outer_description}",
			"Sie wählen, ob ihre Personen dort zu sehen sind oder nur gezählt werden. Sie können es jederzeit beenden.",
			"Öffnen Sie die Seite unten, um zuzustimmen oder abzulehnen."},
			"Entscheiden", whyOwnerGerman, ""},
		LetterNestAgreed: {"{inner} ist jetzt in {outer}", []string{
			"{by} hat zugestimmt, dass die Gruppe {inner} ({inner_address}) in {outer} ({outer_address}) ist. Ihre Personen bekommen die E-Mails von {outer}; {scope}."},
			"{outer} öffnen", "Sie erhalten dies, weil Sie darum gebeten haben oder weil Ihnen die Gruppe {outer_address} gehört.", ""},
		LetterNestEnded: {"{inner} ist nicht in {outer}", []string{
			"{by} {did}, dass die Gruppe {inner} ({inner_address}) in {outer} ({outer_address}) ist. Ihre Personen bekommen dadurch keine E-Mails von {outer}.",
			"Der Grund: {reason}"},
			"{name} öffnen", whyOwnerGerman, ""},
		LetterConsentOver: {"{inner} in {outer}: neu zu vereinbaren", []string{
			"{by} hat die Regeln einer Gruppe geändert; sie passen nicht mehr zu dem, was über {inner} ({inner_address}) in {outer} ({outer_address}) vereinbart war.",
			"{why}",
			"Die Personen von {inner} bekommen weiter die E-Mails von {outer}, sind dort aber weder zu sehen noch gezählt. Die Eigentümer von {inner} entscheiden, ob es weitergeht."},
			"Ansehen", whyOwnerGerman, ""},
		LetterOwnerless: {"{name} hat keinen Eigentümer", []string{
			"{person} hat die Organisation verlassen, und niemand sonst war Eigentümer von {name} ({address}). Die Gruppe gehört nun niemandem.",
			"Öffnen Sie die Seite unten und bestimmen Sie jemanden."},
			"Eigentümer bestimmen", whyOwnerGerman, ""},
		LetterPassword: {"Wählen Sie Ihr Passwort für die E-Mail-Gruppen", []string{
			"{person}, auf der Seite unten wählen Sie das Passwort, mit dem sich {address} bei den E-Mail-Gruppen anmeldet.",
			"{by} hat Ihnen diesen Link geschickt.",
			"Er gilt einmal, bis zum {date}. Haben Sie ihn nicht erwartet, tun Sie nichts: alles bleibt, wie es ist."},
			"Passwort wählen", "Sie erhalten dies, weil es für {address} verlangt wurde.", ""},
		LetterGuessing: {"Jemand probiert Passwörter an Ihrem Konto", []string{
			"{person}, in der letzten Viertelstunde kamen falsche Passwörter für {address} von {count} Orten.",
			"Niemand ist damit hineingekommen. Von dort, wo Sie sich schon angemeldet haben, können Sie sich weiter anmelden; von anderswo müssen Sie vielleicht etwas warten.",
			"Ist Ihr Passwort kurz oder auch anderswo in Gebrauch, wählen Sie auf der Seite unten ein anderes."},
			"Ihr Passwort", "Sie erhalten dies, weil sich {address} bei den E-Mail-Gruppen anmeldet.", ""},
		LetterFactorTaken: {"Ihr zweiter Faktor wurde abgeschaltet", []string{
			"{by} hat den zweiten Faktor abgeschaltet, mit dem sich {address} bei den E-Mail-Gruppen anmeldet.",
			"Haben Sie darum gebeten, richten Sie auf der Seite unten einen neuen ein. Wenn nicht, wenden Sie sich sofort an die Administratoren."},
			"Zweiten Faktor einrichten", "Sie erhalten dies, weil sich {address} bei den E-Mail-Gruppen anmeldet.", ""},
		LetterFindings: {"{count} zu Ihren Gruppen", []string{
			"{by} bittet Sie, sich anzusehen, was die Durchsicht des Verzeichnisses über Gruppen gefunden hat, um die Sie sich kümmern:",
			"{note}",
			"Die Seite unten führt alles auf, mit dem, was es behebt. Was so in Ordnung ist, sagen Sie {by}: Dann wird nicht wieder danach gefragt."},
			"Ansehen, was gefunden wurde", "Sie erhalten dies, weil {address} diese Gruppen besitzt oder bei ihnen hilft.", ""},
		LetterRound: {"Bitte bestätigen Sie Ihre Gruppen bis zum {date}", []string{
			"{by} bittet alle, denen Gruppen gehören, sie wieder einmal durchzusehen: {round}. Diese gehören Ihnen:",
			"{note}",
			"Bitte bestätigen Sie für jede: {questions}.",
			"Auf der Seite unten können Sie für alle sagen, dass sie so richtig sind. Um Personen herauszunehmen, eine Gruppe zu übergeben oder sie zu beenden, melden Sie sich dort an.",
			"{silence}"},
			"Für diese Gruppen antworten", "Sie erhalten dies, weil {address} diese Gruppen gehören oder für Gruppen ohne Eigentümer geantwortet werden soll.", ""},
		LetterRoundAgain: {"Noch zu bestätigen bis zum {date}", []string{
			"Zu diesen Gruppen hat noch niemand geantwortet; {by} bittet ihre Eigentümer, sie zu bestätigen: {round}.",
			"{note}",
			"Bitte bestätigen Sie für jede: {questions}.",
			"Auf der Seite unten können Sie für alle sagen, dass sie so richtig sind. Um Personen herauszunehmen, eine Gruppe zu übergeben oder sie zu beenden, melden Sie sich dort an.",
			"{silence}"},
			"Für diese Gruppen antworten", "Sie erhalten dies, weil {address} diese Gruppen gehören oder für Gruppen ohne Eigentümer geantwortet werden soll.", ""},
		LetterRoundHanded: {"Ihnen gehört jetzt {name}: bitte bis zum {date} bestätigen", []string{
			"{by} hat Ihnen {name} ({address}) übergeben, und gefragt sind jetzt Sie: {round}.",
			"{note}",
			"Wofür sie da ist: {description}",
			"Öffnen Sie die Seite unten, um sie zu bestätigen, weiterzugeben oder zu beenden."},
			"Für {name} antworten", "Sie erhalten dies, weil Sie zum Eigentümer der Gruppe {address} gemacht wurden.", ""},
		LetterRoundSilent: {"Zu {count} hat niemand geantwortet", []string{
			"Die Durchsicht {round} ist vorbei, und zu diesen Gruppen hat niemand geantwortet. Sie kümmern sich jetzt um sie:",
			"Schreiben Sie ihren Eigentümern, geben Sie ihnen neue, oder beenden Sie, was nicht gebraucht wird."},
			"Die Durchsicht ansehen", "Sie erhalten dies, weil {address} sich um Gruppen kümmert, zu denen niemand antwortet.", ""},
		LetterOwnsMany: {"Neu in Ihrer Hand: {count}", []string{
			"{by} hat Sie mit einer Änderung zum Eigentümer von {count} gemacht.",
			"Öffnen Sie die Seite unten, um zu sehen, welche es sind und wer darin ist. Sollen nicht Sie sie alle führen, machen Sie bei diesen jemand anderen zum Eigentümer."},
			"Meine Gruppen ansehen", "Sie erhalten dies, weil {address} Gruppen übergeben wurden.", ""},
		LetterVouchesMany: {"Sie bürgen für externe Mitglieder: {count}", []string{
			"{by} hat Sie mit einer Änderung zum Bürgen für externe Mitglieder gemacht: {count}.",
			"Öffnen Sie die Seite unten, um zu sehen, wer sie sind. Wissen Sie bei jemandem nicht, warum er dabei ist, fragen Sie die Eigentümer oder nehmen Sie ihn heraus."},
			"Ansehen", "Sie erhalten dies, weil {address} für externe Mitglieder bürgt.", ""},
		LetterSeal: {"Der Verlauf der E-Mail-Gruppen, gesiegelt am {date}", []string{
			"Bitte bewahren Sie diesen Brief auf: Mit ihm lässt sich später beweisen, dass nichts davor geändert wurde.",
			"Platz {place}, Siegel {seal}",
			"Zum Beweis melden Sie sich als Administrator oder Prüfer an und rufen auf: ivytable history verify --kept \"{place} {seal}\""},
			"Den Verlauf ansehen", "Sie erhalten dies, weil Administratoren {address} gewählt haben, um die Siegel des Verlaufs aufzubewahren.", ""},
		LetterCeiling: {"Die Reichweite von {count} Ihrer Gruppen ist jetzt enger", []string{
			"{by} hat geändert, wie weit Gruppen gehen dürfen. Was Sie für {groups} gewählt hatten, ging weiter und wurde daher zurückgenommen.",
			"{why}",
			"Der Verlauf jeder Gruppe zeigt, was sich geändert hat. Kann es so nicht bleiben, schreiben Sie Ihren Administratoren."},
			"Meine Gruppen ansehen", "Sie erhalten dies, weil {address} diese Gruppen gehören.", ""},
		LetterMoved: {"Ihre Adresse für die E-Mail-Gruppen ist jetzt {address}", []string{
			"{person}, {by} hat Ihre Adresse hier von {from} in {address} geändert. Sie sind in Ihren Gruppen wie zuvor; E-Mails an diese erreichen Sie nun unter {address}.",
			"Melden Sie sich von nun an mit {address} an. Was Sie von {from} schreiben, gilt weiterhin als von Ihnen.",
			"Stimmt das nicht, wenden Sie sich sofort an die Administratoren."},
			"E-Mail-Gruppen öffnen", "Sie erhalten dies, weil {from} Ihre Adresse in den E-Mail-Gruppen war.", ""},
		LetterEnding: {"Sie sind bis zum {date} in {name}", []string{
			"{person} ist bis zum {date} in der Gruppe {name} ({address}). Danach kommen E-Mails an sie dort nicht mehr an.",
			"Ist das zu früh, können die Eigentümer einen späteren Tag wählen: schreiben Sie an {owners}."},
			"{name} öffnen", "Sie erhalten dies, weil die Zeit von {person} in der Gruppe {address} endet.", ""},
		aboutMany[LetterDue]: {"{number} Gruppen laufen bald ab", []string{
			"Diese Gruppen, die Ihnen gehören oder um die Sie sich kümmern, laufen ab:",
			"Verlängern Sie, was noch gebraucht wird: Öffnen Sie die Seite unten, auf der sie aufgeführt sind, und wählen Sie „Renew“. Dafür müssen Sie sich nicht anmelden.",
			"Eine Gruppe, die niemand verlängert, nimmt von ihrem Tag an keine E-Mails mehr an. Alles darin lässt sich danach noch {recovery} Tage lang wiederherstellen."},
			"Verlängern", "Sie erhalten dies, weil Ihnen diese Gruppen gehören oder weil Sie sich um Gruppen ohne Eigentümer kümmern.", "{name} ({address}): {when}, am {date}{moved}"},
		aboutMany[LetterLapsed]: {"{number} Gruppen sind abgelaufen und wiederherstellbar", []string{
			"Diese Gruppen wurden nicht verlängert und sind abgelaufen. E-Mails an sie werden abgewiesen.",
			"Bis zu ihrem Tag können Sie jede mit allem, was darin ist, wiederherstellen. Danach ist sie fort."},
			"Meine Gruppen ansehen", "Sie erhalten dies, weil Ihnen diese Gruppen gehören oder weil Sie sich um Gruppen ohne Eigentümer kümmern.", "{name} ({address}): bis {date}"},
		aboutMany[LetterRetired]: {"{number} Gruppen wurden stillgelegt und sind wiederherstellbar", []string{
			"Diese {number} Gruppen wurden stillgelegt. E-Mails an sie werden abgewiesen.",
			"Bis zu den genannten Tagen können Sie sie mit allem, was darin ist, wiederherstellen. Danach sind sie fort."},
			"Ansehen", "Sie erhalten dies, weil Ihnen diese Gruppen gehören oder weil Sie sich um Gruppen ohne Eigentümer kümmern.", "{name} ({address}): bis zum {date}"},
		aboutMany[LetterNearer]: {"{number} Gruppen laufen früher ab als bisher", []string{
			"Regeln der Organisation bestimmen von jetzt an, wie lange diese {number} Gruppen leben, wenn niemand sie verlängert:",
			"Sie müssen jetzt nichts tun. Bevor sie ablaufen, schreiben wir Ihnen noch einmal."},
			"Ansehen", "Sie erhalten dies, weil Ihnen diese Gruppen gehören oder weil Sie sich um Gruppen ohne Eigentümer kümmern.", "{name} ({address}): am {date}"},
		aboutMany[LetterManager]: {"{number} Gruppen laufen bald ab, und ihre Eigentümer haben nicht geantwortet", []string{
			"Diese {number} Gruppen laufen bald ab. Ihre Eigentümer wissen das und haben sie nicht verlängert.",
			"Werden sie noch gebraucht, bitten Sie die Eigentümer, sie zu verlängern. Nach diesen Tagen lässt sich alles darin noch {recovery} Tage lang wiederherstellen."},
			"Ansehen", "Sie erhalten dies, weil Ihnen Personen unterstellt sind, denen diese Gruppen gehören.", "{name} ({address}): {when}, am {date}"},
		aboutMany[LetterSelfAppointed]: {"Ein Administrator ist jetzt in {number} Ihrer Gruppen", []string{
			"{by} hat sich als Administrator selbst in diese {number} Gruppen eingetragen:",
			"Wenn Sie das nicht erwartet haben, fragen Sie nach dem Grund. Im Verlauf jeder Gruppe steht alles, was dort geschieht."},
			"Meine Gruppen ansehen", "Sie erhalten dies, weil Ihnen diese Gruppen gehören.", "{name} ({address}): {role}"},
		aboutMany[LetterAdded]: {"Sie sind jetzt in {number} weiteren Gruppen", []string{
			"{by} hat Sie in diese E-Mail-Gruppen aufgenommen:",
			"E-Mails an sie erreichen Sie von nun an, soweit jede sie an Sie weitergibt. Um das zu ändern oder eine zu verlassen, öffnen Sie die Seite unten."},
			"Meine Gruppen ansehen", "Sie erhalten dies, weil Sie in diese Gruppen aufgenommen wurden.", "{name} ({address}) {welcome}"},
		aboutMany[LetterHandedOver]: {"Ihnen gehören jetzt {number} weitere Gruppen", []string{
			"Ihr letzter Eigentümer verlässt die Organisation, und {by} hat Ihnen diese Gruppen übergeben:",
			"Öffnen Sie die Seite unten, um zu sehen, wer darin ist. Sollen nicht Sie sie alle führen, machen Sie bei diesen jemand anderen zum Eigentümer."},
			"Meine Gruppen ansehen", "Sie erhalten dies, weil Ihnen diese Gruppen übergeben wurden.", "{name} ({address}), bisher von {person}"},
		aboutMany[LetterOwnerless]: {"{number} Gruppen haben keinen Eigentümer", []string{
			"Die letzten Eigentümer dieser Gruppen haben die Organisation verlassen. Sie gehören nun niemandem:",
			"Öffnen Sie die Seite unten und bestimmen Sie für jede jemanden."},
			"Gruppen ansehen", "Sie erhalten dies, weil Sie sich um Gruppen ohne Eigentümer kümmern.", "{name} ({address}), bisher von {person}"},
		aboutMany[LetterRuleWaits]: {"Viele Personen würden {number} Gruppen verlassen: bitte prüfen", []string{
			"Nach ihren Regeln wären viele Personen nicht mehr in diesen Gruppen. Das ist mehr, als ihr Schutz erlaubt; bisher wurde niemand entfernt:",
			"Der Anlass: {cause}",
			"Öffnen Sie die Seite unten, um es geschehen zu lassen oder die Regeln zu ändern."},
			"Wartendes ansehen", "Sie erhalten dies, weil Ihnen diese Gruppen gehören oder weil Sie sich um Gruppen ohne Eigentümer kümmern.", "{name} ({address}): {count}"},
		aboutMany[LetterNestAsked]: {"Dürfen {number} Gruppen in anderen sein?", []string{
			"Sie werden wegen dieser Gruppen gefragt. Die Personen einer jeden bekämen die E-Mails der Gruppe, in der sie ist; was schon darin ist, bleibt es, bis Sie entscheiden:",
			"Öffnen Sie die Seite unten, um zuzustimmen oder abzulehnen."},
			"Entscheiden", "Sie erhalten dies, weil Ihnen diese Gruppen gehören oder weil Sie sich um Gruppen ohne Eigentümer kümmern.", "{inner} ({inner_address}) in {outer} ({outer_address}), wie {by} bittet"},
		aboutMany[LetterVoucherLeft]: {"Für externe Mitglieder von {number} Gruppen bürgt niemand mehr", []string{
			"{person} hat die Organisation verlassen und bürgte für externe Mitglieder dieser Gruppen, die weiterhin darin sind:",
			"Öffnen Sie die Seite unten und nennen Sie jemanden, der für sie einsteht, oder nehmen Sie sie heraus."},
			"Externe Mitglieder ansehen", "Sie erhalten dies, weil Ihnen diese Gruppen gehören oder weil Sie sich um Gruppen ohne Eigentümer kümmern.", "{name} ({address}): {for}"},
		aboutMany[LetterPostsWait]: {"Nachrichten an {number} Gruppen warten auf Sie", []string{
			"Nachrichten an diese Gruppen warten auf Zustimmung:",
			"Öffnen Sie die Seite unten, um zu lesen, zuzustimmen oder abzulehnen. Dafür melden Sie sich an."},
			"Wartendes ansehen", "Sie erhalten dies, weil Sie über Nachrichten an diese Gruppen entscheiden oder sich um sie kümmern.", "{name} ({address}): {count}, am längsten „{subject}“ von {from}, seit {since}"},
		aboutMany[LetterVouching]: {"Sie stehen für {number} externe Mitglieder ein", []string{
			"{by} hat Sie als die Person genannt, die für diese externen Mitglieder einsteht:",
			"Sie erfahren, wenn deren Zeit endet. Können Sie nicht dafür einstehen, sagen Sie es den Eigentümern der Gruppe."},
			"Für wen ich einstehe", "Sie erhalten dies, weil Sie für externe Mitglieder genannt wurden.", "{external} in {name} ({address})"},
		aboutMany[LetterConsentOver]: {"{number} Gruppen in anderen: neu zu vereinbaren", []string{
			"{by} hat Regeln geändert; sie passen nicht mehr zu dem, was über diese Gruppen vereinbart war. Ihre Personen bekommen weiter die E-Mails, sind in der anderen Gruppe aber weder zu sehen noch gezählt:",
			"Die Eigentümer der inneren Gruppen entscheiden, ob es weitergeht."},
			"Ansehen", "Sie erhalten dies, weil Ihnen diese Gruppen gehören oder weil Sie sich um Gruppen ohne Eigentümer kümmern.", "{inner} ({inner_address}) in {outer} ({outer_address}). {why}"},
		aboutMany[LetterEnding]: {"In {number} Gruppen endet bald die Zeit von jemandem", []string{
			"Nach diesen Tagen kommen E-Mails an diese Gruppen dort nicht mehr an:",
			"Ist das zu früh, können die Eigentümer jeder Gruppe einen späteren Tag wählen."},
			"Meine Gruppen ansehen", "Sie erhalten dies, weil die Zeit von jemandem in einer Gruppe endet.", "{person} in {name} ({address}): bis {date}"},
	},
}

// phrases are parts of sentences that depend on what is asked for.
var phrases = map[string]map[string]string{
	"en": {"asks join": "asks to join", "asks leave": "asks to leave", "did join": "join", "did leave": "leave", "each": "each message", "none": "no messages, until you ask for them", "counted": "they are counted there, not shown", "seen": "whoever sees the people of that group sees them", "nest declined": "declined", "nest ended": "ended", "moved": "; it was to expire on {was}, but you were not told in time",
		"round needed": "that it is still needed", "round people": "that the right people are in it, and nobody else", "round policy": "that who can find, join and write to it is as it should be", "round owner": "that its owners are the right ones",
		"silence retire": "About what nobody answers by then, the group is retired. It can be restored.", "silence caretaker": "What nobody answers by then goes to those who take care of groups.", "silence nothing": "", "outside": "{n} of them from outside",
		"digest": "{name}, {day}: {count}"},
	"de": {"asks join": "möchte aufgenommen werden in", "asks leave": "möchte austreten aus", "did join": "beitreten:", "did leave": "verlassen:", "each": "jede Nachricht", "none": "keine Nachricht, bis Sie es ändern", "counted": "dort werden sie gezählt, nicht gezeigt", "seen": "wer die Personen jener Gruppe sieht, sieht auch sie", "nest declined": "hat abgelehnt", "nest ended": "hat beendet", "moved": "; sie sollte am {was} ablaufen, doch das wurde Ihnen nicht rechtzeitig mitgeteilt",
		"round needed": "dass sie noch gebraucht wird", "round people": "dass die richtigen Personen darin sind und sonst niemand", "round policy": "dass stimmt, wer sie finden, beitreten und ihr schreiben kann", "round owner": "dass ihre Eigentümer die richtigen sind",
		"silence retire": "Antwortet bis dahin niemand, wird die Gruppe beendet. Sie kann wiederhergestellt werden.", "silence caretaker": "Was bis dahin niemand beantwortet, geht an die, die sich um Gruppen kümmern.", "silence nothing": "", "outside": "davon {n} von außerhalb",
		"digest":  "{name}, {day}: {count}",
		"1 group": "1 Gruppe", "group": "{n} Gruppen", "1 person": "1 Person", "person": "{n} Personen", "1 message": "1 Nachricht", "message": "{n} Nachrichten", "1 external member": "1 externes Mitglied", "external member": "{n} externe Mitglieder", "1 thing": "1 Hinweis", "thing": "{n} Hinweise"},
}

// Counted writes how many of something there are, in a language; the noun is English and one that letters use.
func Counted(tag string, n int, noun string) string {
	key := noun
	if n == 1 {
		key = "1 " + noun
	}
	if p := phrases[tag][key]; p != "" {
		return strings.ReplaceAll(p, "{n}", strconv.Itoa(n))
	}
	return number.Of(n, noun)
}

// Phrase is a part of a sentence in a language.
func Phrase(tag, key string) string {
	if p, ok := phrases[tag]; ok {
		return p[key]
	}
	return phrases["en"][key]
}
