package store

import (
	"bytes"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// ClaimJobs gives a worker up to limit jobs that are due, for the length of a lease: no
// other gets them before that has passed. A worker that dies gives them back by the
// passing of time.
func (s *Tx) ClaimJobs(worker uuid.UUID, lease time.Duration, limit int) (out []Job, err error) {
	now := time.Now().UTC()
	if err := s.forUpdate("SKIP LOCKED").Where("next_at <= ?", now).Order("next_at").Limit(limit).Find(&out).Error; err != nil || len(out) == 0 {
		return nil, wrap("claim jobs", err)
	}
	ids := make([]int64, len(out))
	for i := range out {
		ids[i] = out[i].ID
	}
	return out, wrap("claim jobs", s.db.Model(&Job{}).Where("id IN ?", ids).Updates(map[string]any{"next_at": now.Add(lease), "worker": worker}).Error)
}

// ExtendJobs keeps jobs claimed for another lease, and returns those that are still the worker's.
func (s *Tx) ExtendJobs(ids []int64, worker uuid.UUID, lease time.Duration) (kept []int64, err error) {
	r := s.db.Model(&Job{}).Where("id IN ? AND worker = ?", ids, worker).Update("next_at", time.Now().UTC().Add(lease))
	if r.Error != nil || r.RowsAffected == int64(len(ids)) {
		return ids, wrap("extend leases", r.Error)
	}
	return kept, wrap("extend leases", s.db.Model(&Job{}).Where("id IN ? AND worker = ?", ids, worker).Pluck("id", &kept).Error)
}

// ReleaseJobs gives a worker's jobs back, all or some: they are due now.
func (s *Tx) ReleaseJobs(worker uuid.UUID, ids ...int64) error {
	db := s.db.Model(&Job{}).Where("worker = ?", worker)
	if len(ids) > 0 {
		db = db.Where("id IN ?", ids)
	}
	return wrap("give jobs back", db.Updates(map[string]any{"worker": nil, "next_at": time.Now().UTC()}).Error)
}

// PutOffJob ends an attempt that came to nothing: the job is due again at next.
func (s *Tx) PutOffJob(id int64, worker uuid.UUID, next time.Time, reply string) error {
	return s.ofWorker("put a job off", id, worker, map[string]any{"next_at": next, "worker": nil, "attempts": gorm.Expr("attempts + 1"), "reply": reply})
}

// JobHandedTo records up to which recipient a job is done.
func (s *Tx) JobHandedTo(id int64, worker uuid.UUID, recipient string) error {
	return s.ofWorker("record a job", id, worker, map[string]any{"handed_to": recipient})
}

func (s *Tx) ofWorker(doing string, id int64, worker uuid.UUID, set map[string]any) error {
	r := s.db.Model(&Job{}).Where("id = ? AND worker = ?", id, worker).Updates(set)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return wrap(doing, r.Error)
}

// EndJobs deletes jobs that are done. It returns ErrNotFound where one is not the worker's any more.
func (s *Tx) EndJobs(ids []int64, worker uuid.UUID) error {
	if len(ids) == 0 {
		return nil
	}
	r := s.db.Exec("DELETE FROM jobs WHERE id IN ? AND worker = ?", ids, worker)
	if r.Error == nil && r.RowsAffected < int64(len(ids)) {
		return ErrNotFound
	}
	return wrap("end jobs", r.Error)
}

// EndJob deletes a job that is done. It returns ErrNotFound where the job is not the
// worker's any more.
func (s *Tx) EndJob(id int64, worker uuid.UUID) error {
	r := s.db.Exec("DELETE FROM jobs WHERE id = ? AND worker = ?", id, worker)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return wrap("end a job", r.Error)
}

// Lines writes recipients one a line, in the order of their octets.
func Lines(recipients []string) []byte {
	sorted := slices.Sorted(slices.Values(recipients))
	var b bytes.Buffer
	for _, r := range slices.Compact(sorted) {
		b.WriteString(r)
		b.WriteByte('\n')
	}
	return b.Bytes()
}

// ReadLines reads what Lines wrote.
func ReadLines(b []byte) (out []string) {
	for line := range bytes.Lines(b) {
		out = append(out, string(bytes.TrimSuffix(line, []byte("\n"))))
	}
	return out
}

// Sent is the transmission of a mailing by a job to recipients, in their order, of whom there is one at least.
func Sent(mailing uuid.UUID, job int64, recipients []string, mark int64, at time.Time) Transmission {
	return Transmission{MailingID: mailing, JobID: job, At: at, People: len(recipients), First: recipients[0], Last: recipients[len(recipients)-1], Recipients: Lines(recipients), Mark: mark}
}

// AddTransmissions records transmissions to recipients who were not put off before.
func (s *Tx) AddTransmissions(all []Transmission) error {
	rows := make([][]any, len(all))
	for i, t := range all {
		rows[i] = []any{t.MailingID, t.At, t.People, t.First, t.Last, t.Recipients, t.Mark, t.JobID}
	}
	return s.insert("record transmissions", "transmissions", "mailing_id, at, people, first, last, recipients, mark, job_id", rows)
}

// AddTransmission records that the relay took a mailing over for recipients, in their order.
func (s *Tx) AddTransmission(mailing uuid.UUID, job int64, recipients []string, mark int64, at time.Time) error {
	if err := s.AddTransmissions([]Transmission{Sent(mailing, job, recipients, mark, at)}); err != nil {
		return err
	}
	return wrap("record a transmission", s.db.Exec("DELETE FROM failures WHERE mailing_id = ? AND recipient IN ?", mailing, recipients).Error)
}

// TakenOf returns for whom the relay took a mailing over from a job.
func (s *Reads) TakenOf(mailing uuid.UUID, job int64) (map[string]bool, error) {
	out := map[string]bool{}
	return out, wrap("read transmissions", eachRow(s.db.Raw("SELECT recipients FROM transmissions WHERE mailing_id = ? AND job_id = ?", mailing, job), func(scan func(...any) error) error {
		var b []byte
		err := scan(&b)
		for _, r := range ReadLines(b) {
			out[r] = true
		}
		return err
	}))
}

// AddFailures records recipients whom the relay refused or put off, or what it says of
// them now.
func (s *Tx) AddFailures(rows []Failure) error {
	return inBatches(rows, func(rows []Failure) error {
		return wrap("record failures", s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&rows).Error)
	})
}

