package store

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"
)

// The one term that a workspace had is a rule for all groups, with the notices and the caretaker that it had; groups keep
// their dates, and what was told of them.
func TestTheTermOfAnOlderServiceIsKept(t *testing.T) {
	const first, second, ended = "01935c1e-7a10-7000-8000-3f1f2a9c5b21", "01935c1e-7a10-7000-8000-3f1f2a9c5b22", "01935c1e-7a10-7000-8000-3f1f2a9c5b23"
	group := func(id string, chosen bool, expires, over string) string {
		return fmt.Sprintf(`INSERT INTO mail_groups (id, name, address, addr_key, description, language, traits, default_mail, welcome, by_rule, policy, owners, moderators, members, nested, external_members, renewed_at, expires_at, ended_at, retired, chosen, exempt, exempt_by, version, created_at)
			VALUES ('%s', 'Deck', '%s@a.example', '%s@a.example', '', 'en', '', TRUE, '', FALSE, '', 1, 0, 0, 0, 0, '2026-11-01', '%s', %s, FALSE, %v, '', '', 1, '2026-01-01')`, id, id[30:], id[30:], expires, over, chosen)
	}
	for scope, exempt := range map[string]bool{"all": false, "chosen": true} {
		s := upgraded(t, "ivytable_store_terms_"+scope, 103,
			`INSERT INTO settings (name, value, version) VALUES ('expiry', '{"term_days": 180, "scope": "`+scope+`", "notices": [30, 15, 1], "caretaker": "desk@a.example", "time_zone": "Atlantic/Faroe"}', 7) ON DUPLICATE KEY UPDATE value = VALUES(value), version = 7`,
			group(first, true, "2027-04-30", "NULL"), group(second, false, map[bool]string{true: "9999-01-01", false: "2027-04-30"}[exempt], "NULL"), group(ended, true, "2026-11-20", "'2026-11-20'"),
			"INSERT INTO notices (group_id, expires_at, day, given_at, first) VALUES ('"+first+"', '2027-04-30', 30, '2027-03-31', TRUE)")
		var terms Terms
		version, err := s.Setting("terms", &terms)
		if err != nil || version != 7 || len(terms.Rules) != 1 || terms.Rules[0].Name != "Everything else" || terms.Rules[0].Length != "180 days" || terms.Rules[0].Filter != "" ||
			!slices.Equal(terms.Notices, []int{30, 15, 1}) || terms.TimeZone != "Atlantic/Faroe" || len(terms.Caretakers) != 1 || terms.Caretakers[0].Address != "desk@a.example" || terms.RecoveryDays != 30 {
			t.Errorf("%s: version %d, %+v, %v", scope, version, terms, err)
		}
		g, err := s.Group(parseID(t, first))
		due := time.Date(2027, 3, 31, 0, 0, 0, 0, time.UTC)
		if life := g.Life(); err != nil || life.Rule != "Everything else" || !life.Due.Equal(due) || !life.Expires.Equal(due.AddDate(0, 0, 30)) || life.Exempt {
			t.Errorf("%s: %+v, %v", scope, g.Life(), err)
		}
		if g, err = s.Group(parseID(t, second)); err != nil || g.Life().Exempt != exempt {
			t.Errorf("%s: a group that no term was chosen for: %+v, %v", scope, g.Life(), err)
		}
		notices, err := s.Notices([]uuid.UUID{parseID(t, first)})
		if all := notices[parseID(t, first)]; err != nil || len(all) != 1 || !all[0].First || all[0].Given == nil || !all[0].Given.Equal(due) || !all[0].Written {
			t.Errorf("%s: what was told: %+v, %v", scope, all, err)
		}
	}
}
