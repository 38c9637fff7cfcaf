package store

import (
	"context"
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

// memory keeps what lists show, since to read it anew costs many times what it
// costs to find out that it did not change: how long a list is, the groups on it,
// who owns them, the settings. What was read inside a transaction is never kept, and
// no permission is decided by it.
//
// A group, and who has which role in it, is kept by its version, which every change
// counts up. A count, a name, a setting is kept until this process commits a change
// of what it was read from; what another process commits shows within keptFor.
type memory struct {
	mu       sync.Mutex
	at       touches // how often the tables were changed
	counts   map[string]kept[int64]
	settings map[string]kept[settingRow]
	groups   map[uuid.UUID]Group
	owned    map[uuid.UUID]ownedBy
	roles    map[groupPerson]roleIn
}

const (
	keptFor    = 5 * time.Second
	mostCounts = 2000
	mostGroups = 20_000 // of about 1 kB each
	mostRoles  = 100_000
)

// touches counts changes of the tables that something is kept of: those that lists
// are made of, people among them, and the settings.
type touches struct{ lists, people, settings int64 }

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
	version int // of the group
}

type groupPerson struct{ group, person uuid.UUID }

type roleIn struct {
	role    expand.Role
	version int
}

// written finds in a statement the tables that something is kept of.
var written = regexp.MustCompile(`\b(people)\b|\b(settings)\b|\b(?:mail_groups|memberships|words)\b`)

// touchedKey is where a transaction keeps what it touched.
const touchedKey = "ivytable:touched"

// watch lets m forget what a statement that writes makes untrue: at once, or when its
// transaction is committed.
func (m *memory) watch(db *gorm.DB) error {
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

func (m *memory) forget(t touches) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.at.add(t)
}

func inTx(db *gorm.DB) bool {
	_, is := db.Statement.ConnPool.(*sql.Tx)
	return is
}

// recall returns what is kept under key, or what read finds.
func recall[T any](s *Store, all *map[string]kept[T], state *int64, key string, read func() (T, error)) (T, error) {
	if inTx(s.db) {
		return read()
	}
	m, now := s.memory, time.Now()
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
	put(all, mostCounts, key, kept[T]{v, at, now.Add(keptFor)})
	return v, nil
}

// put keeps v; when there are most, it begins anew.
func put[K comparable, V any](all *map[K]V, most int, key K, v V) {
	if *all == nil || len(*all) >= most {
		*all = map[K]V{}
	}
	(*all)[key] = v
}

// keptCount returns how long the list is that a query describes.
func (s *Store) keptCount(query string, read func() (int64, error)) (int64, error) {
	key := sha256.Sum256([]byte(query)) // a query can name thousands of groups
	return recall(s, &s.memory.counts, &s.memory.at.lists, string(key[:]), read)
}

func (s *Store) keptSetting(name string, read func() (settingRow, error)) (settingRow, error) {
	return recall(s, &s.memory.settings, &s.memory.at.settings, name, read)
}

type groupVersion struct {
	id      uuid.UUID
	version int
}

// groupsOf returns the groups that are kept in these versions, and which are not.
func (m *memory) groupsOf(wanted []groupVersion) (have map[uuid.UUID]Group, missing []uuid.UUID) {
	m.mu.Lock()
	defer m.mu.Unlock()
	have = make(map[uuid.UUID]Group, len(wanted))
	for _, v := range wanted {
		if g, ok := m.groups[v.id]; ok && g.Version == v.version {
			have[v.id] = g
		} else {
			missing = append(missing, v.id)
		}
	}
	return have, missing
}

func (m *memory) keepGroup(g Group) {
	m.mu.Lock()
	defer m.mu.Unlock()
	put(&m.groups, mostGroups, g.ID, g)
}

// Around is what a list shows of a group beside its own fields.
type Around struct {
	Owners  []OwnerRow
	Aliases []string
	Role    expand.Role // of the person who asks; 0 for none
}

// Around returns who owns groups, their aliases, and which role a person has in
// them, by group.
func (s *Store) Around(ctx context.Context, person uuid.UUID, groups []Group) (map[uuid.UUID]Around, error) {
	m, now := s.memory, time.Now()
	out := make(map[uuid.UUID]Around, len(groups))
	var noOwners, noRole []uuid.UUID
	m.mu.Lock()
	people := m.at.people
	for _, g := range groups {
		o, known := m.owned[g.ID]
		if !known || o.version != g.Version || !o.holds(people, now) {
			noOwners = append(noOwners, g.ID)
		}
		r, known := m.roles[groupPerson{g.ID, person}]
		if !known || r.version != g.Version {
			noRole = append(noRole, g.ID)
		}
		out[g.ID] = Around{o.what.owners, o.what.aliases, r.role}
	}
	m.mu.Unlock()
	var owners map[uuid.UUID][]OwnerRow
	var aliases map[uuid.UUID][]string
	var roles map[uuid.UUID]expand.Role
	var all errgroup.Group
	if len(noOwners) > 0 {
		all.Go(func() (err error) { owners, err = s.Owners(ctx, noOwners); return err })
		all.Go(func() (err error) { aliases, err = s.Aliases(ctx, noOwners); return err })
	}
	if len(noRole) > 0 {
		all.Go(func() (err error) { roles, err = s.Roles(ctx, person, noRole); return err })
	}
	if err := all.Wait(); err != nil {
		return nil, err
	}
	versions := make(map[uuid.UUID]int, len(groups))
	for _, g := range groups {
		versions[g.ID] = g.Version
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, id := range noOwners {
		a := out[id]
		a.Owners, a.Aliases = owners[id], aliases[id]
		out[id] = a
		put(&m.owned, mostGroups, id, ownedBy{kept[owned]{owned{a.Owners, a.Aliases}, people, now.Add(keptFor)}, versions[id]})
	}
	for _, id := range noRole {
		a := out[id]
		a.Role = roles[id]
		out[id] = a
		put(&m.roles, mostRoles, groupPerson{id, person}, roleIn{a.Role, versions[id]})
	}
	return out, nil
}
