package register

import (
	"bytes"
	"cmp"
	"maps"
	"slices"
	"strings"
	"sync"

	"inktray.example/inktray/internal/core/value"
)

// unit and line part what is held of values.
const (
	unit = "\x1f"
	line = "\x1e"
)

// joinValues is how values are held in the index: each found one as name, type and text. Lines with the same values
// hold them once.
func joinValues(all []value.Value) string {
	var b strings.Builder
	for _, v := range all {
		if v.Text == "" {
			continue
		}
		if b.Len() > 0 {
			b.WriteString(line)
		}
		b.WriteString(v.Name + unit + string(v.Type) + unit + v.Text)
	}
	return b.String()
}

// eachValue goes through values as they are held.
func eachValue(joined string, f func(v value.Value)) {
	for joined != "" {
		var one string
		one, joined, _ = strings.Cut(joined, line)
		name, rest, _ := strings.Cut(one, unit)
		t, text, _ := strings.Cut(rest, unit)
		f(value.Value{Name: name, Type: value.Type(t), Text: text})
	}
}

// ValueTest is what a person looks for in a value, as "amount:>=1000".
type ValueTest struct {
	Name string
	// Is is how it compares: "", which is equal, or for texts that it is in it, or "<", "<=", ">", ">=".
	Is   string
	Text string // with * for any text where Is is ""
}

// ParseValueTest reads what is looked for in a value.
func ParseValueTest(name, text string) ValueTest {
	for _, is := range []string{"<=", ">=", "≤", "≥", "<", ">", "="} {
		if rest, ok := strings.CutPrefix(text, is); ok {
			as := map[string]string{"≤": "<=", "≥": ">=", "=": ""}
			if other, ok := as[is]; ok {
				is = other
			}
			return ValueTest{name, is, strings.TrimSpace(rest)}
		}
	}
	return ValueTest{Name: name, Text: text}
}

// readyTest is a test that is prepared for many lines: what can be read once is read once.
type readyTest struct {
	name, is string
	any      bool
	texts    [][]byte // folded, what is between the *; one of them is anywhere in the text
	day      []byte   // the beginning of a date
	of       map[string]*wanted
}

// wanted is what is looked for as a value of a type. Of an amount the currency counts where it is named.
type wanted struct {
	kept     string
	currency []byte // folded
	number   float64
	short    bool // the number is exact as a float64
	none     bool // it is no value of that type
}

func (t *ValueTest) ready() *readyTest {
	r := &readyTest{name: Fold(t.Name), is: t.Is, any: t.Text == "*" && t.Is == "", of: map[string]*wanted{}}
	if t.Is == "" {
		for _, part := range strings.Split(Fold(t.Text), "*") {
			r.texts = append(r.texts, []byte(part))
		}
		if len(t.Text) == 4 || len(t.Text) == 7 { // a year or a month
			r.day = []byte(t.Text)
		}
	}
	for _, of := range value.Types {
		r.of[string(of)] = t.wanted(of)
	}
	return r
}

func (t *ValueTest) wanted(of value.Type) *wanted {
	for _, format := range []value.Format{{Decimal: value.Point}, {}, {Decimal: value.Comma}} {
		kept, err := value.Read(of, t.Text, format)
		if err != nil {
			continue
		}
		w := &wanted{kept: kept}
		if of == value.Amount {
			number, currency, _ := strings.Cut(kept, " ")
			w.kept, w.currency = number, []byte(Fold(currency))
		}
		w.number, w.short = short([]byte(w.kept))
		return w
	}
	return &wanted{none: true}
}

// short reads a number that is kept, if it has so few digits that a float64 puts it in order exactly: up to 15.
func short(text []byte) (number float64, ok bool) {
	negative := len(text) > 0 && text[0] == '-'
	if negative {
		text = text[1:]
	}
	digits, all, places, point := 0, 0, 0, false
	for _, c := range text {
		switch {
		case c == '.' && !point:
			point = true
		case c < '0' || c > '9':
			return 0, false
		default:
			if all = all*10 + int(c-'0'); all > 0 {
				digits++
			}
			if point {
				places++
			}
		}
		if digits > 15 || places > 15 {
			return 0, false
		}
	}
	if number = float64(all) / tens[places]; negative {
		number = -number
	}
	return number, len(text) > 0
}

