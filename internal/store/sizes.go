package store

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
)

// A group's size is the number of people whom it reaches, each once, through nesting: how
// many would get its mail. It is kept beside the group, for everybody who sees all groups
// (people), and for those who see what every colleague does (shown): what is nested in it and
// can't be found in the workspace is not counted there, since the number would tell of it, unless
// its owners agreed to that.
//
// A transaction notes who came into a group or went, who left the organisation or returned,
// and which groups changed so that others reach more or fewer through them. When it ends,
// settle locks the sizes of all those groups and of the groups around them, and writes what
// became of them. The sizes are locked by nothing else, so a group that others are nested in
// stands in nobody's way.

// groupSize is the row of a group's size.
type groupSize struct {
	GroupID uuid.UUID `gorm:"primaryKey"`
	People  int
	Shown   int
}

// Size reads whom a group reaches.
func (s *Reads) Size(g *Group) error {
	return wrap("read the size of a group", s.db.Raw("SELECT people, shown FROM group_sizes WHERE group_id = ?", g.ID).Row().Scan(&g.People, &g.Shown))
}

// Sizes returns how many people groups reach, by group.
func (s *Reads) Sizes(groups []uuid.UUID) (map[uuid.UUID]int, error) {
	out := make(map[uuid.UUID]int, len(groups))
	err := inBatches(groups, func(ids []uuid.UUID) error {
		return eachRow(s.db.Raw("SELECT group_id, people FROM group_sizes WHERE group_id IN ?", ids), func(scan func(...any) error) error {
			var id uuid.UUID
			var n int
			err := scan(&id, &n)
			out[id] = n
			return err
		})
	})
	return out, wrap("read the sizes of groups", err)
}

// moves is what a transaction did that changes sizes.
type moves struct {
	people map[uuid.UUID]map[uuid.UUID]int // by person and group: +1 came, -1 went
	came   map[uuid.UUID]bool              // people who came into a group
	flips  map[uuid.UUID]bool              // who left the organisation (false) or returned (true)
	groups map[uuid.UUID]bool              // through which groups others reach more or fewer, or which are new in a group
	locked map[uuid.UUID]bool              // whether people are here, when they were locked
}

func (m *moves) move(person, group uuid.UUID, by int) {
	if m.people == nil {
		m.people, m.came = map[uuid.UUID]map[uuid.UUID]int{}, map[uuid.UUID]bool{}
	}
	of := m.people[person]
	if of == nil {
		of = map[uuid.UUID]int{}
		m.people[person] = of
	}
	of[group] += by
	m.came[person] = m.came[person] || by > 0
}

func (m *moves) around(group uuid.UUID) {
	if m.groups == nil {
		m.groups = map[uuid.UUID]bool{}
	}
	m.groups[group] = true
}

// errDeparted ends a transaction that put somebody into a group who left the organisation
// meanwhile: it is run again, and sees it.
var errDeparted = errors.New("somebody left the organisation meanwhile")

// manyMoves is from how many people on groups are counted again, in place of looking at
// each of the people.
const manyMoves = 1000

// nesting is the groups around some, as far as sizes go by them.
type nesting struct {
	inner expand.Edges[uuid.UUID]    // living groups, by the group that they are in
	outer map[uuid.UUID][]uuid.UUID  // and the other way round, of groups that have ended too
	info  map[uuid.UUID]nestedGroup  // of all groups in either
	reach map[uuid.UUID]surroundings // of those asked for
}

type nestedGroup struct {
	findable, takes bool               // colleagues can find it; it takes external members
	counted         map[uuid.UUID]bool // what is in it and agreed to being counted there
}

// surroundings are the groups whose people a group reaches: all, those whose external people
// too, and the same of what colleagues can find.
type surroundings struct {
	all, open, shown, shownOpen map[uuid.UUID]bool
}

