package setup

import (
	"slices"
	"strings"
	"testing"
)

func TestCheck(t *testing.T) {
	const domain = "merrowline.example"
	used, next := Key{"ivy1", "AAAA", true}, Key{"ivy2", "BBBB", false}
	good := func() Records {
		return Records{MX: []string{"mx.merrowline.example"}, Trouble: map[string]string{}, TXT: map[string][]string{
			domain: {"some other text", "v=spf1 mx include:relay.example -all"}, "ivy1._domainkey." + domain: {"v=DKIM1; k=rsa; p=AA AA"},
			"ivy2._domainkey." + domain: {"k=rsa;p=BBBB"}, "_dmarc." + domain: {"v=DMARC1; p=reject"}}}
	}
	for _, i := range Check(domain, []Key{used, next}, good()) {
		if i.State != Well || i.Wanted != "" || i.Found == "" {
			t.Errorf("of a good one: %+v", i)
		}
	}
	for name, c := range map[string]struct {
		change func(r *Records)
		part   Part
		state  State
		says   string
	}{
		"no MX":             {func(r *Records) { r.MX = nil }, MX, Missing, "none comes"},
		"null MX":           {func(r *Records) { r.MX = []string{"."} }, MX, Missing, "takes no mail"},
		"no answer for MX":  {func(r *Records) { r.Trouble["mx"] = "timeout" }, MX, Unknown, "timeout"},
		"no SPF":            {func(r *Records) { r.TXT[domain] = nil }, SPF, Missing, "which machines"},
		"two SPF":           {func(r *Records) { r.TXT[domain] = []string{"v=spf1 -all", "V=SPF1 mx -all"} }, SPF, Doubtful, "none counts"},
		"SPF for all":       {func(r *Records) { r.TXT[domain] = []string{"v=spf1 +all"} }, SPF, Doubtful, "every machine"},
		"SPF without end":   {func(r *Records) { r.TXT[domain] = []string{"v=spf1 mx"} }, SPF, Doubtful, "does not say"},
		"SPF elsewhere":     {func(r *Records) { r.TXT[domain] = []string{"v=spf1 redirect=_spf.x.example"} }, SPF, Well, "is said"},
		"no key published":  {func(r *Records) { delete(r.TXT, "ivy1._domainkey."+domain) }, DKIM, Missing, "of no use"},
		"the next one not":  {func(r *Records) { delete(r.TXT, "ivy2._domainkey."+domain) }, DKIM, Missing, "then use the key"},
		"another key":       {func(r *Records) { r.TXT["ivy1._domainkey."+domain] = []string{"v=DKIM1; p=CCCC"} }, DKIM, Doubtful, "another key"},
		"called back":       {func(r *Records) { r.TXT["ivy1._domainkey."+domain] = []string{"v=DKIM1; p="} }, DKIM, Doubtful, "called back"},
		"no answer for key": {func(r *Records) { r.Trouble["ivy1._domainkey."+domain] = "refused" }, DKIM, Unknown, "refused"},
		"no DMARC":          {func(r *Records) { delete(r.TXT, "_dmarc."+domain) }, DMARC, Missing, "asks for reports"},
		"two DMARC":         {func(r *Records) { r.TXT["_dmarc."+domain] = []string{"v=DMARC1; p=none", "v=DMARC1; p=none"} }, DMARC, Doubtful, "none counts"},
		"odd DMARC":         {func(r *Records) { r.TXT["_dmarc."+domain] = []string{"v=DMARC1; p=perhaps"} }, DMARC, Doubtful, "perhaps"},
	} {
		r := good()
		c.change(&r)
		found := false
		for _, i := range Check(domain, []Key{used, next}, r) {
			found = found || i.Part == c.part && i.State == c.state && strings.Contains(i.Says, c.says)
			if i.Part != c.part && i.State != Well {
				t.Errorf("%s: %+v", name, i)
			}
		}
		if !found {
			t.Errorf("%s: no %s that is %s and says %q", name, c.part, c.state, c.says)
		}
	}
	if all := Check(domain, nil, good()); len(all) != 4 || all[2].State != Missing || !strings.Contains(all[2].Says, "not signed") {
		t.Errorf("without keys: %+v", all)
	}
}

func TestStrict(t *testing.T) {
	for record, want := range map[string]bool{"v=DMARC1; p=reject": true, "v=DMARC1;p=quarantine; pct=10": true, "v=DMARC1; p=none": false, "v=spf1 -all": false, "p=reject": false, "": false} {
		if Strict([]string{"x", record}) != want {
			t.Errorf("%q: %v", record, !want)
		}
	}
}

func TestSignedBy(t *testing.T) {
	for _, c := range []struct {
		author, group string
		proven        bool
		want          []string
	}{
		{"merrowline.example", "merrowline.example", true, []string{"merrowline.example", "merrowline.example"}},
		{"crew.merrowline.example", "merrowline.example", true, []string{"crew.merrowline.example", "merrowline.example"}},
		{"elsewhere.example", "merrowline.example", true, []string{"elsewhere.example", "merrowline.example"}},
		{"elsewhere.example", "merrowline.example", false, []string{"merrowline.example"}},
		{"merrowline.example", "merrowline.example", false, nil},
		{"crew.merrowline.example", "merrowline.example", false, nil},
		{"MerrowLine.Example", "crew.merrowline.example", false, nil},
		{"crew.merrowline.example", "islands.merrowline.example", false, nil}, // of one organisation, as others see it
		{"merrowline.example", "", true, []string{"merrowline.example"}},
		{"", "", true, nil},
	} {
		if got := SignedBy(c.author, c.group, c.proven); !slices.Equal(got, c.want) {
			t.Errorf("%s to %s, proven %v: %v", c.author, c.group, c.proven, got)
		}
	}
}
