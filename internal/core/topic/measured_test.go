package topic

import (
	"bytes"
	"flag"
	"fmt"
	"math"
	"strings"
	"testing"
	"time"
	"unicode"

	"inktray.example/inktray/internal/testbed"
)

var writeDocs = flag.Bool("write-docs", false, "write the figures into docs/topics.md")

// tally counts what was decided of messages whose matter is known.
type tally struct{ found, wrong, missed, left, asked int }

func (r *tally) count(likely, confidence float64, about bool) Decision {
	d := Decide(likely, confidence)
	switch {
	case d == Doubtful:
		r.asked++
	case d == About && about:
		r.found++
	case d == About:
		r.wrong++
	case about:
		r.missed++
	default:
		r.left++
	}
	return d
}

// Of what is decided without asking: how much of what is taken is right, and how
// much of what is right is taken.
func (r *tally) precision() float64 { return float64(r.found) / float64(max(1, r.found+r.wrong)) }
func (r *tally) recall() float64    { return float64(r.found) / float64(max(1, r.found+r.missed)) }
func (r *tally) asks() float64 {
	return float64(r.asked) / float64(r.found+r.wrong+r.missed+r.left+r.asked)
}

func (r tally) String() string {
	return fmt.Sprintf("precision %.3f, recall %.3f, asks about %.3f", r.precision(), r.recall(), r.asks())
}

// bayes is the plain method to compare with: counts of words (multinomial naive
// Bayes with Laplace's correction).
func bayes(examples []Example) func(m *Mail) float64 {
	counts := [2]map[string]float64{{}, {}}
	var total, docs [2]float64
	known := map[string]bool{}
	words := func(m *Mail) []string {
		return strings.FieldsFunc(strings.ToLower(m.Subject+" "+m.Text), func(r rune) bool { return !unicode.IsLetter(r) })
	}
	for _, e := range examples {
		k := 0
		if e.About {
			k = 1
		}
		docs[k]++
		for _, w := range words(&e.Mail) {
			counts[k][w]++
			total[k]++
			known[w] = true
		}
	}
	v := float64(len(known))
	return func(m *Mail) float64 {
		s := math.Log(docs[1] / docs[0])
		for _, w := range words(m) {
			if known[w] {
				s += math.Log((counts[1][w]+1)/(total[1]+v)) - math.Log((counts[0][w]+1)/(total[0]+v))
			}
		}
		return 1 / (1 + math.Exp(-s))
	}
}

// point is a point of the learning curve: after so many answers.
type point struct {
	answers             int
	topic, plain, asked tally // asked is the plain method with the same confidence
}

// curve learns every matter of the corpus from so many examples of each sort, then
// from answers to what it asks of mail as it comes, and measures on mail that is
// used for nothing else.
func curve(t testing.TB, seeds, each, measured int, after []int) []point {
	points := make([]point, len(after))
	for i := range points {
		points[i].answers = after[i]
	}
	for seed := range uint64(seeds) {
		c := newCorpus(t, 100+seed) // none of those that the constants were found with
		for _, matter := range c.names {
			if matter == "other" {
				continue
			}
			examples := c.examples(matter, each)
			learned := Learn(examples)
			answers := 0
			for k := range points {
				for tries := 0; answers < points[k].answers && tries < 3000; tries++ {
					e := c.stream(matter, 1, stageTray)[0]
					f := Read(&e.Mail)
					if Decide(learned.Judge(&f), DefaultConfidence) != Doubtful {
						continue
					}
					examples = append(examples, e)
					if answers++; answers%5 == 0 {
						learned = Learn(examples)
					}
				}
				learned = Learn(examples)
				plain := bayes(examples)
				for _, e := range c.stream(matter, measured, stageMeasured) {
					f := Read(&e.Mail)
					points[k].topic.count(learned.Judge(&f), DefaultConfidence, e.About)
					points[k].plain.count(plain(&e.Mail), .5, e.About)
					points[k].asked.count(plain(&e.Mail), DefaultConfidence, e.About)
				}
			}
		}
	}
	return points
}

