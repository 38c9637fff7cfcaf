package member

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

const (
	// LinkDays is for how many days invitations can be answered, and links used where
	// nothing else is said.
	LinkDays   = 14
	maxInvited = 2000 // invitations in one request
)

// NewSecret returns the secret of a link and what is kept of it.
func NewSecret() (secret string, hash []byte) {
	b := make([]byte, 24)
	rand.Read(b)
	secret = base64.RawURLEncoding.EncodeToString(b)
	return secret, HashOf(secret)
}

// HashOf returns what is kept of a secret.
func HashOf(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// invite asks the people of results whether they want to be in g, which is locked. An
// invitation that is open to one of them is replaced.
func invite(c *workspace.Change, g *workspace.Locked, results []Result, how Entrance) error {
	ends := c.Now().AddDate(0, 0, LinkDays)
	e, err := c.Terms()
	if err != nil {
		return err
	}
	var rows []store.Invitation
	var keys []string
	var who []event.Who
	var affected []store.Affected
	for i := range results {
		r := &results[i]
		if !r.OK() {
			continue
		}
		if len(rows) == maxInvited {
			return workspace.Wrong("people", nil, "At most %d people can be invited at once. Split the list.", maxInvited)
		}
		secret, hash := NewSecret()
		key := strings.ToLower(r.Line.Address)
		row := store.Invitation{ID: store.NewID(), Hash: hash, GroupID: g.ID, Address: r.Line.Address, AddrKey: key, Role: r.Role, State: store.Undecided,
			MadeBy: c.By.String(), MadeAt: c.Now(), ExpiresAt: ends}
		if r.External {
			row.VoucherID, row.Reason, row.EndsAt = how.Vouch.id(c), how.Vouch.Reason, r.Ends
			if how.Vouch.By.ID != uuid.Nil {
				if err := TellVoucher(c, &g.Group.Group, how.Vouch.By, r.Line.Address, how.Vouch.Reason); err != nil {
					return err
				}
			}
		}
		rows = append(rows, row)
		l := c.GroupLetter(workspace.LetterInvitation, &g.Group.Group, "/invitations/"+secret, map[string]string{"by": c.By.Name(),
			"role": workspace.RoleIn(g.Language, r.Role.String()), "date": workspace.DateIn(g.Language, ends.In(e.Life.Zone))})
		if err := c.Send(&g.Group.Group, []string{r.Line.Address}, l); err != nil {
			return err
		}
		did := store.Affected{PersonID: r.ID}
		if r.ID == uuid.Nil { // found again once they are known
			did.PersonID, did.Label = store.AddressID(key), &r.Line.Address
		}
		keys, who, affected = append(keys, key), append(who, r.who()), append(affected, did)
		r.Outcome = "invited"
	}
	domains, err := c.Domains()
	if err != nil {
		return err
	}
	outsiders := 0
	for _, key := range keys {
		if _, domain, _ := strings.Cut(key, "@"); !slices.Contains(domains, domain) {
			outsiders++
		}
	}
	if err := c.Spend(workspace.SpendOutsiders, outsiders); err != nil {
		return err
	}
	if len(rows) == 0 || c.Previewing() {
		return nil
	}
	if err := c.Tx.CallBackInvitations(g.ID, keys, c.Now()); err != nil {
		return err
	}
	if err := c.Tx.AddInvitations(rows); err != nil {
		return fmt.Errorf("invite: %w", err)
	}
	return c.Record(event.PeopleInvited{People: event.Of(who...)}, &g.Group.Group, affected...)
}