// nestingAround reads what is nested in and around groups.
func (s *Reads) nestingAround(groups []uuid.UUID) (n nesting, err error) {
	n = nesting{expand.Edges[uuid.UUID]{}, map[uuid.UUID][]uuid.UUID{}, map[uuid.UUID]nestedGroup{}, map[uuid.UUID]surroundings{}}
	err = inBatches(groups, func(groups []uuid.UUID) error {
		rows, err := s.db.Raw(`WITH RECURSIVE up (id) AS (
			SELECT id FROM mail_groups WHERE id IN ?
			UNION
			SELECT m.group_id FROM up JOIN memberships m ON m.member_id = up.id AND m.kind = 2
		), down (id) AS (
			SELECT id FROM up
			UNION
			SELECT m.member_id FROM down JOIN memberships m ON m.group_id = down.id AND m.kind = 2
		) SELECT m.group_id, m.member_id, g.ended_at IS NULL, COALESCE(f.value, 0), COALESCE(x.value, 0), COALESCE(c.scope, 0) > 0 FROM down JOIN memberships m ON m.group_id = down.id AND m.kind = 2
			JOIN mail_groups g ON g.id = m.member_id
			LEFT JOIN group_settings f ON f.group_id = m.member_id AND f.setting = 'find'
			LEFT JOIN group_settings x ON x.group_id = m.group_id AND x.setting = 'externals'
			LEFT JOIN consents c ON c.outer_id = m.group_id AND c.group_id = m.member_id`, groups).Rows()
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var outer, inner uuid.UUID
			var lives, counted bool
			var find, externals policy.Value
			if err := rows.Scan(&outer, &inner, &lives, &find, &externals, &counted); err != nil {
				return err
			}
			o, i := n.info[outer], n.info[inner]
			o.takes, i.findable = externals != policy.ExternalsBarred, find >= policy.Workspace
			if counted && o.counted == nil {
				o.counted = map[uuid.UUID]bool{}
			}
			if counted {
				o.counted[inner] = true
			}
			n.info[outer], n.info[inner] = o, i
			if !slices.Contains(n.outer[inner], outer) {
				n.outer[inner] = append(n.outer[inner], outer)
				if lives {
					n.inner[outer] = append(n.inner[outer], inner)
				}
			}
		}
		return rows.Err()
	})
	return n, wrap("read what is nested around groups", err)
}

// above returns groups and all that they are nested in, in order.
func (n nesting) above(groups []uuid.UUID) []uuid.UUID {
	up := expand.Edges[uuid.UUID](n.outer)
	seen := map[uuid.UUID]bool{}
	for _, g := range groups {
		for _, a := range expand.Reach(g, up) {
			seen[a] = true
		}
	}
	return sorted(seen)
}

// of returns whose people a group reaches.
func (n nesting) of(root uuid.UUID) surroundings {
	if r, ok := n.reach[root]; ok {
		return r
	}
	shown := expand.Edges[uuid.UUID]{}
	takes := func(id uuid.UUID) bool { return n.info[id].takes }
	set := func(ids []uuid.UUID) map[uuid.UUID]bool {
		out := make(map[uuid.UUID]bool, len(ids))
		for _, id := range ids {
			out[id] = true
		}
		return out
	}
	r := surroundings{all: set(expand.Reach(root, n.inner)), open: expand.Open(root, n.inner, takes)}
	for g := range r.all {
		for _, i := range n.inner[g] {
			if n.info[i].findable || n.info[g].counted[i] {
				shown[g] = append(shown[g], i)
			}
		}
	}
	r.shown, r.shownOpen = set(expand.Reach(root, shown)), expand.Open(root, shown, takes)
	n.reach[root] = r
	return r
}

// settle brings the sizes of groups up to date with what the transaction did.
func (s *Tx) settle() error {
	m := &s.moves
	if s.looking || len(m.people)+len(m.flips)+len(m.groups) == 0 {
		return nil
	}
	who, err := s.movedPeople()
	if err != nil {
		return err
	}
	touched, whole := map[uuid.UUID]bool{}, map[uuid.UUID]bool{}
	for g := range m.groups {
		touched[g], whole[g] = true, true
	}
	for p, of := range m.people {
		if _, isPerson := who[p]; !isPerson { // a group that was taken out of another
			touched[p] = true
		}
		for g := range of {
			if _, isPerson := who[p]; !isPerson {
				s.nested, whole[g] = true, true
				if err := s.DeleteConsents(g, []uuid.UUID{p}); err != nil {
					return err
				}
			}
			touched[g] = true
		}
	}
	in, err := s.membershipsOf(sorted(m.flips))
	if err != nil {
		return err
	}
	for _, groups := range in {
		for g := range groups {
			touched[g] = true
		}
	}
	n, err := s.lockSizes(touched)
	if err != nil {
		return err
	}
	if err := s.reviewAround(n, touched, in); err != nil {
		return err
	}
	if len(who) > manyMoves {
		return s.countSizes(n, n.above(sorted(touched)))
	}
	recount := n.above(sorted(whole))
	if err := s.adjustSizes(n, who, in, recount); err != nil {
		return err
	}
	return s.countSizes(n, recount)
}

