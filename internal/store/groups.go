package store

import (
	"context"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/schema"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/core/texts"
)

// Forever stands in ExpiresAt for a group without an end, so that groups sort by
// their end.
var Forever = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)

// Group is a mail group.
type Group struct {
	ID          uuid.UUID `gorm:"primaryKey"`
	Name        string
	Address     string
	AddrKey     string
	Description string
	Language    string
	Traits      string    // comma separated
	DefaultMail bool      // whether new members get each message
	Welcome     string    // said to new members
	Mail        MailTexts // what it adds to mail, and says to those who write
	ByRule      bool      // it has a rule of membership

	Policy                              policy.Policy `gorm:"serializer:policy"`
	Owners, Moderators, Members, Nested int
	ExternalMembers                     int
	Departed                            int // people in it who have left the organisation: counted in no role
	RenewedAt, ExpiresAt                time.Time
	EndedAt                             *time.Time
	Retired                             bool
	Exempt, ExemptBy                    string     // why no term rule is for it, and who said so
	ExemptUntil                         *time.Time // when to look at that again; nil: never
	Kept, KeptBy                        string     // why it is under hold, and who put it there
	KeptAt                              *time.Time
	TermRule                            string    // the name of the rule that holds for it
	DueAt                               time.Time // when its first notice is due
	Promises                            string    // lifecycle.Promises
	EndedServed                         int       // of how many days of service it was the last
	Version                             int       // counts what people edit: name, address, policy, texts
	Revision                            int       // counts every other change: of its people, of its term
	CreatedAt                           time.Time
	StartingPoint                       string // the name of what it was begun from, "" for none
	NameKey, DescriptionKey, TermKey    string // name, description and term rule as filters compare them
	Findable                            bool   // colleagues can find it, as its policy says

	People int `gorm:"-"` // whom it reaches; known of groups that were listed, or by Size
	Shown  int `gorm:"-"` // the same without what is nested in it and can't be found in the workspace
}

// MailTexts are the texts of a group as they are stored: JSON.
type MailTexts struct{ texts.Texts }

// Scan reads texts from a row. Most groups have none.
func (t *MailTexts) Scan(value any) error {
	var b []byte
	switch v := value.(type) {
	case []byte:
		b = v
	case string:
		b = []byte(v)
	}
	t.Texts = texts.Texts{}
	if len(b) <= len("{}") {
		return nil
	}
	return json.Unmarshal(b, &t.Texts)
}

// Value is what is stored.
func (t MailTexts) Value() (driver.Value, error) {
	b, err := json.Marshal(t.Texts)
	return string(b), err
}

// TableName is the table of groups; "groups" is a reserved word in SQL.
func (Group) TableName() string { return "mail_groups" }

// policyText lets gorm keep a policy as core/policy writes it.
type policyText struct{}

func init() { schema.RegisterSerializer("policy", policyText{}) }

// Scan reads a policy from a row.
func (policyText) Scan(ctx context.Context, field *schema.Field, dst reflect.Value, value any) error {
	var text string
	switch v := value.(type) {
	case []byte:
		text = string(v)
	case string:
		text = v
	}
	p, err := decodePolicy(text)
	if err != nil {
		return err
	}
	return field.Set(ctx, dst, p)
}

// Value writes a policy into a row.
func (policyText) Value(_ context.Context, _ *schema.Field, _ reflect.Value, value any) (any, error) {
	return value.(policy.Policy).Encode(), nil
}

// policies are those that were read before: of many groups there are few.
var policies sync.Map

func decodePolicy(text string) (policy.Policy, error) {
	if p, ok := policies.Load(text); ok {
		return p.(policy.Policy), nil
	}
	p, err := policy.Decode(text)
	if err == nil {
		policies.Store(text, p)
	}
	return p, err
}

// groupSetting is one setting of a group's policy, by which groups are found. What
// holds is the policy in the group's own row.
type groupSetting struct {
	GroupID uuid.UUID `gorm:"primaryKey"`
	Setting string    `gorm:"primaryKey"`
	Value   policy.Value
}

