package turn

import "time"

// Allowance shares out how long the messages of a mailbox may take while others wait. One message may take all of it.
// When several in a row take long, the later ones get less, so that a burst of such messages does not add up.
type Allowance struct {
	most time.Duration // what one message may take after a quiet time
	left time.Duration
	at   time.Time // when left was true
}

const (
	allowanceLeast  = 5 // the part of most that every message gets, as its divisor
	allowanceRefill = 4 // the part of the time that messages may take for ever, as its divisor
)

// NewAllowance lets one message take a time after a quiet while.
func NewAllowance(most time.Duration) *Allowance { return &Allowance{most: most, left: most} }

// Share is how long the next message may take.
func (a *Allowance) Share(now time.Time) time.Duration {
	if !a.at.IsZero() {
		a.left = min(a.most, a.left+max(0, now.Sub(a.at))/allowanceRefill)
	}
	a.at = now
	return max(a.left, a.most/allowanceLeast)
}

// Spend takes off what a message took. What every message may take for ever is not counted. A nil allowance counts
// nothing.
func (a *Allowance) Spend(took time.Duration) {
	if a == nil {
		return
	}
	a.left = max(0, a.left-max(0, took-a.most/allowanceLeast/2))
}