// reviewAround notes that groups are to be looked at again whose size changes though nothing is recorded about them: those
// around groups that changed, and those of people who left or returned, unless these are very many.
func (s *Tx) reviewAround(n nesting, touched map[uuid.UUID]bool, flipped map[uuid.UUID]map[uuid.UUID]bool) error {
	of := map[uuid.UUID]bool{}
	if len(flipped) <= manyMoves {
		for _, groups := range flipped {
			maps.Copy(of, groups)
		}
	}
	for _, g := range n.above(sorted(touched)) {
		of[g] = of[g] || !touched[g]
	}
	maps.DeleteFunc(of, func(_ uuid.UUID, look bool) bool { return !look })
	return s.ReviewLater(sorted(of), nil, time.Now().UTC())
}

// mover is somebody whom a transaction moved.
type mover struct {
	external, is, was bool // here, and here before
}

// movedPeople reads the people whom the transaction moved, and keeps those who came into a
// group from leaving the organisation until it ends.
func (s *Tx) movedPeople() (map[uuid.UUID]mover, error) {
	ids := map[uuid.UUID]bool{}
	for p := range s.moves.people {
		ids[p] = true
	}
	for p := range s.moves.flips {
		ids[p] = true
	}
	out := make(map[uuid.UUID]mover, len(ids))
	err := inBatches(sorted(ids), func(ids []uuid.UUID) error {
		rows, err := s.db.Raw("SELECT id, external, active FROM people WHERE id IN ? ORDER BY id LOCK IN SHARE MODE", ids).Rows()
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var id uuid.UUID
			var p mover
			if err := rows.Scan(&id, &p.external, &p.is); err != nil {
				return err
			}
			returned, flipped := s.moves.flips[id]
			if p.was = p.is; flipped {
				p.was = !returned
			}
			if s.moves.came[id] && !p.is && !flipped {
				return errDeparted
			}
			out[id] = p
		}
		return rows.Err()
	})
	if errors.Is(err, errDeparted) {
		return nil, err
	}
	return out, wrap("read who was moved", err)
}

// lockSizes locks the sizes of groups and of all that they are nested in, and returns how they
// are nested then.
func (s *Tx) lockSizes(groups map[uuid.UUID]bool) (nesting, error) {
	locked := map[uuid.UUID]bool{}
	for wanted := sorted(groups); ; {
		var missing []uuid.UUID
		for _, g := range wanted {
			if !locked[g] {
				missing = append(missing, g)
				locked[g] = true
			}
		}
		err := inBatches(missing, func(ids []uuid.UUID) error {
			return s.db.Raw("SELECT group_id FROM group_sizes WHERE group_id IN ? ORDER BY group_id FOR UPDATE", ids).Scan(&[]uuid.UUID{}).Error
		})
		if err != nil {
			return nesting{}, wrap("lock the sizes of groups", err)
		}
		n, err := s.nestingAround(wanted)
		if err != nil {
			return n, err
		}
		if wanted = n.above(wanted); len(wanted) == len(locked) {
			return n, nil
		}
	}
}

// membershipsOf returns in which groups people are.
func (s *Reads) membershipsOf(people []uuid.UUID) (map[uuid.UUID]map[uuid.UUID]bool, error) {
	out := make(map[uuid.UUID]map[uuid.UUID]bool, len(people))
	err := s.EachMembershipOf(people, func(person, group uuid.UUID, _ bool) {
		if out[person] == nil {
			out[person] = map[uuid.UUID]bool{}
		}
		out[person][group] = true
	})
	return out, err
}

