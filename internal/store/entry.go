package store

import (
	"database/sql"
	"errors"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
)

// Where a request or an invitation stands.
const (
	Undecided  = "open"
	Approved   = "approved" // of a request; Accepted, of an invitation; Declined, of both
	Withdrawn  = "withdrawn"
	CalledBack = "called back"
)

// Kinds of requests.
const (
	ToJoin  = "join"
	ToLeave = "leave"
)

// Request is somebody's wish to join or to leave a group.
type Request struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	GroupID   uuid.UUID
	PersonID  uuid.UUID
	Kind      string
	Note      string
	State     string
	MadeAt    time.Time
	DecidedBy string
	DecidedAt *time.Time
	Reason    string
}

// AddRequest records a request; ErrDuplicate says that one of this person is open.
func (s *Tx) AddRequest(r Request) error {
	return wrap("record a request", s.db.Create(&r).Error)
}

// LockRequest returns a request and keeps others from deciding it.
func (s *Tx) LockRequest(id uuid.UUID) (r Request, err error) {
	if err := s.order(rankEntries); err != nil {
		return r, err
	}
	err = s.forUpdate().Take(&r, "id = ?", id).Error
	return r, wrap("read a request", err)
}

// Request returns a request.
func (s *Reads) Request(id uuid.UUID) (r Request, err error) {
	err = s.db.Take(&r, "id = ?", id).Error
	return r, wrap("read a request", err)
}

// SaveRequest writes what became of a request.
func (s *Tx) SaveRequest(r Request) error {
	return wrap("save a request", s.db.Save(&r).Error)
}

// DeclineRequest declines the open request of somebody in a group, and reports whether there was
// one.
func (s *Tx) DeclineRequest(group, person uuid.UUID, kind, by string, now time.Time) (bool, error) {
	r := s.db.Exec("UPDATE requests SET state = ?, decided_by = ?, decided_at = ? WHERE group_id = ? AND open_once = ? AND kind = ?", Declined, by, now, group, person, kind)
	return r.RowsAffected > 0, wrap("decline a request", r.Error)
}

// EndRequests closes the open requests of people in a group, who came in or went
// another way.
func (s *Tx) EndRequests(group uuid.UUID, people []uuid.UUID, kind string, now time.Time) error {
	return inBatches(people, func(ids []uuid.UUID) error {
		return wrap("close requests", s.db.Exec("UPDATE requests SET state = ?, decided_at = ? WHERE group_id = ? AND open_once IN ? AND kind = ?", Withdrawn, now, group, ids, kind).Error)
	})
}

// RequestQuery says which requests to list.
type RequestQuery struct {
	Group  uuid.UUID // with a value: of this group
	Runner uuid.UUID // with a value: of the groups that this person helps to run, ...
	Areas  Areas     // ... and of these
	Person uuid.UUID // with a value: made by this person, in every state
	After  Cursor
	Limit  int
}

// Requests returns a page of requests, oldest first: the open ones, or all of one person.
func (s *Reads) Requests(q RequestQuery) (Page[Request], error) {
	db := s.db.Model(&Request{})
	if q.Person == uuid.Nil {
		db = db.Where("state = ?", Undecided)
	} else {
		db = db.Where("person_id = ?", q.Person)
	}
	if q.Group != uuid.Nil {
		db = db.Where("group_id = ?", q.Group)
	}
	if q.Runner != uuid.Nil {
		c, err := q.Areas.or(condition{"group_id IN (SELECT group_id FROM memberships WHERE member_id = ? AND role >= ?)", []any{q.Runner, expand.Moderator}}, "group_id")
		if err != nil {
			return Page[Request]{}, err
		}
		db = db.Where(c.sql, c.args...)
	}
	return page(s, db, q.After, q.Limit, sortKey[Request]{column: "made_at", desc: q.Person != uuid.Nil,
		value: func(r Request) (string, uuid.UUID) { return r.MadeAt.Format(dbTime), r.ID }})
}

