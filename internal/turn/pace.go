package turn

// MostAtOnce is how many messages a mailbox is asked for at once at most.
const MostAtOnce = 500

// Pace is how many messages a mailbox is asked for at once. It outlives the
// connection: a server that cannot answer for many is asked for fewer next time.
type Pace struct {
	size   int             // 0 for the most
	Failed map[string]bool // messages that ended the connection when they were asked for alone
}

// Most is how many messages are asked for at once now.
func (p *Pace) Most() int {
	if p.size == 0 {
		return MostAtOnce
	}
	return p.size
}

// Slower asks for fewer messages next time.
func (p *Pace) Slower() { p.size = max(1, p.Most()/8) }

// Faster asks for more messages next time.
func (p *Pace) Faster() { p.size = min(MostAtOnce, 2*p.Most()) }
