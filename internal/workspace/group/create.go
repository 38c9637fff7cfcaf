package group

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/mailaddr"
	corenaming "ivytable.example/ivytable/internal/core/naming"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/naming"
	"ivytable.example/ivytable/internal/workspace/people"
	"ivytable.example/ivytable/internal/workspace/rules"
)

// Create makes a group. Where the actor has a key, a repeat of the request returns the
// group that the first one made.
func (s *Service) Create(ctx context.Context, by workspace.Actor, n api.NewGroup) (api.Group, error) {
	v := s.k.View(ctx, by)
	if err := naming.AllowCreate(v, access.CreateGroup); err != nil {
		return api.Group{}, err
	}
	asked := n
	var answer struct {
		ID      uuid.UUID  `json:"id"`
		LeftOut []api.Line `json:"left_out,omitempty"`
	}
	made := func(v *workspace.View, err error) (api.Group, error) {
		g, err := ReadAfter(v, answer.ID, err)
		g.LeftOut = answer.LeftOut
		return g, err
	}
	if found, err := workspace.Answered(v, asked, &answer); found || err != nil {
		return made(s.k.View(ctx, by), err)
	}
	d, problems, err := design(v, &n)
	if err != nil {
		return api.Group{}, err
	}
	if len(problems) > 0 && !by.Preview {
		v = s.k.View(ctx, by)
		if found, err := workspace.Answered(v, asked, &answer); found || err != nil { // the same request took the address meanwhile
			return made(v, err)
		}
		return api.Group{}, d.refusal(problems)
	}
	for try := 1; ; try++ {
		results, err := member.Resolve(v, d.entries)
		if err != nil {
			return api.Group{}, err
		}
		err = workspace.Once(ctx, s.k, by, asked, &answer, func(c *workspace.Change) error {
			results := slices.Clone(results)
			err := d.make(c, results, problems, n.Quiet)
			answer.ID, answer.LeftOut = d.group.ID, leftOut(results)
			return err
		})
		if errors.Is(err, errOutsider) && try < 3 { // a new outsider can be added to two groups at once
			continue
		}
		if errors.Is(err, store.ErrDuplicate) {
			err = naming.AddressTaken(v, store.ErrDuplicate, d.group.Address)
		}
		return made(s.k.View(ctx, by), err)
	}
}

// leftOut returns who of lists could not be put into a group, up to as many as are shown.
func leftOut(results []member.Result) (out []api.Line) {
	for i := range results {
		if r := &results[i]; !r.OK() && r.Outcome != "already" && r.Entry.Line > 0 && len(out) < member.MaxShown {
			out = append(out, r.Line)
		}
	}
	return out
}

// errOutsider says that somebody else made an entry for the same outsider meanwhile.
var errOutsider = errors.New("an outsider is known by now")

// draft is a group that is about to be made.
type draft struct {
	group    store.Group
	aliases  []string
	entries  []member.Entry // people to put into it, owners first
	owners   int
	rule     *rule.Rule
	taken    bool // its address is somebody else's
	list     *api.ListReading
	nesting  api.NestingWay
	vouching api.Vouching
}

// refusal is the error for a group that can't be made.
func (d draft) refusal(p workspace.Problems) error {
	err := p.Err()
	if e := new(workspace.Error); len(p) == 1 && d.taken && errors.As(err, &e) {
		e.Kind = workspace.Conflict
	}
	return err
}

