package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/hashicorp/golang-lru/v2/simplelru"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/singleflight"
	"gorm.io/gorm"

	"ivytable.example/ivytable/internal/core/expand"
)

// memory keeps what lists show, since to read it again costs many times what it
// costs to find out that it did not change: how long a list is and what stands on its
// pages, groups and who owns them, members, settings. What was read inside a transaction is never kept, and
// no permission is decided by it: what somebody can find is read each time, and a page that was
// kept for them is of no use after a group was hidden, nor is what groups were nested in after that changed (hiddenFound). What was not asked for longest makes room.
//
// A group, and who has which role in it, is kept by its version and its revision, one of
// which every change counts up. A page, a count, a name, a setting is kept until this process commits a change
// of what it was read from; what another process commits shows within keptFor.
type memory struct {
	mu       sync.Mutex
	at       changes
	counted  time.Time // when the lengths of lists were last to be counted again
	counts   *simplelru.LRU[digest, kept[int64]]
	pages    *simplelru.LRU[digest, kept[[]place]]
	members  *simplelru.LRU[digest, kept[[]MemberRow]]
	ahead    *simplelru.LRU[digest, kept[[]Person]]
	settings *simplelru.LRU[string, kept[settingRow]]
	groups   *simplelru.LRU[uuid.UUID, Group]
	owned    *simplelru.LRU[uuid.UUID, ownedBy]
	roles    *simplelru.LRU[groupPerson, roleIn]
	posts    *simplelru.LRU[uuid.UUID, time.Time] // when a group was written to, as it was last noted
	nesting  nestingAt
	reading  singleflight.Group // what many ask for at once is read once
	signing  *simplelru.LRU[string, kept[[]SigningKey]]
	domains  *simplelru.LRU[string, kept[[]string]]
	asked    *simplelru.LRU[string, kept[Asked]] // by address
	prepared sync.Map                            // statements that mail asks for each message, by their text
}

const (
	keptFor   = 5 * time.Second
	maxCounts = 2000
	maxPages  = 500 // of up to maxKept places of about 80 bytes
	maxKept   = 201
	maxAhead  = 2000   // times that somebody typed, of about 8 people each
	maxRows   = 100    // pages of up to maxKept members of about 400 bytes
	maxGroups = 20_000 // of about 1 kB each
	maxRoles  = 100_000
)

// digest stands for a statement with its arguments, which can name thousands of groups.
type digest [sha256.Size]byte

func digestOf(query string, args []any) digest {
	return sha256.Sum256(fmt.Appendf([]byte(query), "%#v", args)) // in Go's syntax, where no two values look alike
}

func newMemory() *memory {
	return &memory{
		counts: bounded[digest, kept[int64]](maxCounts), pages: bounded[digest, kept[[]place]](maxPages), members: bounded[digest, kept[[]MemberRow]](maxRows),
		ahead: bounded[digest, kept[[]Person]](maxAhead), settings: bounded[string, kept[settingRow]](maxCounts),
		groups: bounded[uuid.UUID, Group](maxGroups), owned: bounded[uuid.UUID, ownedBy](maxGroups), roles: bounded[groupPerson, roleIn](maxRoles), posts: bounded[uuid.UUID, time.Time](maxGroups), asked: bounded[string, kept[Asked]](maxCounts), domains: bounded[string, kept[[]string]](1), signing: bounded[string, kept[[]SigningKey]](1),
	}
}

func bounded[K comparable, V any](size int) *simplelru.LRU[K, V] {
	l, err := simplelru.NewLRU[K, V](size, nil)
	if err != nil {
		panic(err) // the size is not above 0
	}
	return l
}

// subject is what something that is kept is about, and so what a change of tables makes untrue.
type subject uint8

const (
	ofGroups   subject = 1 << iota // mail_groups, memberships and their words
	ofPeople                       // people and their words, who are on lists of groups too
	ofSettings                     // settings
	ofLengths                      // as of groups, for how long lists of them are
)

// lag is how long a change that is made in many parts may leave the length of a list as it was: to count it again after each of them
// would cost more than the change.
const lag = 500 * time.Millisecond

// changes counts the committed changes that make what is kept of each subject untrue. What is kept of
// groups names people, too.
type changes struct{ groups, people, settings, lengths int64 }

func (c *changes) count(of subject) {
	if of&(ofGroups|ofPeople) != 0 {
		c.groups++
	}
	if of&ofPeople != 0 {
		c.people++
	}
	if of&ofSettings != 0 {
		c.settings++
	}
}

func (c *changes) of(x subject) int64 {
	switch x {
	case ofPeople:
		return c.people
	case ofSettings:
		return c.settings
	case ofLengths:
		return c.lengths
	}
	return c.groups
}

