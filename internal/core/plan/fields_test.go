package plan

import (
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/text/language"

	"inktray.example/inktray/internal/core/invoice"
	"inktray.example/inktray/internal/core/mail"
)

// one plans the first attachment of a message under a folder pattern.
func one(t *testing.T, m *mail.Message, folder string, s Setting) Item {
	t.Helper()
	document := strings.Replace(readings, "folder: Gauges/<received year>/<sender.name>", "folder: '"+folder+"'", 1)
	i, _, ok := One(compile(t, document), m, s, "2")
	if !ok || i.Segments == nil {
		t.Fatalf("nothing was planned under %q", folder)
	}
	return i
}

func TestEveryFieldOfTheTableIsAnswered(t *testing.T) {
	raw := "From: Oda Fenwick <oda.fenwick@tidewatch.example>\r\nTo: Gauges <gauges+north@brackwater.example>\r\nDate: " +
		"Thu, 31 Dec 2026 20:00:00 +0000\r\nSubject: Re: levels\r\nMessage-ID: <42@tidewatch.example>\r\n" +
		"Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\n\r\nhello\r\n--b\r\nContent-Type: text/csv; " +
		"name=st3.csv\r\n\r\na;b\r\n--b--\r\n"
	m := mail.Parse([]byte(raw)).Message
	m.Received, m.Folder = time.Date(2026, 12, 31, 23, 30, 0, 0, time.UTC), "Archive/2026"
	for field, want := range map[string]string{
		"received": "2026-12-31", "received year": "2026", "received week year": "2026", "received week": "53",
		"received quarter": "Q4", "received time": "23.30",
		"sent": "2026-12-31", "filed": "2027-01-01",
		"sender.name": "Oda Fenwick", "sender.address": "oda.fenwick@tidewatch.example", "sender.local": "oda.fenwick",
		"sender.domain":  "tidewatch.example",
		"recipient.name": "Gauges", "recipient.address": "gauges+north@brackwater.example", "recipient.local": "gauges+north",
		"recipient.domain": "brackwater.example", "recipient.detail": "north",
		"original.sender.name": "Unknown sender", "subject": "levels", "subject.full": "Re- levels", "mailbox": "gauges",
		"folder": "Archive-2026", "rule": "Readings",
		"message.key": m.Key(), "message.id": "42@tidewatch.example", "file.stem": "st3", "file.ext": "csv",
		"file.kind": "spreadsheet", "file.number": "1", "file.size": "3",
		"register": "…", "register.year": "…",
	} {
		if got := one(t, m, "<"+field+">", setting).Segments[0]; got != want {
			t.Errorf("<%s> is %q, want %q", field, got, want)
		}
	}
}

func TestAnElectronicInvoiceNamesItsFile(t *testing.T) {
	raw := "From: oda@tidewatch.example\r\nSubject: dues\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n" +
		"--b\r\n\r\n" +
		"hello\r\n--b\r\nContent-Type: text/csv; name=dues.csv\r\n\r\n<x/>\r\n--b--\r\n"
	m := mail.Parse([]byte(raw)).Message
	document := strings.Replace(readings, "folder: Gauges/<received year>/<sender.name>", "folder: '<invoice.number>'", 1)
	item, needs, _ := One(compile(t, document), m, setting, "2")
	if !slices.Contains(needs.Texts, "2") || item.Segments[0] != "…" {
		t.Errorf("before it was read it is filed under %q, and what is wanted is %v", item.Segments, needs.Texts)
	}
	m.Texts = map[string]*mail.Read{"2": {Invoice: &invoice.Invoice{Type: "381", Number: "HD-7/9", Issued: "2026-11-30",
		Due: "2026-12-14", Seller: "Marram Shipping", SellerVAT: "XX1", Buyer: "Harbour office", Order: "BK-2",
		Reference: "R", Currency: "EUR", Net: "100.00", Tax: "19.00", Total: "119.00", Payable: "118.00",
		Faults: []invoice.Fault{{Rule: "BR-CO-10"}, {Rule: "BR-CO-16"}}}}}
	for field, want := range map[string]string{"invoice.number": "HD-7-9", "invoice.type": "credit note",
		"invoice.issued": "2026-11-30", "invoice.due month name": "December", "invoice.seller": "Marram Shipping",
		"invoice.vat": "XX1", "invoice.buyer": "Harbour office", "invoice.order": "BK-2", "invoice.reference": "R",
		"invoice.currency": "EUR", "invoice.net": "100.00", "invoice.tax": "19.00", "invoice.total": "119.00",
		"invoice.payable": "118.00", "invoice.faults": "BR-CO-10, BR-CO-16"} {
		if got := one(t, m, "<"+field+">", setting).Segments[0]; got != want {
			t.Errorf("<%s> is %q, want %q", field, got, want)
		}
	}
	m.Texts = map[string]*mail.Read{"2": {Text: "no invoice"}}
	for field, want := range map[string]string{"invoice.number": "No invoice", "invoice.issued": "undated"} {
		if got := one(t, m, "<"+field+">", setting).Segments[0]; got != want {
			t.Errorf("where there is no invoice, <%s> is %q, want %q", field, got, want)
		}
	}
}

func TestDatesAreShownInTheRulesZone(t *testing.T) {
	m := message("")
	document := strings.Replace(readings, "attachments:", "time zone: Europe/Oslo\nattachments:", 1)
	i, _, _ := One(compile(t, document), m, setting, "2")
	if got := i.Path(); got != "Gauges/2027/Tide-watch- Oda/2027-01-01 st3.csv" {
		t.Errorf("half past eleven on New Year's Eve in UTC is filed as %q", got)
	}
	german := Setting{Now: setting.Now, Language: language.German}
	if got := one(t, m, "<received month name>", german).Segments[0]; got != "Dezember" {
		t.Errorf("the month's name in German is %q", got)
	}
}

func TestASenderCannotChooseTheDateFreely(t *testing.T) {
	for date, want := range map[string]string{
		"Thu, 1 Jan 1970 00:00:00 +0000": "undated", "Mon, 1 Jan 2035 00:00:00 +0000": "undated",
		"Tue, 1 Dec 2026 00:00:00 +0000": "2026-12-01", "nonsense": "undated",
	} {
		m := message("")
		m.Envelope.Date, _ = mail.ParseDate(date)
		if got := one(t, m, "<sent>", setting).Segments[0]; got != want {
			t.Errorf("sent %q is %q, want %q", date, got, want)
		}
	}
}

func TestALongPathIsFittedWithItsExtension(t *testing.T) {
	m := message("")
	m.Envelope.Subject = strings.Repeat("a very long subject ", 30)
	s := setting
	s.MaxPath = 120
	i := one(t, m, "<subject>/<subject>", s)
	if got := i.Path(); len(got) > 120 || !strings.HasSuffix(got, ".csv") || len(i.Segments) != 2 {
		t.Errorf("%d octets: %q", len(got), got)
	}
}

func TestAPlanIsTheSameEachTimeItIsMade(t *testing.T) {
	m := message("")
	first := one(t, m, "<subject>/<filed as \"yyyy-MM-dd HH.mm\">", setting)
	for range 5 {
		if again := one(t, m, "<subject>/<filed as \"yyyy-MM-dd HH.mm\">", setting); again.Path() != first.Path() {
			t.Fatalf("%q then %q", first.Path(), again.Path())
		}
	}
}
