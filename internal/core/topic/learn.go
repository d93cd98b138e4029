// Package topic learns what messages are about from examples that people mark, and
// judges others by it. It looks at words, at parts of words, so that other forms
// and compounds of a known word count, and at the sender. Unknown words make the
// answer less certain. It needs no other service, and takes milliseconds.
package topic

import (
	"fmt"
	"math"
	"slices"
	"strings"
)

const (
	// MinExamples is how many examples of each sort a topic needs before it judges.
	MinExamples = 5
	// MaxExamples is how many are learned from at most: the newest, half of them of
	// each sort as long as both have so many.
	MaxExamples = 500
	// DefaultConfidence is how sure a topic has to be where nothing is said.
	DefaultConfidence = 0.85
)

// Example is a message of which a person said whether it is about the matter.
type Example struct {
	Mail  Mail `json:"mail"`
	About bool `json:"about"`
}

// Topic is what was learned. It does not change.
type Topic struct {
	Yes, No int // examples learned from, of each sort

	weighting    *Weighting // of features; nil where each counts the same
	weights      []float32  // by feature; nil while there are too few examples
	bias         float64
	slope, shift float64
	left         []float64 // how likely each example is by all the others
	about        []bool
}

const (
	ridge    = 0.2 // how little a single example may bend the judgement
	biasPart = 0.1
	// In mail to come the wording is newer than among the examples, so that what was
	// learned shows less, the more so while there are few of them: what is likely of
	// examples is corrected by what was measured on mail in other wordings
	// (docs/topics.md), most of all with newAt examples.
	newSlope, newShift, newAt = 1.4, 0.7, 40
)

// Learn learns from examples, the newest last. w may be nil.
func Learn(examples []Example, w *Weighting) *Topic {
	examples = newest(examples)
	t := &Topic{weighting: w}
	list := make([]Features, len(examples))
	for i := range examples {
		list[i] = Read(&examples[i].Mail)
		t.about = append(t.about, examples[i].About)
		if examples[i].About {
			t.Yes++
		} else {
			t.No++
		}
	}
	if t.Yes >= MinExamples && t.No >= MinExamples {
		t.learn(list)
	}
	return t
}

// newest drops the oldest examples where there are too many, first of the sort of
// which there are more.
func newest(examples []Example) []Example {
	count := map[bool]int{}
	for i := range examples {
		count[examples[i].About]++
	}
	drop := map[bool]int{}
	for over := len(examples) - MaxExamples; over > 0; over-- {
		more := count[true] > count[false]
		count[more]--
		drop[more]++
	}
	var kept []Example
	for _, e := range examples {
		if drop[e.About] > 0 {
			drop[e.About]--
			continue
		}
		kept = append(kept, e)
	}
	return kept
}

// Ready says whether there are examples enough to judge by.
func (t *Topic) Ready() bool { return t.weights != nil }

// Missing says what a topic needs before it judges.
func (t *Topic) Missing() string {
	return fmt.Sprintf("it has %d examples that are about it and %d that are not, and needs %d of each", t.Yes, t.No,
		MinExamples)
}

// learn fits a plane between both sorts by weighted ridge regression. Its inverse
// tells at once what each example would be judged if it were not among them, which
// serves to say how sure a judgement is and how good the topic is.
func (t *Topic) learn(list []Features) {
	n := len(list)
	values := make([][]float32, n)
	for i := range list {
		values[i] = list[i].weighed(t.weighting)
	}
	system := make([][]float64, n)
	dense := make([]float32, buckets)
	for i := range n {
		system[i] = make([]float64, n)
		for p, b := range list[i].index {
			dense[b] += values[i][p]
		}
		for j := 0; j <= i; j++ {
			s := float32(0)
			for p, b := range list[j].index {
				s += dense[b] * values[j][p]
			}
			system[i][j] = float64(s) + biasPart
			system[j][i] = system[i][j]
		}
		for _, b := range list[i].index {
			dense[b] = 0
		}
	}
	wanted := make([]float64, n)
	for i := range n {
		wanted[i] = -1
		share := float64(t.No) / float64(n)
		if t.about[i] {
			wanted[i], share = 1, float64(t.Yes)/float64(n)
		}
		system[i][i] += ridge * 2 * share // both sorts weigh the same
	}
	inverse := invert(system)
	without := make([]float64, n)
	t.weights = make([]float32, buckets)
	for i := range n {
		alpha := 0.0
		for j := range n {
			alpha += inverse[i][j] * wanted[j]
		}
		without[i] = wanted[i] - alpha/inverse[i][i]
		t.bias += alpha * biasPart
		for p, b := range list[i].index {
			t.weights[b] += float32(alpha) * values[i][p]
		}
	}
	t.slope, t.shift = logistic(without, t.about)
	few := float64(n) / newAt
	t.slope, t.shift = newSlope*t.slope, newSlope*t.shift+newShift*min(few, 1/math.Sqrt(few))
	t.left = make([]float64, n)
	for i, s := range without {
		t.left[i] = t.likely(s)
	}
}

