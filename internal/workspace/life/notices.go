package life

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

const (
	readAtOnce  = 20_000         // notices: so many that those of one recipient are together
	writeAtOnce = 50             // recipients, in one transaction
	linkDays    = 45             // for which the link of a letter is good, after the end that it tells of
	again       = 20 * time.Hour // after which letters that reached nobody are written again
)

// tryAgain asks again for notices whose letters reached nobody: the next ones go to the caretakers too.
func (s *Service) tryAgain(ctx context.Context) error {
	v := s.k.View(ctx, workspace.Service)
	failed, err := v.Read.FailedNotices(v.Now().Add(-again), readAtOnce)
	if err != nil || len(failed) == 0 {
		return err
	}
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		for _, n := range failed {
			if err := c.Tx.TryNotice(n, c.Now()); err != nil {
				return err
			}
		}
		return nil
	})
}

// write writes the letters of notices that were asked for: to each recipient one for all their groups. What letter is
// written is recorded with it, so that none is written twice, whoever dies and whoever else is at it.
func (s *Service) write(ctx context.Context) error {
	for {
		v := s.k.View(ctx, workspace.Service)
		rows, err := v.Read.NoticesToWrite(readAtOnce)
		if err != nil || len(rows) == 0 {
			return err
		}
		r, err := readersOf(v, rows)
		if err != nil {
			return err
		}
		for some := range slices.Chunk(slices.Sorted(maps.Keys(r.of)), writeAtOnce) {
			for tries := 0; ; tries++ {
				err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error { return r.letters(c, some) })
				if err == nil {
					break
				} else if !errors.Is(err, store.ErrDuplicate) || tries > 5 {
					return err
				}
				if r.written, err = written(v, r.ids()); err != nil { // another instance was first with some of them
					return err
				}
			}
		}
		if err := s.k.Do(ctx, workspace.Service, r.done); err != nil {
			return err
		}
	}
}

// readers are who is written to about which notices.
type readers struct {
	t       workspace.Terms
	rows    []store.Notice
	groups  map[uuid.UUID]store.Group
	of      map[string][]store.Notice // by recipient
	to      map[letterKey][]string    // by notice
	helping map[string]bool           // managers, who are told but have no part in the group
	written map[letterKey]bool
}

// letterKey names a notice, or, with a recipient, a letter about it.
type letterKey struct {
	group     uuid.UUID
	expires   int64
	day       int
	recipient string
	tries     int
}

func keyOf(n store.Notice, recipient string) letterKey {
	return letterKey{n.GroupID, n.ExpiresAt.UnixMicro(), n.Day, recipient, n.Tries}
}

// readersOf works out who is written to about notices.
func readersOf(v *workspace.View, rows []store.Notice) (*readers, error) {
	r := &readers{rows: rows, of: map[string][]store.Notice{}, to: map[letterKey][]string{}, helping: map[string]bool{}}
	var err error
	if r.t, err = v.Terms(); err != nil {
		return nil, err
	}
	ids := r.ids()
	if r.groups, err = v.Read.GroupsByID(ids); err != nil {
		return nil, err
	}
	to, err := v.RecipientsOf(ids)
	if err != nil {
		return nil, err
	}
	cared, managers := map[uuid.UUID][]string{}, map[uuid.UUID][]string{}
	var failed, last []uuid.UUID
	for _, n := range rows {
		if n.Tries > 0 {
			failed = append(failed, n.GroupID)
		}
		if g := r.groups[n.GroupID]; r.t.Managers && n.Day != lifecycle.Lapses && n.Day == r.t.Life.Leads(r.t.Life.Rule(g.TermRule)).Last() {
			last = append(last, n.GroupID)
		}
	}
	if cared, err = v.CaretakersOf(failed); err != nil {
		return nil, err
	}
	if managers, err = managersOf(v, last); err != nil {
		return nil, err
	}
	for _, n := range rows {
		g, there := r.groups[n.GroupID]
		if !there || !current(&g, n) {
			continue
		}
		all := slices.Clone(to[g.ID])
		if n.Tries > 0 {
			all = append(all, cared[g.ID]...)
		}
		for _, m := range managers[g.ID] {
			if !slices.Contains(all, m) && n.Day == r.t.Life.Leads(r.t.Life.Rule(g.TermRule)).Last() {
				all, r.helping[m+" "+g.ID.String()] = append(all, m), true
			}
		}
		slices.Sort(all)
		all = slices.Compact(all)
		r.to[keyOf(n, "")] = all
		for _, x := range all {
			r.of[x] = append(r.of[x], n)
		}
	}
	r.written, err = written(v, ids)
	return r, err
}

// current reports whether a notice is still of the end that its group has, or had.
func current(g *store.Group, n store.Notice) bool {
	if n.Day == lifecycle.Lapses {
		return g.EndedAt != nil && g.EndedAt.Equal(n.ExpiresAt)
	}
	return g.EndedAt == nil && g.ExpiresAt.Equal(n.ExpiresAt)
}

// managersOf returns the managers of the owners of groups, as far as they are here.
func managersOf(v *workspace.View, groups []uuid.UUID) (map[uuid.UUID][]string, error) {
	out := map[uuid.UUID][]string{}
	if len(groups) == 0 {
		return out, nil
	}
	owners, err := v.Read.Owners(groups)
	if err != nil {
		return nil, err
	}
	ids := map[uuid.UUID]bool{}
	for _, all := range owners {
		for _, o := range all {
			ids[o.MemberID] = true
		}
	}
	people, err := v.Read.PeopleByID(slices.Collect(maps.Keys(ids)))
	if err != nil {
		return nil, err
	}
	keys := map[uuid.UUID]string{}
	for id, p := range people {
		var has struct {
			Manager string `json:"manager"`
		}
		if json.Unmarshal(p.Attributes, &has) == nil && has.Manager != "" {
			if a, err := mailaddr.Parse(has.Manager); err == nil {
				keys[id] = a.Key()
			}
		}
	}
	managers, err := v.Read.PeopleByKeys(slices.Collect(maps.Values(keys)))
	for group, all := range owners {
		for _, o := range all {
			if m, known := managers[keys[o.MemberID]]; known && m.Active && !m.External {
				out[group] = append(out[group], m.Address)
			}
		}
	}
	return out, err
}

