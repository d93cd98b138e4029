package mail

import (
	"bytes"
	"encoding/base64"
	"io"
	"math/rand/v2"
	"mime/quotedprintable"
	"strings"
	"testing"
	"testing/iotest"
)

func TestDecodeText(t *testing.T) {
	for _, c := range []struct{ name, raw, want string }{
		{"plain", "Berth request", "Berth request"},
		{"quoted-printable word", "=?utf-8?Q?Pegelst=C3=A4nde_12=2E_Mai?=", "Pegelstände 12. Mai"},
		{"base64 word", "=?UTF-8?B?UGVnZWxzdMOkbmRl?=", "Pegelstände"},
		{"space between words is dropped", "=?utf-8?q?a?= =?utf-8?q?b?=\r\n =?utf-8?q?c?=", "abc"},
		{"space to plain text stays", "=?utf-8?q?a?= and =?utf-8?q?b?=", "a and b"},
		{"a character split over two words", "=?utf-8?Q?M=C3?= =?utf-8?Q?=A4rz?=", "März"},
		{"other character sets", "=?iso-8859-1?Q?M=E4rz?= =?koi8-r?B?8MnT2M3P?=", "MärzПисьмо"},
		{"language tag", "=?us-ascii*en?Q?Keld?=", "Keld"},
		{"unpadded base64", "=?utf-8?B?YQ?=", "a"},
		{"spaces inside a word", "=?utf-8?Q?two words?=", "two words"},
		{"words joined to text", "x=?utf-8?Q?=C3=A9?=y", "xéy"},
		{"raw UTF-8", "Grüße", "Grüße"},
		{"raw Windows-1252", "Gr\xfc\xdfe \x96 x", "Grüße – x"},
		{"unknown character set", "=?x-odd?Q?abc?=", "abc"},
		{"not a word", "=?utf-8?X?abc?= =?", "=?utf-8?X?abc?= =?"},
		{"folded", "one\r\n two", "one two"},
		{"line breaks smuggled in", "=?utf-8?Q?a=0D=0ABcc:_x?=", "a  Bcc: x"},
	} {
		if got := DecodeText(c.raw); got != c.want {
			t.Errorf("%s: DecodeText(%q) = %q, want %q", c.name, c.raw, got, c.want)
		}
	}
}

func TestFileNames(t *testing.T) {
	for _, c := range []struct{ name, field, want string }{
		{"quoted", `attachment; filename="crew list.xlsx"`, "crew list.xlsx"},
		{"bare", `attachment; filename=crew.xlsx; size=3`, "crew.xlsx"},
		{"bare with spaces", `attachment; filename=crew list.xlsx`, "crew list.xlsx"},
		{"RFC 2231", `attachment; filename*=utf-8'en'cr%C3%AAw.xlsx`, "crêw.xlsx"},
		{"RFC 2231 wins", `attachment; filename="x.xlsx"; filename*=iso-8859-1''%E9.xlsx`, "é.xlsx"},
		{"continuations", "attachment; filename*0*=utf-8''a%20;\r\n filename*1=\"b%\"; filename*2*=%C3%A9.pdf", "a b%é.pdf"},
		{"continuations out of order", `attachment; filename*1="b.pdf"; filename*0="a"`, "ab.pdf"},
		{"encoded word in quotes", `attachment; filename="=?utf-8?Q?M=C3=A4rz.pdf?="`, "März.pdf"},
		{"2231 in the wrong place", `attachment; filename="utf-8''M%C3%A4rz.pdf"`, "März.pdf"},
		{"percent that is none", `attachment; filename="100%.pdf"`, "100%.pdf"},
		{"escaped quote", `attachment; filename="a\"b.pdf"`, `a"b.pdf`},
		{"path of a Windows sender", `attachment; filename="C:\docs\plan.pdf"`, "plan.pdf"},
		{"path that climbs", `attachment; filename="../../etc/passwd"`, "passwd"},
		{"junk before", `attachment; odd; filename="a.pdf"`, "a.pdf"},
		{"unclosed quote", `attachment; filename="a.pdf`, "a.pdf"},
		{"comment", `attachment (as sent); filename=a.pdf (plan)`, "a.pdf"},
	} {
		raw := "Content-Disposition: " + c.field + "\r\nContent-Type: application/octet-stream\r\n\r\nx"
		items := Parse([]byte(raw)).Message.Items()
		if len(items) != 1 || items[0].Name != c.want {
			t.Errorf("%s: %s gives %+v, want the name %q", c.name, c.field, items, c.want)
		}
	}
}

