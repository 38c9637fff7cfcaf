// Package setup says what is missing in the records of a mail domain, so that mail in its name is believed.
package setup

import (
	"fmt"
	"slices"
	"strings"
)

// Part is what a record is for.
type Part string

// The parts.
const (
	MX    Part = "mx"    // where mail for the domain goes (RFC 5321, 5)
	SPF   Part = "spf"   // which machines may send in its name (RFC 7208)
	DKIM  Part = "dkim"  // the keys that its mail is signed with (RFC 6376)
	DMARC Part = "dmarc" // what others do with mail in its name that proves nothing (RFC 7489)
)

// State is what was found of a part.
type State string

// The states.
const (
	Well     State = "well"
	Doubtful State = "doubtful"
	Missing  State = "missing"
	Unknown  State = "unknown" // it could not be asked for
)

// Key is a key that mail of the domain is signed with, or will be.
type Key struct {
	Selector string
	Public   string // as it stands in its record, base64
	Used     bool
}

// Name is where the record of a key stands (RFC 6376, 3.6.2.1).
func (k Key) Name(domain string) string { return k.Selector + "._domainkey." + domain }

// Record is the record of a key.
func (k Key) Record() string { return "v=DKIM1; k=rsa; p=" + k.Public }

// Records are what a resolver says.
type Records struct {
	MX      []string            // names of machines
	TXT     map[string][]string // texts, by name
	Trouble map[string]string   // names that could not be asked for, and why; MX under "mx"
}

// Item is what there is to say of one part.
type Item struct {
	Part   Part
	State  State
	Name   string // where the record stands
	Found  string // "" for nothing
	Wanted string // what should stand there, where that is known
	Says   string
}

// Check says what is well and what is missing in the records of a domain, with the keys that its mail is signed with.
func Check(domain string, keys []Key, r Records) []Item {
	out := []Item{mx(domain, r), spf(domain, r)}
	if !slices.ContainsFunc(keys, func(k Key) bool { return k.Used }) {
		out = append(out, Item{Part: DKIM, State: Missing, Says: "Mail in the name of this domain is not signed. Make a key, publish its record, then use it."})
	}
	for _, k := range keys {
		out = append(out, dkim(domain, k, r))
	}
	return append(out, dmarc(domain, r))
}

func mx(domain string, r Records) Item {
	i := Item{Part: MX, Name: domain, Found: strings.Join(r.MX, ", ")}
	switch {
	case r.Trouble["mx"] != "":
		return i.unknown(r.Trouble["mx"])
	case len(r.MX) == 0:
		i.State, i.Says = Missing, "No record says where mail for this domain goes, so none comes to its groups."
	case slices.Contains(r.MX, "."): // RFC 7505
		i.State, i.Says = Missing, "The record says that this domain takes no mail at all."
	default:
		i.State, i.Says = Well, "Mail for this domain goes there. That machine has to hand mail for groups on to this service."
	}
	return i
}

func (i Item) unknown(why string) Item {
	i.State, i.Says = Unknown, "It could not be asked for: "+why
	return i
}

// texts are those of a name that begin so.
func texts(r Records, name, beginning string) (out []string) {
	for _, t := range r.TXT[name] {
		if len(t) >= len(beginning) && strings.EqualFold(t[:len(beginning)], beginning) {
			out = append(out, t)
		}
	}
	return out
}

func spf(domain string, r Records) Item {
	i := Item{Part: SPF, Name: domain, Wanted: "v=spf1 mx -all"}
	if why := r.Trouble[domain]; why != "" {
		return i.unknown(why)
	}
	all := texts(r, domain, "v=spf1")
	i.Found = strings.Join(all, " | ")
	terms := strings.Fields(strings.ToLower(i.Found))
	switch {
	case len(all) == 0:
		i.State, i.Says = Missing, "No record says which machines may send in the name of this domain. List those that do; the relay of this service among them."
	case len(all) > 1:
		i.State, i.Says = Doubtful, fmt.Sprintf("There are %d such records, and with more than one none counts (RFC 7208, 4.5). Put them together.", len(all))
	case slices.Contains(terms, "+all") || slices.Contains(terms, "all"):
		i.State, i.Says = Doubtful, "The record lets every machine of the world send in the name of this domain. End it with -all or ~all."
	case !slices.ContainsFunc(terms, func(t string) bool { return t == "-all" || t == "~all" || strings.HasPrefix(t, "redirect=") }):
		i.State, i.Says = Doubtful, "The record does not say what holds for all other machines. End it with -all or ~all."
	default:
		i.State, i.Says = Well, "Which machines may send in the name of this domain is said. The relay of this service has to be among them."
	}
	if i.State == Well {
		i.Wanted = ""
	}
	return i
}

