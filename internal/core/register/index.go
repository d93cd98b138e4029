// Package register answers questions about the list of all filings: it finds,
// sorts and counts them, reads what people type into a search, writes the list
// as CSV and XLSX, and knows the addresses of files and messages. It keeps no
// records: it is told each line as it is now and never touches a disk.
package register

import (
	"bytes"
	"math/bits"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/text/cases"

	"inktray.example/inktray/internal/core/pattern"
	"inktray.example/inktray/internal/core/value"
)

// State is what has become of a line of the register. Exactly one holds: the
// last that applies, in the order in which they are listed here.
type State uint8

// The states of a line.
const (
	Waiting   State = iota // its number is drawn, the file is not there yet
	Filed                  // the file is where it was filed
	Changed                // at the last verification the file had another content
	Missing                // at the last verification the file was not there
	Replaced               // a later filing took its place
	TakenBack              // somebody took the filing back
	Void                   // the number came to nothing
)

// States are the words for the states, in their order.
var States = []string{"waiting", "filed", "changed", "missing", "replaced", "taken back", "void"}

// String is the state's word.
func (s State) String() string { return States[s] }

// StateNamed finds a state by its word.
func StateNamed(word string) (State, bool) {
	i := slices.Index(States, word)
	return State(max(i, 0)), i >= 0
}

// There are the states of a filing that was filed and not taken back.
var There = []State{Filed, Changed, Missing, Replaced}

// All are all states but Waiting.
var All = []State{Filed, Changed, Missing, Replaced, TakenBack, Void}

// Number is a register number: the year of its drawing and a running number.
// The zero Number is none.
type Number struct{ Year, Number int }

func (n Number) key() uint64 { return uint64(n.Year)<<32 | uint64(uint32(n.Number)) }

func numbered(key uint64) Number { return Number{int(key >> 32), int(uint32(key))} }

// Row is one line of the register, as far as it is asked about.
type Row struct {
	Number        Number
	Message       int64 // the message's own number in the records
	State         State
	Received      int64 // seconds since 1970
	Filed         int64 // seconds since 1970, 0 for not filed
	Size          int64 // octets
	MailboxID     string
	Mailbox       string
	RuleID        string
	Rule          string
	CabinetID     string
	Cabinet       string
	Kind          string
	SenderName    string
	SenderAddress string
	Folder        string
	File          string
	Subject       string
	Notes         string
	Values        []value.Value // what was read of the file
}

// Index holds the register in columns, so that any question is one look over
// them. The zero Index is empty. It may be used by several goroutines at once.
type Index struct {
	mutex sync.RWMutex

	numbers   []uint64 // in ascending order
	messages  []uint32
	states    []State
	in        [Void + 1]set // the lines of each state
	received  []int64
	filed     []int64
	sizes     []int64
	mailboxes column
	rules     column
	cabinets  column
	kinds     column
	senders   column // name, address
	addresses groups // of senders
	folders   column // cabinet, path
	values    column // name, type, text of each; see joinValues
	names     names  // of values
	subjects  texts
	files     texts
	notes     map[uint32]string // folded
}

// Fold is the form in which words are looked for: without regard to case and
// marks, "ß" as "ss".
func Fold(s string) string {
	for i := range len(s) {
		if s[i] >= 0x80 {
			return cases.Fold().String(pattern.Plain(s))
		}
	}
	return strings.ToLower(s)
}

// sep is between the parts of a value of a column; no part holds it.
const sep = "\x00"

// column holds values that come again and again, once each.
type column struct {
	of     []uint32 // by line
	values []string // as they are written
	folded texts
	ids    map[string]uint32
	order  []uint32 // values by their folded form; of the first len(order) values
	rank   []uint32 // the place of each in order
}

func (c *column) id(value string) uint32 {
	if id, ok := c.ids[value]; ok {
		return id
	}
	if c.ids == nil {
		c.ids = map[string]uint32{}
	}
	id := uint32(len(c.values))
	value = strings.Clone(value)
	c.ids[value] = id
	c.values = append(c.values, value)
	c.folded.set(int(id), value)
	return id
}