func TestAddresses(t *testing.T) {
	for _, c := range []struct{ raw, want string }{
		{`Oda Fenwick <oda@tidewatch.example>`, "Oda Fenwick|oda@tidewatch.example"},
		{`"Fenwick, Oda" <oda@Tidewatch.Example>, b@x.example`, "Fenwick, Oda|oda@tidewatch.example;|b@x.example"},
		{`oda@tidewatch.example (Oda (the) Fenwick)`, "Oda the Fenwick|oda@tidewatch.example"},
		{`=?utf-8?Q?Zo=C3=AB?= <zoe@marram.example>`, "Zoë|zoe@marram.example"},
		{`=?utf-8?q?Zo=C3=AB_=C3=98rsted,_Sandling_(Tramp)?= <zoe@sandling.example>, b@x.example`,
			"Zoë Ørsted, Sandling (Tramp)|zoe@sandling.example;|b@x.example"},
		{`"=?utf-8?q?Zo=C3=AB,_x?=" <zoe@sandling.example>`, "Zoë, x|zoe@sandling.example"},
		{`=?broken, a@x.example`, "|=?broken;|a@x.example"},
		{`"boss@brackwater.example" <thief@elsewhere.example>`, "boss@brackwater.example|thief@elsewhere.example"},
		{`Masters: a@x.example, B <b@x.example>;`, "|a@x.example;B|b@x.example"},
		{`undisclosed-recipients:;`, ""},
		{`<a@x.example`, "|a@x.example"},
		{`<@relay.example:a@x.example>`, "|a@x.example"},
		{`"odd local"@x.example`, "|odd local@x.example"},
		{`postmaster`, "|postmaster"},
		{`,,;`, ""},
	} {
		var parts []string
		for _, a := range ParseAddresses(c.raw) {
			parts = append(parts, a.Name+"|"+a.String())
		}
		if got := strings.Join(parts, ";"); got != c.want {
			t.Errorf("ParseAddresses(%q) = %q, want %q", c.raw, got, c.want)
		}
	}
}

func TestDates(t *testing.T) {
	for _, raw := range []string{
		"Tue, 12 May 2026 06:02:00 +0000", "12 May 2026 06:02 +0000", "Tue, 12 May 2026 06:02:00 GMT",
		"Tue, 12 May 2026 08:02:00 +0200 (CEST)",
		"Tue May 12 06:02:00 2026", "12 May 26 06:02:00 +0000", "2026-05-12T06:02:00Z", "Tue, 12 May 2026 06:02:00",
	} {
		got, ok := ParseDate(raw)
		if !ok || got.UTC().Format("2006-01-02 15:04") != "2026-05-12 06:02" {
			t.Errorf("ParseDate(%q) = %v, %v", raw, got, ok)
		}
	}
	if got, ok := ParseDate("yesterday"); ok {
		t.Errorf("ParseDate(yesterday) = %v", got)
	}
}

const nested = "From: Oda <oda@tidewatch.example>\r\nSubject: Fwd: plans\r\nMIME-Version: 1.0\r\n" +
	"Content-Type: multipart/mixed; boundary=out\r\n\r\npreamble\r\n" +
	"--out\r\nContent-Type: multipart/related; boundary=rel\r\n\r\n" +
	"--rel\r\nContent-Type: multipart/alternative; boundary=alt\r\n\r\n" +
	"--alt\r\nContent-Type: text/plain; charset=utf-8\r\n\r\nhello\r\n" +
	"--alt\r\nContent-Type: text/html\r\n\r\n<p>hello\r\n--alt--\r\n" +
	"--rel\r\nContent-Type: image/png; name=logo.png\r\nContent-ID: <logo>\r\nContent-Transfer-Encoding: " +
	"base64\r\n\r\niVBORw0KGgo=\r\n--rel--\r\n" +
	"--out\r\nContent-Type: message/rfc822\r\n\r\n" +
	"From: Keld <keld@marram.example>\r\nSubject: Berth plan\r\nContent-Type: multipart/mixed; boundary=in\r\n\r\n" +
	"--in\r\nContent-Type: text/plain\r\n\r\nsee plan\r\n" +
	"--in\r\nContent-Type: application/pdf; name=plan.pdf\r\nContent-Disposition: attachment\r\n\r\n%PDF-1.4\r\n" +
	"--in\r\nContent-Type: message/rfc822\r\n\r\nSubject: innermost\r\nContent-Type: application/zip; " +
	"name=a.zip\r\n\r\nPK\r\n--in--\r\n" +
	"--out\r\nContent-Type: text/csv; name=readings.csv\r\n\r\na;b\r\n--out--\r\n"

