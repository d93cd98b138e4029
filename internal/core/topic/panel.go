package topic

import (
	"math"
	"slices"
	"strings"
)

// Panel judges by several topics at once. It does not change; a nil Panel is an
// empty one.
type Panel struct {
	names     []string
	topics    []*Topic
	weighting *Weighting           // with which all of them were learned
	rows      []int16              // weights in steps, those of one feature beside each other
	steps     []float32            // how much a step is, by topic
	known     [buckets / 64]uint64 // features that some topic knows
}

// NewPanel puts topics together under their names. All are learned with the same weighting.
func NewPanel(topics map[string]*Topic) *Panel {
	p := &Panel{}
	for name := range topics {
		p.names = append(p.names, name)
	}
	slices.Sort(p.names)
	n := len(p.names)
	p.rows, p.steps = make([]int16, n*buckets), make([]float32, n)
	for i, name := range p.names {
		t := topics[name]
		p.topics, p.weighting = append(p.topics, t), t.weighting
		for _, w := range t.weights {
			p.steps[i] = max(p.steps[i], w/math.MaxInt16, -w/math.MaxInt16)
		}
		for b, w := range t.weights {
			if w != 0 {
				p.rows[b*n+i] = int16(math.Round(float64(w / p.steps[i])))
				p.known[b/64] |= 1 << (b % 64)
			}
		}
	}
	return p
}

// Find finds a topic by its name, in any case.
func (p *Panel) Find(name string) (*Topic, int) {
	if p == nil {
		return nil, -1
	}
	for i, n := range p.names {
		if strings.EqualFold(n, strings.TrimSpace(name)) {
			return p.topics[i], i
		}
	}
	return nil, -1
}

// Judge says for every topic how likely a message is about it; it is 0.5 where the
// topic has too few examples.
func (p *Panel) Judge(f *Features) []float64 {
	n := len(p.topics)
	scores := make([]float32, n) // in steps
	values := f.weighed(p.weighting)
	for k, b := range f.index {
		if p.known[b/64]&(1<<(b%64)) == 0 {
			continue
		}
		v := values[k]
		row := p.rows[int(b)*n : int(b)*n+n]
		to := scores[:len(row)]
		for ; len(row) >= 4 && len(to) >= 4; row, to = row[4:], to[4:] {
			to[0] += float32(row[0]) * v
			to[1] += float32(row[1]) * v
			to[2] += float32(row[2]) * v
			to[3] += float32(row[3]) * v
		}
		for i, w := range row {
			to[i] += float32(w) * v
		}
	}
	out := make([]float64, n)
	for i, t := range p.topics {
		out[i] = 0.5
		if t.Ready() {
			out[i] = t.likely(float64(scores[i]*p.steps[i]) + t.bias)
		}
	}
	return out
}
