package workspace

// Bell wakes a job that is else done by time. It is for one that waits.
type Bell chan struct{}

// NewBell returns a bell that has not rung.
func NewBell() Bell { return make(Bell, 1) }

// Ring wakes the job, now or when it is done with what it is at. It never blocks.
func (b Bell) Ring() {
	select {
	case b <- struct{}{}:
	default:
	}
}