// indexSettings makes groups findable by the settings that came into the table of settings
// since they were written: in their policies those are what they normally are.
func (p *Pool) indexSettings(ctx context.Context) error {
	var known []string
	if err := p.db.WithContext(ctx).Raw("SELECT DISTINCT setting FROM group_settings").Scan(&known).Error; err != nil {
		return wrap("read the settings of groups", err)
	}
	for s := range policy.Settings {
		if slices.Contains(known, s.String()) {
			continue
		}
		if err := p.db.WithContext(ctx).Exec("INSERT IGNORE INTO group_settings (group_id, setting, value) SELECT id, ?, ? FROM mail_groups", s.String(), policy.Default()[s]).Error; err != nil {
			return wrap("index a setting of groups", err)
		}
	}
	return nil
}

func settingsOf(groups ...*Group) []groupSetting {
	rows := make([]groupSetting, 0, len(groups)*int(policy.Settings))
	for _, g := range groups {
		for s := range policy.Settings {
			rows = append(rows, groupSetting{g.ID, s.String(), g.Policy[s]})
		}
	}
	return rows
}

// Life returns the group's life.
func (g *Group) Life() lifecycle.Life {
	l := lifecycle.Life{Renewed: g.RenewedAt, Rule: g.TermRule, Promises: lifecycle.Promises(g.Promises), Retired: g.Retired, Exempt: g.Exempt != ""}
	if g.ExpiresAt.Before(Forever) {
		l.Expires, l.Due = g.ExpiresAt, g.DueAt
	}
	if g.EndedAt != nil {
		l.Ended = *g.EndedAt
	}
	return l
}

// SetLife sets the life of a group, but for what people say of it: who made it exempt, who holds it.
func (g *Group) SetLife(l lifecycle.Life) {
	g.RenewedAt, g.TermRule, g.Promises, g.ExpiresAt, g.DueAt = l.Renewed, l.Rule, string(l.Promises), orForever(l.Expires), orForever(l.Due)
	g.Retired, g.EndedAt = l.Retired, nil
	if !l.Ended.IsZero() {
		g.EndedAt = &l.Ended
	}
}

func orForever(t time.Time) time.Time {
	if t.IsZero() {
		return Forever
	}
	return t
}

// AddGroup inserts a group, takes its address and makes it searchable. It returns
// ErrDuplicate where the address, or one too alike, is taken.
func (s *Tx) AddGroup(g *Group) error { return s.AddGroups([]*Group{g}) }

// AddGroups is AddGroup for many.
func (s *Tx) AddGroups(groups []*Group) error {
	var addresses []address
	var words []word
	for _, g := range groups {
		a, err := mailaddr.Parse(g.Address)
		if err != nil {
			return err
		}
		addresses = append(addresses, addressRow(a, KindGroup, g.ID))
		for _, w := range Words(groupTexts(g.Name, g.Address)...) {
			words = append(words, word{KindGroup, w, g.ID})
		}
	}
	if err := s.takeAddresses(addresses); err != nil {
		return err
	}
	ids := make([]uuid.UUID, len(groups))
	for i, g := range groups {
		g.fold()
		ids[i] = g.ID
	}
	if err := s.writing(ofGroups).CreateInBatches(groups, 500).Error; err != nil {
		return wrap("add the group", err)
	}
	if err := s.addSizes(ids); err != nil {
		return err
	}
	if err := s.db.CreateInBatches(settingsOf(groups...), batch).Error; err != nil {
		return wrap("add the group's settings", err)
	}
	return wrap("write search words", s.writing(ofGroups).CreateInBatches(words, batch).Error)
}