func (c *column) set(i int, value string) {
	if i == len(c.of) {
		c.of = append(c.of, c.id(value))
	} else {
		c.of[i] = c.id(value)
	}
}

func (c *column) compare(a, b uint32) int {
	if r := bytes.Compare(c.folded.at(int(a)), c.folded.at(int(b))); r != 0 {
		return r
	}
	return int(a) - int(b)
}

// arrange brings order and rank up to date: new values are sorted and merged in.
func (c *column) arrange() {
	old, n := len(c.order), len(c.values)
	if old == n {
		return
	}
	fresh := make([]uint32, n-old)
	for i := range fresh {
		fresh[i] = uint32(old + i)
	}
	slices.SortFunc(fresh, c.compare)
	merged := make([]uint32, 0, n)
	from := 0
	for _, id := range fresh {
		at, _ := slices.BinarySearchFunc(c.order[from:], id, c.compare)
		merged = append(append(merged, c.order[from:from+at]...), id)
		from += at
	}
	c.order = append(merged, c.order[from:]...)
	c.rank = slices.Grow(c.rank[:0], n)[:n]
	for place, id := range c.order {
		c.rank[id] = uint32(place)
	}
}

// groups says which values of a column belong together.
type groups struct {
	of  []uint32 // by value
	ids map[string]uint32
}

// join brings the groups up to date with a column's values.
func (g *groups) join(values []string, key func(value string) string) {
	if g.ids == nil {
		g.ids = map[string]uint32{}
	}
	for _, v := range values[len(g.of):] {
		k := key(v)
		id, ok := g.ids[k]
		if !ok {
			id = uint32(len(g.ids))
			g.ids[k] = id
		}
		g.of = append(g.of, id)
	}
}

// texts holds a folded text for each line, one after the other with a newline
// between, so that all of them are searched in one go.
type texts struct {
	start, end []uint32
	laid       []uint32 // where it was first laid, in ascending order
	all        []byte
	moved      map[uint32]bool // lines whose text does not lie in the order of the lines
	known      *known
}

// known holds the answers to the last searches: who goes on to the next page or
// sorts again asks for the same words again. A change of a line keeps them true.
type known struct {
	mutex sync.Mutex
	words map[string]set
	order []string // the oldest first
}

// mostKnown bounds how many answers are held: an eighth of an octet for each
// line and answer.
const mostKnown = 24

func (k *known) get(word string) set {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	return k.words[word]
}

func (k *known) put(word string, s set) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	if _, ok := k.words[word]; ok {
		return
	}
	if len(k.order) == mostKnown {
		delete(k.words, k.order[0])
		k.order = k.order[1:]
	}
	k.words[word], k.order = s, append(k.order, word)
}

// changed keeps the answers true for a line. Nobody reads meanwhile.
func (k *known) changed(i int, text []byte) {
	for word, s := range k.words {
		if i>>6 == len(s) {
			s = append(s, 0)
		}
		s[i>>6] &^= 1 << (i & 63)
		if bytes.Contains(text, []byte(word)) {
			s[i>>6] |= 1 << (i & 63)
		}
		k.words[word] = s
	}
}

func (t *texts) at(i int) []byte { return t.all[t.start[i]:t.end[i]] }

func (t *texts) set(i int, text string) {
	if t.known == nil {
		t.known = &known{words: map[string]set{}}
	}
	t.lay(i, text)
	t.known.changed(i, t.at(i))
}