// likely is how likely a message is about the matter, by its side of the plane.
func (t *Topic) likely(score float64) float64 {
	return 1 / (1 + math.Exp(-(t.slope*score + t.shift)))
}

// Judge says how likely a message is about the matter, from 0 to 1.
func (t *Topic) Judge(f *Features) float64 {
	s := float32(0)
	values := f.weighed(t.weighting)
	for p, b := range f.index {
		s += t.weights[b] * values[p]
	}
	return t.likely(float64(s) + t.bias)
}

// Quality is how good a topic is on its own examples, each judged by all the others.
type Quality struct {
	About    int `json:"about"`    // examples that are about it
	Found    int `json:"found"`    // of these, taken for sure
	Missed   int `json:"missed"`   // of these, passed over for sure
	Wrong    int `json:"wrong"`    // others that were taken for sure
	Asked    int `json:"asked"`    // of both sorts, not sure
	Examples int `json:"examples"` // of both sorts
}

// Quality measures with a confidence.
func (t *Topic) Quality(confidence float64) Quality {
	q := Quality{Examples: len(t.left)}
	for i, p := range t.left {
		if t.about[i] {
			q.About++
		}
		switch sure := Decide(p, confidence); {
		case sure == Doubtful:
			q.Asked++
		case sure == About && t.about[i]:
			q.Found++
		case sure == About:
			q.Wrong++
		case t.about[i]:
			q.Missed++
		}
	}
	return q
}

// Sentence says it in plain words, with ranges: few examples say little about the messages to come.
func (q Quality) Sentence() string {
	if q.Examples == 0 {
		return "There are too few examples to say how good it is."
	}
	decided := q.Found + q.Missed
	s := "Of 100 such messages it probably finds " + ofHundred(q.Found, q.About)
	if asked := q.About - decided; asked > 0 {
		s += ", asks about " + ofHundred(asked, q.About)
	}
	if q.Missed > 0 {
		s += ", misses " + ofHundred(q.Missed, q.About)
	}
	if others := q.Examples - q.About; others > 0 {
		s += "; of 100 others it takes " + ofHundred(q.Wrong, others)
	}
	return s + fmt.Sprintf(" (each of the %d examples judged by all the others; messages that are worded otherwise can "+
		"do worse).", q.Examples)
}

// ofHundred is how many of a hundred it may be where it were n of some: the range in which it is with 95 % certainty
// (Wilson's score interval).
func ofHundred(n, of int) string {
	if of == 0 {
		return "0 to 100"
	}
	const z = 1.96
	p, k := float64(n)/float64(of), float64(of)
	middle, half := p+z*z/(2*k), z*math.Sqrt(p*(1-p)/k+z*z/(4*k*k))
	from, to := (middle-half)/(1+z*z/k), (middle+half)/(1+z*z/k)
	low, high := int(math.Floor(100*from+1e-9)), int(math.Ceil(100*to-1e-9))
	if low = max(low, 0); low == high {
		return fmt.Sprint(low)
	}
	return fmt.Sprintf("%d to %d", low, high)
}

// Decision is what comes of a judgement.
type Decision int

// The decisions.
const (
	NotAbout Decision = iota
	About
	Doubtful
)

// Decide says what is sure with a confidence.
func Decide(likely, confidence float64) Decision {
	switch {
	case likely >= confidence:
		return About
	case likely <= 1-confidence:
		return NotAbout
	}
	return Doubtful
}

