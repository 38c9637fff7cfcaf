package store

import (
	"crypto/sha256"
	"database/sql"
	"fmt"
	"regexp"
	"sync"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"
	"gorm.io/gorm"

	"ivytable.example/ivytable/internal/core/expand"
)

// cache keeps what lists show, since to read it again costs many times what it
// costs to find out that it did not change: how long a list is, the groups on it,
// who owns them, the settings. What was read inside a transaction is never kept, and
// no permission is decided by it.
//
// A group, and who has which role in it, is kept by its version and its revision, one of
// which every change counts up. A count, a name, a setting is kept until this process commits a change
// of what it was read from; what another process commits shows within cachedFor.
type cache struct {
	mu       sync.Mutex
	at       touches // how often the tables were changed
	counts   map[string]cached[int64]
	settings map[string]cached[settingRow]
	groups   map[uuid.UUID]Group
	owned    map[uuid.UUID]ownedBy
	roles    map[groupPerson]roleIn
}

const (
	cachedFor = 5 * time.Second
	maxCounts = 2000
	maxGroups = 20_000 // of about 1 kB each
	maxRoles  = 100_000
)

// touches counts changes of the tables that something is kept of: those that lists
// are made of, people among them, and the settings.
type touches struct{ lists, people, settings int64 }

// cached is what was read at some state of its tables.
type cached[T any] struct {
	what  T
	state int64
	until time.Time
}

func (k cached[T]) holds(state int64, now time.Time) bool {
	return k.state == state && now.Before(k.until)
}

type owned struct {
	owners  []OwnerRow
	aliases []string
}

type ownedBy struct {
	cached[owned]
	version, revision int // of the group
}

type groupPerson struct{ group, person uuid.UUID }

type roleIn struct {
	role     expand.Role
	revision int // of the group
}

// written finds in a statement the tables of which something is cached.
var written = regexp.MustCompile(`\b(people)\b|\b(settings)\b|\b(?:mail_groups|memberships|words)\b`)

// touchedKey is where a transaction keeps what it touched.
const touchedKey = "ivytable:touched"

// watch lets m forget what a statement that writes makes untrue: at once, or when its
// transaction is committed.
func (m *cache) watch(db *gorm.DB) error {
	after := func(tx *gorm.DB) {
		found := written.FindStringSubmatch(tx.Statement.SQL.String())
		if found == nil {
			return
		}
		var t touches
		switch {
		case found[2] != "":
			t.settings = 1
		case found[1] != "":
			t.people, t.lists = 1, 1
		default:
			t.lists = 1
		}
		if inTx, ok := tx.Get(touchedKey); ok {
			inTx.(*touches).add(t)
		} else {
			m.forget(t)
		}
	}
	for _, err := range []error{
		db.Callback().Create().After("gorm:create").Register(touchedKey, after),
		db.Callback().Update().After("gorm:update").Register(touchedKey, after),
		db.Callback().Delete().After("gorm:delete").Register(touchedKey, after),
		db.Callback().Raw().After("gorm:raw").Register(touchedKey, after),
	} {
		if err != nil {
			return fmt.Errorf("watch what is written: %w", err)
		}
	}
	return nil
}

func (t *touches) add(u touches) {
	t.lists, t.people, t.settings = t.lists+u.lists, t.people+u.people, t.settings+u.settings
}

func (m *cache) forget(t touches) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.at.add(t)
}

func inTx(db *gorm.DB) bool {
	_, is := db.Statement.ConnPool.(*sql.Tx)
	return is
}

