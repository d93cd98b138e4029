package topic

import (
	"encoding/binary"
	"errors"
	"math"
	"sync"
)

const (
	// LeastNoticed is how many messages have to be noticed before their counts are used.
	LeastNoticed = 50
	// mostNoticed bounds the counts: they are halved then, so that newer mail counts more.
	mostNoticed = 20_000
)

// Common counts in how many of an office's messages each feature occurs, whatever they are about. A feature that occurs
// in many messages says little about a topic. The counts hold no words. It may be used by several goroutines at once.
type Common struct {
	mutex    sync.Mutex
	messages int
	in       [buckets]uint16
}

// Notice counts a message.
func (c *Common) Notice(f *Features) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.messages >= mostNoticed {
		c.messages /= 2
		for b := range c.in {
			c.in[b] /= 2
		}
	}
	c.messages++
	from := 0
	for _, to := range f.ends {
		for _, b := range f.index[from:to] {
			c.in[b]++
		}
		from = to
	}
}

// Messages is how many messages were noticed.
func (c *Common) Messages() int {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.messages
}

// Weighting is how much each feature counts; nil while too few messages were noticed.
func (c *Common) Weighting() *Weighting {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.messages < LeastNoticed {
		return nil
	}
	w := &Weighting{Messages: c.messages}
	for b, n := range c.in {
		w.of[b] = float32(math.Log(float64(c.messages+1)/float64(min(int(n), c.messages)+1)) + leastWeight)
	}
	return w
}

// leastWeight is how much a feature counts that occurs in every message.
const leastWeight = 0.3

// Weighting is how much each feature counts: the logarithm of the inverse of the share of messages in which it occurs.
// It does not change.
type Weighting struct {
	Messages int // from which it was made
	of       [buckets]float32
}

var errCommon = errors.New("these are no counts of features")

// MarshalBinary gives the counts in a form to be kept.
func (c *Common) MarshalBinary() ([]byte, error) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	out := binary.AppendUvarint(nil, uint64(c.messages))
	for _, n := range c.in {
		out = binary.AppendUvarint(out, uint64(n))
	}
	return out, nil
}

// UnmarshalBinary takes over counts that were kept.
func (c *Common) UnmarshalBinary(data []byte) error {
	next := func() (int, bool) {
		n, length := binary.Uvarint(data)
		if length <= 0 || n > math.MaxUint16 {
			return 0, false
		}
		data = data[length:]
		return int(n), true
	}
	messages, ok := next()
	var in [buckets]uint16
	for b := range in {
		n, more := next()
		in[b], ok = uint16(n), ok && more
	}
	if !ok || len(data) > 0 {
		return errCommon
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.messages, c.in = messages, in
	return nil
}
