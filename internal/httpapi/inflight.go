package httpapi

import (
	"sync"

	"github.com/google/uuid"
)

// Octets of bodies that may be on their way in at once: of everybody, and of one person.
const (
	inFlightOfAll = 512 << 20
	inFlightOfOne = 100 << 20
)

// inFlight counts the octets of bodies that are being read.
type inFlight struct {
	mu  sync.Mutex
	all int64
	by  map[uuid.UUID]int64
}

// take reserves octets for somebody, and reports whether there is room; give gives them back.
func (f *inFlight) take(who uuid.UUID, octets int64) (give func(), ok bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.all+octets > inFlightOfAll || f.by[who]+octets > inFlightOfOne {
		return nil, false
	}
	if f.by == nil {
		f.by = map[uuid.UUID]int64{}
	}
	f.all += octets
	f.by[who] += octets
	return func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.all -= octets
		if f.by[who] -= octets; f.by[who] == 0 {
			delete(f.by, who)
		}
	}, true
}
