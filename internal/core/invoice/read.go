package invoice

import (
	"bufio"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"golang.org/x/net/html/charset"
	"golang.org/x/text/encoding/unicode"
)

// Bounds of what is read.
const (
	mostSize  = 32 << 20 // octets
	mostDepth = 40       // elements within one another; the standard's syntaxes have 12
	mostParts = 2_000_000
	mostText  = 500 // octets of one value
	mostLines = 100_000
)

// Error says why a file is no electronic invoice that can be read, for a person.
type Error struct{ Problem string }

func (e *Error) Error() string { return e.Problem }

// ErrOther says that a file is no electronic invoice at all.
var ErrOther = errors.New("this is not an electronic invoice")

// The roots of the syntaxes, as namespace and name.
const (
	ublInvoice    = "urn:oasis:names:specification:ubl:schema:xsd:Invoice-2 Invoice"
	ublCreditNote = "urn:oasis:names:specification:ubl:schema:xsd:CreditNote-2 CreditNote"
	ciiInvoice    = "urn:un:unece:uncefact:data:standard:CrossIndustryInvoice:100 CrossIndustryInvoice"
)

// Read reads an electronic invoice. ErrOther where it is none, an *Error where it cannot be read: it is broken, larger
// than the limits, or declares entities.
func Read(r io.Reader) (*Invoice, error) {
	in := bufio.NewReader(io.LimitReader(r, mostSize))
	d := xml.NewDecoder(in)
	d.CharsetReader = charset.NewReaderLabel
	if begins, _ := in.Peek(2); string(begins) == "\xff\xfe" || string(begins) == "\xfe\xff" {
		d = xml.NewDecoder(unicode.UTF16(unicode.BigEndian, unicode.UseBOM).NewDecoder().Reader(in))
		d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil } // it is done already
	}
	c := &collector{}
	parts := 0
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) && c.paths != nil && len(c.stack) == 0 {
			return c.end()
		}
		if err != nil {
			if c.paths == nil {
				return nil, ErrOther
			}
			return nil, &Error{fmt.Sprintf("it is broken (%v)", err)}
		}
		if parts++; parts > mostParts {
			return nil, &Error{"it has more parts than Ink Tray reads"}
		}
		if err := c.take(token); err != nil {
			return nil, err
		}
	}
}

// collector gathers the values of an invoice as they go by.
type collector struct {
	in    Invoice
	sums  sums
	paths map[string]func(c *collector, value string)
	stack []string // names of the open elements, without their namespaces
	text  strings.Builder

	scheme   string // of the number that stands in the open element
	vat      string // a number of the open tax scheme
	charge   bool   // the open allowance is a charge
	amount   Amount // of it
	taxes    []struct{ currency, amount string }
	unit     string // the currency of the open amount
	fallback string // the seller's trading name
}

func (c *collector) take(token xml.Token) error {
	switch t := token.(type) {
	case xml.Directive:
		return &Error{"it declares a document type, which electronic invoices do not"}
	case xml.StartElement:
		return c.begin(t)
	case xml.EndElement:
		return c.close()
	case xml.CharData:
		if c.text.Len()+len(t) > mostText {
			t = t[:max(0, mostText-c.text.Len())]
		}
		c.text.Write(t)
	}
	return nil
}

func (c *collector) begin(t xml.StartElement) error {
	if len(c.stack) == 0 {
		if c.paths != nil {
			return &Error{"it has two roots"}
		}
		switch t.Name.Space + " " + t.Name.Local {
		case ublInvoice, ublCreditNote:
			c.in.Syntax, c.paths = UBL, ublPaths
		case ciiInvoice:
			c.in.Syntax, c.paths = CII, ciiPaths
		default:
			return ErrOther
		}
	}
	if len(c.stack) >= mostDepth {
		return &Error{"its elements are nested deeper than Ink Tray reads"}
	}
	c.stack = append(c.stack, t.Name.Local)
	c.text.Reset()
	c.unit, c.scheme = "", ""
	for _, a := range t.Attr {
		switch a.Name.Local {
		case "currencyID":
			c.unit = a.Value
		case "schemeID":
			c.scheme = a.Value
		}
	}
	return nil
}

func (c *collector) close() error {
	path := strings.Join(c.stack[1:], "/")
	if f := c.paths[path]; f != nil {
		f(c, strings.Join(strings.Fields(c.text.String()), " "))
	}
	c.text.Reset()
	c.stack = c.stack[:len(c.stack)-1]
	if len(c.sums.lines)+len(c.sums.allowances)+len(c.sums.charges)+len(c.sums.taxes) > mostLines {
		return &Error{fmt.Sprintf("it has more than %d lines", mostLines)}
	}
	return nil
}

