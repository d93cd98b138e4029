package value

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

func TestValuesAreReadAsPeopleWriteThem(t *testing.T) {
	comma, point, us := Format{Decimal: Comma}, Format{Decimal: Point}, Format{Order: MonthFirst, Currency: "usd"}
	iso := Format{Order: YearFirst}
	for _, c := range []struct {
		of   Type
		in   string
		f    Format
		want string // of an error: "!" and what it says
	}{
		{Text, "  BK-2002 \n x ", Format{}, "BK-2002 x"},
		{Text, " ", Format{}, "!there is nothing"},
		{Number, "1234", Format{}, "1234"},
		{Number, "1.234,5", Format{}, "1234.5"},
		{Number, "1,234.50", Format{}, "1234.50"},
		{Number, "12.5", Format{}, "12.5"},
		{Number, "0,125", Format{}, "0.125"},
		{Number, "1.234.567", Format{}, "1234567"},
		{Number, "1.234", Format{}, "!the point can separate thousands or decimals"},
		{Number, "1,234", Format{}, "!the comma can separate"},
		{Number, "1.234", comma, "1234"},
		{Number, "1.234", point, "1.234"},
		{Number, "1,234", comma, "1.234"},
		{Number, "1 234,50", comma, "1234.50"},
		{Number, "1\u00a0234\u202f567,5", comma, "1234567.5"},
		{Number, "1’234.50", point, "1234.50"},
		{Number, "1,234.50", comma, "1234.50"}, // it tells itself
		{Number, "1180.50", comma, "1180.50"},
		{Number, "12,5", point, "12.5"},
		{Text, "a\x1fb\x1ec\x00\xff", Format{}, "abc"},
		{Number, "12.34.5", Format{}, "!do not have three"},
		{Number, "-5", Format{}, "-5"},
		{Number, "5,20-", comma, "-5.20"},
		{Number, "(1,200.00)", point, "-1200.00"},
		{Number, "−0", Format{}, "0"},
		{Number, ",5", comma, "0.5"},
		{Number, "007", Format{}, "7"},
		{Number, "--5", Format{}, "!is not a number"},
		{Number, "5 apples", Format{}, "!is not a number"},
		{Number, ".", Format{}, "!is not a number"},
		{Number, "1..2", Format{}, "!is not a number"},
		{Number, "1e9", Format{}, "!is not a number"},
		{Number, strings.Repeat("9", 31), Format{}, "!more digits"},
		{Amount, "1.180,50 €", Format{}, "1180.50 EUR"},
		{Amount, "EUR 1.180,50", Format{}, "1180.50 EUR"},
		{Amount, "sek 20", Format{}, "20 SEK"},
		{Amount, "£12.00", Format{}, "12.00 GBP"},
		{Amount, "-£12.00", Format{}, "-12.00 GBP"},
		{Amount, "120,- kr.", Format{Currency: "NOK", Decimal: Comma}, "120 NOK"},
		{Amount, "$1,180.50", us, "1180.50 USD"},
		{Amount, "120 kr", Format{Currency: "NOK"}, "120 NOK"},
		{Amount, "120 kr", Format{}, "!known currency"},
		{Amount, "99.90", Format{}, "99.90"},
		{Amount, "99.90", us, "99.90 USD"},
		{Amount, "(99.90) EUR", Format{}, "-99.90 EUR"},
		{Amount, "12 tons of gravel", us, "!is not a number"},
		{Amount, "none", Format{}, "!there is no number"},
		{Amount, "12 tons", us, "!known currency"},
		{Date, "2026-11-30", us, "2026-11-30"},
		{Date, "30.11.2026", Format{}, "2026-11-30"},
		{Date, "30/11/26", Format{}, "2026-11-30"},
		{Date, "11/30/2026", us, "2026-11-30"},
		{Date, "11/30/2026", Format{}, "!there is no month 30"},
		{Date, "26-11-30", iso, "2026-11-30"},
		{Date, "20261130", Format{}, "2026-11-30"},
		{Date, "30. November 2026", us, "2026-11-30"},
		{Date, "3. März 2026", Format{}, "2026-03-03"},
		{Date, "Dez 1, 2026", Format{}, "2026-12-01"},
		{Date, "May 3rd, 2026", Format{}, "2026-05-03"},
		{Date, "Monday, 30 Nov 2026", Format{}, "2026-11-30"},
		{Date, "1.1.99", Format{}, "1999-01-01"},
		{Date, "31.2.2026", Format{}, "!that month has no day 31"},
		{Date, "29.02.2028", Format{}, "2028-02-29"},
		{Date, "tomorrow", Format{}, "!is not a date"},
		{Date, "1.2", Format{}, "!is not a date"},
		{Date, "00.00.0000", Format{}, "!is not a date"},
		{YesNo, "Ja", Format{}, "yes"},
		{YesNo, "NO", Format{}, "no"},
		{YesNo, "perhaps", Format{}, "!neither yes nor no"},
	} {
		got, err := Read(c.of, c.in, c.f)
		if problem, wrong := strings.CutPrefix(c.want, "!"); wrong {
			if err == nil || !strings.Contains(err.Error(), problem) {
				t.Errorf("%s %q: %q, %v; want an error with %q", c.of, c.in, got, err, problem)
			}
		} else if err != nil || got != c.want {
			t.Errorf("%s %q: %q, %v; want %q", c.of, c.in, got, err, c.want)
		}
	}
}