func TestItemNumbering(t *testing.T) {
	raw := Parse([]byte(nested))
	want := []struct {
		id, name string
		kind     Kind
		inline   bool
		forward  string
	}{
		{"1.2", "logo.png", Picture, true, ""},
		{"2", "Berth plan.eml", MessageKind, false, ""},
		{"2/2", "plan.pdf", PDF, false, "Berth plan"},
		{"2/3", "innermost.eml", MessageKind, false, "Berth plan"},
		{"2/3/1", "a.zip", Archive, false, "innermost"},
		{"3", "readings.csv", Spreadsheet, false, ""},
	}
	items := raw.Message.Items()
	if len(items) != len(want) {
		t.Fatalf("%d items, want %d: %+v", len(items), len(want), items)
	}
	for i, w := range want {
		got := items[i]
		forward := ""
		if got.Forward != nil {
			forward = got.Forward.Subject
		}
		if got.ID != w.id || got.Name != w.name || got.Kind != w.kind || got.Inline != w.inline || forward != w.forward {
			t.Errorf("item %d is %s %q %s inline=%v of %q, want %+v", i, got.ID, got.Name, got.Kind, got.Inline, forward, w)
		}
	}
	r, err := raw.Open("2/2")
	if err != nil {
		t.Fatal(err)
	}
	if data, _ := io.ReadAll(r); string(data) != "%PDF-1.4" {
		t.Errorf("2/2 holds %q", data)
	}
	if texts := raw.Message.TextParts(); len(texts) != 1 || texts[0].Item != "1.1.1" {
		t.Errorf("the body is %+v, want part 1.1.1 alone", texts)
	}
	if _, err := raw.Open("9"); err == nil {
		t.Error("a part that is not there was opened")
	}
}

func TestBodiesAndAttachments(t *testing.T) {
	for _, c := range []struct {
		name, header string
		items        int
	}{
		{"a lone text is a body", "Content-Type: text/plain", 0},
		{"a text that is to be saved is none", "Content-Type: text/plain\r\nContent-Disposition: attachment", 1},
		{"a named text is an attachment", "Content-Type: text/plain; name=log.txt", 1},
		{"a lone PDF", "Content-Type: application/pdf", 1},
		{"no type at all", "Subject: x", 0},
		{"nonsense for a type", "Content-Type: pdf", 0},
		{"a multipart without a boundary", "Content-Type: multipart/mixed", 0},
		{"a calendar entry", "Content-Type: text/calendar; method=REQUEST", 1},
	} {
		if got := Parse([]byte(c.header + "\r\n\r\nx\r\n")).Message.Items(); len(got) != c.items {
			t.Errorf("%s: %d items, want %d", c.name, len(got), c.items)
		}
	}
}

func TestDetachedSignaturesAndActiveNames(t *testing.T) {
	raw := "Content-Type: multipart/signed; boundary=s\r\n\r\n--s\r\nContent-Type: " +
		"text/plain\r\n\r\nx\r\n--s\r\nContent-Type: application/pkcs7-signature; name=smime.p7s\r\n\r\nx\r\n--s--\r\n"
	if items := Parse([]byte(raw)).Message.Items(); len(items) != 1 || !items[0].Detached {
		t.Errorf("smime.p7s is not seen as a detached signature: %+v", items)
	}
	for name, want := range map[string]bool{"desktop.ini": true, "Plan.LNK": true, "plan.url": true, ".htaccess": true,
		"plan.pdf": false} {
		items := Parse([]byte("Content-Disposition: attachment; filename=\"" + name + "\"\r\n\r\nx")).Message.Items()
		if len(items) != 1 || items[0].Active != want {
			t.Errorf("%s: %+v, want active=%v", name, items, want)
		}
	}
}