// SetAddresses gives a group that is locked its address and its aliases, from at on where it did not have them, and makes
// it searchable by them. It returns ErrDuplicate where one of them, or one too
// alike, is somebody else's.
func (s *Tx) SetAddresses(g *Group, aliases []string, at time.Time) error {
	var had []address
	if err := s.db.Select("addr_key", "added_at", "used_at").Find(&had, "ref = ? AND kind IN (?, ?)", g.ID, KindGroup, KindAlias).Error; err != nil {
		return wrap("read addresses", err)
	}
	if err := s.db.Where("ref = ? AND kind IN (?, ?)", g.ID, KindGroup, KindAlias).Delete(&address{}).Error; err != nil {
		return wrap("replace addresses", err)
	}
	alike := map[string]bool{} // of two addresses of one group that are alike, one stands for both
	var rows []address
	for i, x := range append([]string{g.Address}, aliases...) {
		a, err := mailaddr.Parse(x)
		if err != nil {
			return err
		}
		kind := KindAlias
		if i == 0 {
			kind = KindGroup
		}
		row := addressRow(a, kind, g.ID)
		row.AddedAt = at
		if i := slices.IndexFunc(had, func(x address) bool { return x.AddrKey == row.AddrKey }); i >= 0 {
			row.AddedAt, row.UsedAt = had[i].AddedAt, had[i].UsedAt
		}
		if alike[row.Alike] {
			row.GroupAlike = nil
		}
		alike[row.Alike] = true
		rows = append(rows, row)
	}
	if err := s.takeAddresses(rows); err != nil {
		return err
	}
	return s.setWords(KindGroup, g.ID, groupTexts(g.Name, append([]string{g.Address}, aliases...)...)...)
}

// SaveGroup writes a group that was locked in this transaction, given as it was too.
// What people edit counts its version up, all else its revision; a version that was counted
// up already says that what people edit changed elsewhere, such as its aliases, which
// SetAddresses writes.
func (s *Tx) SaveGroup(g *Group, was Group) error {
	edited := g.Version != was.Version || g.edited() != was.edited()
	if edited {
		g.Version = was.Version + 1
	}
	if !edited || g.rest() != was.rest() {
		g.Revision = was.Revision + 1
	}
	g.fold()
	was.fold()
	if err := s.writing(ofGroups).Save(g).Error; err != nil {
		return wrap("save the group", err)
	}
	s.hid = s.hid || was.Findable && !g.Findable
	if (g.EndedAt == nil) != (was.EndedAt == nil) || g.Findable != was.Findable ||
		(g.Policy[policy.Externals] == policy.ExternalsBarred) != (was.Policy[policy.Externals] == policy.ExternalsBarred) {
		s.moves.around(g.ID)
	}
	if g.Policy != was.Policy {
		if err := s.db.Save(settingsOf(g)).Error; err != nil {
			return wrap("save the group's settings", err)
		}
	}
	if g.Name == was.Name {
		return nil
	}
	aliases, err := s.Aliases([]uuid.UUID{g.ID})
	if err != nil {
		return err
	}
	return s.setWords(KindGroup, g.ID, groupTexts(g.Name, append(aliases[g.ID], g.Address)...)...)
}

// fold brings what lists compare up to date with what people read and decide.
func (g *Group) fold() {
	g.NameKey, g.DescriptionKey, g.TermKey = rule.Fold(g.Name), rule.Fold(g.Description), rule.Fold(g.TermRule)
	g.Findable = g.Policy[policy.Find] >= policy.Workspace
	if g.ExpiresAt.IsZero() { // it is not said yet how long it lives
		g.ExpiresAt = Forever
	}
	if g.DueAt.IsZero() {
		g.DueAt = g.ExpiresAt
	}
}

// rest returns a group with nothing of its own but who is in it and how long it lives.
func (g *Group) rest() Group {
	return Group{Owners: g.Owners, Moderators: g.Moderators, Members: g.Members, ExternalMembers: g.ExternalMembers, Departed: g.Departed, Nested: g.Nested, ByRule: g.ByRule,
		RenewedAt: g.RenewedAt, ExpiresAt: g.ExpiresAt, DueAt: g.DueAt, TermRule: g.TermRule, Promises: g.Promises, EndedAt: g.EndedAt, EndedServed: g.EndedServed}
}