// Invitation is an offer to enter a group. Only the hash of its secret is kept.
type Invitation struct {
	ID         uuid.UUID `gorm:"primaryKey"`
	Hash       []byte
	GroupID    uuid.UUID
	Address    string
	AddrKey    string
	Role       expand.Role
	State      string
	MadeBy     string
	MadeAt     time.Time
	ExpiresAt  time.Time
	AnsweredAt *time.Time
	VoucherID  *uuid.UUID // of somebody external: who vouches for them, ...
	Reason     string     // ... why they are invited, ...
	EndsAt     *time.Time // ... and until when they are to be in it; nil: for good
}

// AddInvitations records invitations; ErrDuplicate says that one to the same
// address is open.
func (s *Tx) AddInvitations(rows []Invitation) error {
	if len(rows) == 0 {
		return nil
	}
	return wrap("record invitations", s.db.CreateInBatches(rows, 2000).Error)
}

// CallBackInvitations ends the open invitations of addresses to a group.
func (s *Tx) CallBackInvitations(group uuid.UUID, keys []string, now time.Time) error {
	return inBatches(keys, func(keys []string) error {
		return wrap("call back invitations", s.db.Exec("UPDATE invitations SET state = ?, answered_at = ? WHERE group_id = ? AND open_once IN ?", CalledBack, now, group, keys).Error)
	})
}

// CallBackInvitationsOf ends the open invitations of one address to groups.
func (s *Tx) CallBackInvitationsOf(key string, groups []uuid.UUID, now time.Time) error {
	return wrap("call back invitations", s.db.Exec("UPDATE invitations SET state = ?, answered_at = ? WHERE open_once = ? AND group_id IN ?", CalledBack, now, key, groups).Error)
}

// InvitationByHash returns an invitation by its secret's hash.
func (s *Reads) InvitationByHash(hash []byte) (i Invitation, err error) {
	err = s.db.Take(&i, "hash = ?", hash).Error
	return i, wrap("read an invitation", err)
}

// LockInvitation returns an invitation and keeps others from answering it.
func (s *Tx) LockInvitation(id uuid.UUID) (i Invitation, err error) {
	if err := s.order(rankEntries); err != nil {
		return i, err
	}
	err = s.forUpdate().Take(&i, "id = ?", id).Error
	return i, wrap("read an invitation", err)
}

// LockOpenInvitation returns the open invitation of an address to a group.
func (s *Tx) LockOpenInvitation(group uuid.UUID, key string) (i Invitation, err error) {
	if err := s.order(rankEntries); err != nil {
		return i, err
	}
	err = s.forUpdate().Take(&i, "group_id = ? AND open_once = ?", group, key).Error
	return i, wrap("read an invitation", err)
}

// LockOpenInvitations locks all open invitations to a group.
func (s *Tx) LockOpenInvitations(group uuid.UUID) (all []Invitation, err error) {
	if err := s.order(rankEntries); err != nil {
		return nil, err
	}
	err = s.forUpdate().Find(&all, "group_id = ? AND open_once IS NOT NULL", group).Error
	return all, wrap("read invitations", err)
}

// SaveInvitation writes what became of an invitation.
func (s *Tx) SaveInvitation(i Invitation) error {
	return wrap("save an invitation", s.db.Save(&i).Error)
}

// Invitations returns a page of a group's open invitations, newest first.
func (s *Reads) Invitations(group uuid.UUID, after Cursor, limit int) (Page[Invitation], error) {
	db := s.db.Model(&Invitation{}).Where("group_id = ? AND state = ?", group, Undecided)
	return page(s, db, after, limit, sortKey[Invitation]{column: "made_at", desc: true, value: func(i Invitation) (string, uuid.UUID) { return i.MadeAt.Format(dbTime), i.ID }})
}

