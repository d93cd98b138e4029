package topic

import (
	_ "embed" // the function words
	"math"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"

	"inktray.example/inktray/internal/core/mail"
)

// Mail is what of a message is evidence for a topic.
type Mail struct {
	Subject string       `json:"subject"`
	Text    string       `json:"text"`
	Sender  mail.Address `json:"sender"`
	Names   []string     `json:"names,omitempty"` // of the attachments
}

const (
	buckets = 1 << 16 // features are kept by their hash
	maxRead = 6000    // octets of a text that are looked at
	maxWord = 40      // characters of a word
)

// Of is what of a message is evidence, as far as it was read.
func Of(m *mail.Message) Mail {
	out := Mail{Subject: m.Envelope.Subject, Sender: m.Envelope.Sender()}
	if m.Text != nil {
		out.Text = *m.Text
		if len(out.Text) > maxRead {
			out.Text = strings.ToValidUTF8(out.Text[:maxRead], "")
		}
	}
	for _, i := range m.Items() {
		if i.Named && !(i.Inline && i.Size < 20_000) && len(out.Names) < 50 {
			out.Names = append(out.Names, i.Name)
		}
	}
	return out
}

// view is one way of looking at a message. Each counts as much as its weight,
// however much there is to see by it.
type view int

const (
	viewWords view = iota
	viewParts      // of words: what other forms of a word and words made of it share
	viewSender
	views
)

var weights = [views]float64{1, 3.2, .7}

// Features is a message as numbers: which features it has, and how often, view by view.
type Features struct {
	index  []uint16
	amount []float32  // by their number: see amounts
	ends   [views]int // where each view ends
}

// Reader turns messages into features. It is for one goroutine, and remembers words.
type Reader struct {
	counts [buckets]uint16
	seen   [views][]uint16
	word   []byte
	known  map[string]wordFeatures
}

// wordFeatures are the places of a word and of its parts.
type wordFeatures struct {
	word    uint16
	parts   []uint16
	nothing bool // it is a function word
}

// mostWords bounds what a Reader remembers.
const mostWords = 30_000

var readers = sync.Pool{New: func() any { return &Reader{known: map[string]wordFeatures{}} }}

// Read turns a message into features.
func Read(m *Mail) Features {
	r := readers.Get().(*Reader)
	defer readers.Put(r)
	return r.Features(m)
}

// fnv is a step of FNV-1a over 32 bits.
func fnv(h uint32, r rune) uint32 { return (h ^ uint32(r)) * 16777619 }

func slot(h uint32) uint16 {
	h ^= h >> 15
	h *= 0x2c1b3c6d
	h ^= h >> 13
	return uint16((h ^ h>>16) % buckets)
}

func (r *Reader) add(v view, h uint32) {
	r.seen[v] = append(r.seen[v], slot(h))
}

// Features reads a message.
func (r *Reader) Features(m *Mail) Features {
	for v := range r.seen {
		r.seen[v] = r.seen[v][:0]
	}
	r.text(mail.BareSubject(m.Subject))
	r.text(own(m.Text))
	for _, n := range m.Names {
		r.text(n)
	}
	if m.Sender.Domain != "" {
		r.whole('@', strings.ToLower(m.Sender.Local)+"@"+m.Sender.Domain)
		r.whole('.', m.Sender.Domain)
	}
	return r.gather()
}

func (r *Reader) whole(kind rune, s string) {
	h := fnv(2166136261, kind)
	for _, c := range s {
		h = fnv(h, c)
	}
	r.add(viewSender, h)
}

// gather counts what was seen, each view for itself.
func (r *Reader) gather() Features {
	n := 0
	for _, s := range r.seen {
		n += len(s)
	}
	f := Features{index: make([]uint16, 0, n), amount: make([]float32, 0, n)}
	for v, seen := range r.seen {
		from := len(f.index)
		for _, i := range seen {
			if r.counts[i]++; r.counts[i] == 1 {
				f.index = append(f.index, i)
			}
		}
		for _, i := range f.index[from:] {
			f.amount = append(f.amount, amounts[min(int(r.counts[i]), len(amounts)-1)])
			r.counts[i] = 0
		}
		f.ends[v] = len(f.index)
	}
	return f
}

// weighed is how much each feature counts: each view is brought to its length, and all to length one. w is nil where
// each feature counts the same.
func (f *Features) weighed(w *Weighting) []float32 {
	out := make([]float32, len(f.index))
	from, total := 0, 0.0
	for v, to := range f.ends {
		sum := float32(0)
		for k := from; k < to; k++ {
			x := f.amount[k]
			if w != nil {
				x *= w.of[f.index[k]]
			}
			out[k] = x
			sum += x * x
		}
		if sum > 0 {
			total += weights[v] * weights[v]
			scale := float32(weights[v] / math.Sqrt(float64(sum)))
			for k := from; k < to; k++ {
				out[k] *= scale
			}
		}
		from = to
	}
	if total > 0 {
		scale := float32(1 / math.Sqrt(total))
		for k := range out {
			out[k] *= scale
		}
	}
	return out
}