func TestKindOf(t *testing.T) {
	for _, c := range []struct {
		media, ext string
		want       Kind
	}{
		{"application/octet-stream", ".PDF", PDF}, {"application/pdf", "", PDF}, {"text/csv", "", Spreadsheet},
		{"text/x-odd", "", Text},
		{"image/jpeg", "", Picture}, {"image/vnd.dwg", "", Drawing}, {"application/x-odd", ".odd", Other},
		{"application/gzip", ".tar.gz", Archive},
	} {
		if got := KindOf(c.media, c.ext); got != c.want {
			t.Errorf("KindOf(%s, %s) = %s, want %s", c.media, c.ext, got, c.want)
		}
	}
	if got := Extension("a.tar.gz") + Extension("no dot") + Extension(".hidden") +
		Extension("v1. final"); got != ".tar.gz" {
		t.Errorf("extensions: %q", got)
	}
}

func TestDecodeLosesNothing(t *testing.T) {
	data := make([]byte, 100_001)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range data {
		data[i] = byte(r.Uint32())
	}
	encoded := base64.StdEncoding.EncodeToString(data)
	var folded, noisy strings.Builder
	for i := 0; i < len(encoded); i += 76 {
		line := encoded[i:min(i+76, len(encoded))]
		folded.WriteString(line + "\r\n")
		noisy.WriteString(" " + line[:1] + "!\x00" + line[1:] + "\t\n\n")
	}
	var qp bytes.Buffer
	w := quotedprintable.NewWriter(&qp)
	w.Binary = true
	w.Write(data)
	w.Close()
	var uu strings.Builder
	uu.WriteString("begin 644 x.bin\n")
	for i := 0; i < len(data); i += 45 {
		line := data[i:min(i+45, len(data))]
		uu.WriteByte(byte(len(line)) + ' ')
		for j := 0; j < len(line); j += 3 {
			var g [3]byte
			copy(g[:], line[j:])
			for _, v := range []byte{g[0] >> 2, g[0]<<4 | g[1]>>4, g[1]<<2 | g[2]>>6, g[2]} {
				uu.WriteByte((v&63+63)&63 + '!')
			}
		}
		uu.WriteString("\n")
	}
	uu.WriteString("`\nend\n")
	for _, c := range []struct{ name, encoding, in string }{
		{"base64", "base64", folded.String()},
		{"base64 without padding", "base64", strings.TrimRight(encoded, "=")},
		{"base64 with noise", "base64", noisy.String()},
		{"quoted-printable", "quoted-printable", qp.String()},
		{"uuencode", "x-uuencode", uu.String()},
		{"identity", "8bit", string(data)},
	} {
		for _, reader := range []io.Reader{strings.NewReader(c.in), iotest.OneByteReader(strings.NewReader(c.in)),
			iotest.DataErrReader(strings.NewReader(c.in))} {
			got, err := io.ReadAll(Decode(c.encoding, reader))
			if err != nil || !bytes.Equal(got, data) {
				t.Errorf("%s: %d octets (%v), want the %d that were sent", c.name, len(got), err, len(data))
			}
		}
	}
}

func TestDecodeOddForms(t *testing.T) {
	for _, c := range []struct{ name, encoding, in, want string }{
		{"joined base64 streams", "base64", "YQ==YmM=", "abc"},
		{"bad escape stays", "quoted-printable", "a=ZZ=3Db=", "a=ZZ=b"},
		{"soft line break with trailing space", "quoted-printable", "a= \r\nb", "ab"},
		{"escape across the buffer", "quoted-printable", strings.Repeat("x", 16<<10-1) + "=3D=3D",
			strings.Repeat("x", 16<<10-1) + "=="},
		{"nothing", "base64", "", ""},
	} {
		if got, err := io.ReadAll(Decode(c.encoding, strings.NewReader(c.in))); err != nil || string(got) != c.want {
			t.Errorf("%s: %.40q (%v), want %.40q", c.name, got, err, c.want)
		}
	}
	cut := io.MultiReader(strings.NewReader("YWJj"), iotest.ErrReader(io.ErrUnexpectedEOF))
	if _, err := io.ReadAll(Decode("base64", cut)); err != io.ErrUnexpectedEOF {
		t.Errorf("a cut stream ended with %v", err)
	}
}

func TestFingerprintIsOfTheMessage(t *testing.T) {
	a, b := Parse([]byte(nested)).Message, Parse([]byte(nested)).Message
	b.Flags, b.Folder = []string{`\Seen`}, "Archive"
	if a.Fingerprint() != b.Fingerprint() || len(a.Key()) != 12 {
		t.Error("flags or folder changed the fingerprint")
	}
	if c := Parse([]byte(strings.Replace(nested, "a;b", "a;b;c", 1))).Message; c.Fingerprint() == a.Fingerprint() {
		t.Error("another size gave the same fingerprint")
	}
}