// Evidence is what spoke for a matter or against it, and how much: positive for it.
type Evidence struct {
	Word   string
	Weight float64
}

// Why lists what of a message spoke for the matter or against it, the strongest
// first.
func (t *Topic) Why(m *Mail, most int) []Evidence {
	if !t.Ready() {
		return nil
	}
	whole := Read(m)
	part := make(map[uint16]float64, len(whole.index))
	values := whole.weighed(t.weighting)
	for p, b := range whole.index {
		part[b] += float64(t.weights[b]) * float64(values[p])
	}
	// What several words have in common is shared among them.
	words := map[string][]uint16{}
	holders := map[uint16]float64{}
	sender := m.Sender.String()
	for _, w := range append(split(m), sender) {
		if w == "" || words[w] != nil {
			continue
		}
		one := Mail{Subject: w}
		if w == sender {
			one = Mail{Sender: m.Sender}
		}
		words[w] = slices.Clone(Read(&one).index)
		for _, b := range words[w] {
			holders[b]++
		}
	}
	var list []Evidence
	for w, features := range words {
		e := Evidence{Word: w}
		for _, b := range features {
			e.Weight += part[b] / holders[b]
		}
		list = append(list, e)
	}
	slices.SortFunc(list, func(a, b Evidence) int {
		if c := math.Abs(b.Weight) - math.Abs(a.Weight); c != 0 {
			return int(math.Copysign(1, c))
		}
		return strings.Compare(a.Word, b.Word)
	})
	return list[:min(most, len(list))]
}

// invert inverts a symmetric, positive definite matrix by Cholesky's decomposition.
func invert(a [][]float64) [][]float64 {
	n := len(a)
	l, m, inverse := make([][]float64, n), make([][]float64, n), make([][]float64, n)
	for i := range n {
		l[i], m[i], inverse[i] = make([]float64, n), make([]float64, n), make([]float64, n)
		for j := 0; j <= i; j++ {
			s := a[i][j]
			for k := range j {
				s -= l[i][k] * l[j][k]
			}
			if i == j {
				l[i][i] = math.Sqrt(max(s, 1e-12))
			} else {
				l[i][j] = s / l[j][j]
			}
		}
	}
	for i := range n { // the inverse of l
		m[i][i] = 1 / l[i][i]
		for k := range i {
			f := -l[i][k] / l[i][i]
			for j := range k + 1 {
				m[i][j] += f * m[k][j]
			}
		}
	}
	for k := range n { // its square
		for i := range k + 1 {
			for j := range i + 1 {
				inverse[i][j] += m[k][i] * m[k][j]
			}
		}
	}
	for i := range n {
		for j := range i {
			inverse[j][i] = inverse[i][j]
		}
	}
	return inverse
}

// logistic fits a curve that says how likely a score belongs to the matter, both
// sorts weighing the same, by Newton's method; targets are softened as Platt does
// for few examples.
func logistic(scores []float64, about []bool) (slope, shift float64) {
	yes := 0.0
	for _, a := range about {
		if a {
			yes++
		}
	}
	no := float64(len(about)) - yes
	slope = 2
	for range 100 {
		var ga, gb, haa, hab, hbb float64
		for i, s := range scores {
			w, target := 0.5/no, 1/(no+2)
			if about[i] {
				w, target = 0.5/yes, (yes+1)/(yes+2)
			}
			p := 1 / (1 + math.Exp(-(slope*s + shift)))
			h := w * p * (1 - p)
			ga, gb = ga+w*(p-target)*s, gb+w*(p-target)
			haa, hab, hbb = haa+h*s*s, hab+h*s, hbb+h
		}
		haa, hbb = haa+1e-6, hbb+1e-6
		det := haa*hbb - hab*hab
		da, db := (hbb*ga-hab*gb)/det, (haa*gb-hab*ga)/det
		if math.IsNaN(da) || math.IsNaN(db) {
			break
		}
		// A step too long leaves the curve: it is shortened.
		if far := math.Max(math.Abs(da), math.Abs(db)); far > 2 {
			da, db = da*2/far, db*2/far
		}
		slope, shift = slope-da, shift-db
		if math.Abs(da)+math.Abs(db) < 1e-7 {
			break
		}
	}
	return max(slope, 0), shift // examples without any order teach nothing
}