func hold(t testing.TB, p point, asks float64) {
	t.Helper()
	if p.topic.precision() < .9 || p.topic.recall() < .9 || p.topic.asks() > asks {
		t.Errorf("after %d answers: %v; wanted 0.9, 0.9 and at most %.2f", p.answers, p.topic, asks)
	}
	if p.plain.precision() >= p.topic.precision() || p.plain.recall() >= p.topic.recall() {
		t.Errorf("after %d answers the plain method does as well: %v, %v", p.answers, p.plain, p.topic)
	}
}

func TestATopicIsLearnedFromFewExamplesAndAnswers(t *testing.T) {
	points := curve(t, 4, 20, 200, []int{0, 60})
	hold(t, points[0], 1./3)
	hold(t, points[1], .1)
}

// BenchmarkLearningCurve measures on much invented mail and holds the limits.
func BenchmarkLearningCurve(b *testing.B) {
	after := []int{0, 10, 20, 40, 60}
	var points, few []point
	for b.Loop() {
		points = curve(b, 6, 20, 300, after)
		few = curve(b, 6, 8, 300, []int{0})
	}
	hold(b, points[0], 1./3)
	hold(b, points[len(points)-1], .1)
	b.ReportMetric(points[0].topic.precision(), "precision")
	b.ReportMetric(points[0].topic.recall(), "recall")
	b.ReportMetric(points[0].topic.asks(), "asked")
	b.ReportMetric(points[len(points)-1].topic.asks(), "asked-after-60")
	rows := &bytes.Buffer{}
	fmt.Fprintln(rows, "| examples | answers | precision | recall | asks about | word counts: precision | recall | with "+
		"the same confidence: precision | recall | asks about |")
	fmt.Fprintln(rows, "|---|---|---|---|---|---|---|---|---|---|")
	row := func(each int, p point) {
		fmt.Fprintf(rows, "| %d + %d | %d | %.2f | %.2f | %.0f %% | %.2f | %.2f | %.2f | %.2f | %.0f %% |\n", each, each,
			p.answers, p.topic.precision(), p.topic.recall(), 100*p.topic.asks(),
			p.plain.precision(), p.plain.recall(), p.asked.precision(), p.asked.recall(), 100*p.asked.asks())
	}
	row(8, few[0])
	for _, p := range points {
		row(20, p)
	}
	b.Log("\n" + rows.String())
	if *writeDocs {
		testbed.WriteSection(b, "../../../docs/topics.md", "learning curve", rows.String())
	}
}

// BenchmarkJudge10000By20 judges 10,000 messages by 20 topics, from their text on.
func BenchmarkJudge10000By20(b *testing.B) {
	c := newCorpus(b, 1)
	topics := map[string]*Topic{}
	for i := range 20 {
		matter := c.names[i%7]
		topics[fmt.Sprint(matter, i)] = Learn(append(c.examples(matter, 20), c.stream(matter, 60, stageTray)...))
	}
	panel := NewPanel(topics)
	list := make([]Mail, 10_000)
	octets := 0
	for i := range list {
		list[i] = c.make(c.one(c.names...), stageMeasured)
		for len(list[i].Text) < 700 { // as long as such letters are
			list[i].Text += "\n" + c.make(c.one(c.names...), stageMeasured).Text
		}
		octets += len(list[i].Text)
	}
	sum, quickest := 0.0, time.Hour
	for b.Loop() {
		for range 3 { // other work on the machine can only make it slower
			began := time.Now()
			for i := range list {
				f := Read(&list[i])
				sum += panel.Judge(&f)[0]
			}
			quickest = min(quickest, time.Since(began))
		}
	}
	b.ReportMetric(float64(octets)/float64(len(list)), "octets/text")
	b.ReportMetric(quickest.Seconds(), "s/10000x20")
	if quickest > time.Second {
		b.Errorf("10,000 messages by 20 topics took %v; at most 1 s", quickest)
	}
}

func BenchmarkLearn100(b *testing.B) {
	c := newCorpus(b, 1)
	examples := append(c.examples("waste", 20), c.stream("waste", 60, stageTray)...)
	for b.Loop() {
		Learn(examples)
	}
}

func BenchmarkLearn500(b *testing.B) {
	c := newCorpus(b, 1)
	examples := c.stream("waste", 500, stageTray)
	for b.Loop() {
		Learn(examples)
	}
}