// amounts is how much a feature counts that occurs so many times.
var amounts = func() (a [64]float32) {
	for i := 1; i < len(a); i++ {
		a[i] = float32(1 + math.Log(float64(i)))
	}
	return a
}()

// text reads a text's words and the parts of them.
func (r *Reader) text(s string) {
	r.word = eachWord(s, r.word, func(word []byte) {
		f, ok := r.known[string(word)]
		if !ok {
			if len(r.known) >= mostWords {
				clear(r.known)
			}
			f = featuresOf(word)
			r.known[string(word)] = f
		}
		if f.nothing {
			return
		}
		r.seen[viewWords] = append(r.seen[viewWords], f.word)
		r.seen[viewParts] = append(r.seen[viewParts], f.parts...)
	})
}

//go:embed function.txt
var functionText string

// function are the function words of many languages, as words are looked at: they say nothing of what a message is
// about.
var function = sync.OnceValue(func() map[string]bool {
	words := map[string]bool{}
	for line := range strings.Lines(functionText) {
		language, list, _ := strings.Cut(line, ": ")
		if len(language) != 2 {
			continue
		}
		eachWord(list, nil, func(word []byte) { words[string(word)] = true })
	}
	return words
})

func featuresOf(word []byte) (f wordFeatures) {
	if function()[string(word)] {
		return wordFeatures{nothing: true}
	}
	runes := []rune(string(word))
	h := uint32(2166136261)
	for _, c := range runes {
		h = fnv(h, c)
	}
	f.word = slot(fnv(h, ' '))
	if word[0] == '#' {
		return f
	}
	// Five or six characters in a row, the word's ends among them.
	for i := -1; i < len(runes)-1; i++ {
		h := fnv(2166136261, '~')
		if i < 0 {
			h = fnv(h, '^')
		} else {
			h = fnv(h, runes[i])
		}
		for k := i + 1; k <= len(runes) && k < i+6; k++ {
			if k < len(runes) {
				h = fnv(h, runes[k])
			} else {
				h = fnv(h, '$')
			}
			if k >= i+4 {
				f.parts = append(f.parts, slot(h))
			}
		}
	}
	return f
}

// eachWord gives a text's words in lower case and without accents, each number as
// "#". The buffer is what it works in; it gives it back.
func eachWord(s string, buffer []byte, f func(word []byte)) []byte {
	if len(s) > maxRead {
		s = s[:maxRead]
	}
	word, letters := buffer[:0], 0
	flush := func() {
		if len(word) > 0 {
			f(word)
			word, letters = word[:0], 0
		}
	}
	number := false
	add := func(c rune) {
		if number {
			flush()
			number = false
		}
		if letters++; letters <= maxWord {
			word = utf8.AppendRune(word, c)
		}
	}
	plain := true
	for i := 0; i < len(s) && plain; i++ {
		plain = s[i] < 0x80
	}
	if !plain {
		s = norm.NFKD.String(s)
	}
	for _, c := range s {
		switch {
		case c >= 'a' && c <= 'z':
			add(c)
		case c >= 'A' && c <= 'Z':
			add(c + 'a' - 'A')
		case c >= '0' && c <= '9' || c >= 0x80 && unicode.IsDigit(c):
			if !number {
				flush()
				number, word = true, append(word, '#')
			}
		case c >= 0x80 && unicode.IsLetter(c):
			add(unicode.ToLower(c))
		case c >= 0x80 && unicode.Is(unicode.Mn, c): // an accent
		default:
			flush()
			number = false
		}
	}
	flush()
	return word
}

// split lists a message's words as they are looked at.
func split(m *Mail) []string {
	var list []string
	var buffer []byte
	for _, s := range append([]string{mail.BareSubject(m.Subject), own(m.Text)}, m.Names...) {
		buffer = eachWord(s, buffer, func(word []byte) {
			if word[0] != '#' && !function()[string(word)] {
				list = append(list, string(word))
			}
		})
	}
	return list
}

// own is what the writer wrote himself: quoted lines are left out, unless there is
// nothing else.
func own(text string) string {
	if !strings.Contains(text, "\n>") && !strings.HasPrefix(text, ">") {
		return text
	}
	var b strings.Builder
	for line := range strings.Lines(text) {
		if !strings.HasPrefix(strings.TrimLeft(line, " \t"), ">") {
			b.WriteString(line)
		}
	}
	if strings.TrimSpace(b.String()) == "" {
		return text
	}
	return b.String()
}

// Alike says how alike two messages are, from 0 to 1.
func (f *Features) Alike(other *Features) float64 {
	mine := make(map[uint16]float32, len(f.index))
	values := f.weighed(nil)
	for k, b := range f.index {
		mine[b] += values[k]
	}
	sum := float32(0)
	values = other.weighed(nil)
	for k, b := range other.index {
		sum += mine[b] * values[k]
	}
	return float64(sum)
}
