package invoice

import (
	"errors"
	"fmt"
	"math/big"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"unicode/utf16"
)

// bill is an invoice as a generator makes it up, before it is written in a syntax.
type bill struct {
	Invoice
	lines, allowances, charges []int64 // cents
	rates                      map[int]int64
	prepaid, rounding          int64
	said                       map[string]int64 // an amount that is written instead of the right one, by its business term
}

func decimal(cents int64) string {
	sign := ""
	if cents < 0 {
		sign, cents = "-", -cents
	}
	return fmt.Sprintf("%s%d.%02d", sign, cents/100, cents%100)
}

// made makes up an invoice whose sums are right.
func made(r *rand.Rand, credit bool) *bill {
	b := &bill{rates: map[int]int64{}, said: map[string]int64{}}
	b.Number, b.Order, b.Reference = fmt.Sprintf("HD-%d/%d", 2020+r.IntN(7), r.IntN(100_000)), fmt.Sprintf("BK-%d",
		r.IntN(9999)), "harbour & <dues>"
	b.Issued = fmt.Sprintf("2026-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28))
	b.Due = fmt.Sprintf("2027-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28))
	b.Seller, b.SellerVAT, b.Buyer = "Marram Shipping “Süd” & Söhne", "XX123456789", "Brackwater harbour office"
	b.Currency, b.Type = []string{"EUR", "SEK", "NOK"}[r.IntN(3)], "380"
	if credit {
		b.Type = "381"
	}
	for range 1 + r.IntN(6) {
		b.lines = append(b.lines, int64(r.IntN(900_000))-20_000)
	}
	for range r.IntN(3) {
		b.allowances = append(b.allowances, int64(r.IntN(5_000)))
	}
	for range r.IntN(3) {
		b.charges = append(b.charges, int64(r.IntN(5_000)))
	}
	for _, rate := range []int{7, 19} {
		b.rates[rate] = int64(r.IntN(40_000))
	}
	b.prepaid, b.rounding = int64(r.IntN(10_000)), int64(r.IntN(9))-4
	b.Net, b.Tax, b.Total, b.Payable = Amount(b.amount("BT-109")), Amount(b.amount("BT-110")),
		Amount(b.amount("BT-112")), Amount(b.amount("BT-115"))
	return b
}

func total(all []int64) (sum int64) {
	for _, one := range all {
		sum += one
	}
	return sum
}

// amount is an amount by its business term, as it is written.
func (b *bill) amount(term string) string {
	var right func(term string) int64
	right = func(term string) int64 {
		switch term {
		case "BT-106":
			return total(b.lines)
		case "BT-107":
			return total(b.allowances)
		case "BT-108":
			return total(b.charges)
		case "BT-109":
			return right("BT-106") - right("BT-107") + right("BT-108")
		case "BT-110":
			return b.rates[7] + b.rates[19]
		case "BT-112":
			return right("BT-109") + right("BT-110")
		case "BT-113":
			return b.prepaid
		case "BT-114":
			return b.rounding
		case "BT-115":
			return right("BT-112") - right("BT-113") + right("BT-114")
		}
		panic(term)
	}
	return decimal(right(term) + b.said[term])
}

func escaped(s string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;").Replace(s)
}

// ubl writes the invoice in UBL, with prefixes as most programs choose them.
func (b *bill) ubl() string {
	root, line, code := "Invoice", "InvoiceLine", "InvoiceTypeCode"
	due := "<cbc:DueDate>" + b.Due + "</cbc:DueDate>"
	means := ""
	if b.Type == "381" {
		root, line, code = "CreditNote", "CreditNoteLine", "CreditNoteTypeCode"
		due, means = "", "<cac:PaymentMeans><cbc:PaymentDueDate>"+b.Due+"</cbc:PaymentDueDate></cac:PaymentMeans>"
	}
	var x strings.Builder
	fmt.Fprintf(&x, `<?xml version="1.0" encoding="UTF-8"?>
<ubl:%s xmlns:ubl="urn:oasis:names:specification:ubl:schema:xsd:%s-2"
 xmlns:cac="urn:oasis:names:specification:ubl:schema:xsd:CommonAggregateComponents-2"
 xmlns:cbc="urn:oasis:names:specification:ubl:schema:xsd:CommonBasicComponents-2">
<cbc:CustomizationID>urn:cen.eu:en16931:2017</cbc:CustomizationID><cbc:ID>%s</cbc:ID><cbc:IssueDate>%s</cbc:IssueDate>%s
<cbc:%s>%s</cbc:%s><cbc:DocumentCurrencyCode>%s</cbc:DocumentCurrencyCode><cbc:BuyerReference>%s</cbc:BuyerReference>
<cac:OrderReference><cbc:ID>%s</cbc:ID></cac:OrderReference>`, root, root, b.Number, b.Issued, due, code, b.Type, code,
		b.Currency, escaped(b.Reference), b.Order)
	party := func(role, name, vat string) {
		fmt.Fprintf(&x, `<cac:%s><cac:Party><cac:PartyIdentification><cbc:ID>1</cbc:ID></cac:PartyIdentification>`+
			`<cac:PartyTaxScheme><cbc:CompanyID>not this</cbc:CompanyID><cac:TaxScheme><cbc:ID>FC</cbc:ID></cac:TaxScheme>`+
			`</cac:PartyTaxScheme><cac:PartyTaxScheme><cbc:CompanyID>%s</cbc:CompanyID><cac:TaxScheme><cbc:ID>VAT</cbc:ID>`+
			`</cac:TaxScheme></cac:PartyTaxScheme><cac:PartyLegalEntity><cbc:RegistrationName>%s</cbc:RegistrationName>`+
			`</cac:PartyLegalEntity></cac:Party></cac:%s>`, role, vat, escaped(name), role)
	}
	party("AccountingSupplierParty", b.Seller, b.SellerVAT)
	party("AccountingCustomerParty", b.Buyer, "XX999")
	x.WriteString(means)
	for charge, all := range map[string][]int64{"false": b.allowances, "true": b.charges} {
		for _, one := range all {
			fmt.Fprintf(&x, `<cac:AllowanceCharge><cbc:ChargeIndicator>%s</cbc:ChargeIndicator><cbc:Amount currencyID="%s">%s`+
				`</cbc:Amount></cac:AllowanceCharge>`, charge, b.Currency, decimal(one))
		}
	}
	fmt.Fprintf(&x, `<cac:TaxTotal><cbc:TaxAmount currencyID="%s">%s</cbc:TaxAmount>`, b.Currency, b.amount("BT-110"))
	for _, one := range b.rates {
		fmt.Fprintf(&x, `<cac:TaxSubtotal><cbc:TaxableAmount currencyID="x">1</cbc:TaxableAmount><cbc:TaxAmount>%s`+
			`</cbc:TaxAmount></cac:TaxSubtotal>`, decimal(one))
	}
	x.WriteString(`</cac:TaxTotal><cac:TaxTotal><cbc:TaxAmount currencyID="DKK">7.00</cbc:TaxAmount></cac:TaxTotal>`)
	fmt.Fprintf(&x, `<cac:LegalMonetaryTotal><cbc:LineExtensionAmount>%s</cbc:LineExtensionAmount><cbc:TaxExclusiveAmount>%s`+
		`</cbc:TaxExclusiveAmount><cbc:TaxInclusiveAmount>%s</cbc:TaxInclusiveAmount><cbc:AllowanceTotalAmount>%s`+
		`</cbc:AllowanceTotalAmount><cbc:ChargeTotalAmount>%s</cbc:ChargeTotalAmount><cbc:PrepaidAmount>%s</cbc:PrepaidAmount>`+
		`<cbc:PayableRoundingAmount>%s</cbc:PayableRoundingAmount><cbc:PayableAmount>%s</cbc:PayableAmount>`+
		`</cac:LegalMonetaryTotal>`, b.amount("BT-106"), b.amount("BT-109"), b.amount("BT-112"), b.amount("BT-107"),
		b.amount("BT-108"), b.amount("BT-113"), b.amount("BT-114"), b.amount("BT-115"))
	for i, one := range b.lines {
		fmt.Fprintf(&x, `<cac:%s><cbc:ID>%d</cbc:ID><cbc:LineExtensionAmount>%s</cbc:LineExtensionAmount><cac:AllowanceCharge>`+
			`<cbc:ChargeIndicator>false</cbc:ChargeIndicator><cbc:Amount>5.00</cbc:Amount></cac:AllowanceCharge></cac:%s>`, line,
			i+1, decimal(one), line)
	}
	return x.String() + "</ubl:" + root + ">\n"
}

// cii writes the invoice in CII.
func (b *bill) cii() string {
	day := func(s string) string {
		return `<udt:DateTimeString format="102">` + strings.ReplaceAll(s, "-", "") + `</udt:DateTimeString>`
	}
	var x strings.Builder
	fmt.Fprintf(&x, `<?xml version="1.0"?><rsm:CrossIndustryInvoice
 xmlns:rsm="urn:un:unece:uncefact:data:standard:CrossIndustryInvoice:100"
 xmlns:ram="urn:un:unece:uncefact:data:standard:ReusableAggregateBusinessInformationEntity:100"
 xmlns:udt="urn:un:unece:uncefact:data:standard:UnqualifiedDataType:100"><rsm:ExchangedDocument><ram:ID>%s</ram:ID>
<ram:TypeCode>%s</ram:TypeCode><ram:IssueDateTime>%s</ram:IssueDateTime></rsm:ExchangedDocument>
<rsm:SupplyChainTradeTransaction>`, b.Number, b.Type, day(b.Issued))
	for _, one := range b.lines {
		fmt.Fprintf(&x, `<ram:IncludedSupplyChainTradeLineItem><ram:SpecifiedLineTradeSettlement>`+
			`<ram:SpecifiedTradeSettlementLineMonetarySummation><ram:LineTotalAmount>%s</ram:LineTotalAmount>`+
			`</ram:SpecifiedTradeSettlementLineMonetarySummation></ram:SpecifiedLineTradeSettlement>`+
			`</ram:IncludedSupplyChainTradeLineItem>`, decimal(one))
	}
	fmt.Fprintf(&x, `<ram:ApplicableHeaderTradeAgreement><ram:BuyerReference>%s</ram:BuyerReference><ram:SellerTradeParty>`+
		`<ram:Name>%s</ram:Name><ram:SpecifiedTaxRegistration><ram:ID schemeID="FC">not this</ram:ID>`+
		`</ram:SpecifiedTaxRegistration><ram:SpecifiedTaxRegistration><ram:ID schemeID="VA">%s</ram:ID>`+
		`</ram:SpecifiedTaxRegistration></ram:SellerTradeParty><ram:BuyerTradeParty><ram:Name>%s</ram:Name></ram:BuyerTradeParty>`+
		`<ram:BuyerOrderReferencedDocument><ram:IssuerAssignedID>%s</ram:IssuerAssignedID></ram:BuyerOrderReferencedDocument>`+
		`</ram:ApplicableHeaderTradeAgreement><ram:ApplicableHeaderTradeSettlement><ram:InvoiceCurrencyCode>%s`+
		`</ram:InvoiceCurrencyCode>`, escaped(b.Reference), escaped(b.Seller), b.SellerVAT, escaped(b.Buyer), b.Order, b.Currency)
	for _, one := range b.rates {
		fmt.Fprintf(&x, `<ram:ApplicableTradeTax><ram:CalculatedAmount>%s</ram:CalculatedAmount></ram:ApplicableTradeTax>`,
			decimal(one))
	}
	for charge, all := range map[string][]int64{"false": b.allowances, "true": b.charges} {
		for _, one := range all {
			fmt.Fprintf(&x, `<ram:SpecifiedTradeAllowanceCharge><ram:ChargeIndicator><udt:Indicator>%s</udt:Indicator>`+
				`</ram:ChargeIndicator><ram:ActualAmount>%s</ram:ActualAmount></ram:SpecifiedTradeAllowanceCharge>`, charge,
				decimal(one))
		}
	}
	fmt.Fprintf(&x, `<ram:SpecifiedTradePaymentTerms><ram:DueDateDateTime>%s</ram:DueDateDateTime></ram:SpecifiedTradePaymentTerms>`+
		`<ram:SpecifiedTradeSettlementHeaderMonetarySummation><ram:LineTotalAmount>%s</ram:LineTotalAmount><ram:ChargeTotalAmount>%s`+
		`</ram:ChargeTotalAmount><ram:AllowanceTotalAmount>%s</ram:AllowanceTotalAmount><ram:TaxBasisTotalAmount>%s`+
		`</ram:TaxBasisTotalAmount><ram:TaxTotalAmount currencyID="%s">%s</ram:TaxTotalAmount><ram:TaxTotalAmount currencyID="DKK">`+
		`7.00</ram:TaxTotalAmount><ram:RoundingAmount>%s</ram:RoundingAmount><ram:GrandTotalAmount>%s</ram:GrandTotalAmount>`+
		`<ram:TotalPrepaidAmount>%s</ram:TotalPrepaidAmount><ram:DuePayableAmount>%s</ram:DuePayableAmount>`+
		`</ram:SpecifiedTradeSettlementHeaderMonetarySummation></ram:ApplicableHeaderTradeSettlement>`+
		`</rsm:SupplyChainTradeTransaction></rsm:CrossIndustryInvoice>`, day(b.Due), b.amount("BT-106"), b.amount("BT-108"),
		b.amount("BT-107"), b.amount("BT-109"), b.Currency, b.amount("BT-110"), b.amount("BT-114"), b.amount("BT-112"),
		b.amount("BT-113"), b.amount("BT-115"))
	return x.String()
}

func TestAllThatAnInvoiceSaysIsReadInBothSyntaxes(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for n := range 400 {
		b := made(r, n%4 == 0)
		for syntax, text := range map[string]string{UBL: b.ubl(), CII: b.cii()} {
			got, err := Read(strings.NewReader(text))
			if err != nil {
				t.Fatalf("%s: %v\n%s", syntax, err, text)
			}
			want := b.Invoice
			want.Syntax, want.Lines = syntax, len(b.lines)
			if !reflect.DeepEqual(*got, want) {
				t.Fatalf("%s:\n%+v, want\n%+v", syntax, *got, want)
			}
			if got.CreditNote() != (n%4 == 0) {
				t.Errorf("type %s is a credit note: %v", got.Type, got.CreditNote())
			}
		}
	}
}

func TestWhatDoesNotAddUpIsNamedByItsRule(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	tried := 0
	for term, rules := range map[string][]string{
		"BT-106": {"BR-CO-10", "BR-CO-13"}, "BT-107": {"BR-CO-11", "BR-CO-13"}, "BT-108": {"BR-CO-12", "BR-CO-13"},
		"BT-109": {"BR-CO-13", "BR-CO-15"}, "BT-110": {"BR-CO-14", "BR-CO-15"}, "BT-112": {"BR-CO-15", "BR-CO-16"},
		"BT-113": {"BR-CO-16"}, "BT-114": {"BR-CO-16"}, "BT-115": {"BR-CO-16"}} {
		for _, by := range []int64{1, -1, 100_000} {
			b := made(r, false)
			b.said[term] = by
			for syntax, text := range map[string]string{UBL: b.ubl(), CII: b.cii()} {
				got, err := Read(strings.NewReader(text))
				if err != nil {
					t.Fatal(err)
				}
				var found []string
				for _, f := range got.Faults {
					found = append(found, f.Rule)
				}
				if tried++; !reflect.DeepEqual(found, rules) {
					t.Errorf("%s, %s wrong by %d: %v, want %v", syntax, term, by, found, rules)
				}
				if !strings.Contains(got.Text(), "Does not add up: "+rules[0]) {
					t.Errorf("its text does not say so:\n%s", got.Text())
				}
			}
		}
	}
	if tried < 50 {
		t.Errorf("only %d were tried", tried)
	}
}

// The shorter profiles leave out lines and sums. What they say is checked.
func TestProfilesWithoutLinesAddUp(t *testing.T) {
	const head = `<rsm:CrossIndustryInvoice xmlns:rsm="urn:un:unece:uncefact:data:standard:CrossIndustryInvoice:100"
 xmlns:ram="urn:un:unece:uncefact:data:standard:ReusableAggregateBusinessInformationEntity:100">
<rsm:ExchangedDocumentContext><ram:GuidelineSpecifiedDocumentContextParameter><ram:ID>urn:factur-x.eu:1p0:%s</ram:ID>
</ram:GuidelineSpecifiedDocumentContextParameter></rsm:ExchangedDocumentContext>
<rsm:ExchangedDocument><ram:ID>HD-9</ram:ID></rsm:ExchangedDocument><rsm:SupplyChainTradeTransaction>
<ram:ApplicableHeaderTradeSettlement>%s<ram:SpecifiedTradeSettlementHeaderMonetarySummation>%s
</ram:SpecifiedTradeSettlementHeaderMonetarySummation></ram:ApplicableHeaderTradeSettlement>
</rsm:SupplyChainTradeTransaction></rsm:CrossIndustryInvoice>`
	const tax = "<ram:ApplicableTradeTax><ram:CalculatedAmount>19.00</ram:CalculatedAmount></ram:ApplicableTradeTax>"
	const sums = "<ram:TaxBasisTotalAmount>100.00</ram:TaxBasisTotalAmount><ram:TaxTotalAmount>19.00" +
		"</ram:TaxTotalAmount><ram:GrandTotalAmount>%s</ram:GrandTotalAmount><ram:DuePayableAmount>%s" +
		"</ram:DuePayableAmount>"
	for _, c := range []struct{ profile, parts, total, payable, want string }{
		{"minimum", "", "119.00", "119.00", ""},
		{"minimum", "", "119.00", "19.00", ""}, // 100 were paid, which it does not say
		{"minimum", "", "118.00", "118.00", "BR-CO-15"},
		{"basicwl", tax, "119.00", "119.00", ""},
		{"basicwl", tax, "119.00", "19.00", "BR-CO-16"},
		{"basicwl", strings.Replace(tax, "19.00", "18.00", 1), "119.00", "119.00", "BR-CO-14"},
	} {
		line := ""
		if c.profile == "basicwl" {
			line = "<ram:LineTotalAmount>100.00</ram:LineTotalAmount>"
		}
		got, err := Read(strings.NewReader(fmt.Sprintf(head, c.profile, c.parts, line+fmt.Sprintf(sums, c.total, c.payable))))
		if err != nil {
			t.Fatal(err)
		}
		found := ""
		for _, f := range got.Faults {
			found += f.Rule
		}
		if found != c.want || got.Total != Amount(c.total) {
			t.Errorf("%+v: faults %q of %+v", c, found, *got)
		}
	}
}

func TestSumsAreExactAndRoundedToTwoPlaces(t *testing.T) {
	s := sums{lines: []Amount{"0.1", "0.2", "0.004"}, line: "0.30", net: "0.3", total: "0.30", payable: "+0.3000"}
	if faults, err := s.check(); err != nil || len(faults) > 0 {
		t.Errorf("%v, %v", faults, err)
	}
	for text, want := range map[string]string{"1.005": "1.01", "-1.005": "-1.01", "1.004999": "1.00"} {
		r, _ := new(big.Rat).SetString(text)
		if got := cents(r).FloatString(2); got != want {
			t.Errorf("%s is rounded to %s, want %s", text, got, want)
		}
	}
}

func TestOtherFilesAreNoInvoices(t *testing.T) {
	for _, text := range []string{"", "no XML", "<html><body>x</body></html>", `<Invoice><ID>1</ID></Invoice>`,
		`<Invoice xmlns="urn:elsewhere"><ID>1</ID></Invoice>`, "%PDF-1.7", "<?xml version=\"1.0\"?>", "\x00\x01\x02"} {
		if in, err := Read(strings.NewReader(text)); !errors.Is(err, ErrOther) {
			t.Errorf("%q is %+v, %v", text, in, err)
		}
	}
}

// A file that is meant to do harm is an error, at once and with little memory.
func TestHostileInvoicesAreErrors(t *testing.T) {
	b := made(rand.New(rand.NewPCG(5, 6)), false)
	good := b.ubl()
	at := strings.Index(good, "<ubl:Invoice")
	within := func(what string) string {
		return strings.Replace(good, "<cac:OrderReference>", what+"<cac:OrderReference>", 1)
	}
	for name, text := range map[string]string{
		"entities": good[:at] + `<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;&a;">]>` + good[at:],
		"an outer entity": good[:at] + `<!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/passwd">]>` + strings.Replace(good[at:],
			b.Number, "&a;", 1),
		"an unknown entity": strings.Replace(good, b.Number, "&a;", 1),
		"depth":             within(strings.Repeat("<a>", 100_000) + strings.Repeat("</a>", 100_000)),
		"a cut":             good[:len(good)/2],
		"two roots":         good + good[at:],
		"no number":         strings.Replace(good, b.Number, " ", 1),
		"an exponent":       strings.Replace(good, ">"+b.amount("BT-112")+"<", ">1e999999999<", 1),
		"a fraction":        strings.Replace(good, ">"+b.amount("BT-112")+"<", ">1/3<", 1),
		"many digits":       strings.Replace(good, ">"+b.amount("BT-112")+"<", ">"+strings.Repeat("9", 100_000)+"<", 1),
		"many lines": within(strings.Repeat("<cac:InvoiceLine><cbc:LineExtensionAmount>1</cbc:LineExtensionAmount>"+
			"</cac:InvoiceLine>", mostLines+1)),
	} {
		in, err := Read(strings.NewReader(text))
		var known *Error
		if !errors.As(err, &known) {
			t.Errorf("%s: %+v, %v", name, in, err)
		}
	}
	long, err := Read(strings.NewReader(strings.Replace(good, b.Order, strings.Repeat("x", 1<<20), 1)))
	if err != nil || len(long.Order) > mostText {
		t.Errorf("a long value: %v", err)
	}
}

func TestOtherCharacterSetsAreRead(t *testing.T) {
	b := made(rand.New(rand.NewPCG(7, 8)), false)
	b.Seller = "Söhne"
	latin := strings.Replace(strings.Replace(b.ubl(), "UTF-8", "ISO-8859-1", 1), "ö", "\xf6", -1)
	if in, err := Read(strings.NewReader(latin)); err != nil || in.Seller != b.Seller {
		t.Errorf("%+v, %v", in, err)
	}
	var wide strings.Builder
	wide.WriteString("\xff\xfe")
	for _, u := range utf16.Encode([]rune(strings.Replace(b.ubl(), "UTF-8", "UTF-16", 1))) {
		wide.Write([]byte{byte(u), byte(u >> 8)})
	}
	if in, err := Read(strings.NewReader(wide.String())); err != nil || in.Seller != b.Seller {
		t.Errorf("UTF-16: %+v, %v", in, err)
	}
}

func FuzzRead(f *testing.F) {
	r := rand.New(rand.NewPCG(9, 10))
	for range 3 {
		b := made(r, r.IntN(2) == 0)
		f.Add(b.ubl())
		f.Add(b.cii())
	}
	f.Fuzz(func(t *testing.T, text string) {
		in, err := Read(strings.NewReader(text))
		if err == nil && (in.Number == "" || in.Text() == "") {
			t.Errorf("%+v", in)
		}
	})
}