// design checks a request to create a group.
func design(v *workspace.View, n *api.NewGroup) (draft, workspace.Problems, error) {
	var p workspace.Problems
	var d draft
	pol := policy.Default()
	if n.StartingPoint != "" {
		start, err := naming.Begin(v, n.StartingPoint)
		if err != nil {
			return d, nil, err
		}
		pol, _ = workspace.ApplyPatch(pol, workspace.PolicyPatch(start.Settings))
		if n.Traits == nil {
			n.Traits = naming.SplitTraits(start.Traits)
		}
		if n.Delivery == "" {
			n.Delivery = start.Delivery
		}
		if n.Welcome == "" {
			n.Welcome = start.Welcome
		}
		d.group.Mail = start.Mail
	}
	domain, err := naming.DomainOf(v, n.Address)
	if err != nil {
		return d, nil, err
	}
	named, err := naming.Rules(v, naming.About{Domain: domain, StartingPoint: n.StartingPoint, Language: n.Language, Traits: n.Traits})
	if err != nil {
		return d, nil, err
	}
	final := named.Apply(n.Name, naming.LocalOf(n.Address), naming.Creator(v.By.Person))
	if bad := people.CheckName(final.Name); bad != "" {
		p.Add("name", workspace.Cut(n.Name, 300), "%s", bad)
	}
	for _, f := range final.Faults {
		p.Add("name", n.Name, "%s", f.Words())
	}
	n.Name = final.Name
	if d.taken, err = addresses(v, n, final, &p); err != nil {
		return d, nil, err
	}
	if n.Language == "" {
		n.Language = "en"
	}
	if !workspace.KnownLanguage(n.Language) {
		p.Add("language", n.Language, "Notices are written in: %s.", strings.Join(workspace.LanguageNames(), ", "))
	}
	if len(n.Owners) == 0 && !slices.ContainsFunc(n.People, func(x api.NewPerson) bool { return x.Role == "owner" }) {
		if helps, err := v.CreatesIn(nil); err != nil {
			return d, nil, err
		} else if v.By.Administers() || helps {
			p.Add("owners", nil, "A group needs at least one owner; two are better.")
		} else {
			n.Owners = []string{v.By.Person.Address} // who makes a group for themselves
		}
	}
	naming.CheckTraits(&p, n.Traits)
	if n.Rule != "" {
		if d.rule, err = rules.Parse(v, n.Rule); err != nil {
			p.Add("rule", workspace.Cut(n.Rule, 200), "%s", workspace.Words(err))
		}
	}
	pol, bad := workspace.ApplyPatch(pol, n.PolicyPatch)
	p = append(append(p, bad...), workspace.Contradictions(pol)...)
	mail, bad := workspace.ApplyTexts(d.group.Mail.Texts, n.Mail)
	p = append(p, bad...)
	ceilings, _, err := v.Ceilings()
	if err != nil {
		return d, nil, err
	}
	p = append(p, workspace.AboveCeilings(ceilings, pol, n.Address, n.StartingPoint)...)
	d.group = store.Group{ID: store.NewID(), StartingPoint: n.StartingPoint, Name: n.Name, Address: n.Address, AddrKey: strings.ToLower(n.Address), Description: strings.TrimSpace(n.Description),
		Language: n.Language, Traits: strings.Join(n.Traits, ","), DefaultMail: n.Delivery != "none", Welcome: strings.TrimSpace(n.Welcome), Mail: store.MailTexts{Texts: mail}, ByRule: d.rule != nil,
		Policy: pol, RenewedAt: v.Now(), CreatedAt: v.Now(), Version: 1}
	d.aliases, d.nesting, d.vouching = n.Aliases, n.NestingWay, n.Vouching
	return d, p, d.people(v, n)
}

// people reads whom a new group begins with.
func (d *draft) people(v *workspace.View, n *api.NewGroup) error {
	owners := make([]api.NewPerson, len(n.Owners))
	for i, o := range n.Owners {
		owners[i] = api.NewPerson{Address: o, Role: "owner"}
	}
	d.entries, d.owners = append(member.Named("owners", owners), member.Named("people", n.People)...), len(owners)
	for i := range owners {
		d.entries[i].Field = fmt.Sprintf("owners[%d]", i)
	}
	for i, l := range n.Lists {
		d.list = &api.ListReading{}
		more, err := member.ReadList(v, fmt.Sprintf("lists[%d]", i), l, d.list)
		if err != nil {
			return err
		}
		d.entries = append(d.entries, more...)
	}
	return nil
}

// addresses settles the address of a new group and checks it and its aliases. It reports
// whether the address is somebody else's.
func addresses(v *workspace.View, n *api.NewGroup, named corenaming.Result, p *workspace.Problems) (taken bool, err error) {
	domains, err := v.Domains()
	if err != nil {
		return false, err
	}
	if n.Address == "" {
		local, err := mailaddr.Derive(n.Name)
		if err != nil {
			p.Add("address", "", "%s", workspace.Words(err))
		} else {
			n.Address = local + "@" + domains[0]
		}
	} else {
		local, domain, found := strings.Cut(n.Address, "@")
		if !found {
			domain = domains[0]
		}
		n.Address = named.Local(local) + "@" + domain
	}
	if n.Address != "" {
		c, err := naming.CheckAddress(v, n.Address, uuid.Nil)
		if err != nil {
			return false, err
		}
		if c.Status != "free" {
			taken = c.Status == "taken" || c.Status == "alike" || c.Status == "unavailable"
			p.Add("address", n.Address, "%s", c.Says)
		} else {
			n.Address = c.Address
		}
	}
	n.Aliases, err = naming.CheckAliases(v, n.Aliases, n.Address, uuid.Nil, p)
	return taken, err
}

