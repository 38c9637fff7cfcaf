package store

import (
	"strings"
	"time"

	"github.com/google/uuid"
)

// Telling is a step in which people are told of posts that wait: those of which so many steps were
// taken already, and which came until a moment.
type Telling struct {
	Told  int8
	Until time.Time
}

// LockTelling keeps others from telling of posts that wait: whoever tells does so of all, so that one
// letter does.
func (s *Tx) LockTelling() error {
	if err := s.order(rankSettings); err != nil {
		return err
	}
	if s.looking {
		return nil
	}
	return wrap("lock the telling of posts", s.db.Exec("INSERT INTO settings (name, value, version) VALUES ('telling', 'null', 0) ON DUPLICATE KEY UPDATE version = version + 1").Error)
}

// UntoldPosts returns posts that wait and of which somebody is to be told, oldest first; none of groups about
// which a letter went out since quiet.
func (s *Reads) UntoldPosts(steps []Telling, quiet time.Time, limit int) (rows []Mailing, err error) {
	var parts []string
	var args []any
	for _, t := range steps {
		parts, args = append(parts, "told = ? AND received_at <= ?"), append(args, t.Told, t.Until)
	}
	err = s.db.Where("kind = 'post' AND state = ? AND group_id IS NOT NULL AND ("+strings.Join(parts, " OR ")+")", append([]any{Waiting}, args...)...).
		Where("NOT EXISTS (SELECT 1 FROM group_tellings t WHERE t.group_id = mailings.group_id AND t.told_at > ?)", quiet).
		Order("received_at, id").Limit(limit).Find(&rows).Error
	return rows, wrap("read posts of which nobody was told", err)
}

// PostsTold notes up to which step people were told of posts of one group.
func (s *Tx) PostsTold(group uuid.UUID, posts []uuid.UUID, step int8, now time.Time) error {
	err := inBatches(posts, func(ids []uuid.UUID) error {
		return s.db.Exec("UPDATE mailings SET told = ? WHERE id IN ?", step, ids).Error
	})
	if err == nil {
		err = s.db.Exec("INSERT INTO group_tellings (group_id, told_at) VALUES (?, ?) ON DUPLICATE KEY UPDATE told_at = VALUES(told_at)", group, now).Error
	}
	return wrap("note who was told", err)
}

// ModeratorAddresses returns the addresses of a group's moderators who are here.
func (s *Reads) ModeratorAddresses(group uuid.UUID) (out []string, err error) {
	err = s.db.Raw("SELECT p.address FROM memberships m JOIN people p ON p.id = m.member_id AND p.active WHERE m.group_id = ? AND m.role = 2 ORDER BY m.added_at, m.member_id", group).Scan(&out).Error
	return out, wrap("read moderators", err)
}

// WaitsFrom reports whether a post of an author waits in a group, another one than except.
func (s *Reads) WaitsFrom(group uuid.UUID, author string, except uuid.UUID) (is bool, err error) {
	err = s.db.Raw("SELECT EXISTS (SELECT 1 FROM mailings m JOIN messages x ON x.id = m.message_id AND x.author = ? WHERE m.group_id = ? AND m.kind = 'post' AND m.state = ? AND m.id <> ?)", author, group, Waiting, except).Scan(&is).Error
	return is, wrap("look for posts of an author", err)
}

// AuthorsLetThrough returns who had at least so many posts let through in a group since a moment, of which
// it is proven that they are theirs: of some authors, or, with none, of all.
func (s *Reads) AuthorsLetThrough(group uuid.UUID, since time.Time, least int, authors []uuid.UUID) (out []uuid.UUID, err error) {
	where, args := "x.author_id IS NOT NULL", []any{group, Accepted, since}
	if len(authors) > 0 {
		where, args = "x.author_id IN ?", append(args, authors)
	}
	err = s.db.Raw("SELECT x.author_id FROM mailings m JOIN messages x ON x.id = m.message_id AND x.proven WHERE m.group_id = ? AND m.kind = 'post' AND m.state = ? AND m.received_at > ? AND "+where+
		" GROUP BY x.author_id HAVING COUNT(*) >= ?", append(args, least)...).Scan(&out).Error
	return out, wrap("count the posts of authors", err)
}

// LetThroughIn returns in which of some groups somebody had at least so many posts let through since a
// moment, of which it is proven that they are theirs.
func (s *Reads) LetThroughIn(author uuid.UUID, groups []uuid.UUID, since time.Time, least int) (out []uuid.UUID, err error) {
	if len(groups) == 0 {
		return nil, nil
	}
	err = s.db.Raw("SELECT m.group_id FROM mailings m JOIN messages x ON x.id = m.message_id AND x.proven AND x.author_id = ? WHERE m.group_id IN ? AND m.kind = 'post' AND m.state = ? AND m.received_at > ? GROUP BY m.group_id HAVING COUNT(*) >= ?",
		author, groups, Accepted, since, least).Scan(&out).Error
	return out, wrap("count the posts of an author", err)
}
