package mail

import (
	"fmt"
	"strings"
	"testing"
)

// hostileShapes are headers and structures that nobody writes by accident, of about n octets.
var hostileShapes = map[string]func(n int) string{
	"folded blank lines in To": func(n int) string {
		return "To: a@b.example" + strings.Repeat("\r\n ", n/3) +
			"\r\n\r\n"
	},
	"encoded words without end": func(n int) string {
		return "Subject: " + strings.Repeat("=?a?q?x", n/7) +
			"\r\n\r\n"
	},
	"encoded words in To":         func(n int) string { return "To: " + strings.Repeat("=?a?q?x", n/7) + "?=\r\n\r\n" },
	"beginnings of encoded words": func(n int) string { return "From: " + strings.Repeat("=?", n/2) + "\r\n\r\n" },
	"encoded words that are empty": func(n int) string {
		return "Subject: " + strings.Repeat("=?a?q??==", n/9) +
			"\r\n\r\n"
	},
	"addresses":             func(n int) string { return "To: " + strings.Repeat("a@b,", n/4) + "\r\n\r\n" },
	"colons in addresses":   func(n int) string { return "To: " + strings.Repeat("ab:", n/3) + "\r\n\r\n" },
	"comments in addresses": func(n int) string { return "To: " + strings.Repeat("(", n) + "\r\n\r\n" },
	"parameters without a value": func(n int) string {
		return "Content-Type: a/b;" + strings.Repeat("a;", n/2) +
			"b=c\r\n\r\n"
	},
	"parameters": func(n int) string {
		return "Content-Type: a/b;" + strings.Repeat("a=b;", n/4) +
			"\r\n\r\n"
	},
	"quoted parameters without end": func(n int) string {
		return "Content-Type: a/b;" + strings.Repeat(`a=";`, n/4) +
			"\r\n\r\n"
	},
	"fields":                  func(n int) string { return strings.Repeat("a:\r\n", n/4) + "\r\n" },
	"lines that are no field": func(n int) string { return strings.Repeat("a\r\n", n/3) + "\r\n" },
	"no end of the header":    func(n int) string { return "a: b" + strings.Repeat("\r\n b", n/4) },
	"bare carriage returns":   func(n int) string { return "a: b\r" + strings.Repeat("\rx: y", n/5) },
	"boundaries that are not named": func(n int) string {
		var b strings.Builder
		b.WriteString("Content-Type: multipart/mixed\r\n\r\n")
		for i := 0; b.Len() < n; i++ {
			fmt.Fprintf(&b, "--%d\r\n\r\n", i)
		}
		return b.String()
	},
	"nested multiparts": func(n int) string {
		inner := "Content-Type: text/plain\r\n\r\n" + strings.Repeat("x\r\n", n/3)
		for i := range MaxDepth {
			inner = fmt.Sprintf("Content-Type: multipart/mixed; boundary=b%d\r\n\r\n--b%d\r\n%s\r\n--b%d--\r\n", i, i, inner, i)
		}
		return inner
	},
	"nested multiparts of lines with hyphens": func(n int) string {
		inner := "Content-Type: text/plain\r\n\r\n" + strings.Repeat("--\r\n", n/4)
		for i := range MaxDepth {
			inner = fmt.Sprintf("Content-Type: multipart/mixed; boundary=b%d\r\n\r\n--b%d\r\n%s\r\n--b%d--\r\n", i, i, inner, i)
		}
		return inner
	},
	"nested forwarded messages": func(n int) string {
		return strings.Repeat("Content-Type: message/rfc822\r\n\r\n", n/33) + strings.Repeat("x\r\n", n/3)
	},
	"parts": func(n int) string {
		return "Content-Type: multipart/mixed; boundary=b\r\n\r\n" + strings.Repeat("--b\r\n\r\n", n/7)
	},
}

// understood is all that is made of a message before any condition is looked at.
func understood(data string) *Message {
	m := Parse([]byte(data)).Message
	header, _ := ParseHeader([]byte(data))
	header.Envelope()
	m.Items()
	m.TextParts()
	m.Originals()
	m.NoReply()
	m.Fingerprint()
	return m
}

// A field that is longer than any may be is cut, and the header says so.
func TestFieldsThatAreTooLongAreCutAndNamed(t *testing.T) {
	long := "To: first@b.example" + strings.Repeat(",\r\n more@b.example", 20_000) + "\r\nSubject: short\r\n\r\n"
	h, rest := ParseHeader([]byte(long + "body"))
	if cut := h.Cut(); len(cut) != 1 || cut[0] != "To" {
		t.Errorf("the fields that were cut: %q", cut)
	}
	if n := len(h.Get("To")); n != longestField {
		t.Errorf("the long field has %d octets", n)
	}
	if h.Get("Subject") != "short" || string(rest) != "body" {
		t.Errorf("what follows is lost: %q, %q", h.Get("Subject"), rest)
	}
	if to := h.Envelope().To; len(to) < 500 || to[0].String() != "first@b.example" {
		t.Errorf("of the list %d are left", len(to))
	}
}

func TestBareLineFeedsAreCountedInBlocksAsOneByOne(t *testing.T) {
	var b strings.Builder
	for i := range 40_000 {
		b.WriteString([]string{"\n", "\r\n", "x", "\r", "xy\r\n", "\r\r\n"}[i*i%6])
	}
	data := []byte(b.String())
	p := parser{data: data}
	starts := []int{}
	for start := 0; start < len(data); start += 977 {
		starts = append(starts, start, start/block*block)
	}
	for _, start := range starts {
		for end := start; end <= len(data); end += 3001 {
			if got, want := p.bare(start, end), bareLF(data[start:end]); got != want {
				t.Fatalf("from %d to %d there are %d, want %d", start, end, got, want)
			}
		}
	}
}

func TestHostileShapesAreUnderstoodWithoutAPanic(t *testing.T) {
	for name, shape := range hostileShapes {
		t.Run(name, func(t *testing.T) { understood(shape(1 << 16)) })
	}
}

// BenchmarkHostileShapes shows that time grows no faster than size: the time for each octet stays.
func BenchmarkHostileShapes(b *testing.B) {
	for name, shape := range hostileShapes {
		for size := 128 << 10; size <= 1<<20; size *= 2 {
			data := shape(size)
			b.Run(fmt.Sprintf("%s/%dKB", name, size>>10), func(b *testing.B) {
				for b.Loop() {
					understood(data)
				}
				b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(len(data)), "ns/octet")
			})
		}
	}
}
