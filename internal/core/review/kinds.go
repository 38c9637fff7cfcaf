package review

// Kind is what was found, by the name that it has in the interface and in filters.
type Kind string

// The kinds.
const (
	NoOwner        Kind = "no_owner"
	OneOwner       Kind = "one_owner"
	OwnerLeft      Kind = "owner_left"
	SoleOwner      Kind = "sole_owner"
	OwnerElsewhere Kind = "owner_elsewhere"
	NobodyIn       Kind = "nobody"
	NeverUsed      Kind = "never_used"
	Quiet          Kind = "quiet"
	Strangers      Kind = "strangers"
	OpenUnheld     Kind = "open_unheld"
	Unvouched      Kind = "unvouched"
	ComesBack      Kind = "comes_back"
	NotDescribed   Kind = "not_described"
	SaysNothing    Kind = "says_nothing"
	SameThing      Kind = "same_thing"
	SamePeople     Kind = "same_people"
	RuleNobody     Kind = "rule_nobody"
	RuleUnfilled   Kind = "rule_unfilled"
	WaitingLong    Kind = "waiting_long"
	NotAgreed      Kind = "not_agreed"
	AliasUnused    Kind = "alias_unused"
	ExemptAgain    Kind = "exempt_again"
)

// Severity is how much a finding weighs.
type Severity int8

// The severities.
const (
	Minor Severity = 1 + iota
	Doubtful
	Serious
)

// Severities are their names, the lightest first.
var Severities = []string{"minor", "doubtful", "serious"}

func (s Severity) String() string {
	if s < Minor || s > Serious {
		return "unknown"
	}
	return Severities[s-1]
}

// Mend is a change that mends what was found, or a place where it is mended.
type Mend struct {
	Do   string // the name of a change of many groups, or of a page of the group
	Says string
}

// Description is all that there is to know of a kind.
type Description struct {
	Kind     Kind
	Severity Severity
	Title    string // what it is, of one group
	Many     string // of several: "groups have no owner"
	Why      string // why it matters
	Limit    string // the name of the limit that it goes by; "" for none
	Mends    []Mend
	person   bool // it is about a person
	names    bool // it names other groups, which not everybody who sees its own may find
	grows    bool // once accepted, it is open again when it has grown
}

// NamesOthers reports whether it names other groups, which not everybody who sees its own may find.
func (d Description) NamesOthers() bool { return d.names }

// OfPerson reports whether it is about a person and not a group.
func (d Description) OfPerson() bool { return d.person }

var (
	giveOwners = Mend{"owners", "Make somebody an owner"}
	endIt      = Mend{"retire", "Retire it: it can be restored"}
	renewIt    = Mend{"renew", "Keep it: its term begins again"}
	itsPeople  = Mend{"people", "Look at its people"}
	itsTexts   = Mend{"settings", "Write what it is for"}
)

