package register

import (
	"bytes"
	"cmp"
	"container/heap"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
)

func trailing(word uint64) int { return bits.TrailingZeros64(word) }

// Sort is by what lines are put in order.
type Sort string

// The orders, beside which each value is one, by its name. Lines that are equal are in the order of their numbers.
const (
	ByNumber   Sort = "number"
	ByReceived Sort = "received"
	ByFiled    Sort = "filed"
	BySender   Sort = "sender"
	BySubject  Sort = "subject"
	ByFile     Sort = "file"
	ByFolder   Sort = "folder"
	BySize     Sort = "size"
	ByKind     Sort = "kind"
	ByRule     Sort = "rule"
	ByMailbox  Sort = "mailbox"
)

// Sorts are all of them.
var Sorts = []Sort{ByNumber, ByReceived, ByFiled, BySender, BySubject, ByFile, ByFolder, BySize, ByKind, ByRule,
	ByMailbox}

// Query narrows the register and says in what order. Zero values narrow
// nothing, but a zero States is There.
type Query struct {
	Search
	Mailboxes []string // by id: what the viewer may see; nil for all
	Cabinets  []string // the same
	MailboxID string
	RuleID    string
	Cabinet   string // by name
	Folder    string // of Cabinet or of any, and the cause it
	Message   int64
	Within    []uint64 // only these lines, as year<<32 | number, in ascending order; nil for all: see Search.Inside
	Year      int      // of the number
	Sort      Sort     // "" is by number
	Ascending bool     // the smallest first; else the largest
	After     Number
	Most      int // 0 is all
}

// Found is what a query found.
type Found struct {
	Numbers []Number // of the page
	Total   int      // of all
	Size    int64    // of all, in octets
	More    bool
}

// narrow finds the lines that a query is about. The mutex is held.
func (x *Index) narrow(q *Query) set {
	n := len(x.numbers)
	s := make(set, (n+63)/64)
	states := q.States
	if states == nil {
		states = There
	}
	for _, state := range states {
		for w, lines := range x.in[state] {
			s[w] |= lines
		}
	}
	for _, may := range []struct {
		of  *column
		ids []string
	}{{&x.mailboxes, q.Mailboxes}, {&x.cabinets, q.Cabinets}} {
		if may.ids != nil {
			may.of.narrow(s, func(v string) bool { id, _, _ := strings.Cut(v, sep); return slices.Contains(may.ids, id) })
		}
	}
	byID := func(c *column, id string) {
		if id != "" {
			c.narrow(s, func(v string) bool { return strings.HasPrefix(v, id+sep) })
		}
	}
	byID(&x.mailboxes, q.MailboxID)
	byID(&x.rules, q.RuleID)
	if q.Cabinet != "" || q.Folder != "" {
		x.folders.narrow(s, func(v string) bool {
			cabinet, folder, _ := strings.Cut(v, sep)
			if q.Cabinet != "" && cabinet != q.Cabinet {
				return false
			}
			return q.Folder == "" || folder == q.Folder || strings.HasPrefix(folder, q.Folder+"/")
		})
	}
	if q.Year != 0 {
		s.keep(func(i int) bool { return int(x.numbers[i]>>32) == q.Year })
	}
	if q.Within != nil {
		s.keep(func(i int) bool { _, is := slices.BinarySearch(q.Within, x.numbers[i]); return is })
	}
	if q.Message != 0 {
		s.keep(func(i int) bool { return x.messages[i] == uint32(q.Message) })
	}
	x.search(s, &q.Search)
	return s
}

func (c *column) narrow(s set, fits func(value string) bool) {
	allowed := make([]bool, len(c.values))
	inParts(len(c.values), func(from, to int) {
		for i := from; i < to; i++ {
			allowed[i] = fits(c.values[i])
		}
	})
	s.keep(func(i int) bool { return allowed[c.of[i]] })
}

func second(t time.Time) int64 { return t.Unix() }