// JoinLink lets whoever has it enter a group. Only the hash of its secret is kept.
type JoinLink struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	Hash      []byte
	GroupID   uuid.UUID
	Note      string
	Uses      int
	MaxUses   int // 0: no bound
	MadeBy    string
	MadeAt    time.Time
	ExpiresAt time.Time
	EndedAt   *time.Time // called back
}

// AddJoinLink records a link.
func (s *Tx) AddJoinLink(l JoinLink) error {
	return wrap("record a link", s.db.Create(&l).Error)
}

// JoinLinks returns a page of the links of a group that can be used at now, newest first.
func (s *Reads) JoinLinks(group uuid.UUID, now time.Time, after Cursor, limit int) (Page[JoinLink], error) {
	db := s.db.Model(&JoinLink{}).Where("group_id = ? AND ended_at IS NULL AND expires_at > ? AND (max_uses = 0 OR uses < max_uses)", group, now)
	return page(s, db, after, limit, sortKey[JoinLink]{column: "made_at", desc: true, value: func(l JoinLink) (string, uuid.UUID) { return l.MadeAt.Format(dbTime), l.ID }})
}

// JoinLinkByHash returns a link by its secret's hash.
func (s *Reads) JoinLinkByHash(hash []byte) (l JoinLink, err error) {
	err = s.db.Take(&l, "hash = ?", hash).Error
	return l, wrap("read a link", err)
}

// LockJoinLink returns a link of a group and keeps others from using it.
func (s *Tx) LockJoinLink(group, id uuid.UUID) (l JoinLink, err error) {
	if err := s.order(rankEntries); err != nil {
		return l, err
	}
	err = s.forUpdate().Take(&l, "id = ? AND group_id = ?", id, group).Error
	return l, wrap("read a link", err)
}

// SaveJoinLink writes the use, or the end, of a link.
func (s *Tx) SaveJoinLink(l JoinLink) error {
	return wrap("save a link", s.db.Save(&l).Error)
}

// Override is what is settled about one address in one group.
type Override struct {
	GroupID uuid.UUID `gorm:"primaryKey"`
	AddrKey string    `gorm:"primaryKey"`
	Kind    policy.Override
	Reason  string
	SetBy   string
	SetAt   time.Time
	Version int
}

// SetOverride settles something about an address; NoOverride takes it back.
func (s *Tx) SetOverride(row Override) error {
	if row.Kind == policy.NoOverride {
		return wrap("lift an override", s.db.Delete(&row).Error)
	}
	return wrap("write an override", s.db.Save(&row).Error)
}

// Override returns what is settled in a group about an address, or about all of a domain, by itself; the zero value
// for nothing.
func (s *Reads) Override(group uuid.UUID, key string) (row Override, err error) {
	err = s.db.Take(&row, "group_id = ? AND addr_key = ?", group, key).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return Override{}, nil
	}
	return row, wrap("read an override", err)
}

// EverybodyAt is the key under which something is settled about all addresses of a domain.
func EverybodyAt(domain string) string { return "*@" + domain }

// broader returns the key of all addresses of the domain of an address.
func broader(key string) string {
	return EverybodyAt(domainOf(key))
}

func domainOf(key string) string {
	_, domain, _ := strings.Cut(key, "@")
	return domain
}

// Holds returns what is settled in a group about an address: by itself, else by its domain.
func (s *Reads) Holds(group uuid.UUID, key string) (policy.Override, error) {
	all, err := s.OverridesOf(group, []string{key})
	return all[key], err
}

// Standing is where the author of a message stands with a group.
type Standing struct {
	Person   Person // what a decision asks of them: who they are, and whether they are here
	Role     expand.Role
	AddedAt  time.Time // to the group; the zero time where they are not in it by themselves
	Override policy.Override
}