// tens are the powers of ten that a float64 holds exactly, as far as short needs them.
var tens = [16]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15}

// foldedValue finds a value in those of a line as they are held folded.
func foldedValue(joined []byte, name string) (t, text []byte, there bool) {
	for len(joined) > 0 {
		one := joined
		if at := bytes.IndexByte(joined, line[0]); at >= 0 {
			one, joined = joined[:at], joined[at+1:]
		} else {
			joined = nil
		}
		if len(one) > len(name) && one[len(name)] == unit[0] && string(one[:len(name)]) == name {
			rest := one[len(name)+1:]
			if at := bytes.IndexByte(rest, unit[0]); at >= 0 {
				return rest[:at], rest[at+1:], true
			}
		}
	}
	return nil, nil, false
}

// fits says whether the value that is asked for is among those of a line, which are held folded, and fits.
func (t *readyTest) fits(joined []byte) bool {
	of, text, there := foldedValue(joined, t.name)
	switch {
	case !there || t.any: // whatever was found
		return there
	case t.texts != nil && string(of) == string(value.Text):
		if len(t.texts) > 1 {
			return like(text, t.texts)
		}
		return bytes.Contains(text, t.texts[0])
	case t.day != nil && string(of) == string(value.Date):
		return bytes.HasPrefix(text, t.day)
	}
	want := t.of[string(of)]
	if want == nil || want.none {
		return false
	}
	is := 0
	switch value.Type(of) {
	case value.Number, value.Amount:
		number, currency, _ := bytes.Cut(text, []byte(" "))
		if len(want.currency) > 0 && !bytes.Equal(currency, want.currency) {
			return false
		}
		if has, ok := short(number); ok && want.short {
			is = cmp.Compare(has, want.number)
		} else {
			is = value.Compare(value.Number, string(number), want.kept)
		}
	default:
		is = strings.Compare(string(text), Fold(want.kept))
	}
	switch t.is {
	case "<":
		return is < 0
	case "<=":
		return is <= 0
	case ">":
		return is > 0
	case ">=":
		return is >= 0
	default:
		return is == 0
	}
}

// like says whether a text is made of parts with any text between them.
func like(text []byte, parts [][]byte) bool {
	rest, ok := bytes.CutPrefix(text, parts[0])
	if !ok {
		return false
	}
	last := len(parts) - 1
	for _, part := range parts[1:last] {
		_, after, found := bytes.Cut(rest, part)
		if !found {
			return false
		}
		rest = after
	}
	return bytes.HasSuffix(rest, parts[last])
}

// having narrows to the lines with a value that fits.
func (x *Index) having(s set, test *ValueTest) {
	ready, c := test.ready(), &x.values
	allowed := make([]bool, len(c.values))
	inParts(len(allowed), func(from, to int) {
		for i := from; i < to; i++ {
			allowed[i] = ready.fits(c.folded.at(i))
		}
	})
	s.keep(func(i int) bool { return allowed[c.of[i]] })
}

// names are those of all values that were ever in the register.
type names struct {
	all  []string // sorted
	seen int      // how many entries of the column were looked at
}

func (n *names) join(values []string) {
	for _, joined := range values[n.seen:] {
		n.add(joined)
	}
	n.seen = len(values)
}

func (n *names) add(joined string) {
	eachValue(joined, func(v value.Value) {
		if at, there := slices.BinarySearch(n.all, v.Name); !there {
			n.all = slices.Insert(n.all, at, v.Name)
		}
	})
}

// ValueNames are the names of the values in the lines that a query is about, sorted. Where it is about all of them,
// those are among them that were there once.
func (x *Index) ValueNames(q Query) []string {
	x.mutex.RLock()
	defer x.mutex.RUnlock()
	if q.Mailboxes == nil && q.Cabinets == nil || len(x.names.all) == 0 {
		return slices.Clone(x.names.all)
	}
	entries := make(set, (len(x.values.values)+63)/64)
	x.narrow(&q).each(func(i int) {
		at := x.values.of[i]
		entries[at>>6] |= 1 << (at & 63)
	})
	var seen names
	entries.each(func(i int) { seen.add(x.values.values[i]) })
	return seen.all
}

