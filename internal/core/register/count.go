package register

import (
	"cmp"
	"slices"
	"strings"
	"time"
)

// Tally is how many lines belong to something, and their size in octets.
type Tally struct {
	ID    string // of a mailbox or rule; else the same as Name
	Name  string
	Count int
	Size  int64
	Last  int64 // when the last of them was filed, seconds since 1970; not of days and months
}

// By is what lines are counted by.
type By string

// What lines can be counted by.
const (
	PerDay     By = "day"   // when filed, as 2026-11-23
	PerMonth   By = "month" // as 2026-11
	PerRule    By = "rule"
	PerMailbox By = "mailbox"
	PerSender  By = "sender" // by address
	PerKind    By = "kind"
	PerCabinet By = "cabinet"
	PerFolder  By = "folder" // cabinet and path, "/" between
)

// Count counts what a query finds. Days and months are those of the zone, in
// their order, with those between on which nothing was filed; all else comes
// with the largest count first, most of them, 0 for all. Of all that was found
// it says how many and how large.
func (x *Index) Count(q Query, by By, zone *time.Location, most int) ([]Tally, Found) {
	x.mutex.RLock()
	defer x.mutex.RUnlock()
	s := x.narrow(&q)
	f := Found{Total: s.count(), Size: x.size(s)}
	return x.count(s, by, zone, most), f
}

func (x *Index) count(s set, by By, zone *time.Location, most int) []Tally {
	switch by {
	case PerDay, PerMonth:
		return x.perDay(s, by, zone)
	case PerRule:
		return x.tallies(s, &x.rules, true, most)
	case PerMailbox:
		return x.tallies(s, &x.mailboxes, true, most)
	case PerCabinet:
		return x.tallies(s, &x.cabinets, true, most)
	case PerSender:
		return x.perSender(s, most)
	case PerFolder:
		return x.tallies(s, &x.folders, false, most)
	}
	return x.tallies(s, &x.kinds, false, most)
}

// by counts a set by the values of a column.
func (x *Index) by(s set, c *column) []Tally {
	all := make([]Tally, len(c.values))
	s.each(func(i int) {
		t := &all[c.of[i]]
		t.Count++
		t.Size += x.sizes[i]
		t.Last = max(t.Last, x.filed[i])
	})
	return all
}

func (t *Tally) join(o *Tally) {
	t.Count += o.Count
	t.Size += o.Size
	t.Last = max(t.Last, o.Last)
}

func largest(all []Tally, most int) []Tally {
	all = slices.DeleteFunc(all, func(t Tally) bool { return t.Count == 0 })
	slices.SortFunc(all, func(a, b Tally) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), strings.Compare(a.Name, b.Name), strings.Compare(a.ID, b.ID))
	})
	if most > 0 && len(all) > most {
		all = all[:most]
	}
	return all
}

// tallies counts by a column. Where values are ids with names, lines of one id
// belong together and the last name represents it.
func (x *Index) tallies(s set, c *column, ids bool, most int) []Tally {
	all := x.by(s, c)
	if !ids {
		for i := range all {
			name := strings.Replace(c.values[i], sep, "/", 1)
			all[i].ID, all[i].Name = name, strings.TrimSuffix(name, "/")
		}
		return largest(all, most)
	}
	at := map[string]int{}
	var joined []Tally
	for i, v := range c.values {
		id, name, _ := strings.Cut(v, sep)
		k, ok := at[id]
		if !ok {
			k = len(joined)
			at[id] = k
			joined = append(joined, Tally{ID: id})
		}
		joined[k].join(&all[i])
		if all[i].Count > 0 {
			joined[k].Name = name
		}
	}
	return largest(joined, most)
}

// perSender counts by address: one sender may write under several names.
func (x *Index) perSender(s set, most int) []Tally {
	counts := make([]uint32, len(x.addresses.ids))
	s.each(func(i int) { counts[x.addresses.of[x.senders.of[i]]]++ })
	// There are very many: only of those with the most is more asked.
	const high = 1 << 16
	of := make([]int, high) // how many have each count
	for _, n := range counts {
		of[min(n, high-1)]++
	}
	least, left := uint32(1), most
	for n := high - 1; most > 0 && n > 0; n-- {
		if left -= of[n]; left <= 0 {
			least = uint32(n)
			break
		}
	}
	place := make([]int32, len(counts)) // in all, and one
	var all []Tally
	for id, n := range counts {
		if n >= least {
			all = append(all, Tally{Count: int(n)})
			place[id] = int32(len(all))
		}
	}
	s.each(func(i int) {
		value := x.senders.of[i]
		k := place[x.addresses.of[value]]
		if k == 0 {
			return
		}
		t := &all[k-1]
		t.Size += x.sizes[i]
		t.Last = max(t.Last, x.filed[i])
		if t.ID == "" || t.Name == t.ID && x.senders.values[value][0] != sep[0] {
			name, address, _ := strings.Cut(x.senders.values[value], sep)
			if t.ID, t.Name = strings.ToLower(address), name; name == "" {
				t.Name = t.ID
			}
		}
	})
	return largest(all, most)
}