// standingColumns and standingJoins are a Standing, beside a group g, by an address (given four times, with KindFormer after the second)
// that somebody has or had, or nobody here.
const (
	standingColumns = "p.id, p.address, p.addr_key, p.name, p.active, p.external, p.workspace_role, m.role, m.added_at, oa.kind, od.kind"
	standingJoins   = ` LEFT JOIN people p ON p.id = COALESCE((SELECT id FROM people WHERE addr_key = ?), (SELECT ref FROM addresses WHERE addr_key = ? AND kind = ?))
		LEFT JOIN memberships m ON m.group_id = g.id AND m.member_id = p.id
		LEFT JOIN overrides oa ON oa.group_id = g.id AND oa.addr_key = COALESCE(p.addr_key, ?)
		LEFT JOIN overrides od ON od.group_id = g.id AND od.addr_key = CONCAT('*@', SUBSTRING_INDEX(COALESCE(p.addr_key, ?), '@', -1))`
)

// standingJoinsOf are standingJoins where the address is asked.author.
var standingJoinsOf = regexp.MustCompile(`(addr_key(?: =|,) )\?`).ReplaceAllString(standingJoins, "${1}asked.author")

type standingRow struct {
	id                                uuid.NullUUID
	address, key, name, workspaceRole sql.NullString
	active, external                  sql.NullBool
	role, own, domain                 sql.NullInt16
	added                             sql.NullTime
}

func (r *standingRow) into() []any {
	return []any{&r.id, &r.address, &r.key, &r.name, &r.active, &r.external, &r.workspaceRole, &r.role, &r.added, &r.own, &r.domain}
}

func (r *standingRow) standing() Standing {
	out := Standing{Person: Person{ID: r.id.UUID, Address: r.address.String, AddrKey: r.key.String, Name: r.name.String, Active: r.active.Bool, External: r.external.Bool, WorkspaceRole: r.workspaceRole.String},
		Role: expand.Role(r.role.Int16), AddedAt: r.added.Time, Override: policy.Override(r.domain.Int16)}
	if r.own.Valid {
		out.Override = policy.Override(r.own.Int16)
	}
	return out
}

// Asked is all that the decision about a message asks of the records, but for what its author is in through other
// groups. The mail domains are as they were within the last five seconds.
type Asked struct {
	Group   Group
	Author  Standing
	Domains []string
}

// AskedOf reads what is asked about mail to an address by who has, or had, another one ("" where that is not known yet), in one
// statement; what is kept of the group is used where it is still so. ErrNotFound is for an address of no group.
func (s *Reads) AskedOf(address, author string) (Asked, error) {
	return s.asked(askedByAddress, author, address, KindGroup, KindAlias)
}

// AskedLately is AskedOf by nobody who is known, as it was within the last five seconds; what this process changed shows at once.
func (s *Reads) AskedLately(address string) (Asked, error) {
	m, now := s.memory, time.Now()
	m.mu.Lock()
	k, ok := m.asked.Get(address)
	at := m.at.groups + m.at.settings
	m.mu.Unlock()
	if ok && k.holds(at, now) && !inTx(s.db) {
		return k.what, nil
	}
	a, err := s.AskedOf(address, "")
	if err == nil && !inTx(s.db) {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.asked.Add(address, kept[Asked]{a, at, now.Add(keptFor)})
	}
	return a, err
}

// Question is what the decision about a message asks of the records, where its group is known already.
type Question struct {
	Group  uuid.UUID
	Author string // the key of their address
}