// DeleteFailures forgets that a mailing could not be handed to some.
func (s *Tx) DeleteFailures(mailing uuid.UUID, recipients []string) error {
	return inBatches(recipients, func(some []string) error {
		return wrap("forget failures", s.db.Exec("DELETE FROM failures WHERE mailing_id = ? AND recipient IN ?", mailing, some).Error)
	})
}

// SetTrouble marks a mailing by whether anybody is left whom it could not be handed to.
func (s *Tx) SetTrouble(mailing uuid.UUID) error {
	return wrap("mark a mailing", s.db.Exec(`UPDATE mailings m SET trouble = EXISTS (SELECT 1 FROM failures f WHERE f.mailing_id = m.id)
		OR EXISTS (SELECT 1 FROM jobs j WHERE j.mailing_id = m.id AND j.attempts > 0) WHERE m.id = ?`, mailing).Error)
}

// MarkReported records that the author of a mailing was told, and reports whether that is new.
func (s *Tx) MarkReported(mailing uuid.UUID) (bool, error) {
	r := s.db.Exec("UPDATE mailings SET reported = TRUE WHERE id = ? AND NOT reported", mailing)
	return r.RowsAffected > 0, wrap("mark a mailing", r.Error)
}

// Progress is how far mailings are handed over.
type Progress struct {
	HandedOver int       // people for whom the relay has taken it over
	Failures   []Failure // at most as many as were asked for, those given up first
	Failed     int       // all of them
	Jobs       []Job     // what is still to be done
	Returned   int       // people from whom it came back
}