// writing is where a transaction writes to tables that something is kept of; it is forgotten
// when the transaction ends.
func (s *Tx) writing(of subject) *gorm.DB {
	s.written |= of
	if !inTx(s.db) {
		s.memory.forget(of, false)
	}
	return s.db
}

// forget ends what is kept of subjects; part says that more of the same change follows, after which the lengths of lists are counted
// again at the latest.
func (m *memory) forget(of subject, part bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.at.count(of)
	if now := time.Now(); of&(ofGroups|ofPeople) != 0 && (!part || now.Sub(m.counted) >= lag) {
		m.at.lengths++
		m.counted = now
	}
}

// Part says that a transaction is a part of a larger change, of which more follows.
func (s *Tx) Part() { s.part = true }

// kept is what was read at some state of its tables.
type kept[T any] struct {
	what  T
	state int64
	until time.Time
}

func (k kept[T]) holds(state int64, now time.Time) bool {
	return k.state == state && now.Before(k.until)
}

type owned struct {
	owners  []OwnerRow
	aliases []string
}

type ownedBy struct {
	kept[owned]
	version, revision int // of the group
}

type groupPerson struct{ group, person uuid.UUID }

type roleIn struct {
	role     expand.Role
	revision int // of the group
}

// preparedRow reads the one row of a statement that is prepared once, which spares the database most of its work with it.
func (s *Reads) preparedRow(query string, args, into []any) error {
	stmt, err := s.prepare(query)
	if err != nil {
		return err
	}
	if stmt == nil {
		return s.db.Raw(query, args...).Row().Scan(into...)
	}
	ctx := s.db.Statement.Context
	err = stmt.QueryRowContext(ctx, args...).Scan(into...)
	watchOf(ctx).note(err)
	return err
}

// prepare returns a statement that is prepared once for the whole pool; nil within a transaction.
func (s *Reads) prepare(query string) (*sql.Stmt, error) {
	pool, ok := s.db.Statement.ConnPool.(watched)
	if !ok {
		return nil, nil
	}
	if stmt, ok := s.memory.prepared.Load(query); ok {
		return stmt.(*sql.Stmt), nil
	}
	stmt, err := pool.PrepareContext(context.WithoutCancel(s.db.Statement.Context), query)
	if err != nil {
		return nil, err
	}
	if first, there := s.memory.prepared.LoadOrStore(query, stmt); there {
		stmt.Close()
		return first.(*sql.Stmt), nil
	}
	return stmt, nil
}

func inTx(db *gorm.DB) bool {
	_, is := db.Statement.ConnPool.(*sql.Tx)
	return is
}

// load returns what is kept under key, or what read finds.
func load[K comparable, T any](s *Reads, all *simplelru.LRU[K, kept[T]], of subject, key K, read func(state int64) (T, error)) (T, error) {
	m, now := s.memory, time.Now()
	if inTx(s.db) {
		return read(-1)
	}
	m.mu.Lock()
	k, _ := all.Get(key)
	at := m.at.of(of)
	m.mu.Unlock()
	if k.holds(at, now) {
		return k.what, nil
	}
	v, err := read(at)
	if err != nil {
		return v, err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	all.Add(key, kept[T]{v, at, now.Add(keptFor)})
	return v, nil
}

// listed returns what is kept of a list under a key, or what read finds. What many ask for at
// once, one reads for all. of says which changes end it.
func listed[T any](s *Reads, all *simplelru.LRU[digest, kept[T]], of subject, key digest, read func() (T, error)) (T, error) {
	return load(s, all, of, key, func(state int64) (T, error) {
		if inTx(s.db) {
			return read()
		}
		v, err, shared := s.memory.reading.Do(string(key[:])+strconv.FormatInt(state, 36), func() (any, error) { return read() })
		if shared && (errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)) {
			return read() // whoever read it has gone away, or had less time
		}
		return v.(T), err
	})
}

// keptCount returns how long the list is that a query describes.
func (s *Reads) keptCount(of subject, query string, args []any, read func() (int64, error)) (int64, error) {
	if of == ofGroups {
		of = ofLengths
	}
	return listed(s, s.memory.counts, of, digestOf(query, args), read)
}

func (s *Reads) keptSetting(name string) (settingRow, error) {
	return load(s, s.memory.settings, ofSettings, name, func(int64) (settingRow, error) { return readSetting(s.db, name, "") })
}

// nestingAt is what every group is nested in, as it was after so many changes of it.
type nestingAt struct {
	outer    expand.Edges[uuid.UUID]
	nestings int64
}

