package httpapi

// routes is every route of the interface under /api/v1: method, path, name, what it does,
// and who answers; then what is special about it. Who may ask is decided by the use cases;
// what says public is answered to whoever is not signed in too. A change that looks has a
// preview: POST to its path and /preview, with its body.
func (s *server) routes() []route {
	const (
		group   = "/groups/{ref}"
		members = group + "/members"
		member  = members + "/{member}"
		rule    = group + "/rule"
		person  = "/people/{ref}"
	)
	read, people, groups, policy := scoped("read"), scoped("people"), scoped("groups"), scoped("policy")
	return []route{
		// account
		on("POST", "/session", "sign-in", "Sign in", s.signIn, public),
		on("DELETE", "/session", "sign-out", "Sign out", s.signOut, public, silent),
		on("GET", "/me", "me", "Who am I", s.me, here),
		on("PUT", "/me/password", "change-password", "Change my password", s.changePassword, silent, here),
		on("GET", "/me/second-factor", "read-second-factor", "Whether I have a second factor", s.readFactor, here),
		on("POST", "/me/second-factor", "begin-second-factor", "Begin a second factor: what a program needs to make codes", s.beginFactor, here),
		on("PUT", "/me/second-factor", "confirm-second-factor", "Put the second factor in force, by its first code", s.confirmFactor, here),
		on("POST", "/me/second-factor/end", "end-second-factor", "Turn my second factor off", s.endFactor, silent),
		on("DELETE", person+"/second-factor", "take-second-factor", "Turn somebody's second factor off, who has lost it", s.takeFactor, silent, looksAt(person+"/second-factor/removal")),
		on("GET", "/tokens", "list-tokens", "My tokens", s.listTokens),
		on("POST", "/tokens", "create-token", "Make a token for scripts", s.createToken, makes, looks),
		on("DELETE", "/tokens/{id}", "revoke-token", "End a token", s.revokeToken, silent, looksAt("/tokens/{id}/end")),
		on("POST", "/password-links", "ask-password-link", "Have a link mailed by which one chooses a password", s.askPasswordLink, public, accepted),
		on("GET", "/password-links/{secret}", "read-password-link", "Whose password a link is for", s.readPasswordLink, public),
		on("POST", "/password-links/{secret}", "choose-password", "Choose a password", s.choosePassword, public, silent),

		// groups
		on("GET", "/groups", "list-groups", "Groups that I can find", s.listGroups),
		on("POST", "/groups", "create-group", "Create a group", s.createGroup, makes, lists, looks, groups),
		on("GET", group, "read-group", "One group", s.readGroup),
		on("PATCH", group, "change-group", "Change what a group is called and how long it lives", s.changeGroup, looks, groups),
		on("GET", group+"/policy", "read-policy", "A group's policy in words", s.readPolicy),
		on("PATCH", group+"/policy", "change-policy", "Change a group's policy", s.changePolicy, looksAs("policy-effect"), policy),
		on("GET", group+"/permitted", "list-permitted", "Who may do something with a group, and why", s.listPermitted, long),
		on("GET", group+"/permitted-export", "export-permitted", "All who may do something with a group, and why, as CSV or JSON lines", s.exportPermitted, long),
		on("POST", "/policy-summaries", "picture-policy", "A policy for a new group, in words", s.summarisePolicy, read),
		on("POST", "/look-alikes", "look-alikes", "Groups like one that is yet to be made", s.lookAlikes, read),

		// filters and views
		on("GET", "/filters/{list}", "describe-filter", "What a filter of a list can ask about", s.describeFilter),
		on("GET", "/filters/{list}/completion", "complete-filter", "What can be written at a place in a filter", s.completeFilter),
		on("GET", "/exports/groups", "export-groups", "All groups of a list, with all that there is to know of each, as CSV or JSON lines", s.exportGroups, long),
		on("GET", "/exports/people", "export-people", "All people of a list, as CSV or JSON lines", s.exportPeople, long),
		on("GET", "/exports/history", "export-history", "All entries of the history that a filter matches, as CSV or JSON lines", s.exportHistory, long),
		on("GET", "/changes", "list-changes", "Changes that many groups went through, newest first", s.listBulks),
		on("POST", "/changes", "change-many", "Begin one change of many groups", s.beginBulk, makes, looks, long, lists, groups),
		on("GET", "/changes/{id}", "read-change", "How far a change of many groups is", s.readBulk),
		on("GET", "/changes/{id}/items", "list-change-items", "What became of each group", s.listBulkItems),
		on("POST", "/changes/{id}/stop", "stop-change", "Stop a change of many groups; what it has done stays", s.stopBulk, looks, groups),
		on("POST", "/changes/{id}/undo", "undo-change", "Begin to undo a change of many groups", s.undoBulk, makes, looks, long, groups),
		on("GET", "/views", "list-views", "Filters, columns and orders that are kept under a name", s.listViews),
		on("POST", "/views", "create-view", "Keep a view", s.createView, makes, looks),
		on("GET", "/views/{id}", "read-view", "One view", s.readView),
		on("PUT", "/views/{id}", "change-view", "Change a view", s.changeView, looks),
		on("DELETE", "/views/{id}", "delete-view", "Delete a view", s.deleteView, silent, looksAt("/views/{id}/removal")),

		// members
		on("GET", members, "list-members", "Who is in a group", s.listMembers),
		on("GET", group+"/member-export", "export-members", "Who is in a group, as CSV", s.exportMembers, long),
		on("POST", members, "add-members", "Add or invite people; a result for each", s.addMembers, lists, looks, people),
		on("PATCH", members, "change-members", "Change roles or delivery, or take people out, several at once; a result for each", s.changeMembers, looksAt(members+"/changes"), people),
		on("PATCH", member, "change-member", "Change a role or delivery", s.changeMember, looks, people),
		on("DELETE", member, "remove-member", "Take somebody out, or leave", s.removeMember, silent, looksAt(member+"/removal"), people),
		on("POST", "/people-lists", "read-roster", "Who the people of a list are; nothing is done", s.readPeopleList, lists, read),
		on("GET", group+"/effective-members", "list-reached", "Everybody whom a group reaches, and through which group", s.listEffectiveMembers),
		on("GET", group+"/nesting", "read-nesting", "What is nested in a group and what it is nested in", s.readNesting),
		on("GET", "/nestings", "list-nestings", "Which groups are nested in which, with what is agreed and what is doubtful about it", s.listNestings),
		on("GET", group+"/consents", "list-consents", "What is agreed and asked for about groups in this one, and this one in others", s.listConsents),
		on("PUT", group+"/consents/{other}", "give-consent", "Agree that the group is in another, for its side", s.giveConsent, looks, people),
		on("DELETE", group+"/consents/{other}", "end-consent", "End that one of two groups is in the other, or what is asked for about it, from either side", s.endConsent, silent, looksAt(group+"/consents/{other}/removal"), people),
		on("GET", group+"/overrides", "list-standings", "Who is barred from a group, trusted or held", s.listOverrides),
		on("GET", group+"/overrides/{address}", "read-override", "What is settled about one address in a group", s.readOverride),
		on("PUT", group+"/overrides/{address}", "set-standing", "Bar an address, trust it, hold it, or take that back", s.setOverride, silent, looks, people),

		// joining
		on("POST", group+"/joining", "join-group", "Join a group, or ask to", s.joinGroup, looks),
		on("POST", group+"/leaving", "leave-group", "Leave a group, or ask to", s.leaveGroup, looks),
		on("GET", group+"/requests", "list-group-requests", "Requests to join or leave a group", s.listGroupRequests),
		on("GET", "/requests", "list-requests", "Requests that wait for my decision, or that I made", s.listRequests),
		on("POST", "/requests/decisions", "decide-requests", "Approve or decline requests; a result for each", s.decideRequests, looks, people),
		on("DELETE", "/requests/{id}", "withdraw-request", "Take back a request of mine", s.withdrawRequest, silent, looksAt("/requests/{id}/withdrawal")),
		on("GET", group+"/invitations", "list-invitations", "Invitations that were not answered", s.listInvitations),
		on("DELETE", group+"/invitations/{address}", "call-back-invitation", "Call back an invitation", s.callBackInvitation, silent, looksAt(group+"/invitations/{address}/call-back"), people),
		on("GET", "/invitations/{secret}", "read-invitation", "What an invitation is to", s.readInvitation, public),
		on("POST", "/invitations/{secret}", "answer-invitation", "Accept or decline an invitation", s.answerInvitation, public, looks),
		on("GET", group+"/join-links", "list-join-links", "Links by which people enter a group", s.listJoinLinks),
		on("POST", group+"/join-links", "create-join-link", "Make a link by which people enter a group", s.createJoinLink, makes, looks, people),
		on("DELETE", group+"/join-links/{id}", "call-back-join-link", "Call back a link", s.callBackJoinLink, silent, looksAt(group+"/join-links/{id}/call-back"), people),
		on("GET", "/join-links/{secret}", "read-join-link", "What a link leads into", s.readJoinLink),
		on("POST", "/join-links/{secret}", "use-join-link", "Enter a group by a link", s.useJoinLink, looks),

		// rules of membership
		on("GET", rule, "read-rule", "The rule of membership of a group", s.readRule),
		on("PUT", rule, "set-rule", "Put a rule of membership in force", s.setRule, long, looks, people),
		on("DELETE", rule, "delete-rule", "Take a rule of membership away", s.deleteRule, silent, long, looksAt(rule+"/removal"), people),
		on("POST", rule+"/release", "release-rule", "Let a change happen that waits because of the guard", s.releaseRule, long, looks, people),
		on("POST", "/rules/preview", "rule-effect", "Whom a rule would take in a new group", s.matchRule, long, read),
		on("POST", "/rules/explanation", "explain-rule", "How a rule stands for one person", s.explainRule, read),
		on("GET", "/rules/completion", "complete-rule", "What can be written at a place in a rule", s.completeRule),

		// people
		on("GET", "/people", "list-people", "The directory of people", s.listPeople),
		on("POST", "/people", "create-person", "Put somebody into the directory", s.createPerson, makes, looks, people),
		on("GET", person, "read-person", "One person, with their groups", s.readPerson),
		on("PATCH", person, "change-person", "Change an entry of the directory", s.changePerson, looks, people),
		on("GET", person+"/abilities", "list-abilities", "What somebody may do with groups, and why", s.listAbilities, long),
		on("GET", person+"/abilities-export", "export-abilities", "What somebody may do with groups, and why, as CSV or JSON lines", s.exportAbilities, long),
		on("POST", person+"/moves", "move-person", "Put somebody into groups and take them out of others, in one change; a result for each", s.movePerson, looks, people),
		on("POST", person+"/departure", "depart-person", "Somebody leaves the organisation", s.departPerson, looksAs("departure-effect"), people),
		on("DELETE", person+"/departure", "return-person", "Somebody who had left is here again", s.returnPerson, looksAt(person+"/return"), people),
		on("POST", person+"/password-link", "send-password-link", "Mail somebody a link by which they choose a password", s.sendPasswordLink, silent, looks),
		on("POST", "/people-imports", "import-people", "Make the directory like a CSV file", s.importPeople, lists, looks, people),

		// naming
		on("GET", "/address-proposals", "propose-address", "What a group would be called: an address for a name, or whether an address is free", s.proposeAddress),
		on("GET", "/naming", "read-naming", "The rules of naming", s.readNaming),
		on("PUT", "/naming", "change-naming", "Change the rules of naming", s.changeNaming, long, looksAs("naming-effect"), policy),
		on("GET", "/ceilings", "read-ceilings", "How far groups may go", s.readCeilings),
		on("PUT", "/ceilings", "change-ceilings", "Change how far groups may go; those above come down in one change", s.changeCeilings, long, looks, policy),
		on("GET", "/starting-points", "list-starting-points", "What a group can be begun from", s.listStartingPoints),
		on("GET", "/starting-point-differences", "list-differing", "Groups that differ from the starting point that they were begun from, and how", s.listDiffering, long),
		on("GET", "/starting-points/{name}", "read-starting-point", "One starting point", s.readStartingPoint),
		on("POST", group+"/starting-point", "begin-again", "Make a group what a starting point says: its policy, traits and texts", s.beginAgain, looks, policy),
		on("PUT", "/starting-points/{name}", "save-starting-point", "Make or change a starting point", s.saveStartingPoint, looks, policy),
		on("DELETE", "/starting-points/{name}", "delete-starting-point", "Delete a starting point", s.deleteStartingPoint, silent, looksAt("/starting-points/{name}/removal"), policy),

		on("GET", "/attributes", "list-attributes", "What the organisation keeps of people beside the attributes of SCIM", s.listAttributes),
		on("PUT", "/attributes/{name}", "save-attribute", "Declare an attribute of the organisation's own, or change what is said of it", s.saveAttribute, looks, people),
		on("DELETE", "/attributes/{name}", "delete-attribute", "Delete an attribute of the organisation's own, with what people have in it", s.deleteAttribute, silent, looksAt("/attributes/{name}/removal"), people),
		on("GET", "/domains", "list-domains", "The mail domains, and what lies in each", s.listDomains),
		on("POST", "/domains", "add-domain", "Add a mail domain", s.addDomain, makes, looks),
		on("PUT", "/domains/{name}/main", "lead-domain", "Make a mail domain the main one", s.leadDomain, looks),
		on("DELETE", "/domains/{name}", "retire-domain", "Retire a mail domain in which nothing lies any more", s.retireDomain, silent, looksAt("/domains/{name}/removal")),

		on("GET", "/waiting/{id}/message", "read-held-post", "A message that waits for approval, as text", s.readHeldPost),
		on("POST", "/waiting/{id}/message", "read-held-post-as-administrator", "Read a message that waits in a group in which an administrator has no part, saying why; its owners are told", s.readHeldPostBecause),
		on("GET", "/externals", "list-externals", "External members of all groups, as far as they are yours to see", s.listExternals),
		on("POST", "/externals/changes", "change-externals", "Prolong external members, take them out, or say who vouches for them; a result for each", s.changeExternals, looks, people),
		on("GET", "/external-rules", "read-external-rules", "What the workspace says of external members", s.readExternalRules),
		on("PUT", "/external-rules", "change-external-rules", "Change what the workspace says of external members", s.changeExternalRules, looks),
		on("GET", "/own/{secret}", "read-own-part", "Somebody's own part in a group, by a link from a letter", s.readOwnPart, public),
		on("POST", "/own/{secret}", "change-own-part", "Change one's own delivery in a group, or leave it, by a link from a letter", s.changeOwnPart, public, looks),
		on("GET", "/areas", "read-areas", "Which groups are handed to helpers, and what they may do there: all areas, or those in which I help", s.readAreas),
		on("PUT", "/areas", "change-areas", "Change which groups are handed to helpers, and what they may do there", s.changeAreas, looks),
		on("GET", "/public-pages", "read-public-pages", "What the workspace shows on the internet", s.readPublicPages),
		on("PUT", "/public-pages", "change-public-pages", "Change what the workspace shows on the internet", s.changePublicPages, looks),
		on("GET", "/public/groups", "list-public-groups", "Groups that anyone on the internet may find", s.listPublicGroups, public),
		on("GET", "/public"+group, "read-public-group", "A group as anyone on the internet sees it", s.readPublicGroup, public),
		on("POST", "/public"+group+"/joining", "approach-group", "Have a letter sent to an address outside the workspace, by which it joins a group or asks to", s.approachGroup, public, accepted, looks),
		on("GET", "/public/proofs/{secret}", "read-proof", "What a letter's link is for by which an address is proven", s.readProof, public),
		on("POST", "/public/proofs/{secret}", "prove-address", "Prove an address by a letter's link, and so join the group or ask to", s.proveAddress, public, looks),
		on("GET", "/protection", "read-protection", "What protects the workspace from its own people and programs", s.readProtection),
		on("PUT", "/protection", "change-protection", "Change what protects the workspace", s.changeProtection, looks),

		// life
		on("DELETE", group, "retire-group", "Retire a group; it can be restored for a time", s.retireGroup, looksAt(group+"/retirement"), groups),
		on("POST", group+"/renewal", "renew-group", "Begin a group's term again", s.renewGroup, looks, groups),
		on("POST", group+"/restoration", "restore-group", "Bring a group back", s.restoreGroup, long, looks, groups),
		on("PUT", group+"/hold", "hold-group", "Put a group under hold: it is neither retired nor deleted for good", s.holdGroup, looks, groups),
		on("DELETE", group+"/hold", "release-group", "Release a group that is under hold", s.releaseGroup, looksAt(group+"/release"), groups),
		on("GET", "/purged-groups", "list-purged-groups", "What is left of groups that were deleted for good, the last first", s.listPurged),
		on("GET", "/terms", "read-terms", "How long groups live: the term rules, notices and caretakers", s.readTerms),
		on("PUT", "/terms", "change-terms", "Change how long groups live; every date is worked out again", s.changeTerms, long, looksAs("terms-effect"), policy),
		on("POST", "/terms/trial", "try-terms", "Which term rule takes a group, and why: of those in force, or of others", s.tryTerms, read),
		on("GET", "/terms/forecast", "terms-forecast", "Groups that expire, by week for a year and by month beyond", s.forecastTerms),
		on("GET", "/told/{secret}", "read-told", "The groups that a letter told of, by its link", s.readTold, public),
		on("POST", "/told/{secret}", "renew-told", "Renew groups by the link of a letter that told of them", s.renewTold, public, looks),
		on("GET", "/caretaking/{secret}", "read-caretaking", "What somebody outside is asked: to take care of groups that nobody owns", s.readCaretakerAsked, public),
		on("POST", "/caretaking/{secret}", "agree-to-care", "Agree to take care of groups that nobody owns", s.agreeToCare, public),
		on("POST", "/me/calendar", "make-calendar", "Make the address of a calendar of when groups expire, for a calendar program", s.makeFeed, looks),
		on("DELETE", "/me/calendar", "call-back-calendar", "Call back the address of my calendar", s.callFeedBack, silent, looksAt("/me/calendar/call-back")),
		on("GET", "/calendars/{secret}", "read-calendar", "When groups expire, as iCalendar", s.readCalendar, public),
		on("POST", "/demo/clock", "move-clock", "Move the time of a demo", s.moveClock, long),

		// review
		on("GET", "/findings", "list-findings", "What is wrong or doubtful in all groups, or in those that I own, what weighs most first", s.listFindings),
		on("GET", "/finding-kinds", "list-finding-kinds", "The kinds of findings, with how many of each there are", s.listFindingKinds),
		on("GET", "/finding-days", "list-finding-days", "How many findings there were on each day, and how much in the directory", s.listReviewDays),
		on("POST", "/findings/acceptances", "accept-findings", "Say that findings are known and fine, or are not any more", s.acceptFindings, looks, groups),
		on("POST", "/findings/assignments", "assign-findings", "Give findings to somebody to mend; each gets one letter", s.assignFindings, looks, groups),
		on("GET", "/review-limits", "read-review-limits", "From when on something is found", s.readReviewLimits),
		on("PUT", "/review-limits", "change-review-limits", "Change from when on something is found; everything is looked at again", s.changeReviewLimits, long, looks, policy),

		// posts
		on("POST", "/rehearsals", "rehearse", "What would happen if", s.rehearse, read),
		on("GET", "/writing", "read-writing", "What somebody should know who is about to write to a group, for mail programs too", s.readWriting),
		on("GET", "/waiting", "list-waiting", "What waits for my decision, of every kind", s.listWaiting),
		on("GET", group+"/waiting", "list-group-waiting", "What waits for a decision in a group", s.listGroupWaiting),
		on("GET", "/undelivered", "list-undelivered", "Mail that could not be handed to everybody, or not yet", s.listUndelivered),
		on("GET", group+"/undelivered", "list-group-undelivered", "Mail to a group that could not be handed to everybody, or not yet", s.listGroupUndelivered),
		on("POST", "/undelivered/retries", "retry-undelivered", "Try mail again; a result for each", s.retryUndelivered, looks, groups),
		on("POST", "/waiting/decisions", "decide-waiting", "Approve or decline what waits, whatever its kind; a result for each", s.decideWaiting, looks, groups),

		// history
		on("GET", "/history", "list-history", "What changed in the workspace", s.listHistory),
		on("GET", "/history-seal", "read-seal", "The last seal of the history, to be kept elsewhere", s.readSeal),
		on("POST", "/history-verifications", "verify-history", "Go along the chain of the history, and say what is not as it was", s.verifyHistory, read, long),
		on("GET", "/history/{entry}", "read-history-entry", "One entry of the history", s.readHistoryEntry),
		on("POST", "/history/{entry}/undo", "undo-entry", "Take a change of a group's policy back", s.undoEntry, looks, policy),
		on("GET", "/history/{entry}/affected", "list-affected", "Everybody whom an entry of the history affected", s.listAffected),
		on("GET", group+"/history", "list-group-history", "What changed in a group", s.listGroupHistory),
		on("GET", person+"/history", "list-person-history", "What somebody did, and what was done to them", s.listPersonHistory),
	}
}
