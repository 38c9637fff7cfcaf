package store

import (
	"context"
	"time"

	"github.com/google/uuid"
)

// indexKeys writes what filters compare of groups and people that were written before it was
// kept: they have no key of their name, which nobody's is empty.
func (p *Pool) indexKeys(ctx context.Context) error {
	for {
		n := 0
		err := p.Transact(ctx, false, func(tx *Tx) error {
			var groups []Group
			if err := tx.forUpdate().Where("name_key = ''").Order("id").Limit(1000).Find(&groups).Error; err != nil {
				return wrap("index groups", err)
			}
			for i := range groups {
				g := &groups[i]
				g.fold()
				aliases, err := tx.Aliases([]uuid.UUID{g.ID})
				if err != nil {
					return err
				}
				if err := tx.setWords(KindGroup, g.ID, groupTexts(g.Name, append(aliases[g.ID], g.Address)...)...); err != nil {
					return err
				}
				if err := tx.writing(ofGroups).Model(&Group{}).Where("id = ?", g.ID).Updates(map[string]any{"name_key": g.NameKey, "description_key": g.DescriptionKey}).Error; err != nil {
					return wrap("index groups", err)
				}
			}
			var people []Person
			if err := tx.forUpdate().Where("name_key = ''").Order("id").Limit(1000).Find(&people).Error; err != nil {
				return wrap("index people", err)
			}
			n = len(groups) + len(people)
			return tx.writePeople(people, "name_key")
		})
		if err != nil || n == 0 {
			return err
		}
	}
}

// SetSignedIn notes when somebody last signed in.
func (s *Tx) SetSignedIn(person uuid.UUID, at time.Time) error {
	return wrap("note a sign-in", s.writing(ofPeople).Exec("UPDATE people SET signed_in_at = ? WHERE id = ?", at, person).Error)
}