// Progress returns how far mailings are handed over, by mailing.
func (s *Reads) Progress(mailings []uuid.UUID, failures int) (map[uuid.UUID]Progress, error) {
	out := make(map[uuid.UUID]Progress, len(mailings))
	if len(mailings) == 0 {
		return out, nil
	}
	var sums []struct {
		MailingID uuid.UUID
		N         int
	}
	if err := s.db.Raw("SELECT mailing_id, SUM(people) AS n FROM transmissions WHERE mailing_id IN ? GROUP BY mailing_id", mailings).Scan(&sums).Error; err != nil {
		return nil, wrap("read transmissions", err)
	}
	for _, r := range sums {
		p := out[r.MailingID]
		p.HandedOver = r.N
		out[r.MailingID] = p
	}
	sums = nil
	if err := s.db.Raw("SELECT mailing_id, COUNT(*) AS n FROM failures WHERE mailing_id IN ? GROUP BY mailing_id", mailings).Scan(&sums).Error; err != nil {
		return nil, wrap("count failures", err)
	}
	for _, r := range sums {
		p := out[r.MailingID]
		p.Failed = r.N
		out[r.MailingID] = p
	}
	sums = nil
	if err := s.db.Raw("SELECT mailing_id, COUNT(*) AS n FROM returns WHERE mailing_id IN ? GROUP BY mailing_id", mailings).Scan(&sums).Error; err != nil {
		return nil, wrap("count what came back", err)
	}
	for _, r := range sums {
		p := out[r.MailingID]
		p.Returned = r.N
		out[r.MailingID] = p
	}
	var rows []Failure
	err := s.db.Raw(`SELECT * FROM (SELECT f.*, ROW_NUMBER() OVER (PARTITION BY mailing_id ORDER BY given_up DESC, recipient) AS nth FROM failures f WHERE mailing_id IN ?) x
		WHERE nth <= ? ORDER BY mailing_id, nth`, mailings, failures).Scan(&rows).Error
	if err != nil {
		return nil, wrap("read failures", err)
	}
	for _, r := range rows {
		p := out[r.MailingID]
		p.Failures = append(p.Failures, r)
		out[r.MailingID] = p
	}
	var jobs []Job
	if err := s.db.Omit("recipients").Order("id").Find(&jobs, "mailing_id IN ?", mailings).Error; err != nil {
		return nil, wrap("read jobs", err)
	}
	for _, j := range jobs {
		p := out[j.MailingID]
		p.Jobs = append(p.Jobs, j)
		out[j.MailingID] = p
	}
	return out, nil
}

// TryAgain makes everything that is left of a mailing due now: what was put off, and what
// was given up.
func (s *Tx) TryAgain(mailing uuid.UUID, asOf time.Time) error {
	now := time.Now().UTC()
	if err := s.db.Model(&Job{}).Where("mailing_id = ? AND worker IS NULL", mailing).Update("next_at", now).Error; err != nil {
		return wrap("try again", err)
	}
	var failed []string
	if err := s.db.Model(&Failure{}).Where("mailing_id = ? AND given_up", mailing).Order("recipient").Pluck("recipient", &failed).Error; err != nil || len(failed) == 0 {
		return wrap("try again", err)
	}
	if err := s.db.Model(&Failure{}).Where("mailing_id = ? AND given_up", mailing).Update("given_up", false).Error; err != nil {
		return wrap("try again", err)
	}
	return s.AddJobs([]Job{{MailingID: mailing, Recipients: Lines(failed), AsOf: asOf, NextAt: now}})
}

// CountJobs returns how many jobs there are.
func (s *Reads) CountJobs() (n int64, err error) {
	err = s.db.Model(&Job{}).Count(&n).Error
	return n, wrap("count jobs", err)
}
