// Package invoice reads electronic invoices of the European standard (EN 16931-1) in both of its syntaxes: UBL 2.1
// Invoice and CreditNote, and Cross Industry Invoice of UN/CEFACT (CII, D16B). It also checks their sums, by the rules
// BR-CO-10 to BR-CO-16 of the standard. Files can be hostile, so it is run in a confined process.
package invoice

import (
	"errors"
	"fmt"
	"math/big"
	"strings"
	"time"
)

// The syntaxes.
const (
	UBL = "UBL"
	CII = "CII"
)

// Invoice is what an electronic invoice says. Texts are as they are written; what is not said is empty. BT are the
// business terms of EN 16931-1.
type Invoice struct {
	Syntax    string `json:"syntax"`           // UBL or CII
	Type      string `json:"type,omitempty"`   // BT-3, a code of UNTDID 1001 such as 380, or 381 for a credit note
	Number    string `json:"number,omitempty"` // BT-1
	Issued    string `json:"issued,omitempty"` // BT-2, as 2026-11-30
	Due       string `json:"due,omitempty"`    // BT-9, likewise
	Seller    string `json:"seller,omitempty"` // BT-27
	SellerVAT string `json:"seller_vat,omitempty"`
	Buyer     string `json:"buyer,omitempty"`     // BT-44
	Order     string `json:"order,omitempty"`     // BT-13
	Reference string `json:"reference,omitempty"` // BT-10, of the buyer
	Currency  string `json:"currency,omitempty"`  // BT-5, ISO 4217
	Net       Amount `json:"net,omitempty"`       // BT-109, without tax
	Tax       Amount `json:"tax,omitempty"`       // BT-110
	Total     Amount `json:"total,omitempty"`     // BT-112, with tax
	Payable   Amount `json:"payable,omitempty"`   // BT-115, what is still to be paid
	Lines     int    `json:"lines,omitempty"`
	// Faults are the rules of the standard that its sums do not keep.
	Faults []Fault `json:"faults,omitempty"`
}

// Fault is a rule of EN 16931-1 that an invoice does not keep.
type Fault struct {
	Rule string `json:"rule"` // such as BR-CO-15
	Text string `json:"text"` // in words
}

// Amount is a decimal number as it is written, with a point, such as -1180.50; "" is none.
type Amount string

// Rat is the amount as a number; ok is false where there is none.
func (a Amount) Rat() (r *big.Rat, ok bool) {
	if !plainNumber(string(a)) {
		return nil, false
	}
	return new(big.Rat).SetString(string(a))
}

// mostDigits bounds a number, so that no sum takes long.
const mostDigits = 30

// plainNumber says whether a text is a decimal number as XML Schema has them, without exponents or fractions.
func plainNumber(s string) bool {
	s = strings.TrimLeft(s, "+-")
	return s != "" && len(s) <= mostDigits && strings.Trim(s, "0123456789.") == "" && strings.Count(s, ".") < 2 && s != "."
}

// Day is a date of the invoice; ok is false where there is none, or it is no day.
func Day(s string) (t time.Time, ok bool) {
	t, err := time.Parse(time.DateOnly, s)
	return t, err == nil
}

// CreditNote says whether it gives money back (UNTDID 1001).
func (i *Invoice) CreditNote() bool {
	switch i.Type {
	case "81", "83", "381", "396", "532":
		return true
	}
	return false
}

// Text is what the invoice says, for people and for searches: a line for each thing.
func (i *Invoice) Text() string {
	var b strings.Builder
	kind := "invoice"
	if i.CreditNote() {
		kind = "credit note"
	}
	fmt.Fprintf(&b, "Electronic %s (EN 16931, %s)\n", kind, i.Syntax)
	line := func(name, value string) {
		if value != "" {
			fmt.Fprintf(&b, "%s: %s\n", name, value)
		}
	}
	line("Number", i.Number)
	line("Issued", i.Issued)
	line("Due", i.Due)
	line("Seller", i.Seller)
	line("VAT number of the seller", i.SellerVAT)
	line("Buyer", i.Buyer)
	line("Order", i.Order)
	line("Buyer's reference", i.Reference)
	money := func(name string, a Amount) { line(name, strings.TrimSpace(string(a)+" "+i.Currency)) }
	for _, one := range []struct {
		name   string
		amount Amount
	}{{"Net", i.Net}, {"Tax", i.Tax}, {"Total", i.Total}, {"To be paid", i.Payable}} {
		if one.amount != "" {
			money(one.name, one.amount)
		}
	}
	for _, f := range i.Faults {
		line("Does not add up", f.Rule+": "+f.Text)
	}
	return b.String()
}

// sums are the amounts whose sums are checked.
type sums struct {
	lines, allowances, charges, taxes []Amount // BT-131, BT-92, BT-99, BT-117
	line, allowance, charge           Amount   // BT-106, BT-107, BT-108
	net, tax, total                   Amount   // BT-109, BT-110, BT-112
	prepaid, rounding, payable        Amount   // BT-113, BT-114, BT-115
	// short is an invoice that leaves out what was paid before: of the profile MINIMUM of Factur-X, version 1.
	short bool
}

var errNumber = errors.New("an amount in it is not a number")

// check finds the rules that the sums do not keep. Sums are rounded to two places, as the standard has them. What an
// invoice leaves out as a whole is not summed: profiles such as MINIMUM and BASIC WL of Factur-X have no lines.
func (s *sums) check() (faults []Fault, err error) {
	number := func(a Amount) *big.Rat {
		if a == "" {
			return new(big.Rat)
		}
		r, ok := a.Rat()
		if !ok {
			err = errNumber
			return new(big.Rat)
		}
		return r
	}
	total := func(all []Amount) *big.Rat {
		sum := new(big.Rat)
		for _, a := range all {
			sum.Add(sum, number(a))
		}
		return sum
	}
	is := func(rule, what string, said Amount, want *big.Rat) {
		if got := number(said); cents(got).Cmp(cents(want)) != 0 {
			faults = append(faults, Fault{rule, fmt.Sprintf("%s is %s, and comes to %s", what, got.FloatString(2),
				cents(want).FloatString(2))})
		}
	}
	if len(s.lines) > 0 {
		is("BR-CO-10", "the sum of the lines", s.line, total(s.lines))
	}
	is("BR-CO-11", "the sum of the allowances", s.allowance, total(s.allowances))
	is("BR-CO-12", "the sum of the charges", s.charge, total(s.charges))
	if s.line != "" {
		net := new(big.Rat).Sub(number(s.line), number(s.allowance))
		is("BR-CO-13", "the total without tax", s.net, net.Add(net, number(s.charge)))
	}
	if len(s.taxes) > 0 {
		is("BR-CO-14", "the tax", s.tax, total(s.taxes))
	}
	is("BR-CO-15", "the total with tax", s.total, new(big.Rat).Add(number(s.net), number(s.tax)))
	if !s.short {
		payable := new(big.Rat).Sub(number(s.total), number(s.prepaid))
		is("BR-CO-16", "the amount to be paid", s.payable, payable.Add(payable, number(s.rounding)))
	}
	return faults, err
}

// cents is a number rounded to two places, halves away from zero.
func cents(r *big.Rat) *big.Rat {
	rounded, _ := new(big.Rat).SetString(r.FloatString(2))
	return rounded
}
