package bulk

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/roster"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/history"
	"ivytable.example/ivytable/internal/workspace/naming"
	"ivytable.example/ivytable/internal/workspace/people"
)

// sheetTexts are the columns of a sheet that are written into the row of a group, beside those of its policy; the names are those of an export.
var sheetTexts = []string{"name", "description", "language", "traits", "default_delivery", "welcome", "aliases", "exempt"}

// sheetOwner is the column of those who own a group and are here.
const sheetOwner = "owner"

// sheetVersion is the column of which version of a group a line was made: it is refused where somebody has edited the group since.
const sheetVersion = "version"

// SheetColumns are the columns of a sheet that change something, in the order of an export.
func SheetColumns() []string {
	return slices.Concat(sheetTexts, []string{sheetOwner}, policy.Names())
}

// sheet gives each group what a sheet says of it.
type sheet struct {
	bulk uuid.UUID // of which the records have what is wanted
	rows map[uuid.UUID]map[string]string
}

func (*sheet) scope() access.Scope { return access.ScopeAll }

func (*sheet) kind() string { return "sheet" }
func (*sheet) says() string { return "they become what a sheet says" }

func (*sheet) before(c *workspace.Change) error {
	_, err := c.HoldCeilings()
	return err
}

// after tells those who became owners, each in one letter.
func (*sheet) after(c *workspace.Change, b *store.BulkChange) error {
	groups, err := c.Read.BulkChanged(b.ID)
	if err != nil {
		return err
	}
	became := map[uuid.UUID]int{}
	for some := range slices.Chunk(groups, 1000) {
		was, err := c.Read.BulkWas(b.ID, some)
		if err != nil {
			return err
		}
		for _, x := range was {
			var w wasSheet
			var o wasOwners
			if json.Unmarshal(x, &w) == nil && w.Owners != nil && json.Unmarshal(w.Owners, &o) == nil {
				for p := range o.Roles {
					became[p]++
				}
			}
		}
	}
	who, err := c.Read.PeopleByID(slices.Collect(maps.Keys(became)))
	if err != nil {
		return err
	}
	for _, p := range slices.SortedFunc(maps.Values(who), func(a, b store.Person) int { return strings.Compare(a.Address, b.Address) }) {
		if err := tellOwner(c, p, became[p.ID]); err != nil {
			return err
		}
	}
	return nil
}

// wants returns what groups become: by group the columns that differ.
func (x *sheet) wants(v *workspace.View, groups []store.Group) (map[uuid.UUID]map[string]string, error) {
	if x.rows != nil {
		return x.rows, nil
	}
	kept, err := v.Read.BulkWants(x.bulk, idsOf(groups))
	out := make(map[uuid.UUID]map[string]string, len(kept))
	for id, b := range kept {
		var fields map[string]string
		if err := json.Unmarshal(b, &fields); err != nil {
			return nil, err
		}
		out[id] = fields
	}
	return out, err
}

func idsOf(groups []store.Group) []uuid.UUID {
	ids := make([]uuid.UUID, len(groups))
	for i, g := range groups {
		ids[i] = g.ID
	}
	return ids
}

// cells returns what a sheet would have of groups, by group and column.
func cells(v *workspace.View, groups []store.Group) (map[uuid.UUID]map[string]string, error) {
	ids := idsOf(groups)
	aliases, err := v.Read.Aliases(ids)
	if err != nil {
		return nil, err
	}
	owners, err := v.Read.Owners(ids)
	if err != nil {
		return nil, err
	}
	out := make(map[uuid.UUID]map[string]string, len(groups))
	for i := range groups {
		g := &groups[i]
		var own []string
		for _, o := range owners[g.ID] {
			if o.Active {
				own = append(own, o.Address)
			}
		}
		row := map[string]string{"name": g.Name, "description": g.Description, "language": g.Language, "traits": together(naming.SplitTraits(g.Traits)), "default_delivery": workspace.Delivery(g.DefaultMail),
			"welcome": g.Welcome, "aliases": together(aliases[g.ID]), "exempt": g.Exempt, sheetOwner: together(own), sheetVersion: strconv.Itoa(g.Version)}
		for _, name := range policy.Names() {
			row[name] = g.Policy.Get(name)
		}
		out[g.ID] = row
	}
	return out, nil
}