// kinds is the one table of kinds. A new kind is a row here and a check in examine.go.
var kinds = []Description{
	{Kind: NoOwner, Severity: Serious, Title: "No owner", Many: "groups have no owner", Why: "Every request and every change about them comes back to the administrators.", Mends: []Mend{giveOwners, endIt}},
	{Kind: Strangers, Severity: Serious, Title: "Outsiders in a confidential group", Many: "confidential groups have outsiders in them", Why: "Only their members can find these groups, and some of those work elsewhere.", grows: true, Mends: []Mend{{"externals", "Take its external members out, or give them an end"}, itsPeople}},
	{Kind: OpenUnheld, Severity: Serious, Title: "Open to the internet, nothing held", Many: "groups let the internet write, and hold nothing", Why: "Unwanted mail reaches everybody in them.", Mends: []Mend{{"policy", "Hold mail from outsiders"}}},
	{Kind: WaitingLong, Severity: Serious, Title: "Something waits too long", Many: "groups let people wait for a decision", Why: "People were told that somebody will decide.", Limit: "waiting_days", Mends: []Mend{{"waiting", "Decide what waits"}, giveOwners}},
	{Kind: OwnerLeft, Severity: Doubtful, Title: "An owner has left", Many: "groups have an owner who has left the organisation", Why: "Their other owners may not know that they are fewer.", Mends: []Mend{giveOwners, itsPeople}},
	{Kind: NobodyIn, Severity: Doubtful, Title: "Nobody in it", Many: "groups reach nobody", Why: "Mail to them is taken and read by nobody.", Mends: []Mend{endIt, itsPeople}},
	{Kind: SoleOwner, Severity: Doubtful, Title: "Alone the owner of many", Many: "people are alone the owners of many groups", Why: "When they are away, nobody decides about any of these groups.", Limit: "sole_groups", person: true, grows: true, Mends: []Mend{giveOwners}},
	{Kind: RuleNobody, Severity: Doubtful, Title: "A rule that matches nobody", Many: "groups have a rule that matches nobody", Why: "Something in the rule or in the directory is not as it was.", Mends: []Mend{{"rule", "Look at its rule"}, endIt}},
	{Kind: RuleUnfilled, Severity: Doubtful, Title: "A rule over what nobody fills in", Many: "groups have a rule over an attribute that nobody has", Why: "What the directory does not say of anybody decides about nobody.", Mends: []Mend{{"rule", "Look at its rule"}}},
	{Kind: SameThing, Severity: Doubtful, Title: "Called like another group", Many: "groups are called like another one", Why: "People write to one and mean the other.", names: true, Mends: []Mend{endIt, {"settings", "Call it what tells it apart"}}},
	{Kind: SamePeople, Severity: Doubtful, Title: "Nearly the same people as another group", Many: "groups have nearly the same people as another one", Why: "One of two may be enough.", names: true, Limit: "same_percent", Mends: []Mend{endIt, itsPeople}},
	{Kind: Unvouched, Severity: Doubtful, Title: "External members without a voucher", Many: "groups have external members for whom nobody vouches", Why: "Nobody here knows whether they still should be in it.", grows: true, Mends: []Mend{{"externals", "Say who vouches, give them an end, or take them out"}}},
	{Kind: ComesBack, Severity: Doubtful, Title: "Mail to an external member comes back", Many: "groups have external members whose mail comes back", Why: "Nobody reads at these addresses any more; somebody else may, one day.", grows: true, Mends: []Mend{{"externals", "Take them out, or ask for another address"}, itsPeople}},
	{Kind: NotAgreed, Severity: Doubtful, Title: "In it without consent", Many: "groups have another one in them without its consent", Why: "Mail to them reaches none of its people until somebody agrees.", Mends: []Mend{{"nesting", "Look at the groups in it"}}},
	{Kind: ExemptAgain, Severity: Doubtful, Title: "Exempt, to be looked at again", Many: "exemptions are to be looked at again", Why: "Whoever made them exempt said when.", Mends: []Mend{{"exempt", "Exempt it for longer, or give it back to the rules"}}},
	{Kind: Quiet, Severity: Minor, Title: "Quiet", Many: "groups have been quiet for a long time", Why: "They may not be needed any more.", Limit: "quiet_days", Mends: []Mend{endIt, renewIt}},
	{Kind: NeverUsed, Severity: Minor, Title: "Never used", Many: "groups were never written to", Why: "They may have been made for nothing, or people don't know of them.", Limit: "unused_days", Mends: []Mend{endIt, renewIt}},
	{Kind: OneOwner, Severity: Minor, Title: "One owner", Many: "groups have one owner alone", Why: "When that one leaves, nobody is left.", Mends: []Mend{giveOwners}},
	{Kind: OwnerElsewhere, Severity: Minor, Title: "Owners of another department", Many: "groups have owners of another department than their people", Why: "Whoever decides may have moved on.", Mends: []Mend{giveOwners}},
	{Kind: NotDescribed, Severity: Minor, Title: "No description", Many: "groups don't say what they are for", Why: "The next administrator has to ask.", Mends: []Mend{itsTexts}},
	{Kind: SaysNothing, Severity: Minor, Title: "A description that says nothing", Many: "groups have a description that says no more than their name", Why: "The next administrator has to ask.", Mends: []Mend{itsTexts}},
	{Kind: AliasUnused, Severity: Minor, Title: "A further address that nobody uses", Many: "groups have a further address that nobody uses", Why: "It could be somebody else's.", Limit: "alias_days", Mends: []Mend{{"aliases", "Take it away"}}},
}

var byKind = func() map[Kind]*Description {
	out := make(map[Kind]*Description, len(kinds))
	for i := range kinds {
		out[kinds[i].Kind] = &kinds[i]
	}
	return out
}()

// Kinds describes the kinds, those that weigh most first.
func Kinds() []Description { return append([]Description(nil), kinds...) }

// Describe returns what there is to know of a kind; known is false for one that is none.
func Describe(k Kind) (d Description, known bool) {
	if p := byKind[k]; p != nil {
		return *p, true
	}
	return Description{}, false
}

// Names are the names of the kinds, in their order.
func Names() []string {
	out := make([]string, len(kinds))
	for i, d := range kinds {
		out[i] = string(d.Kind)
	}
	return out
}

// Limits are from when on something counts. Each is at least 1.
type Limits struct {
	QuietDays   int // without a post
	UnusedDays  int // since it was made, without any post
	WaitingDays int // for which something waits
	AliasDays   int // without mail to a further address
	SameCount   int // people whom two groups need at least to be compared
	SamePercent int // of the people of two groups together who are in both, 50 to 100
	SoleGroups  int // groups of which somebody is alone the owner
}

// DefaultLimits are those until others are set: half a year is longer than any season's break, two weeks longer than most
// holidays.
func DefaultLimits() Limits {
	return Limits{QuietDays: 180, UnusedDays: 90, WaitingDays: 14, AliasDays: 365, SameCount: 5, SamePercent: 90, SoleGroups: 10}
}