// adjustSizes adds to the sizes of groups, but for those of except, what people who moved
// make of them. in is where those are who left the organisation or returned.
func (s *Tx) adjustSizes(n nesting, who map[uuid.UUID]mover, in map[uuid.UUID]map[uuid.UUID]bool, except []uuid.UUID) error {
	if len(n.info) > 0 { // somebody may be reached by another way
		var err error
		if in, err = s.membershipsOf(sorted(who)); err != nil {
			return err
		}
	}
	counted := make(map[uuid.UUID]bool, len(except))
	for _, g := range except {
		counted[g] = true
	}
	type delta struct{ people, shown int }
	deltas := map[uuid.UUID]delta{}
	for p, x := range who {
		moved, is := s.moves.people[p], map[uuid.UUID]bool{}
		for g := range in[p] {
			is[g] = true
		}
		touched := map[uuid.UUID]bool{}
		for g, by := range moved {
			if touched[g] = true; by > 0 {
				is[g] = true
			}
		}
		if x.is != x.was {
			for g := range is {
				touched[g] = true
			}
		}
		for _, g := range n.above(sorted(touched)) {
			if counted[g] {
				continue
			}
			r := n.of(g)
			all, shown := r.all, r.shown
			if x.external {
				all, shown = r.open, r.shownOpen
			}
			d := deltas[g]
			d.people += change(x, all, is, moved)
			d.shown += change(x, shown, is, moved)
			deltas[g] = d
		}
	}
	byDelta := map[delta][]uuid.UUID{}
	for _, g := range sorted(deltas) {
		if d := deltas[g]; d != (delta{}) {
			byDelta[d] = append(byDelta[d], g)
		}
	}
	for d, ids := range byDelta {
		if err := s.db.Exec("UPDATE group_sizes SET people = people + ?, shown = shown + ? WHERE group_id IN ?", d.people, d.shown, ids).Error; err != nil {
			return wrap("write the sizes of groups", err)
		}
	}
	return nil
}

// change returns by how much somebody changes the size of a group that reaches the people of
// some groups: in says in which groups they are, moved what became of that.
func change(x mover, reach, in map[uuid.UUID]bool, moved map[uuid.UUID]int) int {
	is, was := false, false
	for g := range in {
		if reach[g] {
			is = true
			was = was || moved[g] <= 0
		}
	}
	for g, by := range moved {
		was = was || by < 0 && reach[g]
	}
	out := 0
	if is && x.is {
		out++
	}
	if was && x.was {
		out--
	}
	return out
}

// countSizes counts the sizes of groups anew.
func (s *Tx) countSizes(n nesting, groups []uuid.UUID) error {
	var alone []uuid.UUID
	for _, g := range groups {
		if len(n.inner[g]) == 0 {
			alone = append(alone, g)
			continue
		}
		r := n.of(g)
		all, err := s.CountReach(r.all, r.open)
		if err != nil {
			return err
		}
		shown := all
		if len(r.shown) != len(r.all) || len(r.shownOpen) != len(r.open) {
			if shown, err = s.CountReach(r.shown, r.shownOpen); err != nil {
				return err
			}
		}
		if err := s.db.Exec("UPDATE group_sizes SET people = ?, shown = ? WHERE group_id = ?", all, shown, g).Error; err != nil {
			return wrap("write the sizes of groups", err)
		}
	}
	return inBatches(alone, func(ids []uuid.UUID) error {
		return wrap("count the people of groups", s.db.Exec(`UPDATE group_sizes z LEFT JOIN (
			SELECT m.group_id, COUNT(*) AS n FROM memberships m JOIN people p ON p.id = m.member_id AND p.active WHERE m.group_id IN ? AND m.kind = 1 GROUP BY m.group_id
		) c ON c.group_id = z.group_id SET z.people = COALESCE(c.n, 0), z.shown = COALESCE(c.n, 0) WHERE z.group_id IN ?`, ids, ids).Error)
	})
}

// CountReach counts the people in any of groups, each once: those who are external only in
// open ones.
func (s *Reads) CountReach(groups, open map[uuid.UUID]bool) (n int, err error) {
	err = s.db.Raw("SELECT COUNT(DISTINCT m.member_id) FROM memberships m JOIN people p ON p.id = m.member_id AND p.active WHERE m.group_id IN ? AND m.kind = 1 AND (NOT p.external OR m.group_id IN ?)",
		sorted(groups), sorted(open)).Scan(&n).Error
	return n, wrap("count the people of groups", err)
}