func (t *texts) lay(i int, text string) {
	text = strings.ReplaceAll(Fold(text), "\n", " ")
	fresh := i == len(t.start)
	switch { // a message's attachments have one subject
	case !fresh && string(t.at(i)) == text:
		return
	case fresh && i > 0 && !t.moved[uint32(i-1)] && string(t.at(i-1)) == text:
		t.start, t.end, t.laid = append(t.start, t.start[i-1]), append(t.end, t.end[i-1]), append(t.laid, t.laid[i-1])
		return
	case !fresh && t.alone(i):
		clear(t.at(i)) // what was erased is gone from here too
	}
	start := uint32(len(t.all))
	t.all = append(append(t.all, text...), '\n')
	end := start + uint32(len(text))
	if fresh {
		t.start, t.end, t.laid = append(t.start, start), append(t.end, end), append(t.laid, start)
		return
	}
	t.start[i], t.end[i] = start, end
	if t.moved == nil {
		t.moved = map[uint32]bool{}
	}
	t.moved[uint32(i)] = true
}

// settle puts moved texts back into the order of the lines once they are many.
func (t *texts) settle(all bool) {
	if len(t.moved) == 0 || !all && len(t.moved) < max(4096, len(t.start)/32) {
		return
	}
	old := *t
	t.all, t.moved = make([]byte, 0, len(old.all)), nil
	n := len(old.start)
	t.start, t.end, t.laid = make([]uint32, 0, n), make([]uint32, 0, n), make([]uint32, 0, n)
	for i := range old.start {
		t.lay(i, string(old.at(i)))
	}
}

// search finds the lines in whose text a folded word is. The set is not to
// be changed.
func (t *texts) search(word []byte) set {
	if t.known == nil {
		return nil
	}
	if s := t.known.get(string(word)); s != nil {
		return s
	}
	s := t.look(word)
	t.known.put(string(word), s)
	return s
}

func (t *texts) look(word []byte) set {
	n := len(t.start)
	found := make(set, (n+63)/64)
	look := t.finder(word)
	inParts(len(found), func(from, to int) {
		if first, last := from<<6, min(to<<6, n); first < last {
			t.scan(found, look, first, last)
		}
	})
	for i := range t.moved {
		if bytes.Contains(t.at(int(i)), word) {
			found[i>>6] |= 1 << (i & 63)
		}
	}
	return found
}

// finder looks for a word by that of its letters which is the rarest in a sample
// of the texts: that is several times as quick as looking for its first letters.
func (t *texts) finder(word []byte) func(text []byte) int {
	const sample, common = 1 << 15, 1 << 11 // a letter of each sixteen
	var counts [256]int
	from := max(0, len(t.all)/2-sample/2)
	for _, c := range t.all[from:min(len(t.all), from+sample)] {
		counts[c]++
	}
	at := 0
	for i, c := range word {
		if counts[c] < counts[word[at]] {
			at = i
		}
	}
	if len(word) == 0 || counts[word[at]] > common {
		return func(text []byte) int { return bytes.Index(text, word) }
	}
	rare := word[at]
	return func(text []byte) int {
		for from := 0; from+len(word) <= len(text); {
			i := bytes.IndexByte(text[from+at:], rare)
			if i < 0 {
				return -1
			}
			if from += i; from+len(word) > len(text) {
				return -1
			}
			if string(text[from:from+len(word)]) == string(word) {
				return from
			}
			from++
		}
		return -1
	}
}

// scan looks through the texts of some lines. What was moved, from here or to
// here, is passed over.
func (t *texts) scan(found set, look func(text []byte) int, first, last int) {
	end := len(t.all)
	if last < len(t.laid) {
		end = int(t.laid[last])
	}
	line := first
	for at := int(t.laid[first]); at < end; {
		hit := look(t.all[at:end])
		if hit < 0 {
			return
		}
		at += hit
		step := 1 // to the last line that was laid at or before the hit
		for line+step < last && int(t.laid[line+step]) <= at {
			line += step
			step *= 2
		}
		for ; step > 0; step /= 2 {
			for line+step < last && int(t.laid[line+step]) <= at {
				line += step
			}
		}
		for k := line; k >= first && t.laid[k] == t.laid[line]; k-- {
			if at < int(t.end[k]) && !t.moved[uint32(k)] {
				found[k>>6] |= 1 << (k & 63)
			}
		}
		if line++; line >= last {
			return
		}
		at = int(t.laid[line])
	}
}