// Whatever is kept reads as itself.
func TestWhatIsKeptIsReadAgainAsItself(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 5000 {
		day := time.Unix(r.Int64N(4e9), 0).UTC()
		for of, all := range map[Type][]string{
			Date: {day.Format(time.DateOnly), day.Format("2.1.2006"), day.Format("2 January 2006"), day.Format("02/01/2006")},
			Number: {fmt.Sprintf("%d.%02d", r.IntN(1e9)-5e8, r.IntN(100)),
				fmt.Sprintf("%d.%03d,%02d", 1+r.IntN(999), r.IntN(1000), r.IntN(100))},
			Amount: {fmt.Sprintf("%d,%02d EUR", r.IntN(1e9), r.IntN(100)), fmt.Sprintf("€%d.%02d", r.IntN(1e9), r.IntN(100))}} {
			for _, text := range all {
				kept, err := Read(of, text, Format{})
				if err != nil {
					t.Fatalf("%s %q: %v", of, text, err)
				}
				if again, err := Read(of, kept, Format{Decimal: Point}); err != nil || again != kept {
					t.Fatalf("%s %q is kept as %q, which reads as %q, %v", of, text, kept, again, err)
				}
				if of == Date && kept != day.Format(time.DateOnly) {
					t.Fatalf("%q reads as %s", text, kept)
				}
			}
		}
	}
}

func TestValuesAreCompared(t *testing.T) {
	for _, c := range []struct {
		of   Type
		a, b string
		want int
	}{{Number, "9", "10", -1}, {Amount, "1000.00 EUR", "1000 EUR", 0}, {Amount, "-5 EUR", "4", -1},
		{Date, "2026-11-30", "2026-12-01", -1}, {Text, "BK-1", "BK-1", 0}, {Text, "b", "a", 1}} {
		if got := Compare(c.of, c.a, c.b); got != c.want {
			t.Errorf("%s %q and %q: %d, want %d", c.of, c.a, c.b, got, c.want)
		}
	}
}