// Reached returns how many people of some groups mail to one of them reaches, each once, how many more chose to
// get none, and the first of the former by their identifiers, up to some. Whoever is in root gets mail as they
// chose there, others where they chose it in any group. External people count in the groups of which open
// says so; those whose mail is paused at now count as who chose none. Rows are counted here: to group them in the database takes five times as long.
func (s *Reads) Reached(root uuid.UUID, groups []uuid.UUID, open map[uuid.UUID]bool, now time.Time, some int) (mail, without int, first []uuid.UUID, err error) {
	odd, err := s.notReached(groups, open)
	if err != nil {
		return 0, 0, nil, err
	}
	var paused []uuid.UUID
	if err := s.db.Raw("SELECT id FROM people WHERE mail_paused_until > ?", now).Scan(&paused).Error; err != nil {
		return 0, 0, nil, wrap("read whose mail is paused", err)
	}
	const inRoot, gets = 1, 2
	chose := map[uuid.UUID]byte{}
	var member, group, choice sql.RawBytes
	var of uuid.UUID
	var last []byte // the group of the row before, which is mostly the same
	err = eachRow(s.db.Raw("SELECT member_id, group_id, mail FROM memberships WHERE group_id IN ? AND kind = 1", groups), func(scan func(...any) error) error {
		if err := scan(&member, &group, &choice); err != nil {
			return err
		}
		if !bytes.Equal(group, last) {
			if of, err = uuid.ParseBytes(group); err != nil {
				return err
			}
			last = append(last[:0], group...)
		}
		id, err := uuid.ParseBytes(member)
		if err != nil || len(odd) > 0 && odd[Pair{Outer: of, Inner: id}] {
			return err
		}
		var now byte
		if choice[0] == '1' {
			now = gets
		}
		switch was, met := chose[id]; {
		case of == root:
			chose[id] = now | inRoot
		case !met, was&inRoot == 0:
			chose[id] = was | now
		}
		return nil
	})
	for _, id := range paused {
		if c, in := chose[id]; in {
			chose[id] = c &^ gets
		}
	}
	for id, c := range chose {
		if c&gets == 0 {
			without++
			continue
		}
		mail++
		if at, _ := slices.BinarySearchFunc(first, id, func(a, b uuid.UUID) int { return bytes.Compare(a[:], b[:]) }); at < some {
			first = slices.Insert(first, at, id)
			first = first[:min(len(first), some)]
		}
	}
	return mail, without, first, wrap("count whom mail reaches", err)
}

// notReached returns who in some groups, by group, gets nothing through them: who has left, and external people in
// groups that take none. They are few among all people, and looked for from their side.
func (s *Reads) notReached(groups []uuid.UUID, open map[uuid.UUID]bool) (map[Pair]bool, error) {
	out := map[Pair]bool{}
	var some int
	if err := s.db.Raw("SELECT COALESCE(SUM(departed + external_members), 0) FROM mail_groups WHERE id IN ?", groups).Row().Scan(&some); err != nil || some == 0 {
		return out, wrap("read whom mail does not reach", err)
	}
	err := eachRow(s.db.Raw("SELECT m.group_id, m.member_id, p.active FROM people p STRAIGHT_JOIN memberships m ON m.member_id = p.id AND m.kind = 1 AND m.group_id IN ? WHERE NOT p.active OR p.external", groups), func(scan func(...any) error) error {
		var at Pair
		var active bool
		if err := scan(&at.Outer, &at.Inner, &active); err != nil {
			return err
		}
		if !active || !open[at.Outer] {
			out[at] = true
		}
		return nil
	})
	return out, wrap("read whom mail does not reach", err)
}

