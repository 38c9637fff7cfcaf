package demo

import (
	"context"
	"strings"
	"time"

	"ivytable.example/ivytable/internal/core/setup"
	"ivytable.example/ivytable/internal/store"
)

// MailGoesTo is where mail for the domains of the sample workspace goes.
var MailGoesTo = map[string]string{"merrowline.example": "mx.merrowline.example", "crew.merrowline.example": "mx.merrowline.example"}

// publishAfter is how long after it was made the record of a key is published, as if somebody had.
const publishAfter = time.Minute

// Publishes returns what the domains of the sample workspace publish: the main one all that is needed, the other not.
func Publishes(ctx context.Context, pool *store.Pool) func(name string) []string {
	texts := map[string][]string{
		"merrowline.example":        {"v=spf1 mx -all"},
		"_dmarc.merrowline.example": {"v=DMARC1; p=quarantine; rua=mailto:postmaster@merrowline.example"},
		"crew.merrowline.example":   {"v=spf1 mx ~all", "v=spf1 a:shore.merrowline.example -all"},
	}
	return func(name string) []string {
		selector, domain, is := strings.Cut(name, "._domainkey.")
		if !is {
			return texts[name]
		}
		keys, err := pool.Reads(ctx).SigningKeys(domain)
		if err != nil {
			return nil
		}
		for _, k := range keys {
			if k.Selector == selector && time.Since(k.MadeAt) > publishAfter {
				return []string{setup.Key{Selector: selector, Public: k.PublicKey}.Record()}
			}
		}
		return nil
	}
}