// end makes the invoice of what was gathered.
func (c *collector) end() (*Invoice, error) {
	in, s := &c.in, &c.sums
	if in.Seller == "" {
		in.Seller = c.fallback
	}
	for _, t := range c.taxes { // the tax can be said once more, in the currency of the seller's books (BT-111)
		if t.currency == "" || t.currency == in.Currency {
			s.tax = Amount(t.amount)
		}
	}
	in.Net, in.Tax, in.Total, in.Payable, in.Lines = s.net, s.tax, s.total, s.payable, len(s.lines)
	if in.Number == "" {
		return nil, &Error{"it has no number"}
	}
	faults, err := s.check()
	if err != nil {
		return nil, &Error{err.Error()}
	}
	in.Faults = faults
	return in, nil
}

type paths = map[string]func(c *collector, value string)

// set puts a value into a field, the first that comes.
func set(field func(c *collector) *string) func(*collector, string) {
	return func(c *collector, value string) {
		if at := field(c); *at == "" {
			*at = value
		}
	}
}

// money puts an amount into a field.
func money(field func(c *collector) *Amount) func(*collector, string) {
	return func(c *collector, value string) { *field(c) = Amount(value) }
}

// each adds an amount to a list.
func each(list func(c *collector) *[]Amount) func(*collector, string) {
	return func(c *collector, value string) { *list(c) = append(*list(c), Amount(value)) }
}

// settled enters an allowance or a charge of the whole invoice.
func settled(c *collector, _ string) {
	if c.charge {
		c.sums.charges = append(c.sums.charges, c.amount)
	} else {
		c.sums.allowances = append(c.sums.allowances, c.amount)
	}
	c.charge, c.amount = false, ""
}

func tax(c *collector, value string) {
	c.taxes = append(c.taxes, struct{ currency, amount string }{c.unit, value})
}

// vatOf keeps a number as the seller's where its tax scheme is that of the value added tax.
func vatOf(c *collector, scheme string) {
	if (scheme == "VAT" || scheme == "VA") && c.in.SellerVAT == "" {
		c.in.SellerVAT = c.vat
	}
}

// ublPaths are where the values stand in UBL (EN 16931-3-2), below the root.
var ublPaths = func() paths {
	p := paths{
		"ID":                                 set(func(c *collector) *string { return &c.in.Number }),
		"IssueDate":                          set(func(c *collector) *string { return &c.in.Issued }),
		"DueDate":                            set(func(c *collector) *string { return &c.in.Due }),
		"PaymentMeans/PaymentDueDate":        set(func(c *collector) *string { return &c.in.Due }),
		"InvoiceTypeCode":                    set(func(c *collector) *string { return &c.in.Type }),
		"CreditNoteTypeCode":                 set(func(c *collector) *string { return &c.in.Type }),
		"DocumentCurrencyCode":               set(func(c *collector) *string { return &c.in.Currency }),
		"BuyerReference":                     set(func(c *collector) *string { return &c.in.Reference }),
		"OrderReference/ID":                  set(func(c *collector) *string { return &c.in.Order }),
		"AllowanceCharge/ChargeIndicator":    func(c *collector, v string) { c.charge = v == "true" || v == "1" },
		"AllowanceCharge/Amount":             money(func(c *collector) *Amount { return &c.amount }),
		"AllowanceCharge":                    settled,
		"TaxTotal/TaxAmount":                 tax,
		"TaxTotal/TaxSubtotal/TaxAmount":     each(func(c *collector) *[]Amount { return &c.sums.taxes }),
		"InvoiceLine/LineExtensionAmount":    each(func(c *collector) *[]Amount { return &c.sums.lines }),
		"CreditNoteLine/LineExtensionAmount": each(func(c *collector) *[]Amount { return &c.sums.lines }),
	}
	const seller, buyer = "AccountingSupplierParty/Party/", "AccountingCustomerParty/Party/"
	p[seller+"PartyLegalEntity/RegistrationName"] = set(func(c *collector) *string { return &c.in.Seller })
	p[seller+"PartyName/Name"] = set(func(c *collector) *string { return &c.fallback })
	p[seller+"PartyTaxScheme/CompanyID"] = func(c *collector, v string) { c.vat = v }
	p[seller+"PartyTaxScheme/TaxScheme/ID"] = vatOf
	p[buyer+"PartyLegalEntity/RegistrationName"] = set(func(c *collector) *string { return &c.in.Buyer })
	p[buyer+"PartyName/Name"] = set(func(c *collector) *string { return &c.in.Buyer })
	for name, field := range map[string]func(c *collector) *Amount{
		"LineExtensionAmount":   func(c *collector) *Amount { return &c.sums.line },
		"TaxExclusiveAmount":    func(c *collector) *Amount { return &c.sums.net },
		"TaxInclusiveAmount":    func(c *collector) *Amount { return &c.sums.total },
		"AllowanceTotalAmount":  func(c *collector) *Amount { return &c.sums.allowance },
		"ChargeTotalAmount":     func(c *collector) *Amount { return &c.sums.charge },
		"PrepaidAmount":         func(c *collector) *Amount { return &c.sums.prepaid },
		"PayableRoundingAmount": func(c *collector) *Amount { return &c.sums.rounding },
		"PayableAmount":         func(c *collector) *Amount { return &c.sums.payable },
	} {
		p["LegalMonetaryTotal/"+name] = money(field)
	}
	return p
}()