// flip notes who of people, who were locked, left the organisation or returned, and counts
// them so in all their groups.
func (s *Tx) flip(people []Person) error {
	ids := map[bool][]uuid.UUID{} // by whether they are here now
	for _, p := range people {
		if was, locked := s.moves.locked[p.ID]; locked && was != p.Active {
			ids[p.Active] = append(ids[p.Active], p.ID)
			if s.moves.flips == nil {
				s.moves.flips = map[uuid.UUID]bool{}
			}
			s.moves.flips[p.ID], s.moves.locked[p.ID] = p.Active, p.Active
		}
	}
	for here, ids := range ids {
		in, err := s.membershipsOf(ids)
		if err != nil {
			return err
		}
		groups := map[uuid.UUID]bool{}
		for _, of := range in {
			for g := range of {
				groups[g] = true
			}
		}
		if len(groups) == 0 {
			continue
		}
		if _, err := s.LockGroups(sorted(groups)); err != nil { // then who is in them is settled
			return err
		}
		by := "-"
		if here {
			by = "+"
		}
		err = inBatches(ids, func(ids []uuid.UUID) error {
			return s.writing(ofGroups).Exec(strings.ReplaceAll(`UPDATE mail_groups g JOIN (
				SELECT group_id, COUNT(*) AS n, SUM(role = 3) AS owners, SUM(role = 2) AS moderators, SUM(role = 1) AS members FROM memberships WHERE member_id IN ? GROUP BY group_id
			) m ON m.group_id = g.id SET g.departed = g.departed - (0 ± m.n), g.owners = g.owners ± m.owners, g.moderators = g.moderators ± m.moderators, g.members = g.members ± m.members, g.revision = g.revision + 1`, "±", by), ids).Error
		})
		if err != nil {
			return wrap("count who is here", err)
		}
	}
	return nil
}

// locks notes whether people are here who were locked.
func (m *moves) lock(people ...Person) {
	if m.locked == nil {
		m.locked = map[uuid.UUID]bool{}
	}
	for _, p := range people {
		m.locked[p.ID] = p.Active
	}
}

func sorted[V any](set map[uuid.UUID]V) []uuid.UUID {
	out := make([]uuid.UUID, 0, len(set))
	for id := range set {
		out = append(out, id)
	}
	slices.SortFunc(out, func(a, b uuid.UUID) int { return bytes.Compare(a[:], b[:]) })
	return out
}

// countMissing counts the sizes of groups that have none yet: those that were made before
// sizes were kept.
func (p *Pool) countMissing(ctx context.Context) error {
	for {
		n := 0
		err := p.Transact(ctx, false, func(tx *Tx) error {
			var ids []uuid.UUID
			if err := tx.db.Raw("SELECT id FROM mail_groups g WHERE NOT EXISTS (SELECT 1 FROM group_sizes z WHERE z.group_id = g.id) ORDER BY id LIMIT 1000").Scan(&ids).Error; err != nil {
				return wrap("look for groups without a size", err)
			}
			if n = len(ids); n == 0 {
				return nil
			}
			if err := tx.addSizes(ids); err != nil {
				return err
			}
			for _, id := range ids {
				tx.moves.around(id)
			}
			return nil
		})
		if err != nil || n == 0 {
			return err
		}
	}
}

func (s *Tx) addSizes(groups []uuid.UUID) error {
	rows := make([]groupSize, len(groups))
	for i, id := range groups {
		rows[i].GroupID = id
	}
	return wrap("write the sizes of groups", s.db.CreateInBatches(rows, batch).Error)
}

// CheckSizes compares the sizes that are kept of groups with those that they have, and returns
// what differs. It reads everything: a declared full review.
func (s *Reads) CheckSizes() (wrong []string, err error) {
	var kept []struct {
		GroupID       uuid.UUID
		People, Shown int
		Address       string
	}
	if err := s.db.Raw("SELECT z.group_id, z.people, z.shown, COALESCE(g.address, z.group_id) AS address FROM group_sizes z LEFT JOIN mail_groups g ON g.id = z.group_id").Scan(&kept).Error; err != nil {
		return nil, wrap("read the sizes of groups", err)
	}
	ids := make([]uuid.UUID, len(kept))
	for i, k := range kept {
		ids[i] = k.GroupID
	}
	n, err := s.nestingAround(ids)
	if err != nil {
		return nil, err
	}
	for _, k := range kept {
		r := n.of(k.GroupID)
		all, err := s.CountReach(r.all, r.open)
		if err != nil {
			return nil, err
		}
		shown, err := s.CountReach(r.shown, r.shownOpen)
		if err != nil {
			return nil, err
		}
		if all != k.People || shown != k.Shown {
			wrong = append(wrong, fmt.Sprintf("%s: %d people and %d shown are kept; it reaches %d and %d", k.Address, k.People, k.Shown, all, shown))
		}
	}
	return wrong, nil
}
