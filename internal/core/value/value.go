// Package value reads the values that papers hold, such as an order number, a date or an amount, in the forms in which
// people write them, and keeps them in one form each.
package value

import (
	"cmp"
	"errors"
	"fmt"
	"math/big"
	"strconv"
	"strings"
	"unicode"

	"golang.org/x/text/currency"
)

// Type is what a value is.
type Type string

// The types, and in which form each is kept.
const (
	Text   Type = "text"      // as it stands there
	Number Type = "number"    // 1234.5
	Amount Type = "amount"    // 1234.50 EUR; without the currency where none is known
	Date   Type = "date"      // 2026-11-30
	YesNo  Type = "yes or no" // yes, no
)

// Types are all of them.
var Types = []Type{Text, Number, Amount, Date, YesNo}

// The ways in which fractions are written.
const (
	Comma = "comma"
	Point = "point"
)

// The orders in which the parts of a date are written.
const (
	DayFirst   = "day month year"
	MonthFirst = "month day year"
	YearFirst  = "year month day"
)

// Format is how values are written where more than one reading is possible.
type Format struct {
	Decimal  string // Comma or Point, for numbers that do not tell themselves, such as 1.234
	Order    string // of dates: DayFirst, MonthFirst or YearFirst; "" is DayFirst
	Currency string // ISO 4217, of amounts that name none
}

// Value is one value of a paper.
type Value struct {
	Name    string `json:"name"` // as the rule calls it
	Type    Type   `json:"type"`
	Text    string `json:"text,omitempty"`    // in the form of its type; "" where it was not found
	Problem string `json:"problem,omitempty"` // why what stands there is no such value
	By      string `json:"by,omitempty"`      // who corrected it; "" where it stands as it was read
	Sure    int    `json:"sure,omitempty"`    // of 100, where it was read from a scan; else 0
	As      string `json:"as,omitempty"`      // as it is written in the file, where Text says it otherwise
}

// most bounds what is read as a value, in characters.
const most = 200

// Written is a text as it is written, where it differs from the value that was made of it; "" where it does not.
func Written(text, kept string) string {
	text = strings.Join(strings.Fields(text), " ")
	if text == kept || len(text) > 2*most {
		return ""
	}
	return text
}

// Read reads a text as a value of a type. The error says why it is none, for a person.
func Read(t Type, text string, f Format) (string, error) {
	text = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && !unicode.IsSpace(r) || r == unicode.ReplacementChar {
			return -1
		}
		return r
	}, text)
	text = strings.Join(strings.Fields(text), " ") // also around no-break spaces
	if text == "" {
		return "", errors.New("there is nothing")
	}
	switch t {
	case Number:
		return number(text, f.Decimal)
	case Amount:
		return amount(text, f)
	case Date:
		return date(text, f.Order)
	case YesNo:
		return yesNo(text)
	}
	if runes := []rune(text); len(runes) > most {
		text = strings.TrimSpace(string(runes[:most]))
	}
	return text, nil
}

// mostDigits bounds a number.
const mostDigits = 30

// number reads a number as people write one: with groups of three digits, a sign on either side, or in brackets for
// less than nothing.
func number(text, decimal string) (string, error) {
	no := func(why string) (string, error) { return "", fmt.Errorf("“%s” is not a number%s", text, why) }
	s := strings.Map(func(r rune) rune {
		switch {
		case r == '−' || r == '–':
			return '-'
		case r == '’' || r == '\'' || unicode.IsSpace(r):
			return ' '
		}
		return r
	}, text)
	for _, none := range []string{",--", ".--", ",-", ".-", ",—", ".—"} { // no cents, as in 120,-
		s = strings.TrimSuffix(s, none)
	}
	negative := false
	if inner, ok := strings.CutPrefix(s, "("); ok && strings.HasSuffix(inner, ")") {
		s, negative = strings.TrimSuffix(inner, ")"), true
	}
	s = strings.TrimSpace(s)
	for _, cut := range []func(string, string) (string, bool){strings.CutPrefix, strings.CutSuffix} {
		if rest, ok := cut(s, "-"); ok && !negative {
			s, negative = strings.TrimSpace(rest), true
		}
	}
	s = strings.TrimSpace(strings.TrimPrefix(s, "+"))
	point, problem := decimalIn(s, decimal)
	if problem != "" {
		return no(problem)
	}
	whole, fraction, _ := strings.Cut(s, point)
	if point == "" {
		whole, fraction = s, ""
	}
	group := func(r rune) bool { return r == ' ' || r == '.' || r == ',' }
	parts := strings.FieldsFunc(whole, group)
	if strings.ContainsFunc(fraction, group) || strings.Count(whole, ".") > 0 && strings.Count(whole, ",") > 0 ||
		len(parts) == 0 && fraction == "" || len(parts)-1 != strings.Count(whole, " ")+strings.Count(whole, ".")+
		strings.Count(whole, ",") && whole != "" {
		return no("")
	}
	if !grouped(parts) {
		return no(": its groups of digits do not have three digits each")
	}
	digits := strings.Join(parts, "")
	if strings.Trim(digits+fraction, "0123456789") != "" {
		return no("")
	}
	digits = cmp.Or(strings.TrimLeft(digits, "0"), "0")
	if len(digits)+len(fraction) > mostDigits { // as it is kept, so that it can be read again
		return no(": it has more digits than Ink Tray reads")
	}
	if fraction != "" {
		digits += "." + fraction
	}
	if negative && strings.Trim(digits, "0.") != "" {
		digits = "-" + digits
	}
	return digits, nil
}