func TestATopicSaysWhyAndHowGoodItIs(t *testing.T) {
	c := newCorpus(t, 7)
	few := Learn(c.examples("waste", MinExamples-1))
	if few.Ready() || few.Missing() != "it has 4 examples that are about it and 4 that are not, and needs 5 of each" ||
		few.Why(&Mail{Subject: "waste"}, 3) != nil {
		t.Errorf("with too few examples: %+v, %s", few, few.Missing())
	}
	if q := few.Quality(.85); q.Sentence() != "There are too few examples to say how good it is." {
		t.Error(q.Sentence())
	}
	learned := Learn(c.examples("waste", 20))
	q := learned.Quality(DefaultConfidence)
	if q.Examples != 40 || q.About != 20 || q.Found+q.Missed+q.Wrong > 40 || q.Found < 10 || q.Wrong > 2 {
		t.Errorf("%+v", q)
	}
	for _, part := range []string{"Of 100 such messages it finds ", "; of 100 others it takes ",
		"each of the 40 examples judged by all the others"} {
		if !strings.Contains(q.Sentence(), part) {
			t.Errorf("%q does not say %q", q.Sentence(), part)
		}
	}
	m := Mail{Subject: "Waste collection", Text: "Please collect the garbage.\n> invoice invoice invoice",
		Names: []string{"sludge.pdf"}}
	why := learned.Why(&m, 3)
	if len(why) != 3 || why[0].Weight <= 0 || !strings.Contains(fmt.Sprint(why), "waste") ||
		strings.Contains(fmt.Sprint(learned.Why(&m, 50)), "invoice") {
		t.Errorf("why: %v", learned.Why(&m, 50))
	}
	// Order of examples and judging twice change nothing.
	f, g := Read(&m), Read(&m)
	if learned.Judge(&f) != learned.Judge(&g) || learned.Judge(&f) < .85 {
		t.Errorf("judged %f and %f", learned.Judge(&f), learned.Judge(&g))
	}
	panel := NewPanel(map[string]*Topic{"Waste": learned, "few": few})
	if got := panel.Judge(&f); len(got) != 2 || math.Abs(got[0]-learned.Judge(&f)) > 1e-3 || got[1] != .5 {
		t.Errorf("a panel judges %v, the topic %f", got, learned.Judge(&f))
	}
	if found, at := panel.Find(" waste "); found != learned || at != 0 {
		t.Error("a topic is not found by its name")
	}
	// Many answers of one sort do not make it forget the few of the other.
	many := c.examples("waste", 20)
	for range MaxExamples {
		many = append(many, Example{Mail: c.make(c.other("waste"), stageTray)})
	}
	if l := Learn(many); l.Yes != 20 || l.No != MaxExamples-20 || !l.Ready() {
		t.Errorf("of many it learns from %d and %d", l.Yes, l.No)
	}
	var none *Panel
	if found, at := none.Find("waste"); found != nil || at != -1 {
		t.Error("an empty panel has a topic")
	}
}

func TestHostileMailIsJudgedLikeAny(t *testing.T) {
	learned := Learn(newCorpus(t, 7).examples("waste", 20))
	for _, m := range []Mail{{}, {Text: strings.Repeat("\xff\xfe", 100_000)}, {Text: strings.Repeat("a", 1_000_000)},
		{Subject: strings.Repeat("́", 10_000)}, {Text: strings.Repeat("> x\n", 5000)}, {Text: "ж 日本語 ١٢٣ \u202e"}} {
		f := Read(&m)
		if p := learned.Judge(&f); math.IsNaN(p) || p < 0 || p > 1 {
			t.Errorf("%.20q: %f", m.Text, p)
		}
		for _, v := range f.value {
			if math.IsNaN(float64(v)) {
				t.Fatalf("%.20q: a feature is no number", m.Text)
			}
		}
		learned.Why(&m, 5)
	}
	// Examples that are all alike, and examples of which both sorts are the same.
	var same []Example
	for i := range 20 {
		same = append(same, Example{Mail: Mail{Subject: "the same"}, About: i%2 == 0})
	}
	f := Read(&Mail{Subject: "the same"})
	if p := Learn(same).Judge(&f); math.IsNaN(p) || Decide(p, DefaultConfidence) != Doubtful {
		t.Errorf("what nobody can tell apart is %f", p)
	}
}
