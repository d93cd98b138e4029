package demo

import (
	"archive/zip"
	"bytes"
	"encoding/csv"
	"encoding/xml"
	"errors"
	"image/jpeg"
	"image/png"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"inktray.example/inktray/internal/core/correspondent"
	"inktray.example/inktray/internal/core/invoice"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
)

var now = time.Date(2026, 5, 12, 14, 0, 0, 0, time.UTC)

func TestTheScenarioIsInventedAndAlwaysTheSame(t *testing.T) {
	first, second := OldMail(now), OldMail(now)
	if len(first) < 150 {
		t.Errorf("%d messages, want at least 150", len(first))
	}
	ids := map[string]bool{}
	for i, l := range first {
		m := mail.Parse(l.Raw).Message
		if other := mail.Parse(second[i].Raw).Message; other.Envelope.Subject != m.Envelope.Subject ||
			other.Envelope.MessageID != m.Envelope.MessageID {
			t.Fatalf("message %d is another one the second time", i)
		}
		if ids[m.Envelope.MessageID] || m.Envelope.MessageID == "" {
			t.Errorf("the Message-ID %q comes twice", m.Envelope.MessageID)
		}
		ids[m.Envelope.MessageID] = true
		for _, a := range append(m.Envelope.From, m.Envelope.To...) {
			if !strings.HasSuffix(a.Domain, ".example") {
				t.Errorf("%v is not an invented address", a)
			}
		}
		if l.Received.After(now) {
			t.Errorf("%q comes from the future", m.Envelope.Subject)
		}
	}
	for n := range 40 {
		if l := Next(n, now); mail.Parse(l.Raw).Message.Envelope.Subject == "" {
			t.Errorf("the next message %d has no subject", n)
		}
	}
}

// TestTheFilesAreWhatTheySay opens every attachment with a reader of its kind.
func TestTheFilesAreWhatTheySay(t *testing.T) {
	seen := map[string]int{}
	for _, l := range OldMail(now) {
		raw := mail.Parse(l.Raw)
		for _, item := range raw.Message.Items() {
			part, err := raw.Open(item.ID)
			if err != nil {
				t.Fatal(err)
			}
			data, err := io.ReadAll(mail.Decode(item.Encoding, part))
			if err != nil {
				t.Fatal(err)
			}
			if strings.Contains(raw.Message.Envelope.Subject, "(corrected)") {
				if _, hold := mail.Disagrees(&item, data[:min(len(data), mail.FirstBytes)]); !hold {
					t.Error("the program in disguise is not one")
				}
				continue
			}
			ext := strings.ToLower(item.Ext())
			seen[ext]++
			switch ext {
			case ".pdf":
				if !bytes.HasPrefix(data, []byte("%PDF-")) || !bytes.Contains(data[len(data)-32:], []byte("%%EOF")) {
					err = io.ErrUnexpectedEOF
				}
			case ".xlsx":
				var f *excelize.File
				if f, err = excelize.OpenReader(bytes.NewReader(data)); err == nil {
					if rows, _ := f.GetRows(f.GetSheetName(0)); len(rows) < 2 {
						t.Errorf("%s has %d rows", item.Name, len(rows))
					}
					f.Close()
				}
			case ".csv":
				r := csv.NewReader(bytes.NewReader(data))
				r.Comma = ';'
				_, err = r.ReadAll()
			case ".jpg":
				_, err = jpeg.Decode(bytes.NewReader(data))
			case ".png":
				_, err = png.Decode(bytes.NewReader(data))
				if !item.Inline || item.Size > rule.SignaturePictureSize {
					t.Errorf("%s is no signature picture: %d octets, inline %v", item.Name, item.Size, item.Inline)
				}
			case ".docx", ".zip":
				var z *zip.Reader
				if z, err = zip.NewReader(bytes.NewReader(data), int64(len(data))); err == nil && ext == ".docx" {
					f, openErr := z.Open("word/document.xml")
					if openErr != nil {
						t.Fatal(openErr)
					}
					for d := xml.NewDecoder(f); err == nil; {
						_, err = d.Token()
					}
					if err == io.EOF {
						err = nil
					}
				}
			case ".xml":
				var in *invoice.Invoice
				if in, err = invoice.Read(bytes.NewReader(data)); err == nil && in.Seller == "" {
					err = errors.New("it says nothing of its seller")
				}
			case ".eml":
			default:
				t.Errorf("%s is of no kind that the scenario has", item.Name)
			}
			if err != nil {
				t.Errorf("%s in %q: %v", item.Name, raw.Message.Envelope.Subject, err)
			}
		}
	}
	for _, ext := range []string{".pdf", ".xlsx", ".csv", ".jpg", ".png", ".docx", ".zip", ".eml", ".xml"} {
		if seen[ext] == 0 {
			t.Errorf("the scenario has no %s", ext)
		}
	}
}

func TestTheRulesAreWholeAndSomeMailIsWantedByNone(t *testing.T) {
	document, err := rule.Parse([]byte(Rules))
	if err != nil {
		t.Fatal(err)
	}
	var rules []*rule.Compiled
	for i := range document.Rules {
		c, err := rule.Compile(&document.Rules[i], 1, time.UTC)
		if err != nil {
			t.Fatal(err)
		}
		rules = append(rules, c)
	}
	var entries []correspondent.Correspondent
	for _, c := range Book {
		entries = append(entries,
			correspondent.Correspondent{Name: c.Name, Domains: []string{c.Domain}, Groups: []string{c.Group}})
	}
	book := correspondent.New(entries)
	matched, wanted := make([]int, len(rules)), 0
	all := OldMail(now)
	for _, l := range all {
		m := mail.Parse(l.Raw).Message
		m.Received = l.Received
		some := false
		for i, r := range rules {
			if r.Rule.Look.Looks(l.Mailbox) && r.Matches(&rule.Input{Message: m, Now: now, Book: book}).Answer == rule.Yes {
				matched[i]++
				some = true
			}
		}
		if some {
			wanted++
		}
	}
	for i, n := range matched {
		if n == 0 {
			t.Errorf("the rule %s is for no message", rules[i].Rule.Name)
		}
	}
	if wanted == len(all) {
		t.Error("every message is wanted by some rule")
	}
}

func TestATakenAddressIsAnError(t *testing.T) {
	first, err := StartMailServer("127.0.0.1:0", nil)
	if err != nil {
		t.Fatal(err)
	}
	defer first.Close()
	if second, err := StartMailServer(first.listener.Addr().String(), nil); err == nil {
		second.Close()
		t.Error("two servers on one address")
	}
}