// alone says that no neighbour shares the text of a line.
func (t *texts) alone(i int) bool {
	same := func(k int) bool {
		return k >= 0 && k < len(t.start) && t.start[k] == t.start[i] && t.end[k] == t.end[i]
	}
	return !same(i-1) && !same(i+1)
}

// Put enters a line, or changes the one of its number.
func (x *Index) Put(rows ...Row) {
	x.mutex.Lock()
	defer x.mutex.Unlock()
	for i := range rows {
		x.put(&rows[i])
	}
	x.subjects.settle(false)
	x.files.settle(false)
	x.joinAddresses()
	x.names.join(x.values.values)
}

func (x *Index) joinAddresses() {
	x.addresses.join(x.senders.values,
		func(v string) string { _, address, _ := strings.Cut(v, sep); return strings.ToLower(address) })
}

func (x *Index) put(r *Row) {
	key := r.Number.key()
	i, there := len(x.numbers), false
	if i > 0 && key <= x.numbers[i-1] {
		i, there = slices.BinarySearch(x.numbers, key)
	}
	if !there {
		if i < len(x.numbers) { // numbers are drawn in order, so this is rare
			x.rebuild(i, r)
			return
		}
		x.numbers = append(x.numbers, key)
		x.messages, x.states = append(x.messages, 0), append(x.states, 0)
		x.received, x.filed, x.sizes = append(x.received, 0), append(x.filed, 0), append(x.sizes, 0)
	}
	for state := range x.in {
		if i>>6 == len(x.in[state]) {
			x.in[state] = append(x.in[state], 0)
		}
		x.in[state][i>>6] &^= 1 << (i & 63)
	}
	x.in[r.State][i>>6] |= 1 << (i & 63)
	x.messages[i], x.states[i], x.received[i], x.filed[i], x.sizes[i] = uint32(r.Message), r.State, r.Received, r.Filed,
		r.Size
	x.mailboxes.set(i, r.MailboxID+sep+r.Mailbox)
	x.rules.set(i, r.RuleID+sep+r.Rule)
	x.cabinets.set(i, r.CabinetID+sep+r.Cabinet)
	x.kinds.set(i, r.Kind)
	x.senders.set(i, r.SenderName+sep+r.SenderAddress)
	x.folders.set(i, r.Cabinet+sep+r.Folder)
	x.values.set(i, joinValues(r.Values))
	x.subjects.set(i, r.Subject)
	x.files.set(i, r.File)
	if r.Notes != "" {
		if x.notes == nil {
			x.notes = map[uint32]string{}
		}
		x.notes[uint32(i)] = Fold(r.Notes)
	} else {
		delete(x.notes, uint32(i))
	}
}

// rebuild enters a line before others.
func (x *Index) rebuild(at int, r *Row) {
	x.numbers = slices.Insert(x.numbers, at, r.Number.key())
	x.messages, x.states = slices.Insert(x.messages, at, 0), slices.Insert(x.states, at, 0)
	x.received, x.filed, x.sizes = slices.Insert(x.received, at, 0), slices.Insert(x.filed, at, 0),
		slices.Insert(x.sizes, at, 0)
	for _, c := range []*column{&x.mailboxes, &x.rules, &x.cabinets, &x.kinds, &x.senders, &x.folders, &x.values} {
		c.of = slices.Insert(c.of, at, 0)
	}
	for _, t := range []*texts{&x.subjects, &x.files} {
		t.settle(true)
		laid := t.laid[at]
		t.known = nil
		t.start, t.end, t.laid = slices.Insert(t.start, at, laid), slices.Insert(t.end, at, laid),
			slices.Insert(t.laid, at, laid)
	}
	for state := range x.in { // they are counted again
		x.in[state] = make(set, (len(x.states)+63)/64)
	}
	for i, state := range x.states {
		x.in[state][i>>6] |= 1 << (i & 63)
	}
	notes := map[uint32]string{}
	for i, n := range x.notes {
		if int(i) >= at {
			i++
		}
		notes[i] = n
	}
	x.notes = notes
	x.put(r)
}