// edited returns a group with nothing but what people edit.
func (g *Group) edited() Group {
	return Group{Name: g.Name, Address: g.Address, Description: g.Description, Language: g.Language, Traits: g.Traits, DefaultMail: g.DefaultMail,
		Welcome: g.Welcome, Mail: g.Mail, StartingPoint: g.StartingPoint, Policy: g.Policy, Exempt: g.Exempt, ExemptUntil: g.ExemptUntil, Kept: g.Kept, Retired: g.Retired}
}

// Group returns a group by identifier.
func (s *Reads) Group(id uuid.UUID) (g Group, err error) {
	return s.oneGroup("id = ?", id)
}

func (s *Reads) oneGroup(where string, args ...any) (g Group, err error) {
	err = gorm.ErrRecordNotFound
	if failed := scanGroups(s.db.Raw("SELECT "+groupColumns+" FROM mail_groups WHERE "+where+" LIMIT 1", args...), func(found Group) { g, err = found, nil }); failed != nil {
		err = failed
	}
	return g, wrap("read a group", err)
}

// LockGroup returns a group and keeps every other transaction from changing it.
func (s *Tx) LockGroup(id uuid.UUID) (g Group, err error) {
	if err := s.orderGroups(id); err != nil {
		return g, err
	}
	err = s.forUpdate().Take(&g, "id = ?", id).Error
	return g, wrap("read a group", err)
}

// SharedGroups returns groups as they are now and keeps others from changing them. It comes after all
// locks; two that need each other's group so are run one after the other, by a retry.
func (s *Tx) SharedGroups(ids []uuid.UUID) (map[uuid.UUID]Group, error) {
	out := make(map[uuid.UUID]Group, len(ids))
	db := s.db
	if !s.looking {
		db = db.Clauses(clause.Locking{Strength: "SHARE"})
	}
	return out, inBatches(ids, func(ids []uuid.UUID) error {
		return wrap("read groups", scanGroups(db.Model(&Group{}).Select(groupColumns).Where("id IN ?", ids).Order("id"), func(g Group) { out[g.ID] = g }))
	})
}

// Above returns every live group that a person is in, by themselves or through
// nested groups that live at now. Somebody external is in a group around one of theirs only
// where it takes external members.
func (s *Reads) Above(person uuid.UUID, external bool, now time.Time) (ids []uuid.UUID, err error) {
	taken := ""
	if external {
		taken = fmt.Sprintf(" JOIN group_settings x ON x.group_id = g.id AND x.setting = '%s' AND x.value <> %d", policy.Externals, policy.ExternalsBarred)
	}
	err = s.db.Raw(`WITH RECURSIVE above (id) AS (
		SELECT m.group_id FROM memberships m JOIN mail_groups g ON g.id = m.group_id AND g.ended_at IS NULL AND g.expires_at > ? WHERE m.member_id = ?
		UNION
		SELECT m.group_id FROM above a JOIN memberships m ON m.member_id = a.id AND m.kind = ?
		JOIN mail_groups g ON g.id = m.group_id AND g.ended_at IS NULL AND g.expires_at > ?`+taken+`
	) SELECT id FROM above`, now, person, KindGroup, now).Scan(&ids).Error
	return ids, wrap("read the groups above a person", err)
}