// ciiPaths are where the values stand in CII (EN 16931-3-3), below the root.
var ciiPaths = func() paths {
	const trade = "SupplyChainTradeTransaction/"
	const agreement, settlement = trade + "ApplicableHeaderTradeAgreement/", trade + "ApplicableHeaderTradeSettlement/"
	p := paths{
		"ExchangedDocumentContext/GuidelineSpecifiedDocumentContextParameter/ID": func(c *collector, v string) {
			c.sums.short = strings.HasSuffix(strings.ToLower(v), ":minimum")
		},
		"ExchangedDocument/ID":       set(func(c *collector) *string { return &c.in.Number }),
		"ExchangedDocument/TypeCode": set(func(c *collector) *string { return &c.in.Type }),
		"ExchangedDocument/IssueDateTime/DateTimeString": func(c *collector, v string) {
			c.in.Issued = day102(v)
		},
		agreement + "BuyerReference":        set(func(c *collector) *string { return &c.in.Reference }),
		agreement + "SellerTradeParty/Name": set(func(c *collector) *string { return &c.in.Seller }),
		agreement + "BuyerTradeParty/Name":  set(func(c *collector) *string { return &c.in.Buyer }),
		agreement + "SellerTradeParty/SpecifiedTaxRegistration/ID": func(c *collector, v string) {
			c.vat = v
			vatOf(c, c.scheme)
		},
		settlement + "InvoiceCurrencyCode": set(func(c *collector) *string { return &c.in.Currency }),
		settlement + "SpecifiedTradePaymentTerms/DueDateDateTime/DateTimeString": func(c *collector, v string) {
			c.in.Due = day102(v)
		},
		settlement + "ApplicableTradeTax/CalculatedAmount": each(func(c *collector) *[]Amount { return &c.sums.taxes }),
		settlement + "SpecifiedTradeAllowanceCharge/ChargeIndicator/Indicator": func(c *collector, v string) {
			c.charge = v == "true" || v == "1"
		},
		settlement + "SpecifiedTradeAllowanceCharge/ActualAmount": money(func(c *collector) *Amount { return &c.amount }),
		settlement + "SpecifiedTradeAllowanceCharge":              settled,
		trade + "IncludedSupplyChainTradeLineItem/SpecifiedLineTradeSettlement/" +
			"SpecifiedTradeSettlementLineMonetarySummation/LineTotalAmount": each(func(c *collector) *[]Amount {
			return &c.sums.lines
		}),
	}
	p[agreement+"BuyerOrderReferencedDocument/IssuerAssignedID"] = set(func(c *collector) *string { return &c.in.Order })
	const summation = settlement + "SpecifiedTradeSettlementHeaderMonetarySummation/"
	p[summation+"TaxTotalAmount"] = tax
	for name, field := range map[string]func(c *collector) *Amount{
		"LineTotalAmount":      func(c *collector) *Amount { return &c.sums.line },
		"TaxBasisTotalAmount":  func(c *collector) *Amount { return &c.sums.net },
		"GrandTotalAmount":     func(c *collector) *Amount { return &c.sums.total },
		"AllowanceTotalAmount": func(c *collector) *Amount { return &c.sums.allowance },
		"ChargeTotalAmount":    func(c *collector) *Amount { return &c.sums.charge },
		"TotalPrepaidAmount":   func(c *collector) *Amount { return &c.sums.prepaid },
		"RoundingAmount":       func(c *collector) *Amount { return &c.sums.rounding },
		"DuePayableAmount":     func(c *collector) *Amount { return &c.sums.payable },
	} {
		p[summation+name] = money(field)
	}
	return p
}()

// day102 reads a day as UN/EDIFACT 2379 code 102 writes it: 20261130.
func day102(s string) string {
	if len(s) != 8 || strings.Trim(s, "0123456789") != "" {
		return ""
	}
	return s[:4] + "-" + s[4:6] + "-" + s[6:]
}