// search narrows by what a person typed.
func (x *Index) search(s set, q *Search) {
	between := func(of []int64, from, to time.Time) {
		if !from.IsZero() {
			least := second(from)
			s.keep(func(i int) bool { return of[i] >= least })
		}
		if !to.IsZero() {
			most := second(to)
			s.keep(func(i int) bool { return of[i] < most && of[i] != 0 })
		}
	}
	between(x.received, q.Since, q.Before)
	between(x.filed, q.FiledSince, q.FiledBefore)
	if q.Larger > 0 {
		s.keep(func(i int) bool { return x.sizes[i] > int64(q.Larger) })
	}
	if q.Smaller > 0 {
		s.keep(func(i int) bool { return x.sizes[i] < int64(q.Smaller) })
	}
	if len(q.Kinds) > 0 {
		x.kinds.narrow(s, func(v string) bool { return slices.Contains(q.Kinds, v) })
	}
	for _, w := range q.Sender {
		values := x.senders.contains(Fold(w))
		s.keep(func(i int) bool { return values != nil && values.has(int(x.senders.of[i])) })
	}
	for _, of := range []struct {
		column *column
		words  []string
	}{ // ids and cabinets are not looked at
		{&x.rules, q.Rule}, {&x.mailboxes, q.Mailbox}, {&x.cabinets, q.InCabinet}, {&x.folders, q.InFolder},
	} {
		for _, word := range of.words {
			word = Fold(word)
			of.column.narrow(s, func(v string) bool { _, v, _ = strings.Cut(v, sep); return strings.Contains(Fold(v), word) })
		}
	}
	for _, of := range []struct {
		texts *texts
		words []string
	}{{&x.subjects, q.Subject}, {&x.files, q.File}} {
		for _, w := range of.words {
			word := []byte(Fold(w))
			if s.count()*2 > len(x.numbers) {
				s.keep(of.texts.search(word).has)
			} else {
				s.keep(func(i int) bool { return of.texts.contains(i, word) })
			}
		}
	}
	for _, w := range q.Note {
		word := Fold(w)
		s.keep(func(i int) bool { n, ok := x.notes[uint32(i)]; return ok && strings.Contains(n, word) })
	}
	for i := range q.Values {
		x.having(s, &q.Values[i])
	}
	words := slices.Clone(q.Words)
	// long words are rare, and leave less to look at
	slices.SortStableFunc(words, func(a, b string) int { return len(b) - len(a) })
	for _, w := range words {
		x.word(s, Fold(w))
	}
	for _, w := range q.Without {
		with := slices.Clone(s)
		x.word(with, Fold(w))
		for i := range s {
			s[i] &^= with[i]
		}
	}
}

// word narrows to lines in which a folded word is anywhere.
func (x *Index) word(s set, word string) {
	text := []byte(word)
	found := make(set, len(s))
	if s.count()*2 > len(x.numbers) { // many are quicker looked through all at once
		files, subjects := x.files.search(text), x.subjects.search(text)
		for w := range found {
			found[w] = (files[w] | subjects[w]) & s[w]
		}
	} else {
		copy(found, s)
		found.keep(func(i int) bool { return x.files.contains(i, text) || x.subjects.contains(i, text) })
	}
	if values := x.valuesWith(word); values != nil {
		found.add(s, func(i int) bool { return values.has(int(x.values.of[i])) })
	}
	for _, c := range []*column{&x.senders, &x.folders, &x.rules} {
		if values := c.contains(word); values != nil {
			found.add(s, func(i int) bool { return values.has(int(c.of[i])) })
		}
	}
	if exact, alike := x.number(word); exact != 0 {
		found.add(s, func(i int) bool { return x.numbers[i] == exact })
	} else if alike != 0 {
		found.add(s, func(i int) bool { return uint32(x.numbers[i]) == alike })
	}
	for i, note := range x.notes {
		if s.has(int(i)) && strings.Contains(note, word) {
			found[i>>6] |= 1 << (i & 63)
		}
	}
	copy(s, found)
}

// number reads a word as a register number, or as a number of whatever year.
func (x *Index) number(word string) (exact uint64, alike uint32) {
	if n, ok := ParseNumber(word); ok {
		return n.key(), 0
	}
	if n, err := strconv.ParseUint(word, 10, 32); err == nil {
		return 0, uint32(n)
	}
	return 0, 0
}

// ParseNumber reads a register number such as 2026-5731.
func ParseNumber(s string) (Number, bool) {
	y, n, ok := strings.Cut(s, "-")
	year, err1 := strconv.ParseUint(y, 10, 16)
	number, err2 := strconv.ParseUint(n, 10, 31)
	return Number{int(year), int(number)}, ok && err1 == nil && err2 == nil && len(y) == 4 && number > 0
}