// load returns what is cached under key, or what read finds.
func load[T any](s *Reads, all *map[string]cached[T], state *int64, key string, read func() (T, error)) (T, error) {
	if inTx(s.db) {
		return read()
	}
	m, now := s.cache, time.Now()
	m.mu.Lock()
	k, at := (*all)[key], *state
	m.mu.Unlock()
	if k.holds(at, now) {
		return k.what, nil
	}
	v, err := read()
	if err != nil {
		return v, err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	put(all, maxCounts, key, cached[T]{v, at, now.Add(cachedFor)})
	return v, nil
}

// put keeps v; when there are max, it begins again.
func put[K comparable, V any](all *map[K]V, max int, key K, v V) {
	if *all == nil || len(*all) >= max {
		*all = map[K]V{}
	}
	(*all)[key] = v
}

// cachedCount returns how long the list is that a query describes.
func (s *Reads) cachedCount(query string, read func() (int64, error)) (int64, error) {
	key := sha256.Sum256([]byte(query)) // a query can name thousands of groups
	return load(s, &s.cache.counts, &s.cache.at.lists, string(key[:]), read)
}

func (s *Reads) cachedSetting(name string, read func() (settingRow, error)) (settingRow, error) {
	return load(s, &s.cache.settings, &s.cache.at.settings, name, read)
}

// groupsOf returns the groups that are kept in these versions, and which are not.
func (m *cache) groupsOf(wanted []place) (have map[uuid.UUID]Group, missing []uuid.UUID) {
	m.mu.Lock()
	defer m.mu.Unlock()
	have = make(map[uuid.UUID]Group, len(wanted))
	for _, v := range wanted {
		if g, ok := m.groups[v.ID]; ok && g.Version == v.Version && g.Revision == v.Revision {
			have[v.ID] = g
		} else {
			missing = append(missing, v.ID)
		}
	}
	return have, missing
}

func (m *cache) cacheGroup(g Group) {
	m.mu.Lock()
	defer m.mu.Unlock()
	put(&m.groups, maxGroups, g.ID, g)
}

// GroupExtras is what a list shows of a group beside its own fields.
type GroupExtras struct {
	Owners  []OwnerRow
	Aliases []string
	Role    expand.Role // of the person who asks; 0 for none
	People  int         // whom it reaches
	Shown   int         // the same without what is nested in it and can't be found in the workspace
}

// GroupExtras returns who owns groups, their aliases, and which role a person has in
// them, by group.
func (s *Reads) GroupExtras(person uuid.UUID, groups []Group) (map[uuid.UUID]GroupExtras, error) {
	m, now := s.cache, time.Now()
	out := make(map[uuid.UUID]GroupExtras, len(groups))
	var noOwners, noRole []uuid.UUID
	m.mu.Lock()
	people := m.at.people
	for _, g := range groups {
		o, known := m.owned[g.ID]
		if !known || o.version != g.Version || o.revision != g.Revision || !o.holds(people, now) {
			noOwners = append(noOwners, g.ID)
		}
		r, known := m.roles[groupPerson{g.ID, person}]
		if !known || r.revision != g.Revision {
			noRole = append(noRole, g.ID)
		}
		out[g.ID] = GroupExtras{Owners: o.what.owners, Aliases: o.what.aliases, Role: r.role}
	}
	m.mu.Unlock()
	var owners map[uuid.UUID][]OwnerRow
	var aliases map[uuid.UUID][]string
	var roles map[uuid.UUID]expand.Role
	var sizes []groupSize
	var all errgroup.Group
	all.Go(func() (err error) { sizes, err = s.sizes(groups); return err })
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
	byID := make(map[uuid.UUID]*Group, len(groups))
	for i := range groups {
		byID[groups[i].ID] = &groups[i]
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, z := range sizes {
		a := out[z.GroupID]
		a.People, a.Shown = z.People, z.Shown
		out[z.GroupID] = a
	}
	for _, id := range noOwners {
		a := out[id]
		a.Owners, a.Aliases = owners[id], aliases[id]
		out[id] = a
		put(&m.owned, maxGroups, id, ownedBy{cached[owned]{owned{a.Owners, a.Aliases}, people, now.Add(cachedFor)}, byID[id].Version, byID[id].Revision})
	}
	for _, id := range noRole {
		a := out[id]
		a.Role = roles[id]
		out[id] = a
		put(&m.roles, maxRoles, groupPerson{id, person}, roleIn{a.Role, byID[id].Revision})
	}
	return out, nil
}