// make makes the group, or, where it is only looked at, says what comes of it.
func (d draft) make(c *workspace.Change, results []member.Result, problems workspace.Problems, quiet bool) error {
	if _, err := c.HoldTerms(); err != nil {
		return err
	}
	if !c.By.Administers() { // areas may be others by now, too
		if _, err := c.Tx.RLockSetting(workspace.AreasSetting, new([]workspace.Area)); err != nil {
			return err
		}
	}
	ceilings, err := c.HoldCeilings() // they may have come down meanwhile
	if err != nil {
		return err
	}
	if err := workspace.AboveCeilings(ceilings, d.group.Policy, d.group.Address, d.group.StartingPoint).Err(); err != nil && !c.By.Preview {
		return err
	}
	if d.rule != nil || slices.ContainsFunc(results, func(r member.Result) bool { return r.IsGroup() }) {
		if err := c.Tx.LockRules(); err != nil {
			return err
		}
		if err := c.Tx.LockNesting(); err != nil {
			return err
		}
	}
	if err := c.RefreshActor(); err != nil {
		return err
	}
	if d.rule != nil {
		if d.rule, err = rules.Again(c, "rule", d.rule.String()); err != nil {
			return err
		}
	}
	if err := naming.AllowCreate(&c.View, access.CreateGroup); err != nil {
		return err
	}
	if err := naming.Creates(&c.View, &d.group); err != nil {
		return err
	}
	free, err := naming.EverybodyCreates(&c.View)
	if err != nil {
		return err
	}
	g := workspace.Hold(d.group)
	if err := member.Admit(&c.View, &g.Group.Group, results, admission.Adding, admission.As{Staff: true, Alone: d.nesting.WithoutExternals, Founding: true, Free: free}); err != nil {
		return err
	}
	problems = append(slices.Clone(problems), member.RefusedAsProblems(results, d.owners)...)
	if err := c.Spend(workspace.SpendGroups, 1); err != nil {
		return err
	}
	if c.Previewing() {
		return d.tell(c, results, problems)
	}
	if err := d.refusal(problems); err != nil {
		return err
	}
	if err := c.Tx.AddGroup(&g.Group.Group); err != nil {
		return err
	}
	if len(d.aliases) > 0 {
		if err := c.Tx.SetAddresses(&g.Group.Group, d.aliases, c.Now()); err != nil {
			return err
		}
	}
	if err := c.Record(event.GroupCreated{Address: g.Address, Reach: g.Policy.Sentence()}, &g.Group.Group); err != nil {
		return err
	}
	vouch, err := member.VouchOf(&c.View, d.vouching)
	if err != nil {
		return err
	}
	scope, _ := admission.ParseScope(d.nesting.Consent)
	if err := member.Enter(c, g, results, member.Entrance{Quiet: quiet, Scope: scope, Vouch: vouch}); errors.Is(err, store.ErrDuplicate) {
		return errOutsider
	} else if err != nil {
		return err
	}
	if d.rule != nil {
		if err := rules.Begin(c, g, d.rule, quiet); err != nil {
			return err
		}
	}
	before := g.Life()
	if err := c.Relive(true, &g.Group.Group); err != nil || g.Life() == before {
		return err
	}
	return c.Save(g)
}

// tell says what would come of a group that is only looked at.
func (d draft) tell(c *workspace.Change, results []member.Result, problems workspace.Problems) error {
	n := 0
	for i := range results {
		if results[i].OK() {
			n++
		}
	}
	r := c.Report
	r.Problems = append(r.Problems, problems...)
	r.Policy, r.Sample, r.Total, r.Counts, r.List = c.Summary(d.group.Policy), member.Shown(results), len(results), member.Counts(results), d.list
	c.Warn(c.Doubts(d.group.Policy))
	if err := naming.WarnOfNamesakes(c, d.group.Name, d.group.ID); err != nil {
		return err
	}
	c.Says(fmt.Sprintf("%s at %s, with %d in it. %s", d.group.Name, d.group.Address, n, d.group.Policy.Sentence()))
	if d.rule == nil {
		return nil
	}
	match, err := rules.Take(&c.View, d.rule)
	r.Rule = match
	return err
}