// together writes several in one cell, in an order that does not depend on theirs; apart reads them.
func together(all []string) string {
	all = slices.Clone(all)
	slices.Sort(all)
	return strings.Join(slices.Compact(all), "; ")
}

func apart(cell string) (out []string) {
	for x := range strings.FieldsFuncSeq(cell, func(r rune) bool { return r == ';' || r == ',' || r == '\n' }) {
		if x = strings.TrimSpace(x); x != "" {
			out = append(out, x)
		}
	}
	return out
}

// whole writes addresses with the domain that those without one are in.
func whole(cell, domain string) string {
	all := apart(cell)
	for i, x := range all {
		if !strings.Contains(x, "@") {
			all[i] = x + "@" + domain
		}
	}
	return strings.Join(all, "; ")
}

// tidy writes a cell as it is compared: with several things in their order, and addresses without the names beside them.
func tidy(column, cell string) string {
	switch column {
	case "traits":
		return together(apart(cell))
	case "aliases":
		all := apart(strings.ToLower(cell))
		return together(all)
	case sheetOwner:
		var out []string
		for _, x := range apart(cell) {
			if _, rest, named := strings.Cut(x, "<"); named {
				x = strings.TrimSuffix(rest, ">")
			}
			if a, err := mailaddr.Parse(x); err == nil {
				x = a.String()
			}
			out = append(out, strings.ToLower(x))
		}
		return together(out)
	case "welcome", "description":
		return strings.TrimSpace(strings.ReplaceAll(cell, "\r\n", "\n"))
	}
	return strings.TrimSpace(cell)
}

// patchOf makes the patches of a row: of what stands in the row of a group, and of its policy.
func patchOf(want map[string]string) (p api.GroupPatch, q api.PolicyPatch) {
	for column, cell := range want {
		text, list := cell, apart(cell)
		if list == nil {
			list = []string{}
		}
		switch column {
		case "name":
			p.Name = &text
		case "description":
			p.Description = &text
		case "language":
			p.Language = &text
		case "traits":
			slices.SortFunc(list, func(a, b string) int { return slices.Index(naming.Traits, a) - slices.Index(naming.Traits, b) })
			p.Traits = &list
		case "default_delivery":
			p.Delivery = &text
		case "welcome":
			p.Welcome = &text
		case "aliases":
			p.Aliases = &list
		case "exempt":
			p.Exempt = &text
		case sheetOwner:
		default:
			q.Set(column, text)
		}
	}
	return p, q
}

// wrongCell says what is wrong with what a column of a group becomes, "" for nothing.
func wrongCell(v *workspace.View, g *store.Group, column, cell string) (string, error) {
	var bad workspace.Problems
	switch column {
	case "name":
		return people.CheckName(cell), nil
	case "description", "welcome":
		if n := len([]rune(cell)); n > 2000 {
			return fmt.Sprintf("%s has %d characters; 2000 is the most.", column, n), nil
		}
	case "exempt":
		if n := len([]rune(cell)); n > 500 {
			return fmt.Sprintf("exempt has %d characters; 500 is the most.", n), nil
		}
	case "language":
		bad.OneOf(column, cell, workspace.LanguageNames()...)
		if cell == "" {
			return "language is empty. Choose " + strings.Join(workspace.LanguageNames(), " or ") + ".", nil
		}
	case "default_delivery":
		if cell != "each" && cell != "none" {
			return fmt.Sprintf("default_delivery can't be %q: choose each or none.", workspace.Cut(cell, 40)), nil
		}
	case "traits":
		naming.CheckTraits(&bad, apart(cell))
	case "aliases":
		if _, err := naming.CheckAliases(v, apart(cell), g.Address, g.ID, &bad); err != nil {
			return "", err
		}
	case sheetOwner:
		if len(apart(cell)) == 0 {
			return "owner names nobody. Name at least one, or retire the group.", nil
		}
		x := owners{OwnersChange: api.OwnersChange{Add: apart(tidy(column, cell)), Replace: true}}
		if err := x.check(v); err != nil {
			return first(err)
		}
		verdicts, err := x.decide(v, []store.Group{*g})
		if err == nil && verdicts[0].outcome == store.ItemRefused {
			return verdicts[0].says, nil
		}
		return "", err
	default:
		p := g.Policy
		if err := p.Set(column, cell); err != nil {
			if f := new(fault.Fault); errors.As(err, &f) {
				return f.Words(), nil
			}
			return err.Error(), nil
		}
	}
	return first(bad.Err())
}