// AskedTogether is AskedOf for several messages at once, in one statement. Where a group has gone, the identifier in its answer is nil.
func (s *Reads) AskedTogether(all []Question) ([]Asked, error) {
	out := make([]Asked, len(all))
	if len(all) == 1 {
		var err error
		if out[0], err = s.asked(askedByGroup, all[0].Author, all[0].Group.String()); errors.Is(err, ErrNotFound) {
			err = nil
		}
		return out, err
	}
	domains, err := s.keptDomains()
	if err != nil {
		return nil, err
	}
	var args []any
	for i, q := range all {
		args = append(args, i, q.Group, q.Author)
	}
	query := "SELECT asked.n, g.version, g.revision, " + standingColumns + " FROM (SELECT ? AS n, CAST(? AS uuid) AS id, CAST(? AS CHAR(320)) COLLATE utf8mb4_nopad_bin AS author" + strings.Repeat(" UNION ALL SELECT ?, ?, ?", len(all)-1) +
		") asked JOIN mail_groups g ON g.id = asked.id" + standingJoinsOf
	err = eachRow(s.db.Raw(query, append(args, KindFormer)...), func(scan func(...any) error) error {
		var r standingRow
		var n int
		var at GroupVersion
		if err := scan(append([]any{&n, &at.Version, &at.Revision}, r.into()...)...); err != nil {
			return err
		}
		at.ID = all[n].Group
		out[n] = Asked{Author: r.standing(), Domains: domains}
		have, _ := s.memory.groupsOf([]place{{GroupVersion: at}})
		out[n].Group = have[at.ID]
		return nil
	})
	if err != nil {
		return nil, wrap("read what decisions ask", err)
	}
	for i, q := range all {
		if out[i].Domains != nil && out[i].Group.ID == uuid.Nil { // it is there, and not as it was kept
			if out[i].Group, err = s.keptGroup(q.Group); err != nil && !errors.Is(err, ErrNotFound) {
				return nil, err
			}
		}
	}
	return out, nil
}

// keptGroup reads a group, and keeps it.
func (s *Reads) keptGroup(id uuid.UUID) (Group, error) {
	g, err := s.Group(id)
	if err == nil && !inTx(s.db) {
		s.memory.keepGroup(g)
	}
	return g, err
}

const (
	askColumns     = "SELECT g.id, g.version, g.revision, " + standingColumns + " FROM mail_groups g" + standingJoins
	askedByAddress = askColumns + " WHERE g.id = (SELECT ref FROM addresses WHERE addr_key = ? AND kind IN (?, ?))"
	askedByGroup   = askColumns + " WHERE g.id = ?"
)

func (s *Reads) asked(query, author string, of ...any) (out Asked, err error) {
	var r standingRow
	var at GroupVersion
	err = s.preparedRow(query, append([]any{author, author, KindFormer, author, author}, of...), append([]any{&at.ID, &at.Version, &at.Revision}, r.into()...))
	if err != nil {
		return out, wrap("read what a decision asks", err)
	}
	out.Author = r.standing()
	if out.Domains, err = s.keptDomains(); err != nil {
		return out, err
	}
	if have, _ := s.memory.groupsOf([]place{{GroupVersion: at}}); len(have) > 0 {
		out.Group = have[at.ID]
		return out, nil
	}
	out.Group, err = s.keptGroup(at.ID)
	return out, err
}

// OverridesOf returns what is settled in a group about addresses, by key: about each by
// itself, else by its domain.
func (s *Reads) OverridesOf(group uuid.UUID, keys []string) (map[string]policy.Override, error) {
	wanted := map[string]bool{}
	for _, k := range keys {
		wanted[k], wanted[broader(k)] = true, true
	}
	db := s.db.Select("addr_key", "kind").Where("group_id = ?", group)
	if len(wanted) <= 500 { // of many addresses it is cheaper to read all that is settled in the group
		db = db.Where("addr_key IN ?", slices.Sorted(maps.Keys(wanted)))
	}
	var rows []Override
	err := db.Find(&rows).Error
	settled := make(map[string]policy.Override, len(rows))
	for _, r := range rows {
		settled[r.AddrKey] = r.Kind
	}
	out := map[string]policy.Override{}
	for _, k := range keys {
		if o, ok := settled[k]; ok {
			out[k] = o
		} else if o, ok := settled[broader(k)]; ok {
			out[k] = o
		}
	}
	return out, wrap("read overrides", err)
}