func (r *readers) ids() []uuid.UUID {
	ids := make([]uuid.UUID, len(r.rows))
	for i, n := range r.rows {
		ids[i] = n.GroupID
	}
	return ids
}

// written returns which letters about groups were written.
func written(v *workspace.View, groups []uuid.UUID) (map[letterKey]bool, error) {
	rows, err := v.Read.NoticeLetters(groups)
	out := make(map[letterKey]bool, len(rows))
	for _, l := range rows {
		out[letterKey{l.GroupID, l.ExpiresAt.UnixMicro(), l.Day, l.Recipient, l.Tries}] = true
	}
	return out, err
}

// letters writes to some recipients, each about all their groups.
func (r *readers) letters(c *workspace.Change, recipients []string) error {
	var letters []store.NoticeLetter
	var links []store.NoticeLink
	var ids []uuid.UUID
	for _, to := range recipients {
		for _, n := range r.of[to] {
			ids = append(ids, n.GroupID)
		}
	}
	groups, err := c.Read.GroupsByID(ids)
	if err != nil {
		return err
	}
	for _, to := range recipients {
		byKind := map[string][]store.Notice{}
		for _, n := range r.of[to] {
			g, there := groups[n.GroupID]
			if r.written[keyOf(n, to)] || !there || !current(&g, n) {
				continue
			}
			kind := r.kind(to, &g, n)
			byKind[kind] = append(byKind[kind], n)
		}
		for _, kind := range slices.Sorted(maps.Keys(byKind)) {
			all := byKind[kind]
			slices.SortFunc(all, func(a, b store.Notice) int {
				return cmp.Or(a.ExpiresAt.Compare(b.ExpiresAt), strings.Compare(groups[a.GroupID].Address, groups[b.GroupID].Address))
			})
			id := store.NewID()
			path := ""
			if kind == workspace.LetterDue {
				secret, hash := member.NewSecret()
				path = "/renew/" + secret
				links = append(links, store.NoticeLink{Hash: hash, MailingID: id, Recipient: to, ExpiresAt: all[len(all)-1].ExpiresAt.AddDate(0, 0, linkDays)})
			}
			for _, n := range all {
				letters = append(letters, store.NoticeLetter{GroupID: n.GroupID, ExpiresAt: n.ExpiresAt, Day: n.Day, Recipient: to, Tries: n.Tries, MailingID: id})
			}
			l, g := r.letter(c, kind, path, all, groups)
			l.ID = id
			if err := c.Send(g, []string{to}, l); err != nil {
				return err
			}
		}
	}
	if err := c.Tx.AddNoticeLetters(letters); err != nil {
		return err
	}
	return c.Tx.AddNoticeLinks(links)
}

func (r *readers) kind(to string, g *store.Group, n store.Notice) string {
	switch {
	case r.helping[to+" "+g.ID.String()]:
		return workspace.LetterManager
	case n.Day != lifecycle.Lapses:
		return workspace.LetterDue
	case g.Retired:
		return workspace.LetterRetired
	}
	return workspace.LetterLapsed
}

// letter writes one letter about notices, and says which group it is about, nil for several.
func (r *readers) letter(c *workspace.Change, kind, path string, all []store.Notice, groups map[uuid.UUID]store.Group) (workspace.Letter, *store.Group) {
	each := make([]workspace.Letter, len(all))
	var g store.Group
	for i, n := range all {
		g = groups[n.GroupID]
		day := func(at time.Time) string { return workspace.DateIn(g.Language, at.In(r.t.Life.Zone)) }
		fill := map[string]string{"recovery": fmt.Sprint(r.t.RecoveryDays), "was": ""}
		if n.Day == lifecycle.Lapses {
			fill["date"] = day(r.t.Life.PurgeAt(g.Life()))
		} else {
			fill["when"], fill["date"] = workspace.DaysIn(g.Language, r.t.Life.Days(c.Now(), n.ExpiresAt)), day(n.ExpiresAt)
			fill["moved"] = ""
			if n.Was != nil {
				fill["was"] = day(*n.Was)
				fill["moved"] = strings.ReplaceAll(workspace.Phrase(g.Language, "moved"), "{was}", fill["was"])
			}
		}
		at := workspace.GroupPath(&g, "term")
		if len(all) == 1 && path != "" {
			at = path
		}
		each[i] = c.GroupLetter(kind, &g, at, fill)
	}
	if len(each) == 1 {
		return each[0], &g
	}
	l := c.Together(each)
	if path != "" {
		l.Link = c.Link(path)
	}
	return l, nil
}

// done records that all letters were written, and writes into the history who was told.
func (r *readers) done(c *workspace.Change) error {
	rows, err := c.Tx.TakeWritten(r.rows)
	if err != nil {
		return err
	}
	for _, n := range rows {
		g, there := r.groups[n.GroupID]
		if to := r.to[keyOf(n, "")]; there && len(to) > 0 {
			if err := c.Record(event.NoticeSent{Days: n.Day, To: to}, &g); err != nil {
				return err
			}
		}
	}
	return nil
}