// String is the number as people write it: 2026-5731.
func (n Number) String() string { return strconv.Itoa(n.Year) + "-" + strconv.Itoa(n.Number) }

// comparer says how two lines stand to each other, the first to be shown less.
func (x *Index) comparer(q *Query) func(a, b int) int {
	var by func(a, b int) int
	ranked := func(c *column) func(a, b int) int {
		return func(a, b int) int { return cmp.Compare(c.rank[c.of[a]], c.rank[c.of[b]]) }
	}
	numeric := func(of []int64) func(a, b int) int { return func(a, b int) int { return cmp.Compare(of[a], of[b]) } }
	spelled := func(of *texts) func(a, b int) int {
		return func(a, b int) int { return bytes.Compare(of.at(a), of.at(b)) }
	}
	switch q.Sort {
	case ByReceived:
		by = numeric(x.received)
	case ByFiled:
		by = numeric(x.filed)
	case BySize:
		by = numeric(x.sizes)
	case BySender:
		by = ranked(&x.senders)
	case ByFolder:
		by = ranked(&x.folders)
	case ByKind:
		by = ranked(&x.kinds)
	case ByRule: // values begin with their ids, so their names are compared
		by = named(&x.rules)
	case ByMailbox:
		by = named(&x.mailboxes)
	case BySubject:
		by = spelled(&x.subjects)
	case ByFile:
		by = spelled(&x.files)
	case ByNumber, "":
		by = func(a, b int) int { return 0 }
	default: // a value; lines without it come last
		keys := x.keysOf(string(q.Sort))
		by = func(a, b int) int { return keys[x.values.of[a]].compare(&keys[x.values.of[b]], q.Ascending) }
	}
	return func(a, b int) int {
		r := by(a, b)
		if r == 0 {
			r = cmp.Compare(a, b)
		}
		if !q.Ascending {
			r = -r
		}
		return r
	}
}

// named compares by the name of a value whose first part is an id. There are
// few of these.
func named(c *column) func(a, b int) int {
	order := make([]int, len(c.values))
	name := func(id int) string { _, n, _ := strings.Cut(c.values[id], sep); return Fold(n) }
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return strings.Compare(name(a), name(b)) })
	rank := make([]int, len(order))
	for place, id := range order {
		rank[id] = place
		if place > 0 && name(order[place-1]) == name(id) {
			rank[id] = rank[order[place-1]]
		}
	}
	return func(a, b int) int { return cmp.Compare(rank[c.of[a]], rank[c.of[b]]) }
}

// ready brings what a query's order needs up to date and locks for reading.
func (x *Index) ready(q *Query) (unlock func()) {
	x.mutex.RLock()
	var c *column
	switch q.Sort {
	case BySender:
		c = &x.senders
	case ByFolder:
		c = &x.folders
	case ByKind:
		c = &x.kinds
	}
	for c != nil && len(c.order) != len(c.values) {
		x.mutex.RUnlock()
		x.mutex.Lock()
		c.arrange()
		x.mutex.Unlock()
		x.mutex.RLock()
	}
	return x.mutex.RUnlock
}

// best keeps the first lines of an order: a heap with the last of them on top.
type best struct {
	lines   []int
	compare func(a, b int) int
}

func (b *best) Len() int           { return len(b.lines) }
func (b *best) Less(i, j int) bool { return b.compare(b.lines[i], b.lines[j]) > 0 }
func (b *best) Swap(i, j int)      { b.lines[i], b.lines[j] = b.lines[j], b.lines[i] }
func (b *best) Push(v any)         { b.lines = append(b.lines, v.(int)) }
func (b *best) Pop() any {
	last := b.lines[len(b.lines)-1]
	b.lines = b.lines[:len(b.lines)-1]
	return last
}

func (b *best) offer(line, most int) {
	switch {
	case len(b.lines) < most:
		heap.Push(b, line)
	case b.compare(line, b.lines[0]) < 0:
		b.lines[0] = line
		heap.Fix(b, 0)
	}
}

