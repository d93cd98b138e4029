package register

import (
	"bytes"
	"errors"
	"math/rand"
	"reflect"
	"testing"
	"time"
)

// answers are those to many questions, to be compared.
func answers(x *Index, seed int64) (all []any) {
	r := rand.New(rand.NewSource(seed))
	for _, text := range []string{"", "gauge", "uberprufung", "sender:person3", "kind:pdf tide", "signed",
		"file:.csv since:2021", "state:all crane", "rule:\"rule 3\"", "larger:3MB"} {
		search, err := ParseSearch(text, time.UTC)
		if err != nil {
			panic(err)
		}
		q := Query{Search: search, Most: 40, Sort: Sorts[r.Intn(len(Sorts))]}
		found := x.Find(q)
		letters, _ := x.FindLetters(q)
		tallies, _ := x.Count(q, "sender", time.UTC, 10)
		all = append(all, found, letters, tallies, x.Branches(q, "harbour files", ""))
	}
	return all
}

func TestAnIndexThatIsReadBackAnswersAsBefore(t *testing.T) {
	for _, n := range []int{0, 1, 63, 64, 5000} {
		x := &Index{}
		rows := made(n, 3)
		x.Put(rows...)
		for i := 0; i < n; i += 7 { // some change: their texts are moved
			rows[i].Subject, rows[i].File, rows[i].Notes = "another tide", "moved.csv", "looked at"
			x.Put(rows[i])
		}
		if n > 100 {
			x.Trim()
			x.Put(Row{Number: Number{2026, 999_999}, State: Filed, Subject: "after the order", SenderName: "New"})
		}
		var b bytes.Buffer
		if err := x.Write(&b, "word"); err != nil {
			t.Fatal(err)
		}
		y := &Index{}
		y.Put(made(10, 9)...) // what it held before goes
		if word, err := y.Read(bytes.NewReader(b.Bytes())); err != nil || word != "word" {
			t.Fatalf("%d lines: %q, %v", n, word, err)
		}
		if y.Len() != x.Len() || !reflect.DeepEqual(answers(x, 1), answers(y, 1)) {
			t.Fatalf("%d lines: the answers differ", n)
		}
		for i := 0; i < n; i += 5 { // and both go on alike
			rows[i].Subject, rows[i].State = "changed later", Changed
			x.Put(rows[i])
			y.Put(rows[i])
		}
		more := Row{Number: Number{2030, 1}, State: Filed, Subject: "tide", File: "last.pdf", Kind: "pdf",
			Cabinet: "harbour files"}
		x.Put(more)
		y.Put(more)
		if !reflect.DeepEqual(answers(x, 2), answers(y, 2)) {
			t.Fatalf("%d lines: the answers differ after changes", n)
		}
	}
}

func TestABrokenIndexIsRefusedAndLeavesNothing(t *testing.T) {
	x := &Index{}
	x.Put(made(300, 5)...)
	var b bytes.Buffer
	if err := x.Write(&b, "word"); err != nil {
		t.Fatal(err)
	}
	whole := b.Bytes()
	r := rand.New(rand.NewSource(8))
	for i := range 300 {
		broken := bytes.Clone(whole)
		switch i % 3 {
		case 0:
			broken = broken[:r.Intn(len(broken))]
		case 1:
			broken[r.Intn(len(broken))] ^= byte(1 + r.Intn(255))
		case 2: // a length, with many of them at the beginning
			broken[r.Intn(200)] ^= byte(1 + r.Intn(255))
		}
		y := &Index{}
		y.Put(made(5, 1)...)
		if _, err := y.Read(bytes.NewReader(broken)); !errors.Is(err, ErrNotKept) || y.Len() != 0 {
			t.Fatalf("a broken index was read: %v, %d lines", err, y.Len())
		}
	}
}

func BenchmarkReadingAnIndex(b *testing.B) {
	x := &Index{}
	x.Put(made(200_000, 3)...)
	x.Trim()
	var out bytes.Buffer
	if err := x.Write(&out, ""); err != nil {
		b.Fatal(err)
	}
	b.SetBytes(int64(out.Len()))
	for b.Loop() {
		y := &Index{}
		if _, err := y.Read(bytes.NewReader(out.Bytes())); err != nil {
			b.Fatal(err)
		}
	}
}
