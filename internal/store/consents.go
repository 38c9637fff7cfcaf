package store

import (
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/policy"
)

// Consent is what those who run a group agreed to about its being in another, or what they are
// asked for. Each group that is in another has one.
type Consent struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	GroupID   uuid.UUID // the inner group, whose owners decide
	OuterID   uuid.UUID
	Scope     admission.Scope
	Post      policy.Value // who could write to the outer group when they agreed
	AskedBy   string
	AskedAt   time.Time
	Told      bool // the owners know that they are asked
	DecidedBy string
	DecidedAt *time.Time
}

// Agreed returns what was agreed, as the core decides about it.
func (c Consent) Agreed() admission.Consent {
	return admission.Consent{Scope: c.Scope, Post: c.Post}
}

// AskConsents records what is asked for of groups, where nothing was asked or agreed yet.
func (s *Tx) AskConsents(rows []Consent) error {
	if len(rows) == 0 {
		return nil
	}
	return wrap("ask for consent", s.db.Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(rows, batch).Error)
}

// SaveConsent writes what was agreed, or is asked for again, of one group in another.
func (s *Tx) SaveConsent(c Consent) error {
	s.moves.around(c.OuterID)
	return wrap("write a consent", s.writing(ofGroups).Save(&c).Error)
}

// LockConsent returns the consent of a group to being in another.
func (s *Tx) LockConsent(outer, inner uuid.UUID) (c Consent, err error) {
	if err := s.order(rankEntries); err != nil {
		return c, err
	}
	err = s.forUpdate().Take(&c, "outer_id = ? AND group_id = ?", outer, inner).Error
	return c, wrap("read a consent", err)
}

// LockConsentsOf returns what was agreed about a group in others, and about others in it.
func (s *Tx) LockConsentsOf(group uuid.UUID) (all []Consent, err error) {
	if err := s.order(rankEntries); err != nil {
		return nil, err
	}
	err = s.forUpdate().Where("scope > 0 AND (group_id = ? OR outer_id = ?)", group, group).Order("id").Find(&all).Error
	return all, wrap("read consents", err)
}

// DeleteConsents ends what was agreed or asked for about groups in another.
func (s *Tx) DeleteConsents(outer uuid.UUID, inner []uuid.UUID) error {
	return inBatches(inner, func(ids []uuid.UUID) error {
		return wrap("end consents", s.db.Exec("DELETE FROM consents WHERE outer_id = ? AND group_id IN ?", outer, ids).Error)
	})
}

// Consent returns a consent by its identifier.
func (s *Reads) Consent(id uuid.UUID) (c Consent, err error) {
	err = s.db.Take(&c, "id = ?", id).Error
	return c, wrap("read a consent", err)
}

// ConsentOf returns the consent of a group to being in another.
func (s *Reads) ConsentOf(p Pair) (c Consent, err error) {
	err = s.db.Take(&c, "outer_id = ? AND group_id = ?", p.Outer, p.Inner).Error
	return c, wrap("read a consent", err)
}

// ConsentsByID returns consents by identifier.
func (s *Reads) ConsentsByID(ids []uuid.UUID) (map[uuid.UUID]Consent, error) {
	return found(s, "id", ids, func(c Consent) uuid.UUID { return c.ID })
}

// ConsentQuery says which consents to list. The zero value stands for all.
type ConsentQuery struct {
	Outer uuid.UUID // with a value: of groups in this one
	Inner uuid.UUID // with a value: of this one in others
	Both  bool      // of the one in the other; else either will do
	Asked bool      // only what is asked for
	After Cursor
	Limit int
}

// Consents returns a page of consents, oldest first.
func (s *Reads) Consents(q ConsentQuery) (Page[Consent], error) {
	db := s.db.Model(&Consent{})
	switch {
	case q.Both:
		db = db.Where("outer_id = ? AND group_id = ?", q.Outer, q.Inner)
	case q.Outer != uuid.Nil || q.Inner != uuid.Nil:
		db = db.Where("(outer_id = ? OR group_id = ?)", q.Outer, q.Inner)
	}
	if q.Asked {
		db = db.Where("scope = 0")
	}
	return page(s, db, q.After, q.Limit, sortKey[Consent]{column: "asked_at", value: func(c Consent) (string, uuid.UUID) { return c.AskedAt.Format(dbTime), c.ID }})
}

// Pair is a group in another.
type Pair struct{ Outer, Inner uuid.UUID }

// ConsentsIn returns what was agreed about what is in groups.
func (s *Reads) ConsentsIn(outer []uuid.UUID) (map[Pair]Consent, error) {
	out := map[Pair]Consent{}
	return out, inBatches(outer, func(ids []uuid.UUID) error {
		var rows []Consent
		err := s.db.Find(&rows, "outer_id IN ? AND scope > 0", ids).Error
		for _, c := range rows {
			out[Pair{c.OuterID, c.GroupID}] = c
		}
		return wrap("read consents", err)
	})
}

// UntoldConsents returns consents that are asked for without anybody knowing, some at a time.
func (s *Tx) UntoldConsents(limit int) (all []Consent, err error) {
	if err := s.order(rankEntries); err != nil {
		return nil, err
	}
	err = s.forUpdate().Where("told = FALSE").Order("id").Limit(limit).Find(&all).Error
	return all, wrap("read consents that nobody was told of", err)
}

// ConsentsTold notes that those who are asked know of it.
func (s *Tx) ConsentsTold(ids []uuid.UUID) error {
	return inBatches(ids, func(ids []uuid.UUID) error {
		return wrap("note who was told", s.db.Exec("UPDATE consents SET told = TRUE WHERE id IN ?", ids).Error)
	})
}