// OverridesAbout returns what is settled about one address in all groups, by group: by itself, else by its domain.
func (s *Reads) OverridesAbout(key string) (map[uuid.UUID]policy.Override, error) {
	var rows []Override
	err := s.db.Select("group_id", "addr_key", "kind").Where("addr_key IN ?", []string{key, broader(key)}).Find(&rows).Error
	out := map[uuid.UUID]policy.Override{}
	for _, r := range rows {
		if _, found := out[r.GroupID]; !found || r.AddrKey == key {
			out[r.GroupID] = r.Kind
		}
	}
	return out, wrap("read overrides", err)
}

// ExternalAt returns the external members of a group whose addresses are of a domain.
func (s *Reads) ExternalAt(group uuid.UUID, domain string) (ids []uuid.UUID, err error) {
	err = s.db.Raw("SELECT p.id FROM memberships m JOIN people p ON p.id = m.member_id AND p.external WHERE m.group_id = ? AND SUBSTRING_INDEX(p.addr_key, '@', -1) = ? ORDER BY p.id", group, domain).Scan(&ids).Error
	return ids, wrap("read external members", err)
}

// Overrides returns a page of what is settled in a group, by address.
func (s *Reads) Overrides(group uuid.UUID, after Cursor, limit int) (Page[Override], error) {
	p := Page[Override]{Total: after.Total}
	db := s.db.Model(&Override{}).Where("group_id = ?", group)
	if after.Empty() {
		if err := db.Session(&gorm.Session{}).Count(&p.Total).Error; err != nil {
			return p, wrap("count overrides", err)
		}
	}
	err := db.Session(&gorm.Session{}).Where("addr_key > ?", after.Value).Order("addr_key").Limit(limit + 1).Find(&p.Items).Error
	if len(p.Items) > limit {
		p.Items = p.Items[:limit]
		p.Next = after.next(p.Items[limit-1].AddrKey, uuid.Nil, p.Total)
	}
	return p, wrap("read overrides", err)
}

// StartingPoint is a named set of answers to begin a group from.
type StartingPoint struct {
	Name     string `gorm:"primaryKey"`
	Title    string
	About    string
	Settings string // of its policy, NAME=VALUE words; what is left out is as in a new group
	Traits   string // comma separated
	Delivery string // each, none, or "" for what the workspace has
	Welcome  string
	Mail     MailTexts
	MadeBy   string
	MadeAt   time.Time
	Version  int
}

// StartingPoints returns those that administrators made, by title; at most 100 are kept.
func (s *Reads) StartingPoints() (out []StartingPoint, err error) {
	err = s.db.Order("title").Limit(100).Find(&out).Error
	return out, wrap("read the starting points", err)
}

// LockStartingPoint returns one that an administrator made, ErrNotFound without it.
func (s *Tx) LockStartingPoint(name string) (p StartingPoint, err error) {
	if err := s.order(rankEntries); err != nil {
		return p, err
	}
	err = s.forUpdate().Take(&p, "name = ?", name).Error
	return p, wrap("read a starting point", err)
}

// SaveStartingPoint writes one, new or not.
func (s *Tx) SaveStartingPoint(p StartingPoint) error {
	return wrap("save a starting point", s.db.Save(&p).Error)
}

// DeleteStartingPoint removes one; ErrNotFound says that there was none.
func (s *Tx) DeleteStartingPoint(name string) error {
	r := s.db.Delete(&StartingPoint{Name: name})
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return wrap("delete a starting point", r.Error)
}

// EndRequestsOf closes the open requests of one person in groups.
func (s *Tx) EndRequestsOf(person uuid.UUID, groups []uuid.UUID, kind string, now time.Time) error {
	if len(groups) == 0 {
		return nil
	}
	return wrap("close requests", s.db.Exec("UPDATE requests SET state = ?, decided_at = ? WHERE open_once = ? AND group_id IN ? AND kind = ?", Withdrawn, now, person, groups, kind).Error)
}
