package round

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

var errNoLink = workspace.Fail(workspace.NotFound, "This link leads nowhere: its time is over. A newer letter has a newer link; or sign in.")

// told is what the link of a letter is about: to whom it was written, and which of the groups are theirs to answer for still.
func (s *Service) told(v *workspace.View, secret string) (l store.RoundLetter, r store.Round, rows []store.RoundGroup, err error) {
	l, err = v.Read.RoundLetter(member.HashOf(secret))
	if err == nil {
		r, err = v.Read.Round(l.RoundID)
	}
	if err == nil && v.Now().After(r.EndsAt.AddDate(0, 0, lateDays)) {
		err = store.ErrNotFound
	}
	if errors.Is(err, store.ErrNotFound) {
		v.Hush()
		return l, r, nil, errNoLink
	} else if err != nil {
		return l, r, nil, err
	}
	states := []int8{store.AskedWaiting}
	if r.State == store.RoundOver {
		states = append(states, store.AskedSilent)
	}
	q := store.AskedQuery{Round: r.ID, States: states, Limit: 5000}
	if l.Wave != silentWave { // what they own, or what nobody owns
		q.Mine, q.All = uuid.Max, true
		if p, err := v.Read.PersonByKey(strings.ToLower(l.Recipient)); err == nil {
			q.Mine = p.ID
		} else if !errors.Is(err, store.ErrNotFound) {
			return l, r, nil, err
		}
	}
	for {
		p, err := v.Read.Asked(q)
		if err != nil {
			return l, r, nil, err
		}
		var ids []uuid.UUID
		for _, a := range p.Items {
			ids = append(ids, a.GroupID)
		}
		to, err := recipients(v, r, ids)
		if err != nil {
			return l, r, nil, err
		}
		cared := map[uuid.UUID][]string{}
		if l.Wave == silentWave {
			if cared, err = v.CaretakersOf(ids); err != nil {
				return l, r, nil, err
			}
		}
		for _, a := range p.Items {
			if slices.ContainsFunc(append(to[a.GroupID], cared[a.GroupID]...), func(x string) bool { return strings.EqualFold(x, l.Recipient) }) {
				rows = append(rows, a)
			}
		}
		if q.After = p.Next; q.After.Empty() {
			return l, r, rows, nil
		}
	}
}

// Told describes what a letter of a round asks to whoever holds its link. It changes nothing.
func (s *Service) Told(ctx context.Context, secret string) (api.RoundTold, error) {
	v := s.k.View(ctx, workspace.Actor{})
	l, r, rows, err := s.told(v, secret)
	if err != nil {
		return api.RoundTold{}, err
	}
	return shapeTold(v, l, r, rows)
}

func shapeTold(v *workspace.View, l store.RoundLetter, r store.Round, rows []store.RoundGroup) (api.RoundTold, error) {
	t, err := v.Terms()
	if err != nil {
		return api.RoundTold{}, err
	}
	out := api.RoundTold{Recipient: l.Recipient, Round: r.Name, Note: r.Note, Questions: asksOf(r.Questions), DueOn: dueOn(t, r), DaysLeft: t.Life.Days(v.Now(), r.EndsAt) - 1, Open: r.State != store.RoundStopped, Groups: []api.ToldAsked{}}
	var ids []uuid.UUID
	for _, a := range rows {
		ids = append(ids, a.GroupID)
	}
	sizes, err := v.Read.Sizes(ids)
	if err != nil {
		return out, err
	}
	groups, err := v.Read.GroupsByID(ids)
	for _, a := range rows {
		if g, there := groups[a.GroupID]; there && !v.Ended(&g) {
			out.Groups = append(out.Groups, api.ToldAsked{ID: a.ID.String(), Name: g.Name, Address: g.Address, People: sizes[g.ID], External: g.ExternalMembers})
		}
	}
	slices.SortFunc(out.Groups, func(a, b api.ToldAsked) int { return strings.Compare(a.Name, b.Name) })
	return out, err
}

// KeepTold keeps groups as they are by the link of a letter that asked about them, without signing in. Everything else needs that.
func (s *Service) KeepTold(ctx context.Context, by workspace.Actor, secret string, n api.RoundKept) (api.RoundTold, error) {
	v := s.k.View(ctx, workspace.Actor{})
	l, r, rows, err := s.told(v, secret)
	if err != nil {
		return api.RoundTold{}, err
	}
	as := workspace.Actor{Person: store.Person{Name: l.Recipient, Address: l.Recipient}, Via: "link", RequestID: by.RequestID}
	if p, err := v.Read.PersonByKey(strings.ToLower(l.Recipient)); err == nil {
		as.Person = p
	} else if !errors.Is(err, store.ErrNotFound) {
		return api.RoundTold{}, err
	}
	kept := 0
	for _, id := range n.IDs {
		if !slices.ContainsFunc(rows, func(a store.RoundGroup) bool { return a.ID.String() == id }) {
			continue // it is answered already, or none of theirs: the answer says what is left
		}
		err := s.answer(ctx, as, id, api.RoundAnswer{Answer: "keep", Confirmed: strings.Fields(r.Questions), Note: n.Note}, &api.Decided{})
		if e := new(workspace.Error); errors.As(err, &e) {
			continue
		} else if err != nil {
			return api.RoundTold{}, err
		}
		kept++
	}
	if kept == 0 {
		return api.RoundTold{}, workspace.Fail(workspace.Conflict, "None of these groups can be confirmed by this link any more.")
	}
	if l, r, rows, err = s.told(s.k.View(ctx, workspace.Actor{}), secret); err != nil {
		return api.RoundTold{}, err
	}
	out, err := shapeTold(v, l, r, rows)
	out.Kept = kept
	return out, err
}
