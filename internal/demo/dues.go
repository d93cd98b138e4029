package demo

import (
	"fmt"
	"time"

	"inktray.example/inktray/internal/demo/paper"
)

// pilots send invoices for harbour dues: as XML, and within PDFs.
var pilots = []person{{"Skerry Pilots", "accounts@skerry.example"},
	{"Corrin Liner Agency", "dues@corrin-liner.example"}}

// due is an electronic invoice of the demo.
type due struct {
	number, seller, order string
	issued                time.Time
	net                   int // cents
	wrong                 int // cents that its total is wrong by
}

func money(cents int) string { return fmt.Sprintf("%d.%02d", cents/100, cents%100) }

// ubl is the invoice in UBL 2.1.
func (d *due) ubl() string {
	tax := d.net * 19 / 100
	return fmt.Sprintf(`<?xml version="1.0" encoding="UTF-8"?>
<Invoice xmlns="urn:oasis:names:specification:ubl:schema:xsd:Invoice-2"
 xmlns:cac="urn:oasis:names:specification:ubl:schema:xsd:CommonAggregateComponents-2"
 xmlns:cbc="urn:oasis:names:specification:ubl:schema:xsd:CommonBasicComponents-2">
<cbc:CustomizationID>urn:cen.eu:en16931:2017</cbc:CustomizationID><cbc:ID>%[1]s</cbc:ID>
<cbc:IssueDate>%[2]s</cbc:IssueDate><cbc:DueDate>%[3]s</cbc:DueDate><cbc:InvoiceTypeCode>380</cbc:InvoiceTypeCode>
<cbc:DocumentCurrencyCode>EUR</cbc:DocumentCurrencyCode><cac:OrderReference><cbc:ID>%[4]s</cbc:ID></cac:OrderReference>
<cac:AccountingSupplierParty><cac:Party><cac:PartyTaxScheme><cbc:CompanyID>XX123456789</cbc:CompanyID><cac:TaxScheme>
<cbc:ID>VAT</cbc:ID></cac:TaxScheme></cac:PartyTaxScheme><cac:PartyLegalEntity>
<cbc:RegistrationName>%[5]s</cbc:RegistrationName></cac:PartyLegalEntity></cac:Party></cac:AccountingSupplierParty>
<cac:AccountingCustomerParty><cac:Party><cac:PartyLegalEntity>
<cbc:RegistrationName>Brackwater harbour office</cbc:RegistrationName></cac:PartyLegalEntity></cac:Party>
</cac:AccountingCustomerParty>
<cac:TaxTotal><cbc:TaxAmount currencyID="EUR">%[6]s</cbc:TaxAmount><cac:TaxSubtotal>
<cbc:TaxableAmount currencyID="EUR">%[7]s</cbc:TaxableAmount><cbc:TaxAmount currencyID="EUR">%[6]s</cbc:TaxAmount>
</cac:TaxSubtotal></cac:TaxTotal>
<cac:LegalMonetaryTotal><cbc:LineExtensionAmount currencyID="EUR">%[7]s</cbc:LineExtensionAmount>
<cbc:TaxExclusiveAmount currencyID="EUR">%[7]s</cbc:TaxExclusiveAmount>
<cbc:TaxInclusiveAmount currencyID="EUR">%[8]s</cbc:TaxInclusiveAmount>
<cbc:PayableAmount currencyID="EUR">%[8]s</cbc:PayableAmount></cac:LegalMonetaryTotal>
<cac:InvoiceLine><cbc:ID>1</cbc:ID><cbc:LineExtensionAmount currencyID="EUR">%[7]s</cbc:LineExtensionAmount>
<cac:Item><cbc:Name>Pilotage and harbour dues</cbc:Name></cac:Item></cac:InvoiceLine></Invoice>
`, d.number, d.issued.Format(time.DateOnly), d.issued.AddDate(0, 0, 30).Format(time.DateOnly), d.order, d.seller,
		money(tax), money(d.net), money(d.net+tax+d.wrong))
}

// hybrid is the invoice as a PDF that holds it.
func (d *due) hybrid() []byte {
	tax := d.net * 19 / 100
	return paper.Hybrid([]string{"Invoice " + d.number, d.seller, "To: Brackwater harbour office",
		"Date: " + d.issued.Format("2 January 2006"), "Our reference: " + d.order, "Pilotage and harbour dues",
		"Without tax: " + money(d.net) + " EUR", "Total with tax: " + money(d.net+tax+d.wrong) + " EUR",
		"To be paid by " + d.issued.AddDate(0, 0, 30).Format("2 January 2006")}, "factur-x.xml", d.ubl())
}

// dues is an electronic invoice; of seven, one does not add up.
func (w *writer) dues(at time.Time, n int) Letter {
	from := pilots[n%2]
	d := due{number: fmt.Sprintf("HD-%d-%03d", at.Year(), 100+n), seller: from.name,
		order: fmt.Sprintf("BK-%d", 20000+w.next()), issued: at, net: 40_000 + w.random.IntN(300_000)}
	if n%7 == 3 {
		d.wrong = 1000
	}
	file := attachment{name: d.number + ".xml", data: []byte(d.ubl())}
	if n%2 == 1 {
		file = attachment{name: "Invoice " + d.number + ".pdf", data: d.hybrid()}
	}
	return w.letter("safety", at, from, "Harbour dues "+d.number, "Our invoice is attached.", []attachment{file})
}

// Invoice is a message with an electronic invoice: as XML where n is even, and within a PDF where it is odd. Number 3
// does not add up.
func Invoice(n int, at time.Time) Letter { return (&writer{random: newRandom(uint64(n))}).dues(at, n) }

// scannedWaste is a declaration on paper, as a copier sends it.
func (w *writer) scannedWaste(at time.Time, n int) Letter {
	vessel := pick(w, vessels)
	number := fmt.Sprintf("WD-%d-%04d", at.Year(), 400+n)
	lines := []string{"Brackwater harbour office", "", "DECLARATION OF SHIP'S WASTE", "",
		"Number: " + number, "Ship: " + vessel, "Date of arrival: " + at.Format("2 January 2006"), "",
		fmt.Sprintf("Oily water: %d.%d cubic metres", 3+w.random.IntN(20), w.random.IntN(10)),
		fmt.Sprintf("Household waste: %d kg", 80+w.random.IntN(300)), "", "Signed on board"}
	look := paper.Look{Tilt: float64(n%5) - 2, Grain: 0.03, Seed: uint64(n), DPI: 150, Code: number}
	page := drawn(fmt.Sprint(look, lines), func() []byte { return must(paper.PDF(must(paper.Scan(lines, look)))) })
	return w.letter("safety", at, waste, "Waste declaration "+vessel, "Scanned at the quay.",
		[]attachment{{name: fmt.Sprintf("scan%04d.pdf", n), data: page}})
}

// papers are the invoices and the scanned declarations of the seven weeks up to now.
func papers(now time.Time) (all []Letter) {
	w := &writer{random: newRandom(2027), number: 9000}
	for n := range 8 {
		date := now.AddDate(0, 0, n*6-46)
		at := time.Date(date.Year(), date.Month(), date.Day(), 9, 15, 0, 0, now.Location())
		all = append(all, w.dues(at, n))
		if n%2 == 0 {
			all = append(all, w.scannedWaste(at.Add(3*time.Hour), n))
		}
	}
	return all
}
