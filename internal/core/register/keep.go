package register

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"slices"
	"strings"
)

// An index can be written and read back, so that a large register need not be read line by line at every start. What is
// written is of no use to anybody else: it is made anew wherever it does not fit.

// kept is how what is written begins; another version is not read.
const kept = "inktray register index 2\n"

// ErrNotKept says that something is no index that this version has written, or not all of one.
var ErrNotKept = errors.New("this is not an index of a register, or not all of one")

// Bounds of a length that is read, and of what is taken for it in advance, in elements.
const (
	mostKept   = 1 << 31
	mostAtOnce = 16 << 20
)

// keeper writes and reads numbers in the order of their octets in memory (little-endian), with a checksum of all.
type keeper struct {
	w   *bufio.Writer
	r   *bufio.Reader
	sum hash.Hash32
	err error
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// Write writes the index, with a word of the caller's.
func (x *Index) Write(w io.Writer, word string) error {
	x.mutex.RLock()
	defer x.mutex.RUnlock()
	k := &keeper{w: bufio.NewWriterSize(w, 1<<20), sum: crc32.New(castagnoli)}
	k.octets([]byte(kept))
	k.keep(x, &word)
	k.end()
	return k.err
}

// Read reads an index back in the place of this one, and gives the caller's word. After an error the index is empty.
func (x *Index) Read(r io.Reader) (word string, err error) {
	fresh := &Index{}
	k := &keeper{r: bufio.NewReaderSize(r, 1<<20), sum: crc32.New(castagnoli)}
	begins := make([]byte, len(kept))
	if k.octets(begins); k.err == nil && string(begins) != kept {
		k.err = ErrNotKept
	}
	k.keep(fresh, &word)
	k.end()
	if k.err == nil {
		k.err = fresh.restore()
	}
	if k.err != nil {
		x.Reset()
		return "", k.err
	}
	x.mutex.Lock()
	defer x.mutex.Unlock()
	x.numbers, x.messages, x.states, x.in = fresh.numbers, fresh.messages, fresh.states, fresh.in
	x.received, x.filed, x.sizes = fresh.received, fresh.filed, fresh.sizes
	x.mailboxes, x.rules, x.cabinets, x.kinds = fresh.mailboxes, fresh.rules, fresh.cabinets, fresh.kinds
	x.senders, x.folders, x.addresses = fresh.senders, fresh.folders, fresh.addresses
	x.values, x.names = fresh.values, names{}
	x.names.join(x.values.values)
	x.subjects, x.files, x.notes = fresh.subjects, fresh.files, fresh.notes
	return word, nil
}

// keep writes or reads all that is not made anew.
func (k *keeper) keep(x *Index, word *string) {
	k.text(word)
	numbersOf(k, &x.numbers)
	numbersOf(k, &x.messages)
	numbersOf(k, &x.states)
	numbersOf(k, &x.received)
	numbersOf(k, &x.filed)
	numbersOf(k, &x.sizes)
	for _, c := range x.columns() {
		numbersOf(k, &c.of)
		k.texts(&c.values)
		k.laid(&c.folded)
		numbersOf(k, &c.order)
		numbersOf(k, &c.rank)
	}
	k.laid(&x.subjects)
	k.laid(&x.files)
	lines := make([]uint32, 0, len(x.notes))
	for i := range x.notes {
		lines = append(lines, i)
	}
	slices.Sort(lines)
	notes := make([]string, len(lines))
	for i, line := range lines {
		notes[i] = x.notes[line]
	}
	numbersOf(k, &lines)
	k.texts(&notes)
	if k.r != nil && k.err == nil && len(lines) > 0 && len(lines) == len(notes) {
		x.notes = map[uint32]string{}
		for i, line := range lines {
			x.notes[line] = notes[i]
		}
	}
}

func (x *Index) columns() []*column {
	return []*column{&x.mailboxes, &x.rules, &x.cabinets, &x.kinds, &x.senders, &x.folders, &x.values}
}

// restore makes what was not written, and proves that the lengths fit.
func (x *Index) restore() error {
	n := len(x.numbers)
	fits := len(x.messages) == n && len(x.states) == n && len(x.received) == n && len(x.filed) == n && len(x.sizes) == n &&
		slices.IsSorted(x.numbers)
	for _, c := range x.columns() {
		values := uint32(len(c.values))
		fits = fits && len(c.of) == n && c.folded.whole(len(c.values)) && len(c.order) == len(c.rank) &&
			len(c.order) <= len(c.values) && below(c.of, values) && below(c.order, values) && below(c.rank, values)
	}
	if fits = fits && x.subjects.whole(n) && x.files.whole(n); !fits {
		return ErrNotKept
	}
	for line := range x.notes {
		if int(line) >= n {
			return ErrNotKept
		}
	}
	for state := range x.in {
		x.in[state] = make(set, (n+63)/64)
	}
	for i, state := range x.states {
		if state > Void {
			return ErrNotKept
		}
		x.in[state][i>>6] |= 1 << (i & 63)
	}
	for _, c := range x.columns() {
		c.ids = make(map[string]uint32, len(c.values))
		for id, value := range c.values {
			c.ids[value] = uint32(id)
		}
	}
	x.joinAddresses()
	return nil
}

// below says whether all numbers are smaller than one.
func below(all []uint32, than uint32) bool {
	return !slices.ContainsFunc(all, func(n uint32) bool { return n >= than })
}

// whole says whether there is a text for each of n lines.
func (t *texts) whole(n int) bool {
	if len(t.start) != n || len(t.end) != n || len(t.laid) != n || !slices.IsSorted(t.laid) {
		return false
	}
	most := uint32(len(t.all))
	for i := range t.start {
		if t.start[i] > t.end[i] || t.end[i] > most || t.laid[i] > most {
			return false
		}
	}
	for line := range t.moved {
		if int(line) >= n {
			return false
		}
	}
	return true
}

// laid writes or reads texts.
func (k *keeper) laid(t *texts) {
	numbersOf(k, &t.start)
	numbersOf(k, &t.end)
	numbersOf(k, &t.laid)
	numbersOf(k, &t.all)
	moved := make([]uint32, 0, len(t.moved))
	for line := range t.moved {
		moved = append(moved, line)
	}
	slices.Sort(moved)
	numbersOf(k, &moved)
	if k.r == nil || k.err != nil {
		return
	}
	if len(t.start) > 0 {
		t.known = &known{words: map[string]set{}}
	}
	for _, line := range moved {
		if t.moved == nil {
			t.moved = map[uint32]bool{}
		}
		t.moved[line] = true
	}
}

// texts writes or reads texts of any kind.
func (k *keeper) texts(all *[]string) {
	lengths := make([]uint32, len(*all))
	for i, s := range *all {
		lengths[i] = uint32(len(s))
	}
	numbersOf(k, &lengths)
	joined := []byte(strings.Join(*all, ""))
	numbersOf(k, &joined)
	if k.r == nil || k.err != nil {
		return
	}
	whole, at := string(joined), 0
	*all = make([]string, len(lengths))
	for i, n := range lengths {
		if at+int(n) > len(whole) {
			k.err = ErrNotKept
			return
		}
		(*all)[i] = whole[at : at+int(n)]
		at += int(n)
	}
}

func (k *keeper) text(s *string) {
	b := []byte(*s)
	if numbersOf(k, &b); k.r != nil {
		*s = string(b)
	}
}

// numbersOf writes or reads numbers with how many they are.
func numbersOf[T ~uint8 | uint32 | uint64 | int64](k *keeper, all *[]T) {
	var size [8]byte
	binary.LittleEndian.PutUint64(size[:], uint64(len(*all)))
	k.octets(size[:])
	n := binary.LittleEndian.Uint64(size[:])
	if k.err != nil {
		return
	}
	if n > mostKept {
		k.err = ErrNotKept
		return
	}
	var one T
	width := binary.Size(one)
	if k.r != nil {
		*all = make([]T, 0, min(n, mostAtOnce)) // a broken file must not take all memory
	}
	buffer := make([]byte, 0, 64<<10)
	for done := uint64(0); done < n && k.err == nil; {
		part := min(n-done, uint64(cap(buffer)/width))
		buffer = buffer[:part*uint64(width)]
		if k.w != nil {
			if _, err := binary.Encode(buffer, binary.LittleEndian, (*all)[done:done+part]); err != nil {
				k.err = err
				return
			}
		}
		if k.octets(buffer); k.err != nil {
			return
		}
		if k.r != nil {
			*all = slices.Grow(*all, int(part))[:done+part]
			if _, err := binary.Decode(buffer, binary.LittleEndian, (*all)[done:]); err != nil {
				k.err = err
			}
		}
		done += part
	}
}

// octets writes or reads some octets.
func (k *keeper) octets(b []byte) {
	if k.err != nil {
		return
	}
	if k.w != nil {
		_, k.err = k.w.Write(b)
	} else if _, err := io.ReadFull(k.r, b); err != nil {
		k.err = fmt.Errorf("%w: %w", ErrNotKept, err)
	}
	_, _ = k.sum.Write(b)
}

// end writes or checks the checksum of all before it.
func (k *keeper) end() {
	want := k.sum.Sum32()
	var b [4]byte
	binary.LittleEndian.PutUint32(b[:], want)
	if k.octets(b[:]); k.err != nil {
		return
	}
	if k.w != nil {
		k.err = k.w.Flush()
	} else if binary.LittleEndian.Uint32(b[:]) != want {
		k.err = ErrNotKept
	}
}
