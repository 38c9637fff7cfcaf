package store

import (
	"time"

	"github.com/google/uuid"
)

// Notice is one that was sent.
type Notice struct {
	GroupID   uuid.UUID
	ExpiresAt time.Time
	Day       int // how many days before the end it is for
	GivenAt   time.Time
	First     bool // it was the first, in time
}

// NoticesSent returns the notices that groups were sent, by group.
func (s *Reads) NoticesSent(groups []uuid.UUID) (map[uuid.UUID][]Notice, error) {
	var rows []Notice
	if err := s.db.Find(&rows, "group_id IN ?", groups).Error; err != nil {
		return nil, wrap("read notices", err)
	}
	out := map[uuid.UUID][]Notice{}
	for _, n := range rows {
		out[n.GroupID] = append(out[n.GroupID], n)
	}
	return out, nil
}

// RecordNotice records that a notice was sent; ErrDuplicate says that it was before.
func (s *Tx) RecordNotice(n Notice) error {
	return wrap("record a notice", s.db.Create(&n).Error)
}