// keptNesting returns what every group is nested in, after at least so many changes of it.
func (s *Reads) keptNesting(nestings int64) (expand.Edges[uuid.UUID], error) {
	m := s.memory
	m.mu.Lock()
	k := m.nesting
	m.mu.Unlock()
	if k.outer != nil && k.nestings == nestings {
		return k.outer, nil
	}
	k = nestingAt{expand.Edges[uuid.UUID]{}, nestings}
	err := eachRow(s.db.Raw("SELECT group_id, member_id FROM memberships WHERE kind = ?", KindGroup), func(scan func(...any) error) error {
		var outer, inner uuid.UUID
		err := scan(&outer, &inner)
		k.outer[inner] = append(k.outer[inner], outer)
		return err
	})
	if err != nil || inTx(s.db) {
		return k.outer, wrap("read what is nested in what", err)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.nesting = k
	return k.outer, nil
}

// groupsOf returns the groups that are kept in these versions, and which are not.
func (m *memory) groupsOf(wanted []place) (have map[uuid.UUID]Group, missing []uuid.UUID) {
	m.mu.Lock()
	defer m.mu.Unlock()
	have = make(map[uuid.UUID]Group, len(wanted))
	for _, v := range wanted {
		if g, ok := m.groups.Get(v.ID); ok && g.Version == v.Version && g.Revision == v.Revision {
			have[v.ID] = g
		} else {
			missing = append(missing, v.ID)
		}
	}
	return have, missing
}

func (m *memory) keepGroup(g Group) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.groups.Add(g.ID, g)
}

// postNoted reports whether it is noted, to the minute, that a group was written to at a time.
func (m *memory) postNoted(group uuid.UUID, at time.Time) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	last, ok := m.posts.Get(group)
	return ok && !at.Before(last) && at.Sub(last) < noted
}

func (m *memory) notePosts(at map[uuid.UUID]time.Time) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for id, t := range at {
		m.posts.Add(id, t)
	}
}

// GroupExtras is what a list shows of a group beside its own fields.
type GroupExtras struct {
	Owners  []OwnerRow
	Aliases []string
	Role    expand.Role // of the person who asks; 0 for none
}

// GroupExtras returns who owns groups, their aliases, and which role a person has in
// them, in the order of the groups.
func (s *Reads) GroupExtras(person uuid.UUID, groups []Group) ([]GroupExtras, error) {
	m, now := s.memory, time.Now()
	out := make([]GroupExtras, len(groups))
	var noOwners, noRole []uuid.UUID
	m.mu.Lock()
	people := m.at.people
	for i, g := range groups {
		if o, known := m.owned.Get(g.ID); known && o.version == g.Version && o.revision == g.Revision && o.holds(people, now) {
			out[i].Owners, out[i].Aliases = o.what.owners, o.what.aliases
		} else {
			noOwners = append(noOwners, g.ID)
		}
		if r, known := m.roles.Get(groupPerson{g.ID, person}); known && r.revision == g.Revision {
			out[i].Role = r.role
		} else {
			noRole = append(noRole, g.ID)
		}
	}
	m.mu.Unlock()
	if len(noOwners)+len(noRole) == 0 {
		return out, nil
	}
	var owners map[uuid.UUID][]OwnerRow
	var aliases map[uuid.UUID][]string
	var roles map[uuid.UUID]expand.Role
	var all errgroup.Group
	if inTx(s.db) {
		all.SetLimit(1) // a transaction is one connection
	}
	if len(noOwners) > 0 {
		all.Go(func() (err error) { owners, err = s.Owners(noOwners); return err })
		all.Go(func() (err error) { aliases, err = s.Aliases(noOwners); return err })
	}
	if len(noRole) > 0 {
		all.Go(func() (err error) { roles, err = s.Roles(person, noRole); return err })
	}
	if err := all.Wait(); err != nil {
		return nil, err
	}
	at := make(map[uuid.UUID]int, len(groups))
	for i := range groups {
		at[groups[i].ID] = i
	}
	keep := !inTx(s.db)
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, id := range noOwners {
		a, g := &out[at[id]], &groups[at[id]]
		a.Owners, a.Aliases = owners[id], aliases[id]
		if keep {
			m.owned.Add(id, ownedBy{kept[owned]{owned{a.Owners, a.Aliases}, people, now.Add(keptFor)}, g.Version, g.Revision})
		}
	}
	for _, id := range noRole {
		a, g := &out[at[id]], &groups[at[id]]
		a.Role = roles[id]
		if keep {
			m.roles.Add(groupPerson{id, person}, roleIn{a.Role, g.Revision})
		}
	}
	return out, nil
}