// hiddenFound returns the groups that colleagues can't find but this person can, since they have a
// part in them, and how many hidings there were: while both are the same, so is what the person can find of
// groups that were there. What is nested in what is read when it changed.
func (s *Reads) hiddenFound(person uuid.UUID, now time.Time) (ids []uuid.UUID, hidings int64, err error) {
	var nestings int64
	roles := map[uuid.UUID]expand.Role{}
	err = eachRow(s.db.Raw("SELECT h.n, h.nestings, m.group_id, m.role FROM hidings h LEFT JOIN memberships m ON m.member_id = ?", person), func(scan func(...any) error) error {
		var id uuid.NullUUID
		var role *expand.Role
		if err := scan(&hidings, &nestings, &id, &role); err != nil || role == nil {
			return err
		}
		roles[id.UUID] = *role
		return nil
	})
	if err != nil || len(roles) == 0 {
		return nil, hidings, wrap("read the groups of a person", err)
	}
	outer, err := s.keptNesting(nestings)
	if err != nil {
		return nil, 0, err
	}
	around := map[uuid.UUID]bool{}
	for id := range roles {
		for _, a := range expand.Reach(id, outer) {
			around[a] = true
		}
	}
	type state struct {
		findable, lives bool
		find            policy.Value
	}
	groups := make(map[uuid.UUID]state, len(around))
	where := "NOT findable AND id IN ?"
	if len(around) > len(roles) { // then it matters whether what lies between lives
		where = "id IN ?"
	}
	err = eachRow(s.db.Raw("SELECT id, findable, ended_at IS NULL AND expires_at > ?, policy FROM mail_groups WHERE "+where, now, sorted(around)), func(scan func(...any) error) error {
		var id uuid.UUID
		var g state
		var text string
		if err := scan(&id, &g.findable, &g.lives, &text); err != nil {
			return err
		}
		p, err := decodePolicy(text)
		g.find = p[policy.Find]
		groups[id] = g
		return err
	})
	if err != nil {
		return nil, 0, wrap("read the hidden groups of a person", err)
	}
	inside := expand.Edges[uuid.UUID]{} // through living groups into living ones
	for in := range around {
		for _, out := range outer[in] {
			if groups[in].lives && groups[out].lives {
				inside[in] = append(inside[in], out)
			}
		}
	}
	for id := range roles {
		for _, a := range expand.Reach(id, inside)[1:] {
			roles[a] = max(roles[a], expand.Member)
		}
	}
	for _, id := range sorted(roles) {
		if g, read := groups[id]; read && !g.findable && g.find >= policy.Workspace-policy.Value(roles[id]) {
			ids = append(ids, id)
		}
	}
	return ids, hidings, nil
}

// countHiding counts a hiding of groups, and a change of what is nested in what, as the last of what a
// transaction does: others who do such a thing wait for its end.
func (s *Tx) countHiding() error {
	if !s.hid && !s.nested {
		return nil
	}
	return wrap("count a hiding", s.db.Exec("UPDATE hidings SET n = n + ?, nestings = nestings + ?", s.hid, s.nested).Error)
}

// GroupsByKeys returns the groups that these address keys lead to, by key.
func (s *Reads) GroupsByKeys(keys []string) (map[string]Group, error) {
	var at []address
	if err := s.db.Find(&at, "addr_key IN ? AND kind IN (?, ?)", keys, KindGroup, KindAlias).Error; err != nil {
		return nil, wrap("read groups", err)
	}
	ids := make([]uuid.UUID, len(at))
	for i, a := range at {
		ids[i] = a.Ref
	}
	groups, err := s.GroupsByID(ids)
	out := map[string]Group{}
	for _, a := range at {
		out[a.AddrKey] = groups[a.Ref]
	}
	return out, err
}

// GroupsByID returns groups by identifier.
func (s *Reads) GroupsByID(ids []uuid.UUID) (map[uuid.UUID]Group, error) {
	var rows []Group
	if err := s.db.Find(&rows, "id IN ?", ids).Error; err != nil {
		return nil, wrap("read groups", err)
	}
	out := map[uuid.UUID]Group{}
	for _, g := range rows {
		out[g.ID] = g
	}
	return out, nil
}

// GroupVersion is a state of a group: what people edit, and all else.
type GroupVersion struct {
	ID                uuid.UUID
	Version, Revision int
}

// GroupVersions reports whether groups are in the states that were read of them.
func (s *Reads) GroupVersions(read map[uuid.UUID]GroupVersion) (same bool, err error) {
	ids := make([]uuid.UUID, 0, len(read))
	for id := range read {
		ids = append(ids, id)
	}
	var now []GroupVersion
	err = s.db.Model(&Group{}).Select("id, version, revision").Where("id IN ?", ids).Scan(&now).Error
	if err != nil || len(now) != len(read) {
		return false, wrap("compare groups", err)
	}
	for _, v := range now {
		if read[v.ID] != v {
			return false, nil
		}
	}
	return true, nil
}