// quarter is the step in which days are told apart: no zone's midnight is
// between two of them.
const quarter = 15 * 60

func (x *Index) perDay(s set, by By, zone *time.Location) []Tally {
	first, last := int64(1<<62), int64(-1)
	s.each(func(i int) {
		if at := x.filed[i]; at > 0 {
			first, last = min(first, at/quarter), max(last, at/quarter)
		}
	})
	if last < 0 {
		return nil
	}
	counts, sizes := make([]int, last-first+1), make([]int64, last-first+1)
	s.each(func(i int) {
		if at := x.filed[i]; at > 0 {
			counts[at/quarter-first]++
			sizes[at/quarter-first] += x.sizes[i]
		}
	})
	layout := time.DateOnly
	if by == PerMonth {
		layout = "2006-01"
	}
	var all []Tally
	at := time.Unix(first*quarter, 0).In(zone)
	y, m, d := at.Date()
	if by == PerMonth {
		d = 1
	}
	for day := time.Date(y, m, d, 0, 0, 0, 0, zone); day.Unix() <= last*quarter; {
		next := time.Date(day.Year(), day.Month(), day.Day()+1, 0, 0, 0, 0, zone)
		if by == PerMonth {
			next = time.Date(day.Year(), day.Month()+1, 1, 0, 0, 0, 0, zone)
		}
		name := day.Format(layout)
		t := Tally{ID: name, Name: name}
		for k := max(day.Unix()/quarter, first); k < min((next.Unix()+quarter-1)/quarter, last+1); k++ {
			t.Count += counts[k-first]
			t.Size += sizes[k-first]
		}
		all = append(all, t)
		day = next
	}
	return all
}

// Branch is a folder of a cabinet with what is in it and below.
type Branch struct {
	Cabinet string
	Folder  string // path; "" is the cabinet
	Name    string
	Count   int
	Size    int64
	More    bool // it has folders
}

// Branches lists the folders that lie directly in a folder of a cabinet, by
// name; with no cabinet it lists the cabinets. Only what the query finds counts.
func (x *Index) Branches(q Query, cabinet, folder string) []Branch {
	x.mutex.RLock()
	defer x.mutex.RUnlock()
	q.Cabinet, q.Folder = cabinet, folder
	s := x.narrow(&q)
	at := map[string]int{}
	var all []Branch
	for i, t := range x.by(s, &x.folders) {
		if t.Count == 0 {
			continue
		}
		in, path, _ := strings.Cut(x.folders.values[i], sep)
		b := Branch{Cabinet: in, Name: in}
		if cabinet == "" {
			b.More = path != ""
		} else {
			rest := path
			if folder != "" {
				rest = strings.TrimPrefix(strings.TrimPrefix(path, folder), "/")
			}
			if rest == "" {
				continue
			}
			b.Name, _, b.More = strings.Cut(rest, "/")
			b.Folder = strings.TrimPrefix(folder+"/"+b.Name, "/")
		}
		k, ok := at[b.Name]
		if !ok {
			k = len(all)
			at[b.Name] = k
			all = append(all, b)
		}
		all[k].Count += t.Count
		all[k].Size += t.Size
		all[k].More = all[k].More || b.More
	}
	slices.SortFunc(all, func(a, b Branch) int {
		return cmp.Or(strings.Compare(Fold(a.Name), Fold(b.Name)), strings.Compare(a.Name, b.Name))
	})
	return all
}

// Days counts what was filed on each of some days from a first one on, by rule or
// mailbox: their ids. received counts each file on the day on which its message came, instead.
func (x *Index) Days(q Query, by By, first time.Time, days int, received bool) map[string][]Tally {
	bounds := make([]int64, days+1)
	y, m, d := first.Date()
	for i := range bounds {
		bounds[i] = time.Date(y, m, d+i, 0, 0, 0, 0, first.Location()).Unix()
	}
	since, before := time.Unix(bounds[0], 0), time.Unix(bounds[days], 0)
	x.mutex.RLock()
	defer x.mutex.RUnlock()
	times := x.filed
	if received {
		times, q.Since, q.Before = x.received, since, before
	} else {
		q.FiledSince, q.FiledBefore = since, before
	}
	c := &x.rules
	if by == PerMailbox {
		c = &x.mailboxes
	}
	counts := map[uint32][]Tally{}
	x.narrow(&q).each(func(i int) {
		of := counts[c.of[i]]
		if of == nil {
			of = make([]Tally, days)
			counts[c.of[i]] = of
		}
		at, there := slices.BinarySearch(bounds, times[i])
		if !there {
			at--
		}
		of[at].Count++
		of[at].Size += x.sizes[i]
	})
	joined := map[string][]Tally{}
	for value, of := range counts {
		id, _, _ := strings.Cut(c.values[value], sep)
		if joined[id] == nil {
			joined[id] = of
			continue
		}
		for i := range of {
			joined[id][i].join(&of[i])
		}
	}
	return joined
}
