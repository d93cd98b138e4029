package proposal

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"inktray.example/inktray/internal/core/value"
)

// papers are invoices of the same form, with other numbers.
func papers(n int) (all []string) {
	for i := range n {
		all = append(all, fmt.Sprintf("Skerry Pilots\nHarbour Road 12   Phone 555-%d\n\nInvoice number: HD-2026-%03d   "+
			"Your order: BK-%d\nDate: %d.11.2026\nShip: MV Corrin %c\n\nPilotage      2 hours     1.%d0,00 EUR\nTax 19 %%  "+
			"            %d,90 EUR\nTotal to be paid:     1.%d,90 EUR\nReference\nQ%dZ\n", 1000+i, i, 20000+i*7, i%28+1,
			'A'+rune(i%20), 10+i%80, 100+i, 200+i%700, 4000+i))
	}
	return all
}

func TestAPatternIsProposedForAValueThatAPersonShows(t *testing.T) {
	all := papers(50)
	for selected, want := range map[string]struct {
		kind       value.Type
		own, other string
	}{
		"BK-20021":      {value.Text, "BK-20021", "BK-20028"},
		"HD-2026-003":   {value.Text, "HD-2026-003", "HD-2026-004"},
		"4.11.2026":     {value.Date, "2026-11-04", "2026-11-05"},
		"1.203,90 EUR":  {value.Amount, "1203.90 EUR", "1204.90 EUR"},
		"1.130,00 EUR":  {value.Amount, "1130.00 EUR", "1140.00 EUR"},
		"103,90 EUR":    {value.Amount, "103.90 EUR", "104.90 EUR"},
		"MV Corrin D":   {value.Text, "MV Corrin D", "MV Corrin E"},
		"Q4003Z":        {value.Text, "Q4003Z", "Q4004Z"},
		"bk-20021":      {value.Text, "BK-20021", "BK-20028"},
		"mv  corrin d":  {value.Text, "MV Corrin D", "MV Corrin E"},
		"  BK-20021 ":   {value.Text, "BK-20021", "BK-20028"},
		"Skerry Pilots": {},
	} {
		found, err := Make("file.text", all[3], selected, 0, all)
		if want.own == "" {
			if !errors.Is(err, ErrNoPattern) {
				t.Errorf("%q: %+v, %v", selected, found, err)
			}
			continue
		}
		if err != nil {
			t.Errorf("%q: %v", selected, err)
			continue
		}
		if p := found[0]; p.Type != want.kind || p.Own != want.own || p.Found != 50 || p.Findings[4].Text != want.other {
			t.Errorf("%q: %s, %s, in %d papers, %+v, not %+v", selected, p.From, p.Type, p.Found, p.Findings[4], want)
		}
		for _, p := range found {
			if p.How == "" || !strings.HasPrefix(p.From, "<file.text find ") {
				t.Errorf("%q: %+v", selected, p)
			}
		}
	}
}

// Which of several equal texts was selected counts: the pattern finds that one where the others differ.
func TestWhichOfEqualTextsWasSelectedCounts(t *testing.T) {
	paper := "From: BK-1\nTo: BK-1\n"
	other := "From: BK-2\nTo: BK-3\n"
	for occurrence, want := range []string{"BK-2", "BK-3"} {
		found, err := Make("file.text", paper, "BK-1", occurrence, []string{other})
		if err != nil || found[0].Findings[0].Text != want {
			t.Errorf("of %d: %+v, %v", occurrence, found, err)
		}
	}
}

// A pattern that is less particular goes before others only where it finds the value in clearly more papers.
func TestTheBestProposalComesFirst(t *testing.T) {
	others := []string{"Order: BK-1", "Our order: BK-2", "order BK-3", "Number BK-4", "No. BK-5", "nothing"}
	found, err := Make("file.text", "Order: BK-9", "BK-9", 0, others)
	if err != nil || found[0].Found != 5 || !strings.HasSuffix(found[0].How, "anywhere") {
		t.Errorf("%+v, %v", found, err)
	}
	found, err = Make("file.text", "Order: BK-9", "BK-9", 0, others[:2])
	if err != nil || found[0].How != "like “BK-9” after “Order:”" || found[0].Found != 2 || len(found) != 4 {
		t.Errorf("%+v, %v", found, err)
	}
}

func TestOddSelections(t *testing.T) {
	for _, odd := range []struct {
		paper, selected string
		occurrence      int
		want            error
	}{
		{"Order: BK-1", "BK-2", 0, ErrNotThere}, {"Order: BK-1", "BK-1", 1, ErrNotThere},
		{"Order: BK-1", "BK-1", -1, ErrNotThere}, {"Order: BK-1", "  ", 0, ErrNotThere}, {"", "x", 0, ErrNotThere},
		{strings.Repeat("7", 300), strings.Repeat("7", 201), 0, ErrNotThere},
		{"alone", "alone", 0, ErrNoPattern}, {"\xff\xfe: 12", "12", 0, ErrNoPattern},
		{`Path "C:\x": 7-7`, "7-7", 0, nil}, {"(Sum*: 3.50 €)", "3.50 €", 0, nil}, {"Total\n3.50 €", "3.50 €", 0, nil},
	} {
		found, err := Make("file.text", odd.paper, odd.selected, odd.occurrence, []string{odd.paper, ""})
		if !errors.Is(err, odd.want) || err == nil && (found[0].Found != 1 || found[0].Findings[1] != (Finding{})) {
			t.Errorf("%q in %q: %+v, %v", odd.selected, odd.paper, found, err)
		}
	}
}

func FuzzMake(f *testing.F) {
	f.Add("Order: BK-20441 \"\\ of 3.4.2026", 7, 8)
	f.Add(papers(1)[0], 40, 12)
	f.Fuzz(func(t *testing.T, text string, at, length int) {
		if at < 0 || length < 0 || at > len(text) || length > len(text)-at {
			return
		}
		found, err := Make("file.text", text, text[at:at+length], 0, []string{text})
		if err == nil && (len(found) == 0 || found[0].Own == "" || found[0].Findings[0].Text != found[0].Own) {
			t.Errorf("%q in %q: %+v", text[at:at+length], text, found)
		}
	})
}

// BenchmarkMake proposes patterns for a number in one of fifty papers of 30 KB.
func BenchmarkMake(b *testing.B) {
	all := papers(50)
	for i := range all {
		all[i] += strings.Repeat("The berth at the north quay is 14 m deep, and BX-17 of it is free.\n", 450)
	}
	for b.Loop() {
		if _, err := Make("file.text", all[3], "BK-20021", 0, all); err != nil {
			b.Fatal(err)
		}
	}
}