func TestTotalsAreExact(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	var t1, t2 Total
	want := 0
	for range 3000 {
		n, times := r.IntN(1e9)-5e8, 1+r.IntN(3)
		want += n * times
		sign := ""
		if n < 0 {
			sign, n = "-", -n
		}
		of := &t1
		if r.IntN(2) == 0 {
			of = &t2
		}
		if !of.Add(fmt.Sprintf("%s%d.%02d", sign, n/100, n%100), times) {
			t.Fatal(n)
		}
	}
	t1.Join(&t2)
	sign, abs := "", want
	if want < 0 {
		sign, abs = "-", -want
	}
	if got := t1.String(); got != fmt.Sprintf("%s%d.%02d", sign, abs/100, abs%100) {
		t.Errorf("the total is %s, want %d hundredths", got, want)
	}
	var large Total
	for range 3 {
		large.Add("99999999999999999999.99", 2000)
	}
	large.Add("0.123456789", 1)
	if got := large.String(); got != "599999999999999999999940.123456789" {
		t.Errorf("the large total is %s", got)
	}
	if large.Add("much", 1) || large.Add("", 1) {
		t.Error("what is not a number was added")
	}
}

func FuzzRead(f *testing.F) {
	for _, seed := range []string{"1.234,50 €", "30.11.2026", "ja", "(1'200.00)-", "May 3rd, 2026", "\xff,\u00a0."} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, of := range Types {
			for _, format := range []Format{{}, {Decimal: Comma, Currency: "EUR"}, {Decimal: Point, Order: MonthFirst}} {
				kept, err := Read(of, text, format)
				if err != nil {
					continue
				}
				if again, err := Read(of, kept, Format{Decimal: Point, Currency: format.Currency}); err != nil || again != kept {
					t.Errorf("%s %q is kept as %q, which reads as %q, %v", of, text, kept, again, err)
				}
			}
		}
	})
}

// Dates are read with the names of months in many languages. A name that means another month elsewhere is refused.
func TestDatesInManyLanguages(t *testing.T) {
	for text, want := range map[string]string{
		"lunes, 30 de noviembre de 2026": "2026-11-30",
		"30 novembre 2026":               "2026-11-30",
		"1er janvier 2027":               "2027-01-01",
		"30. listopadu 2026":             "2026-11-30",
		"2026. november 30., hétfő":      "2026-11-30",
		"30 ноября 2026":                 "",
		"30 листопада 2026 р.":           "2026-11-30",
		"2026 m. lapkričio 30 d.":        "2026-11-30",
		"2026. gada 30. novembris":       "2026-11-30",
		"30 Kasım 2026 Pazartesi":        "2026-11-30",
		"mandag den 30. november 2026":   "2026-11-30",
		"2026年11月30日":                    "2026-11-30",
		"30 ta’ Novembru 2026":           "2026-11-30",
		"30 Νοεμβρίου 2026":              "2026-11-30",
		"30 listopada 2026":              "",
		"4 lip 2026":                     "",
		"4 srp 2026":                     "",
		"30 de 2026":                     "",
		"de de de":                       "",
		"d 1 1":                          "",
		"Monday Monday 30 November 2026": "2026-11-30",
		"November 2026 30":               "",
		"2026 31 novembris":              "",
	} {
		got, err := Read(Date, text, Format{})
		if got != want || (want == "") != (err != nil) {
			t.Errorf("%q is %q, %v; want %q", text, got, err, want)
		}
	}
	_, err := Read(Date, "30 listopada 2026", Format{})
	if err == nil || !strings.Contains(err.Error(), "“listopada” is another month in another language") {
		t.Error(err)
	}
}

// Digits are grouped by three, or as in India.
func TestGroupsOfDigits(t *testing.T) {
	for text, want := range map[string]string{
		"12,34,567.89": "1234567.89", "1,23,456": "123456", "-1,00,00,000.5": "-10000000.5", "1,234,567": "1234567",
		"1 234 567,5": "1234567.5", "123,45,678": "", "1,2,345": "", "1,23,45": "", "1,234,56": "", "12,345,67,890": "",
		"1.2.3": "", "30.11.2026": "", ",23,456": "", "1,23,456,789": "",
	} {
		got, err := Read(Number, text, Format{})
		if got != want || (want == "") != (err != nil) {
			t.Errorf("%q is %q, %v; want %q", text, got, err, want)
		}
	}
}