// grouped says whether digits are grouped as people group them: by three, or as in India the last three and then by
// two.
func grouped(parts []string) bool {
	last := len(parts) - 1
	if last < 1 {
		return true
	}
	size := 3
	if last > 1 && len(parts[1]) == 2 {
		size = 2
	}
	for i, p := range parts {
		switch {
		case i == last && len(p) != 3, i > 0 && i < last && len(p) != size, i == 0 && (p == "" || len(p) > size):
			return false
		}
	}
	return true
}

// decimalIn says which sign parts the fraction off; "" where there is none. decimal counts where the number does not
// tell.
func decimalIn(s, decimal string) (point, problem string) {
	points, commas := strings.Count(s, "."), strings.Count(s, ",")
	switch {
	case points+commas == 0, points > 1 && commas == 0, commas > 1 && points == 0:
		return "", ""
	case points > 0 && commas > 0:
		return s[strings.LastIndexAny(s, ".,"):][:1], ""
	}
	at := strings.IndexAny(s, ".,")
	if len(s)-at-1 == 3 && at <= 3 && at > 0 && s[:at] != "0" && !strings.Contains(s, " ") {
		switch {
		case decimal == Comma && s[at] == ',', decimal == Point && s[at] == '.':
			return s[at : at+1], ""
		case decimal != "":
			return "", ""
		}
		return "", fmt.Sprintf(" that is clear: the %s can separate thousands or decimals; say which with decimal: comma "+
			"or point", map[byte]string{'.': "point", ',': "comma"}[s[at]])
	}
	return s[at : at+1], ""
}

// signs are those of currencies that no others have.
var signs = map[string]string{"€": "EUR", "£": "GBP", "zł": "PLN", "₹": "INR", "₺": "TRY",
	"₴": "UAH", "₪": "ILS", "₩": "KRW", "฿": "THB", "₫": "VND"}

// amount reads an amount of money, with its currency before or after it.
func amount(text string, f Format) (string, error) {
	written := func(r rune) bool { return unicode.IsLetter(r) || unicode.Is(unicode.Sc, r) }
	around, digits := "", text
	if first := strings.IndexFunc(text, written); first >= 0 {
		length := strings.IndexFunc(text[first:], func(r rune) bool { return !written(r) })
		if length < 0 {
			length = len(text) - first
		}
		around = text[first : first+length]
		digits = strings.TrimSpace(text[:first] + strings.TrimPrefix(text[first+length:], "."))
	}
	if !strings.ContainsAny(digits, "0123456789") {
		return "", fmt.Errorf("“%s” is no amount: there is no number in it", text)
	}
	n, err := number(digits, f.Decimal)
	if err != nil {
		return "", err
	}
	unit := strings.ToUpper(f.Currency)
	if around != "" {
		sign := signs[strings.ToLower(around)]
		if iso, err := currency.ParseISO(around); err == nil && len(around) == 3 {
			sign = iso.String()
		}
		if sign == "" && (unit == "" || len([]rune(around)) > 3) {
			return "", fmt.Errorf("“%s” is not an amount of a known currency", text)
		}
		unit = cmp.Or(sign, unit) // such as $ and kr, which several have
	}
	return strings.TrimSpace(n + " " + unit), nil
}

func yesNo(text string) (string, error) {
	switch strings.ToLower(text) {
	case "yes", "y", "ja", "j", "true", "1", "x", "✓", "☑", "☒":
		return "yes", nil
	case "no", "n", "nein", "false", "0", "☐":
		return "no", nil
	}
	return "", fmt.Errorf("“%s” is neither yes nor no", text)
}

// Rat is a number or an amount that is kept, as a number.
func Rat(text string) (*big.Rat, bool) {
	digits, _, _ := strings.Cut(text, " ")
	if len(digits) > mostDigits+2 || strings.Trim(digits, "-0123456789.") != "" {
		return nil, false
	}
	return new(big.Rat).SetString(digits)
}

// Compare puts two values of a type that are kept into order: numbers by their size, dates by time, texts by letters.
func Compare(t Type, a, b string) int {
	if t == Number || t == Amount {
		x, ok := Rat(a)
		y, too := Rat(b)
		if ok && too {
			return x.Cmp(y)
		}
	}
	return strings.Compare(a, b)
}

// Total adds numbers up exactly. The zero Total is that of none.
type Total struct {
	small  int64 // in hundred-thousandths
	large  big.Rat
	places int // of the number with the most
}

// exact is how many places small has.
const exact = 5

// Add adds a number that is kept, so many times; text is without a currency. It says whether it is one.
func (t *Total) Add(text string, times int) bool {
	whole, fraction, _ := strings.Cut(text, ".")
	if whole != "" && len(whole) <= 9 && len(fraction) <= exact && times < 1000 { // almost all
		n, err := strconv.ParseInt(whole+fraction+"00000"[:exact-len(fraction)], 10, 64)
		if err != nil {
			return false
		}
		if t.small += n * int64(times); t.small > 1<<61 || t.small < -1<<61 {
			t.settle()
		}
	} else {
		r, ok := Rat(text)
		if !ok {
			return false
		}
		t.large.Add(&t.large, r.Mul(r, big.NewRat(int64(times), 1)))
	}
	t.places = max(t.places, len(fraction))
	return true
}

func (t *Total) settle() {
	t.large.Add(&t.large, big.NewRat(t.small, 100_000))
	t.small = 0
}

// Join adds another total.
func (t *Total) Join(o *Total) {
	o.settle()
	t.large.Add(&t.large, &o.large)
	t.places = max(t.places, o.places)
}

// String is the total with as many places as the number that has the most.
func (t *Total) String() string {
	t.settle()
	return t.large.FloatString(t.places)
}