// first is the first of several problems in words.
func first(err error) (string, error) {
	if e := new(workspace.Error); errors.As(err, &e) {
		if len(e.Problems) > 0 {
			return e.Problems[0].Says, nil
		}
		return e.Says, nil
	}
	return "", err
}

func (x *sheet) decide(v *workspace.View, groups []store.Group) ([]verdict, error) {
	wants, err := x.wants(v, groups)
	if err != nil {
		return nil, err
	}
	now, err := cells(v, groups)
	if err != nil {
		return nil, err
	}
	all, _, err := v.Ceilings()
	if err != nil {
		return nil, err
	}
	out := make([]verdict, len(groups))
	for i := range groups {
		if out[i], err = becomes(v, &groups[i], now[groups[i].ID], wants[groups[i].ID], all); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// becomes says whether a group can become what a row says.
func becomes(v *workspace.View, g *store.Group, now, want map[string]string, all []workspace.Ceiling) (verdict, error) {
	out := verdict{outcome: store.ItemSame}
	p := g.Policy
	stale := false
	for _, column := range slices.Sorted(maps.Keys(want)) {
		if tidy(column, now[column]) == tidy(column, want[column]) {
			continue
		}
		if column == sheetVersion {
			stale = true
			continue
		}
		says, err := wrongCell(v, g, column, want[column])
		if err != nil {
			return out, err
		}
		if says != "" {
			return refused("%s", says), nil
		}
		out.outcome = store.ItemChanged
		if slices.Contains(policy.Names(), column) {
			_ = p.Set(column, want[column]) // it was looked at above
		}
	}
	if out.outcome == store.ItemChanged && stale {
		return refused("Somebody has edited it since: the sheet has version %s, and it is %s now. Export it anew, or empty the cell version to go over that.", workspace.Cut(want[sheetVersion], 20), now[sheetVersion]), nil
	}
	if out.outcome == store.ItemChanged && v.Ended(g) {
		return refused("It has ended: restore it first."), nil
	}
	if p != g.Policy {
		return fits(all, g, p), nil
	}
	return out, nil
}

// wasSheet is what a row made of a group: the columns as they were and as they became, and what undoes its owners.
type wasSheet struct {
	From, To map[string]string
	Owners   json.RawMessage `json:",omitempty"`
}

func (x *sheet) do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error) {
	rows := make([]store.Group, len(groups))
	for i, g := range groups {
		rows[i] = g.Group.Group
	}
	wants, err := x.wants(&c.View, rows)
	if err != nil {
		return nil, err
	}
	now, err := cells(&c.View, rows)
	if err != nil {
		return nil, err
	}
	was := make(map[uuid.UUID]json.RawMessage, len(groups))
	for _, g := range groups {
		w := wasSheet{From: map[string]string{}, To: map[string]string{}}
		for column, cell := range wants[g.ID] {
			if column == sheetVersion {
				continue
			}
			if from := now[g.ID][column]; tidy(column, from) != tidy(column, cell) {
				w.From[column], w.To[column] = from, cell
			}
		}
		if cell, said := w.To[sheetOwner]; said {
			o := owners{OwnersChange: api.OwnersChange{Add: apart(tidy(sheetOwner, cell)), Replace: true}}
			kept, err := o.do(c, []*workspace.Locked{g})
			if err != nil {
				return nil, err
			}
			w.Owners = kept[g.ID]
		}
		if err := errors.Join(put(c, g, w.To), keep(was, g.ID, w)); err != nil {
			return nil, err
		}
	}
	return was, nil
}

// put writes what columns say, but for its owners, into a group, which is locked.
func put(c *workspace.Change, g *workspace.Locked, to map[string]string) error {
	patch, settings := patchOf(to)
	changes, err := group.Apply(c, g, patch)
	if err != nil {
		return err
	}
	if len(changes) > 0 {
		if err := c.Save(g); err != nil {
			return err
		}
		if err := c.Record(event.GroupChanged{Changed: changes}, &g.Group.Group); err != nil {
			return err
		}
	}
	after, bad := workspace.ApplyPatch(g.Policy, settings)
	if err := bad.Err(); err != nil || after == g.Policy {
		return err
	}
	return setPolicy(c, g, after)
}

func (x *sheet) left(v *workspace.View, groups []store.Group, was map[uuid.UUID]json.RawMessage) ([]verdict, error) {
	now, err := cells(v, groups)
	if err != nil {
		return nil, err
	}
	all, _, err := v.Ceilings()
	if err != nil {
		return nil, err
	}
	out := make([]verdict, len(groups))
	for i := range groups {
		g := &groups[i]
		var w wasSheet
		if err := json.Unmarshal(was[g.ID], &w); err != nil {
			return nil, err
		}
		for column, to := range w.To {
			if tidy(column, now[g.ID][column]) != tidy(column, to) {
				out[i] = refused("Its %s was changed since.", strings.ReplaceAll(column, "_", " "))
			}
		}
		if out[i].outcome != "" {
			continue
		}
		delete(w.From, sheetOwner) // those who were put in its place are taken out again
		if out[i], err = becomes(v, g, now[g.ID], w.From, all); err != nil {
			return nil, err
		}
		if out[i].outcome == store.ItemSame {
			out[i].outcome = store.ItemChanged
		}
	}
	return out, nil
}

func (*sheet) back(c *workspace.Change, groups []*workspace.Locked, was map[uuid.UUID]json.RawMessage) error {
	for _, g := range groups {
		var w wasSheet
		if err := json.Unmarshal(was[g.ID], &w); err != nil {
			return err
		}
		if w.Owners != nil {
			if err := (&owners{}).back(c, []*workspace.Locked{g}, map[uuid.UUID]json.RawMessage{g.ID: w.Owners}); err != nil {
				return err
			}
		}
		if err := put(c, g, w.From); err != nil {
			return err
		}
	}
	return nil
}

// Sheet gives many groups what a sheet says of each: an export that was edited. Lines that can't be done are refused by their number,
// and with them the whole sheet, unless they are to be left out.
func (s *Service) Sheet(ctx context.Context, by workspace.Actor, n api.GroupSheet) (api.Bulk, error) {
	if err := by.Allow(access.ChangeMany); err != nil {
		return api.Bulk{}, err
	}
	v := s.k.View(ctx, by)
	var answered api.Bulk
	if found, err := workspace.Answered(v, n, &answered); found || err != nil {
		return answered, err
	}
	b := []byte(n.Text)
	if len(n.File) > 0 {
		b = n.File
	}
	read, err := roster.ReadSheet(b, append([]string{"id", "address", sheetVersion}, SheetColumns()...))
	if err != nil {
		return api.Bulk{}, workspace.Wrong("text", nil, "%s", workspace.Words(err))
	}
	x := &sheet{rows: map[uuid.UUID]map[string]string{}}
	lines, groups, passed, err := x.match(v, read)
	if err != nil {
		return api.Bulk{}, err
	}
	touched := map[string]bool{}
	for _, row := range x.rows {
		for column := range row {
			touched[column] = true
		}
	}
	if touched[sheetOwner] {
		if err := by.Cover(string(access.ScopePeople)); err != nil {
			return api.Bulk{}, err
		}
	}
	if slices.ContainsFunc(policy.Names(), func(name string) bool { return touched[name] }) {
		if err := by.Cover(string(access.ScopePolicy)); err != nil {
			return api.Bulk{}, err
		}
	}
	wrong, ready, err := x.look(v, lines, groups)
	if err != nil {
		return api.Bulk{}, err
	}
	var bad workspace.Problems
	if i := slices.IndexFunc(lines, func(l api.Line) bool { return l.Outcome == store.ItemRefused }); i >= 0 && !n.LeaveOut {
		bad.Add("text", nil, "%s of the sheet can't be done, such as line %d: %s Mend them, or have them left out.", workspace.UpperFirst(number.Of(wrong, "line")), lines[i].Line, lines[i].Says)
	} else if ready == 0 {
		bad.Add("text", nil, "Nothing in the sheet differs from what the groups are.")
	}
	if by.Preview {
		x.tell(v, lines, passed, wrong, ready)
		if e := new(workspace.Error); errors.As(bad.Err(), &e) {
			by.Report.Problems = append(by.Report.Problems, e.Problems...)
		}
		return api.Bulk{}, by.Looked()
	}
	if err := bad.Err(); err != nil {
		return api.Bulk{}, err
	}
	var ids []uuid.UUID
	wants := map[uuid.UUID]json.RawMessage{}
	for i, l := range lines {
		if l.Outcome == store.ItemChanged {
			ids = append(ids, groups[i])
			if err := keep(wants, groups[i], x.rows[groups[i]]); err != nil {
				return api.Bulk{}, err
			}
		}
	}
	return s.begin(ctx, by, n, store.BulkChange{Kind: x.kind(), Body: json.RawMessage(`{"sheet": true}`), Says: x.says()}, ids, wants, nil)
}

// match finds the groups of the rows of a sheet, and what of each differs. passed are columns that change nothing.
func (x *sheet) match(v *workspace.View, read roster.Sheet) (lines []api.Line, groups []uuid.UUID, passed []string, err error) {
	known := SheetColumns()
	for _, h := range read.Headings {
		if !slices.Contains([]string{"", "id", "address", sheetVersion}, h) && !slices.Contains(known, h) {
			passed = append(passed, h)
		}
	}
	if !slices.Contains(read.Headings, "id") && !slices.Contains(read.Headings, "address") {
		return nil, nil, nil, workspace.Wrong("text", nil, "The sheet needs a column id or address, so that it is clear which group each line is about.")
	}
	if !slices.ContainsFunc(read.Headings, func(h string) bool { return slices.Contains(known, h) }) {
		return nil, nil, nil, workspace.Wrong("text", nil, "No column of the sheet changes anything. There are: %s.", strings.Join(known, ", "))
	}
	var ids []uuid.UUID
	var keys []string
	for _, r := range read.Rows {
		if id, err := uuid.Parse(r.Cells["id"]); err == nil {
			ids = append(ids, id)
		} else if a, err := mailaddr.Parse(r.Cells["address"]); err == nil {
			keys = append(keys, a.Key())
		}
	}
	byID, err := v.Read.GroupsByID(ids)
	if err != nil {
		return nil, nil, nil, err
	}
	byKey, err := v.Read.GroupsByKeys(keys)
	if err != nil {
		return nil, nil, nil, err
	}
	domains, err := v.Domains()
	if err != nil {
		return nil, nil, nil, err
	}
	at := map[uuid.UUID]int{}
	for _, r := range read.Rows {
		l := api.Line{Line: r.Line, Given: workspace.Cut(cmp.Or(r.Cells["address"], r.Cells["id"]), 100)}
		g := byID[uuid.Nil]
		if id, err := uuid.Parse(r.Cells["id"]); err == nil {
			g = byID[id]
		} else if a, err := mailaddr.Parse(r.Cells["address"]); err == nil {
			g = byKey[a.Key()]
		}
		l.Name, l.Address = g.Name, g.Address
		switch before, twice := at[g.ID]; {
		case r.Wrong != "":
			l.Outcome, l.Says = store.ItemRefused, r.Wrong
		case g.ID == uuid.Nil:
			l.Outcome, l.Says = store.ItemRefused, fmt.Sprintf("There is no group %q.", l.Given)
		case twice:
			l.Outcome, l.Says = store.ItemRefused, fmt.Sprintf("Line %d is about %s, too: leave one of the two.", before, g.Address)
		default:
			at[g.ID] = r.Line
			want := map[string]string{}
			for column, cell := range r.Cells {
				if column == "aliases" {
					cell = whole(cell, domains[0])
				}
				if slices.Contains(known, column) || column == sheetVersion && strings.TrimSpace(cell) != "" {
					want[column] = cell
				}
			}
			x.rows[g.ID] = want
		}
		lines, groups = append(lines, l), append(groups, g.ID)
	}
	return lines, groups, passed, nil
}

// look decides about the lines of a sheet, and leaves of each row what differs.
func (x *sheet) look(v *workspace.View, lines []api.Line, groups []uuid.UUID) (wrong, ready int, err error) {
	all, _, err := v.Ceilings()
	if err != nil {
		return 0, 0, err
	}
	for from := 0; from < len(lines); from += 1000 {
		to := min(from+1000, len(lines))
		byID, err := v.Read.GroupsByID(groups[from:to])
		if err != nil {
			return 0, 0, err
		}
		now, err := cells(v, slices.Collect(maps.Values(byID)))
		if err != nil {
			return 0, 0, err
		}
		for i := from; i < to; i++ {
			l, g := &lines[i], byID[groups[i]]
			if l.Outcome != store.ItemRefused {
				want := x.rows[g.ID]
				var changes []event.Change
				for column, cell := range want {
					if column == sheetVersion {
						continue // it has to hold when the line is done, too
					}
					if tidy(column, cell) == tidy(column, now[g.ID][column]) {
						delete(want, column)
						continue
					}
					changes = append(changes, event.Change{Field: column, From: now[g.ID][column], To: cell})
				}
				slices.SortFunc(changes, func(a, b event.Change) int { return strings.Compare(a.Field, b.Field) })
				l.Changes = history.Changes(changes)
				d, err := becomes(v, &g, now[g.ID], want, all)
				if err != nil {
					return 0, 0, err
				}
				if l.Outcome, l.Says = d.outcome, d.says; d.outcome == store.ItemRefused {
					delete(x.rows, g.ID)
				}
			}
			switch l.Outcome {
			case store.ItemRefused:
				wrong++
			case store.ItemChanged:
				ready++
			}
		}
	}
	return wrong, ready, nil
}

// tell says what a sheet would do: the lines that are refused first.
func (x *sheet) tell(v *workspace.View, lines []api.Line, passed []string, wrong, ready int) {
	r := v.By.Report
	for _, outcome := range []string{store.ItemRefused, store.ItemChanged} {
		for _, l := range lines {
			if l.Outcome == outcome && len(r.Sample) < sampled {
				r.Sample = append(r.Sample, l)
			}
		}
	}
	r.Total, r.Ready = len(lines), ready
	r.Counts = map[string]int{store.ItemChanged: ready, store.ItemRefused: wrong, store.ItemSame: len(lines) - ready - wrong}
	r.Says = fmt.Sprintf("Of %s, %d change, %d are so already.", number.Of(len(lines), "group"), ready, len(lines)-ready-wrong)
	if wrong > 0 {
		r.Says += fmt.Sprintf(" %s can't be done; the numbers are those of the sheet.", workspace.UpperFirst(number.Of(wrong, "line")))
	}
	if len(passed) > 0 {
		r.Says += fmt.Sprintf(" These columns are passed over, since they can't be changed so: %s.", strings.Join(passed, ", "))
	}
}