// tags reads a record such as "v=DKIM1; p=…" (RFC 6376, 3.2).
func tags(record string) map[string]string {
	out := map[string]string{}
	for part := range strings.SplitSeq(record, ";") {
		if name, value, ok := strings.Cut(part, "="); ok {
			out[strings.ToLower(strings.TrimSpace(name))] = strings.Join(strings.Fields(value), "")
		}
	}
	return out
}

func dkim(domain string, k Key, r Records) Item {
	i := Item{Part: DKIM, Name: k.Name(domain), Wanted: k.Record()}
	if why := r.Trouble[i.Name]; why != "" {
		return i.unknown(why)
	}
	i.Found = strings.Join(r.TXT[i.Name], " | ")
	what := "Mail is signed with this key"
	if !k.Used {
		what = "This key is not used yet"
	}
	same := slices.ContainsFunc(r.TXT[i.Name], func(t string) bool { return tags(t)["p"] == k.Public })
	switch {
	case same && k.Used:
		i.State, i.Says = Well, "Mail is signed with this key, and everybody can check it."
	case same:
		i.State, i.Says = Well, "The record of this key is published: it can be used."
	case i.Found == "":
		i.State, i.Says = Missing, what+", and its record is not published. Publish it"
		i.Says += map[bool]string{true: ": until then the signature is of no use.", false: ", then use the key."}[k.Used]
	case len(r.TXT[i.Name]) == 1 && tags(r.TXT[i.Name][0])["p"] == "":
		i.State, i.Says = Doubtful, what+", and its record says that the key was called back."
	default:
		i.State, i.Says = Doubtful, what+", and its record has another key: signatures fail. Publish the record below."
	}
	if i.State == Well {
		i.Wanted = ""
	}
	return i
}

// Strict reports whether a domain asks others to refuse or set aside what does not prove itself, by the texts at _dmarc before its name
// (RFC 7489, 6.3).
func Strict(published []string) bool {
	for _, t := range published {
		if p := tags(t); p["v"] == "DMARC1" && (p["p"] == "quarantine" || p["p"] == "reject") {
			return true
		}
	}
	return false
}

func dmarc(domain string, r Records) Item {
	i := Item{Part: DMARC, Name: "_dmarc." + domain, Wanted: "v=DMARC1; p=none; rua=mailto:postmaster@" + domain}
	if why := r.Trouble[i.Name]; why != "" {
		return i.unknown(why)
	}
	all := texts(r, i.Name, "v=DMARC1")
	i.Found = strings.Join(all, " | ")
	switch policy := tags(i.Found)["p"]; {
	case len(all) == 0:
		i.State, i.Says = Missing, "No record says what others do with mail in the name of this domain that proves nothing. Begin with one that asks for reports alone."
	case len(all) > 1:
		i.State, i.Says = Doubtful, fmt.Sprintf("There are %d such records, and with more than one none counts (RFC 7489, 6.6.3).", len(all))
	case policy == "none":
		i.State, i.Says = Well, "Others are asked to do nothing yet with mail that proves nothing. When reports show that your own mail proves itself, ask for quarantine or reject."
	case policy == "quarantine" || policy == "reject":
		i.State, i.Says = Well, "Others are asked to "+policy+" mail in the name of this domain that proves nothing."
	default:
		i.State, i.Says = Doubtful, fmt.Sprintf("The record asks for %q, which is none of none, quarantine and reject.", policy)
	}
	if i.State == Well {
		i.Wanted = ""
	}
	return i
}
