package topic

import (
	"bytes"
	"flag"
	"fmt"
	"math"
	"slices"
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
// used for nothing else. noticed is of how many messages it is known what they have in common.
func curve(t testing.TB, seeds, each, measured, noticed int, after []int) []point {
	points := make([]point, len(after))
	for i := range points {
		points[i].answers = after[i]
	}
	for seed := range uint64(seeds) {
		c := newCorpus(t, 100+seed) // none of those that the constants were found with
		w := weighting(noticed, func() Mail { return c.make(c.one(c.names...), stageTray) })
		for _, matter := range c.names {
			if matter == "other" {
				continue
			}
			examples := c.examples(matter, each)
			answers := 0
			for k := range points {
				examples = answered(examples, w, points[k].answers-answers, func() Example {
					return c.stream(matter, 1, stageTray)[0]
				})
				answers = points[k].answers
				learned := Learn(examples, w)
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

// answered adds as many answers to the examples: to what a topic that learns from them asks of mail as it comes.
func answered(examples []Example, w *Weighting, answers int, next func() Example) []Example {
	learned := Learn(examples, w)
	for tries := 0; answers > 0 && tries < 3000; tries++ {
		e := next()
		f := Read(&e.Mail)
		if Decide(learned.Judge(&f), DefaultConfidence) != Doubtful {
			continue
		}
		examples = append(examples, e)
		if answers--; answers%5 == 0 {
			learned = Learn(examples, w)
		}
	}
	return examples
}

// weighting is made of so many messages; nil of none.
func weighting(messages int, next func() Mail) *Weighting {
	var c Common
	for range messages {
		m := next()
		f := Read(&m)
		c.Notice(&f)
	}
	return c.Weighting()
}

func hold(t testing.TB, p point, precision, recall, asks float64) {
	t.Helper()
	if p.topic.precision() < precision || p.topic.recall() < recall || p.topic.asks() > asks {
		t.Errorf("after %d answers: %v; wanted %.2f, %.2f and at most %.2f", p.answers, p.topic, precision, recall, asks)
	}
	if p.plain.precision() >= p.topic.precision() || p.plain.recall() >= p.topic.recall() {
		t.Errorf("after %d answers the plain method does as well: %v, %v", p.answers, p.plain, p.topic)
	}
}

func TestATopicIsLearnedFromFewExamplesAndAnswers(t *testing.T) {
	points := curve(t, 4, 20, 200, 500, []int{0, 60})
	hold(t, points[0], .97, .8, .45)
	hold(t, points[1], .97, .93, .1)
}

// BenchmarkLearningCurve measures on much invented mail and holds the limits.
func BenchmarkLearningCurve(b *testing.B) {
	after := []int{0, 10, 20, 40, 60}
	var points, few []point
	for b.Loop() {
		points = curve(b, 6, 20, 300, 500, after)
		few = append(curve(b, 6, 8, 300, 500, []int{0}), curve(b, 6, 20, 300, 0, []int{0})...)
	}
	hold(b, points[0], .97, .8, .45)
	hold(b, points[len(points)-1], .97, .93, .1)
	b.ReportMetric(points[0].topic.precision(), "precision")
	b.ReportMetric(points[0].topic.recall(), "recall")
	b.ReportMetric(points[0].topic.asks(), "asked")
	b.ReportMetric(points[len(points)-1].topic.asks(), "asked-after-60")
	rows := &bytes.Buffer{}
	fmt.Fprintln(rows, "| examples | other mail | answers | precision | recall | asks about | word counts: precision | "+
		"recall | with the same confidence: precision | recall | asks about |")
	fmt.Fprintln(rows, "|---|---|---|---|---|---|---|---|---|---|---|")
	row := func(each, noticed int, p point) {
		fmt.Fprintf(rows, "| %d + %d | %d | %d | %.2f | %.2f | %.0f %% | "+
			"%.2f | %.2f | %.2f | %.2f | %.0f %% |\n", each, each,
			noticed, p.answers, p.topic.precision(), p.topic.recall(), 100*p.topic.asks(),
			p.plain.precision(), p.plain.recall(), p.asked.precision(), p.asked.recall(), 100*p.asked.asks())
	}
	row(8, 500, few[0])
	row(20, 0, few[1])
	for _, p := range points {
		row(20, 500, p)
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
		topics[fmt.Sprint(matter, i)] = Learn(append(c.examples(matter, 20), c.stream(matter, 60, stageTray)...), nil)
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
		Learn(examples, nil)
	}
}

func BenchmarkLearn500(b *testing.B) {
	c := newCorpus(b, 1)
	examples := c.stream("waste", 500, stageTray)
	for b.Loop() {
		Learn(examples, nil)
	}
}

func TestATopicSaysWhyAndHowGoodItIs(t *testing.T) {
	c := newCorpus(t, 7)
	few := Learn(c.examples("waste", MinExamples-1), nil)
	if few.Ready() || few.Missing() != "it has 4 examples that are about it and 4 that are not, and needs 5 of each" ||
		few.Why(&Mail{Subject: "waste"}, 3) != nil {
		t.Errorf("with too few examples: %+v, %s", few, few.Missing())
	}
	if q := few.Quality(.85); q.Sentence() != "There are too few examples to say how good it is." {
		t.Error(q.Sentence())
	}
	learned := Learn(c.examples("waste", 20), nil)
	q := learned.Quality(DefaultConfidence)
	if q.Examples != 40 || q.About != 20 || q.Found+q.Missed+q.Wrong > 40 || q.Found < 10 || q.Wrong > 2 {
		t.Errorf("%+v", q)
	}
	for _, part := range []string{"Of 100 such messages it probably finds ", "; of 100 others it takes ",
		"each of the 40 examples judged by all the others"} {
		if !strings.Contains(q.Sentence(), part) {
			t.Errorf("%q does not say %q", q.Sentence(), part)
		}
	}
	for _, c := range []struct {
		n, of int
		want  string
	}{{16, 16, "80 to 100"}, {0, 16, "0 to 20"}, {18, 20, "69 to 98"}, {950, 1000, "93 to 97"}, {0, 0, "0 to 100"}} {
		if got := ofHundred(c.n, c.of); got != c.want {
			t.Errorf("%d of %d are %s of 100, want %s", c.n, c.of, got, c.want)
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
	if l := Learn(many, nil); l.Yes != 20 || l.No != MaxExamples-20 || !l.Ready() {
		t.Errorf("of many it learns from %d and %d", l.Yes, l.No)
	}
	var none *Panel
	if found, at := none.Find("waste"); found != nil || at != -1 {
		t.Error("an empty panel has a topic")
	}
}

func TestHostileMailIsJudgedLikeAny(t *testing.T) {
	learned := Learn(newCorpus(t, 7).examples("waste", 20), nil)
	for _, m := range []Mail{{}, {Text: strings.Repeat("\xff\xfe", 100_000)}, {Text: strings.Repeat("a", 1_000_000)},
		{Subject: strings.Repeat("́", 10_000)}, {Text: strings.Repeat("> x\n", 5000)}, {Text: "ж 日本語 ١٢٣ \u202e"}} {
		f := Read(&m)
		if p := learned.Judge(&f); math.IsNaN(p) || p < 0 || p > 1 {
			t.Errorf("%.20q: %f", m.Text, p)
		}
		for _, v := range f.weighed(nil) {
			if math.IsNaN(float64(v)) {
				t.Fatalf("%.20q: a feature is not a number", m.Text)
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
	if p := Learn(same, nil).Judge(&f); math.IsNaN(p) || Decide(p, DefaultConfidence) != Doubtful {
		t.Errorf("what nobody can tell apart is %f", p)
	}
}

// Words that stand in every letter are no evidence, in whatever language.
func TestFunctionWordsAreNoEvidence(t *testing.T) {
	var examples []Example
	for i := range 8 {
		examples = append(examples, Example{Mail: Mail{Subject: "Liegeplatz", Text: fmt.Sprintf(
			"Und die Ankunft war am %d. Mai, was wir für den Liegeplatz melden", i)}, About: true},
			Example{Mail: Mail{Subject: "Rechnung", Text: "The invoice of this month is to be paid by you"}})
	}
	learned := Learn(examples, nil)
	why := learned.Why(&examples[0].Mail, 20)
	if len(why) == 0 {
		t.Fatal("nothing is evidence")
	}
	for _, e := range why {
		if function()[e.Word] || slices.Contains([]string{"und", "die", "was", "am"}, e.Word) {
			t.Errorf("%q is evidence", e.Word)
		}
	}
	f := Read(&Mail{Subject: "und die was", Text: "the of was and für il de"})
	if len(f.index) != 0 {
		t.Errorf("function words alone have %d features", len(f.index))
	}
}

func TestWhatMessagesHaveInCommonIsCounted(t *testing.T) {
	c := newCorpus(t, 7)
	var counts Common
	for i := range 60 {
		if w := counts.Weighting(); (w != nil) != (i >= LeastNoticed) {
			t.Fatalf("after %d messages there is a weighting: %v", i, w != nil)
		}
		m := Mail{Text: fmt.Sprintf("Brackwater harbour %s", c.make(c.one(c.names...), stageTray).Text)}
		f := Read(&m)
		counts.Notice(&f)
	}
	w := counts.Weighting()
	of := func(word string) float32 { return w.of[featuresOf([]byte(word)).word] }
	if of("harbour") > 0.4 || of("zeppelin") < 3 {
		t.Errorf("a common word counts %.2f, a new one %.2f", of("harbour"), of("zeppelin"))
	}
	data, err := counts.MarshalBinary()
	var again Common
	if err == nil {
		err = again.UnmarshalBinary(data)
	}
	if err != nil || again.Messages() != 60 || *again.Weighting() != *w {
		t.Errorf("read again: %d messages, %v", again.Messages(), err)
	}
	for _, odd := range [][]byte{nil, {1}, data[:len(data)-1], append(bytes.Clone(data), 0),
		bytes.Repeat([]byte{0xff}, 99)} {
		if err := again.UnmarshalBinary(odd); err == nil || again.Messages() != 60 {
			t.Errorf("%d odd octets are taken for counts", len(odd))
		}
	}
	f := Read(&Mail{Text: "harbour"})
	for range mostNoticed {
		counts.Notice(&f)
	}
	if n := counts.Messages(); n > mostNoticed || counts.Weighting().of[f.index[0]] < leastWeight-0.01 {
		t.Errorf("after very many messages: %d", n)
	}
}