// Reset forgets everything.
func (x *Index) Reset() {
	x.mutex.Lock()
	defer x.mutex.Unlock()
	x.numbers, x.messages, x.states, x.received, x.filed, x.sizes, x.in = nil, nil, nil, nil, nil, nil, [Void + 1]set{}
	x.mailboxes, x.rules, x.cabinets, x.kinds, x.senders, x.folders = column{}, column{}, column{}, column{}, column{},
		column{}
	x.values, x.names = column{}, names{}
	x.subjects, x.files, x.notes, x.addresses = texts{}, texts{}, nil, groups{}
}

// Trim gives back the memory that was taken in advance and puts the columns in
// order, once many lines were put.
func (x *Index) Trim() {
	x.mutex.Lock()
	defer x.mutex.Unlock()
	x.numbers, x.messages, x.states = fit(x.numbers), fit(x.messages), fit(x.states)
	x.received, x.filed, x.sizes = fit(x.received), fit(x.filed), fit(x.sizes)
	for _, c := range []*column{&x.mailboxes, &x.rules, &x.cabinets, &x.kinds, &x.senders, &x.folders} {
		c.of = fit(c.of)
		c.arrange()
	}
	for _, t := range []*texts{&x.subjects, &x.files} {
		t.start, t.end, t.laid, t.all = fit(t.start), fit(t.end), fit(t.laid), fit(t.all)
	}
}

// fit copies a slice to one with a little room.
func fit[T any](s []T) []T {
	return append(make([]T, 0, len(s)+len(s)/50+16), s...)
}

// Len is how many lines there are, in whatever state.
func (x *Index) Len() int {
	x.mutex.RLock()
	defer x.mutex.RUnlock()
	return len(x.numbers)
}

// set is a set of lines, one bit each.
type set []uint64

func (s set) has(i int) bool { return s[i>>6]&(1<<(i&63)) != 0 }

// keep leaves those lines in the set that fit. Several processors look at once.
func (s set) keep(fits func(i int) bool) {
	inParts(len(s), func(from, to int) {
		for w := from; w < to; w++ {
			for rest := s[w]; rest != 0; rest &= rest - 1 {
				if i := w<<6 + trailing(rest); !fits(i) {
					s[w] &^= 1 << (i & 63)
				}
			}
		}
	})
}

// add puts those lines of another set in that fit.
func (s set) add(of set, fits func(i int) bool) {
	inParts(len(s), func(from, to int) {
		for w := from; w < to; w++ {
			for rest := of[w] &^ s[w]; rest != 0; rest &= rest - 1 {
				if i := w<<6 + trailing(rest); fits(i) {
					s[w] |= 1 << (i & 63)
				}
			}
		}
	})
}

// back is each from the last line to the first.
func (s set) back(f func(i int)) {
	for w := len(s) - 1; w >= 0; w-- {
		for word := s[w]; word != 0; {
			bit := 63 - bits.LeadingZeros64(word)
			word &^= 1 << bit
			f(w<<6 + bit)
		}
	}
}

func (s set) each(f func(i int)) {
	for w, word := range s {
		for ; word != 0; word &= word - 1 {
			f(w<<6 + trailing(word))
		}
	}
}

// inParts lets each processor work on a part of n.
func inParts(n int, work func(from, to int)) {
	parts := min(runtime.GOMAXPROCS(0), n/64+1)
	if parts == 1 {
		work(0, n)
		return
	}
	var all sync.WaitGroup
	for p := range parts {
		all.Go(func() { work(n*p/parts, n*(p+1)/parts) })
	}
	all.Wait()
}

// contains finds the values of a column in which a folded word is. The set is
// not to be changed; none is nil.
func (c *column) contains(word string) set {
	found := c.folded.search([]byte(word))
	for _, w := range found {
		if w != 0 {
			return found
		}
	}
	return nil
}

func (t *texts) contains(i int, word []byte) bool { return bytes.Contains(t.at(i), word) }