func TestDeepNestingIsBounded(t *testing.T) {
	deep := strings.Repeat("Content-Type: message/rfc822\r\n\r\n", 5000) + "Subject: end\r\n\r\nx"
	if m := Parse([]byte(deep)).Message; !m.Truncated {
		t.Error("five thousand forwards within each other were not cut")
	}
	wide := "Content-Type: multipart/mixed; boundary=b\r\n\r\n" + strings.Repeat("--b\r\n\r\nx\r\n", 20_000)
	m := Parse([]byte(wide)).Message
	if !m.Truncated || len(m.Root.Children) > MaxParts {
		t.Errorf("%d parts, truncated=%v", len(m.Root.Children), m.Truncated)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(nested))
	f.Add([]byte("Content-Type: multipart/mixed; boundary=\"\"\n\n--\n\n--"))
	f.Fuzz(func(t *testing.T, data []byte) {
		raw := Parse(data)
		s := raw.Structure()
		again := New(raw.Message.Header, &s)
		a, b := raw.Message.Items(), again.Items()
		if len(a) != len(b) {
			t.Fatalf("%d items from the bytes, %d from the structure", len(a), len(b))
		}
		for i := range a {
			if a[i].ID != b[i].ID || a[i].Name != b[i].Name {
				t.Fatalf("item %+v and %+v", a[i], b[i])
			}
			r, err := raw.Open(a[i].ID)
			if err != nil {
				t.Fatalf("item %s cannot be opened: %v", a[i].ID, err)
			}
			if _, err := io.Copy(io.Discard, Decode(a[i].Encoding, r)); err != nil {
				t.Fatal(err)
			}
		}
	})
}

func FuzzHeader(f *testing.F) {
	f.Add("=?utf-8?Q?=C3?= =?utf-8?B?w?=", "attachment; filename*0*=a''%; filename*9=")
	f.Fuzz(func(t *testing.T, text, field string) {
		if got := DecodeText(text); strings.ContainsAny(got, "\r\n\x00") {
			t.Fatalf("DecodeText(%q) = %q", text, got)
		}
		ParseAddresses(text)
		ParseDate(text)
		_, params := parseParams(field)
		decodeParam(params, "filename")
	})
}

func BenchmarkDecodeBase64(b *testing.B) {
	encoded := base64.StdEncoding.EncodeToString(make([]byte, 1<<20))
	var folded strings.Builder
	for i := 0; i < len(encoded); i += 76 {
		folded.WriteString(encoded[i:min(i+76, len(encoded))] + "\r\n")
	}
	for _, c := range []struct {
		name string
		open func() io.Reader
	}{
		{"lenient", func() io.Reader { return Decode("base64", strings.NewReader(folded.String())) }},
		{"standard", func() io.Reader { return base64.NewDecoder(base64.StdEncoding, strings.NewReader(folded.String())) }},
	} {
		b.Run(c.name, func(b *testing.B) {
			b.SetBytes(1 << 20)
			for b.Loop() {
				if n, err := io.Copy(io.Discard, c.open()); n != 1<<20 || err != nil {
					b.Fatal(n, err)
				}
			}
		})
	}
}