// page picks the first lines of a set after a cursor, in order.
func (x *Index) page(lines func(func(i int)), count int, q *Query) (picked []int, more bool) {
	compare := x.comparer(q)
	after := -1
	if q.After != (Number{}) {
		if i, ok := slices.BinarySearch(x.numbers, q.After.key()); ok {
			after = i
		}
	}
	most := q.Most
	if most == 0 || most > count {
		most = count
	}
	if q.Sort == "" || q.Sort == ByNumber { // they come in this order
		lines(func(i int) {
			switch {
			case len(picked) == most && more, after >= 0 && (i == after || (i > after) != q.Ascending):
			case len(picked) == most:
				more = true
			default:
				picked = append(picked, i)
			}
		})
		return picked, more
	}
	if most*4 > count { // sorting them is no more work
		lines(func(i int) {
			if after < 0 || compare(after, i) < 0 {
				picked = append(picked, i)
			}
		})
		slices.SortFunc(picked, compare)
		return picked[:min(most, len(picked))], len(picked) > most
	}
	b := &best{compare: compare}
	beyond := 0
	lines(func(i int) {
		if after < 0 || compare(after, i) < 0 {
			beyond++
			b.offer(i, most)
		}
	})
	slices.SortFunc(b.lines, compare)
	return b.lines, beyond > most
}

// lines goes over a set in the order of the numbers, as a query has it: of lines
// that are equal otherwise the first to be shown come first.
func (s set) lines(q *Query) func(func(i int)) {
	if q.Ascending {
		return s.each
	}
	return s.back
}

func (s set) count() (n int) {
	for _, w := range s {
		n += bits.OnesCount64(w)
	}
	return n
}

// Find finds a page of lines.
func (x *Index) Find(q Query) Found {
	defer x.ready(&q)()
	s := x.narrow(&q)
	f := Found{Total: s.count(), Size: x.size(s)}
	picked, more := x.page(s.lines(&q), f.Total, &q)
	for _, i := range picked {
		f.Numbers = append(f.Numbers, numbered(x.numbers[i]))
	}
	f.More = more
	return f
}

// size is how large the lines of a set are together.
func (x *Index) size(s set) int64 {
	var total atomic.Int64
	inParts(len(s), func(from, to int) {
		part := int64(0)
		for w := from; w < to; w++ {
			for rest := s[w]; rest != 0; rest &= rest - 1 {
				part += x.sizes[w<<6+trailing(rest)]
			}
		}
		total.Add(part)
	})
	return total.Load()
}

// Letter is a message with the lines that it has in the register.
type Letter struct {
	Message int64
	First   Number   // the line by which it was found and sorted: the cursor
	Numbers []Number // all its lines that count, in the order of their numbers
}

// FindLetters finds a page of messages of which a line was found. A message
// is where the first of its lines that were found would stand; Total counts
// messages.
func (x *Index) FindLetters(q Query) ([]Letter, Found) {
	defer x.ready(&q)()
	s := x.narrow(&q)
	compare := x.comparer(&q)
	var last uint32
	for _, m := range x.messages {
		last = max(last, m)
	}
	first := make([]int32, last+1) // by message: its line and one
	shown := make(set, len(s))     // those lines
	f := Found{}
	put := func(i int) { shown[i>>6] |= 1 << (i & 63) }
	s.lines(&q)(func(i int) {
		f.Size += x.sizes[i]
		switch was := first[x.messages[i]]; {
		case was == 0:
			f.Total++
			put(i)
			first[x.messages[i]] = int32(i + 1)
		case compare(i, int(was-1)) < 0:
			shown[(was-1)>>6] &^= 1 << ((was - 1) & 63)
			put(i)
			first[x.messages[i]] = int32(i + 1)
		}
	})
	picked, more := x.page(shown.lines(&q), f.Total, &q)
	f.More = more
	return x.letters(&q, picked, last), f
}

func (x *Index) letters(q *Query, picked []int, last uint32) []Letter {
	all := make([]Letter, len(picked))
	at := make([]int32, last+1) // by message: its place and one
	for k, i := range picked {
		all[k] = Letter{Message: int64(x.messages[i]), First: numbered(x.numbers[i])}
		at[x.messages[i]] = int32(k + 1)
	}
	states := q.States
	if states == nil {
		states = There
	}
	x.narrow(&Query{Mailboxes: q.Mailboxes, Cabinets: q.Cabinets, Search: Search{States: states}}).each(func(i int) {
		if k := at[x.messages[i]]; k > 0 {
			all[k-1].Numbers = append(all[k-1].Numbers, numbered(x.numbers[i]))
		}
	})
	return all
}