// valuesWith finds the entries of the column of values in whose texts a folded word is; nil for none.
func (x *Index) valuesWith(word string) set {
	found := slices.Clone(x.values.contains(word))
	found.keep(func(i int) bool {
		for rest := x.values.folded.at(i); len(rest) > 0; {
			var one []byte
			one, rest, _ = bytes.Cut(rest, []byte(line))
			_, one, _ = bytes.Cut(one, []byte(unit))
			if _, text, _ := bytes.Cut(one, []byte(unit)); bytes.Contains(text, []byte(word)) {
				return true
			}
		}
		return false
	})
	return found
}

// valueKey is by what a line is put in the order of a value.
type valueKey struct {
	there   bool
	numeric bool
	number  float64
	text    []byte // folded
}

func keyOf(t value.Type, folded []byte) valueKey {
	k := valueKey{there: len(folded) > 0, text: folded}
	if t != value.Number && t != value.Amount {
		return k
	}
	digits, _, _ := bytes.Cut(folded, []byte(" "))
	if k.number, k.numeric = short(digits); !k.numeric {
		if r, ok := value.Rat(string(digits)); ok {
			k.number, _ = r.Float64()
			k.numeric = true
		}
	}
	return k
}

// compare puts what is missing last, in either direction, and numbers before texts.
func (k *valueKey) compare(o *valueKey, ascending bool) int {
	if k.there != o.there {
		if k.there == ascending {
			return -1
		}
		return 1
	}
	if k.numeric != o.numeric {
		if k.numeric {
			return -1
		}
		return 1
	}
	if r := cmp.Compare(k.number, o.number); r != 0 {
		return r
	}
	return bytes.Compare(k.text, o.text)
}

// keysOf are the keys of all entries of the column of values, for one of them.
func (x *Index) keysOf(name string) []valueKey {
	keys := make([]valueKey, len(x.values.values))
	name = Fold(name)
	inParts(len(keys), func(from, to int) {
		for i := from; i < to; i++ {
			if t, text, there := foldedValue(x.values.folded.at(i), name); there {
				keys[i] = keyOf(value.Type(t), text)
			}
		}
	})
	return keys
}

// Sum is what the numbers of a value come to, in one currency.
type Sum struct {
	Name     string
	Currency string // "" of numbers, and of amounts without one
	Count    int    // of filings
	Total    value.Total
}

// Sums adds up the numbers and amounts of what a query finds, by their names and currencies.
func (x *Index) Sums(q Query) []Sum {
	x.mutex.RLock()
	defer x.mutex.RUnlock()
	if len(x.names.all) == 0 {
		return nil
	}
	counts := make([]int32, len(x.values.values))
	x.narrow(&q).each(func(i int) { counts[x.values.of[i]]++ })
	var (
		mutex sync.Mutex
		all   = map[sumOf]*Sum{}
	)
	inParts(len(counts), func(from, to int) {
		part := map[sumOf]*Sum{}
		for id := from; id < to; id++ {
			if counts[id] > 0 {
				addUp(part, x.values.values[id], int(counts[id]))
			}
		}
		mutex.Lock()
		defer mutex.Unlock()
		for of, s := range part {
			if have := all[of]; have != nil {
				have.Count += s.Count
				have.Total.Join(&s.Total)
			} else {
				all[of] = s
			}
		}
	})
	sums := slices.Collect(maps.Values(all))
	slices.SortFunc(sums, func(a, b *Sum) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Currency, b.Currency))
	})
	out := make([]Sum, len(sums))
	for i, s := range sums {
		out[i] = *s
	}
	return out
}

type sumOf struct{ name, currency string }

func addUp(sums map[sumOf]*Sum, joined string, times int) {
	eachValue(joined, func(v value.Value) {
		if v.Type != value.Number && v.Type != value.Amount {
			return
		}
		number, currency, _ := strings.Cut(v.Text, " ")
		of := sumOf{v.Name, currency}
		s := sums[of]
		if s == nil {
			s = &Sum{Name: v.Name, Currency: currency}
			sums[of] = s
		}
		if s.Total.Add(number, times) {
			s.Count += times
		}
	})
}