func TestReportsCalendarsAndEncryptedMailAreKnownForWhatTheyAre(t *testing.T) {
	report := "Content-Type: multipart/report; report-type=delivery-status; boundary=b\r\n\r\n--b\r\nContent-Type: " +
		"text/plain\r\n\r\nIt was not delivered.\r\n--b\r\nContent-Type: message/delivery-status\r\n\r\nAction: " +
		"failed\r\n--b\r\nContent-Type: text/rfc822-headers\r\n\r\nSubject: x\r\n--b--\r\n"
	for name, k := range map[string]struct {
		raw  string
		want string
	}{
		"delivery report": {report, "report report"},
		"calendar entry":  {"Content-Type: text/calendar; method=REQUEST\r\n\r\nBEGIN:VCALENDAR", "calendar"},
		"S/MIME encrypted": {"Content-Type: application/pkcs7-mime; smime-type=enveloped-data; name=smime.p7m\r\n\r\nx",
			"other sealed"},
		"S/MIME signed": {"Content-Type: application/pkcs7-mime; smime-type=signed-data; name=smime.p7m\r\n\r\nx",
			"other opens"},
		"OpenPGP encrypted": {"Content-Type: multipart/encrypted; boundary=b\r\n\r\n--b\r\nContent-Type: " +
			"application/pgp-encrypted\r\n\r\nVersion: 1\r\n--b\r\nContent-Type: application/octet-stream; " +
			"name=encrypted.asc\r\n\r\nx\r\n--b--", "other detached other sealed"},
		"winmail.dat": {"Content-Type: application/octet-stream; name=WINMAIL.DAT\r\n\r\nx", "other opens"},
		"nameless": {"Content-Disposition: attachment; filename=scan\r\nContent-Type: application/octet-stream\r\n\r\nx",
			"other unsure"},
	} {
		got := ""
		for _, i := range Parse([]byte(k.raw)).Message.Items() {
			got += " " + string(i.Kind)
			for word, is := range map[string]bool{"sealed": i.Sealed != "", "opens": i.Opens, "detached": i.Detached,
				"unsure": i.Unsure} {
				if is {
					got += " " + word
				}
			}
		}
		if strings.TrimSpace(got) != k.want {
			t.Errorf("%s: %s, want %s", name, got, k.want)
		}
	}
}

func TestContentsAreComparedWithNames(t *testing.T) {
	for name, k := range map[string]struct {
		content string
		what    string
		hold    bool
	}{
		"a.pdf": {"%PDF-1.7 ...", "", false}, "late.pdf": {strings.Repeat(" ", 200) + "%PDF-1.4", "", false},
		"page.pdf":  {"<!doctype html><html><body>sign in", "a web page", true},
		"virus.pdf": {"MZ" + strings.Repeat("x", 100), "a Windows program", true},
		"table.csv": {"a;b;c\n1;2;3\n", "", false}, "table.xls": {"<html><table><tr><td>1", "a web page", false},
		"notes.txt": {"", "empty", false}, "setup.exe": {"MZ" + strings.Repeat("x", 100), "", false},
		"photo.jpg": {"\xff\xd8\xff\xe0 JFIF", "", false}, "photo.png": {"%PDF-1.7", "a PDF", true},
		"run.txt": {"#!/bin/sh\nrm -rf /", "a script", false}, "logo.svg": {"<?xml version=\"1.0\"?><svg " +
			"xmlns=\"http://www.w3.org/2000/svg\"/>", "", false},
		"bundle.zip":  {"PK\x03\x04" + strings.Repeat("x", 60), "", false},
		"unknown.xyz": {"MZ" + strings.Repeat("x", 100), "a Windows program", true},
		"linux.csv":   {"\x7fELF\x02\x01\x01" + strings.Repeat("\x00", 60), "a Linux program", true},
	} {
		i := Item{Name: name}
		i.judge()
		if what, hold := Disagrees(&i, []byte(k.content)); what != k.what || hold != k.hold {
			t.Errorf("%s: %q, held %v; want %q, held %v", name, what, hold, k.what, k.hold)
		}
	}
}

func TestMacrosAreFoundWhereverTheContentIsCut(t *testing.T) {
	utf16 := "_\x00V\x00B\x00A\x00_\x00P\x00R\x00O\x00J\x00E\x00C\x00T\x00"
	for content, want := range map[string]bool{
		strings.Repeat("x", 100) + "word/vbaProject.bin" + strings.Repeat("y", 100): true, strings.Repeat("x", 100) + utf16 +
			"y": true,
		"PK xl/macrosheets/sheet1.xml": true, "PK Basic/script-lc.xml": true, "PK Scripts/python/a.py": true,
		"PK Configurations2/ Basic/ xl/worksheets/sheet1.xml": false,
		"vbaProject": false, strings.Repeat("vbaProject.bi ", 50): false, "": false,
	} {
		for _, size := range []int{1, 2, 5, 23, 24, 25, 1000} {
			f := &MacroFinder{}
			for rest := content; rest != ""; {
				n := min(size, len(rest))
				if written, err := f.Write([]byte(rest[:n])); written != n || err != nil {
					t.Fatal(written, err)
				}
				rest = rest[n:]
			}
			if f.Found != want {
				t.Errorf("%.40q in pieces of %d: %v", content, size, f.Found)
			}
		}
	}
}
