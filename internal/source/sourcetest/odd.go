package sourcetest

import (
	"encoding/base64"
	"fmt"
	"strings"
)

// Odd is a message that is written otherwise than the standards have it, or in a way
// that they allow and few expect.
type Odd struct {
	Name string
	Raw  []byte
	// Rewritten says that mail servers may change its bytes on the way, such as its
	// line ends.
	Rewritten bool
	// Ambiguous says that programs may differ in which octets belong to which part.
	Ambiguous bool
}

// OddMessages makes messages that are odd in every way that this package knows: in how
// a file is named, how parts are put together, how lines end, and what headers hold.
// Each is written again for a mailbox, with a Message-ID of its own.
func OddMessages() []Odd {
	var all []Odd
	add := func(name, raw string) {
		id := fmt.Sprintf("<odd-%d@tidewatch.example>", len(all)+1)
		all = append(all, Odd{Name: name, Raw: []byte(strings.ReplaceAll(raw, "$ID", id))})
	}
	rewritten := func(name, raw string) {
		add(name, raw)
		all[len(all)-1].Rewritten = true
	}
	for i, field := range namesOfFiles {
		add("name "+field,
			oddMultipart(fmt.Sprintf("names %d", i), "Content-Type: application/octet-stream\r\nContent-Disposition: "+field+
				"\r\n\r\nbytes of a file"))
		add("type and "+field,
			oddMultipart(fmt.Sprintf("type %d", i), "Content-Type: application/pdf; "+
				strings.Replace(strings.TrimPrefix(field, "attachment; "), "filename", "name", 1)+
				"\r\nContent-Transfer-Encoding: base64\r\n\r\n"+oddBase64))
	}
	for i, field := range namesOfFiles[:20] {
		add("alone "+field, oddHeader(fmt.Sprintf("alone %d", i))+
			"Content-Type: application/octet-stream\r\nContent-Disposition: "+field+"\r\nContent-Transfer-Encoding: "+
			"base64\r\n\r\n"+oddBase64+"\r\n")
	}
	for _, p := range oddParts {
		add("part: "+p.name, oddMultipart(p.name, p.part))
		// Some servers count the line end before a boundary to a forwarded message.
		all[len(all)-1].Ambiguous = strings.HasPrefix(p.name, "a forward") || strings.Contains(p.name, "boundary")
	}
	for _, m := range oddWholes {
		add("message: "+m.name, m.raw)
		all[len(all)-1].Ambiguous = strings.Contains(m.name, "boundary") || strings.Contains(m.name, "forward")
	}
	for i, h := range oddFields {
		add("field: "+h.name, strings.Replace(oddMultipart(fmt.Sprintf("field %d", i), "Content-Type: text/csv; "+
			"name=a.csv\r\n\r\na;b"), "Subject: ", h.field+"\r\nSubject: ", 1))
	}
	plain := oddMultipart("line ends",
		"Content-Type: application/pdf; name=plan.pdf\r\nContent-Transfer-Encoding: base64\r\n\r\n"+oddBase64)
	rewritten("line ends: LF", strings.ReplaceAll(plain, "\r\n", "\n"))
	rewritten("line ends: CR", strings.ReplaceAll(plain, "\r\n", "\r"))
	rewritten("line ends: CR CR LF", strings.ReplaceAll(plain, "\r\n", "\r\r\n"))
	rewritten("an empty line first", "\r\n"+plain)
	rewritten("three empty lines first", "\r\n\r\n\r\n"+plain)
	rewritten("a blank line first", "  \r\n"+plain)
	rewritten("no line end at the end", strings.TrimSuffix(plain, "\r\n"))
	rewritten("LF in the body only", strings.Replace(plain, "\r\n\r\n", "\r\n\r\n"+"", 1)+"\n\n")
	return all
}

const oddBase64 = "JVBERi0xLjQKJSBiZXJ0aCBwbGFuCg=="

func oddHeader(subject string) string {
	return "From: Oda Fenwick <oda@tidewatch.example>\r\nTo: gauges@brackwater.example\r\nDate: Tue, 12 May 2026 " +
		"06:02:00 +0000\r\nMessage-ID: $ID\r\nSubject: " + subject + "\r\nMIME-Version: 1.0\r\n"
}

func oddMultipart(subject, part string) string {
	return oddHeader(subject) + "Content-Type: multipart/mixed; boundary=\"edge\"\r\n\r\n--edge\r\nContent-Type: " +
		"text/plain\r\n\r\nSee the attachment.\r\n--edge\r\n" + part + "\r\n--edge--\r\n"
}

// namesOfFiles are Content-Disposition fields.
var namesOfFiles = []string{
	`attachment; filename="plan.pdf"`,
	`attachment; filename=plan.pdf`,
	`attachment; filename=My Bed Plan.pdf`,
	`attachment; filename=v1.2 of the plan.pdf`,
	`attachment; filename="plan"`,
	`attachment; filename=`,
	`attachment; filename=""`,
	`attachment`,
	`attachment; filename="plan.final"`,
	`attachment; filename="a;b.pdf"`,
	`attachment; filename="a\"b.pdf"`,
	`attachment; filename="a\\b.pdf"`,
	`attachment; filename="C:\docs\plan.pdf"`,
	`attachment; filename="../../plan.pdf"`,
	`attachment; FILENAME="PLAN.PDF"`,
	`attachment ; filename = "plan.pdf"`,
	`attachment;filename="plan.pdf";size=12`,
	`attachment; filename="plan.pdf"; filename="other.pdf"`,
	`attachment; filename*=utf-8''pl%C3%A4ne.pdf`,
	`attachment; filename*=iso-8859-1'de'pl%E4ne.pdf`,
	`attachment; filename="plan.pdf"; filename*=utf-8''pl%C3%A4ne.pdf`,
	`attachment; filename*0="a long "; filename*1="plan.pdf"`,
	`attachment; filename*0*=utf-8''a%20; filename*1="long "; filename*2*=pl%C3%A4n.pdf`,
	`attachment; filename*1="plan.pdf"; filename*0="a "`,
	`attachment; filename="=?utf-8?Q?pl=C3=A4ne=2Epdf?="`,
	`attachment; filename="=?utf-8?B?cGzDpG5lLnBkZg==?="`,
	`attachment; filename==?utf-8?Q?pl=C3=A4ne.pdf?=`,
	`attachment; filename="=?utf-8?Q?pl=C3=A4?= =?utf-8?Q?ne.pdf?="`,
	`attachment; filename="=?iso-2022-jp?B?GyRCN1cyaBsoQi5wZGY=?="`,
	"attachment; filename=\"pl\xc3\xa4ne.pdf\"",
	"attachment; filename=\"pl\xe4ne.pdf\"",
	`attachment; filename="plan.pdf" (as sent)`,
	`attachment; filename="plan.pdf`,
	`attachment; odd; filename="plan.pdf"`,
	`attachment; filename="100%.pdf"`,
	`attachment; filename="utf-8''pl%C3%A4ne.pdf"`,
	`attachment; filename=".pdf"`,
	`attachment; filename="plan.pdf."`,
	`attachment; filename=" plan.pdf "`,
	`attachment; filename="plan` + "\t" + `of May.pdf"`,
	`attachment; filename="` + strings.Repeat("long ", 60) + `.pdf"`,
	"attachment;\r\n filename=\"plan.pdf\"",
	"attachment;\r\n\tfilename=\"plan\r\n of May.pdf\"",
	`inline; filename="plan.pdf"`,
	`form-data; filename="plan.pdf"`,
	`"attachment"; filename="plan.pdf"`,
	`filename="plan.pdf"`,
	`attachment, filename="plan.pdf"`,
	`attachment; filename='plan.pdf'`,
	`attachment; filename="plan.tar.gz"`,
	`attachment; name="plan.pdf"`,
	"attachment; filename=\"\xf0\x9f\x91\xa9\xe2\x80\x8d\xf0\x9f\x91\xa7.pdf\"",
	`attachment; filename="=?utf-8?B?2YXbjOKAjNiu2YjYp9mH2YUucGRm?="`,
	`attachment; filename="=?x-odd?Q?plan.pdf?="`,
	`attachment; filename="=?utf-8?Q?broken.pdf"`,
}

// oddParts are parts beside a text.
var oddParts = []struct{ name, part string }{
	{"base64 with noise", "Content-Type: application/pdf; name=a.pdf\r\nContent-Transfer-Encoding: " +
		"base64\r\n\r\nJVBERi0x!!LjQK\r\n*JSBiZXJ0\r\n"},
	{"base64 without padding", "Content-Type: application/pdf; name=a.pdf\r\nContent-Transfer-Encoding: " +
		"base64\r\n\r\nJVBERi0xLjQ"},
	{"base64 in capitals", "Content-Type: application/pdf; name=a.pdf\r\nContent-Transfer-Encoding: BASE64\r\n\r\n" +
		oddBase64},
	{"base64 with a comment", "Content-Type: application/pdf; name=a.pdf\r\nContent-Transfer-Encoding: base64 (as " +
		"sent)\r\n\r\n" + oddBase64},
	{"quoted-printable", "Content-Type: text/csv; name=a.csv\r\nContent-Transfer-Encoding: " +
		"quoted-printable\r\n\r\na=3Bb=\r\n;c=C3=A4"},
	{"a bad quoted-printable", "Content-Type: text/csv; name=a.csv\r\nContent-Transfer-Encoding: " +
		"quoted-printable\r\n\r\na=ZZb=3"},
	{"uuencoded", "Content-Type: application/octet-stream; name=a.bin\r\nContent-Transfer-Encoding: " +
		"x-uuencode\r\n\r\nbegin 644 a.bin\r\n#86)C\r\n`\r\nend"},
	{"an unknown encoding", "Content-Type: application/octet-stream; name=a.bin\r\nContent-Transfer-Encoding: " +
		"x-own\r\n\r\nabc"},
	{"no encoding, eight bits", "Content-Type: text/csv; name=a.csv\r\n\r\n\xe4;\xf6"},
	{"an empty file", "Content-Type: text/csv; name=empty.csv\r\nContent-Disposition: attachment\r\n\r\n"},
	{"no header", "\r\nonly text"},
	{"a type only", "Content-Type: application/pdf\r\n\r\n%PDF"},
	{"a type that is none", "Content-Type: pdf; name=a.pdf\r\n\r\n%PDF"},
	{"a type in capitals", "CONTENT-TYPE: APPLICATION/PDF; NAME=A.PDF\r\n\r\n%PDF"},
	{"a type with spaces", "Content-Type : application/pdf ; name = a.pdf\r\n\r\n%PDF"},
	{"two types", "Content-Type: application/pdf; name=a.pdf\r\nContent-Type: text/plain\r\n\r\n%PDF"},
	{"a type with a comment", "Content-Type: application/pdf (a plan); name=a.pdf\r\n\r\n%PDF"},
	{"text that is attached", "Content-Type: text/plain; name=notes.txt\r\nContent-Disposition: attachment\r\n\r\nnotes"},
	{"text that is attached without a name", "Content-Type: text/plain\r\nContent-Disposition: attachment\r\n\r\nnotes"},
	{"a second text", "Content-Type: text/plain\r\n\r\nmore text"},
	{"a web page", "Content-Type: text/html\r\n\r\n<p>more"},
	{"a web page that is attached",
		"Content-Type: text/html; name=a.html\r\nContent-Disposition: attachment\r\n\r\n<p>more"},
	{"a picture in the text", "Content-Type: image/png; name=logo.png\r\nContent-ID: <logo>\r\nContent-Disposition: " +
		"inline\r\nContent-Transfer-Encoding: base64\r\n\r\niVBORw0KGgo="},
	{"a picture without a name", "Content-Type: image/jpeg\r\nContent-Transfer-Encoding: base64\r\n\r\n/9j/4AAQ"},
	{"a calendar entry", "Content-Type: text/calendar; method=REQUEST; charset=utf-8\r\n\r\nBEGIN:VCALENDAR"},
	{"a contact card", "Content-Type: text/x-vcard; name=oda.vcf\r\n\r\nBEGIN:VCARD"},
	{"a winmail.dat", "Content-Type: application/ms-tnef; name=winmail.dat\r\nContent-Transfer-Encoding: " +
		"base64\r\n\r\neJ8+Ig=="},
	{"a detached signature", "Content-Type: application/pgp-signature; name=signature.asc\r\n\r\n-----BEGIN"},
	{"encrypted mail", "Content-Type: application/pkcs7-mime; smime-type=enveloped-data; " +
		"name=smime.p7m\r\nContent-Transfer-Encoding: base64\r\n\r\nMIAGCSqG"},
	{"a forward", "Content-Type: message/rfc822\r\n\r\nFrom: Keld <keld@marram.example>\r\nSubject: Berth " +
		"plan\r\nContent-Type: multipart/mixed; boundary=in\r\n\r\n--in\r\n\r\ntext\r\n--in\r\nContent-Type: " +
		"application/pdf; name=inner plan.pdf\r\n\r\n%PDF\r\n--in--"},
	{"a forward of one part", "Content-Type: message/rfc822\r\n\r\nFrom: Keld <keld@marram.example>\r\nSubject: " +
		"One\r\nContent-Type: application/pdf; name=\"one.pdf\"\r\n\r\n%PDF"},
	{"a forward with a name", "Content-Type: message/rfc822; name=\"the forward.eml\"\r\nContent-Disposition: " +
		"attachment; filename=\"the forward.eml\"\r\n\r\nSubject: x\r\n\r\ntext"},
	{"a forward in base64", "Content-Type: message/rfc822\r\nContent-Transfer-Encoding: base64\r\n\r\n" +
		base64.StdEncoding.EncodeToString(
			[]byte("From: keld@marram.example\r\nSubject: Encoded\r\nContent-Type: application/pdf; name=a.pdf\r\n\r\n%PDF"))},
	{"a forward in quoted-printable",
		"Content-Type: message/rfc822\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\nFrom: " +
			"keld@marram.example\r\nSubject: Encoded=20too\r\nContent-Type: application/pdf; name=3Da.pdf\r\n\r\n%PDF"},
	{"a forward that is empty", "Content-Type: message/rfc822\r\n\r\n"},
	{"a digest", "Content-Type: multipart/digest; boundary=dg\r\n\r\n--dg\r\n\r\nSubject: " +
		"first\r\n\r\ntext\r\n--dg\r\n\r\nSubject: second\r\nContent-Type: text/csv; name=b.csv\r\n\r\nx\r\n--dg--"},
	{"a delivery report", "Content-Type: multipart/report; report-type=delivery-status; " +
		"boundary=rp\r\n\r\n--rp\r\n\r\nsorry\r\n--rp\r\nContent-Type: message/delivery-status\r\n\r\nReporting-MTA: dns; " +
		"x\r\n--rp--"},
	{"signed mail", "Content-Type: multipart/signed; protocol=\"application/pgp-signature\"; " +
		"boundary=sg\r\n\r\n--sg\r\nContent-Type: application/pdf; name=s.pdf\r\n\r\n%PDF\r\n--sg\r\nContent-Type: " +
		"application/pgp-signature\r\n\r\n--- x\r\n--sg--"},
	{"related parts", "Content-Type: multipart/related; boundary=rl\r\n\r\n--rl\r\nContent-Type: text/html\r\n\r\n<img " +
		"src=cid:a>\r\n--rl\r\nContent-Type: image/gif; name=a.gif\r\nContent-ID: <a>\r\n\r\nGIF89a\r\n--rl--"},
	{"alternatives with a file", "Content-Type: multipart/alternative; " +
		"boundary=al\r\n\r\n--al\r\n\r\nplain\r\n--al\r\nContent-Type: multipart/mixed; " +
		"boundary=al2\r\n\r\n--al2\r\nContent-Type: text/html\r\n\r\n<p>x\r\n--al2\r\nContent-Type: application/pdf; " +
		"name=in.pdf\r\n\r\n%PDF\r\n--al2--\r\n--al--"},
	{"a multipart without a boundary",
		"Content-Type: multipart/mixed\r\n\r\n--lost\r\n" +
			"Content-Type: application/pdf; name=lost.pdf\r\n\r\n%PDF\r\n--lost--"},
	{"a multipart without parts", "Content-Type: multipart/mixed; boundary=none\r\n\r\nnothing here"},
	{"a multipart within a multipart, ten deep", oddDeep(10)},
	{"a boundary that ends with spaces",
		"Content-Type: multipart/mixed; boundary=\"sp \"\r\n\r\n--sp \r\nContent-Type: application/pdf; " +
			"name=sp.pdf\r\n\r\n%PDF\r\n--sp --"},
	{"a boundary that begins another",
		"Content-Type: multipart/mixed; boundary=edge2\r\n\r\n--edge2\r\nContent-Type: application/pdf; " +
			"name=e2.pdf\r\n\r\n%PDF\r\n--edge2--"},
	{"an external body", "Content-Type: message/external-body; access-type=URL; " +
		"URL=\"https://files.tidewatch.example/a.pdf\"\r\n\r\nContent-Type: application/pdf\r\n\r\n"},
	{"part of a message", "Content-Type: message/partial; id=x; number=1; total=2\r\n\r\nSubject: half\r\n\r\nhalf"},
}

func oddDeep(n int) string {
	head, tail := "", ""
	for i := range n {
		head += fmt.Sprintf("Content-Type: multipart/mixed; boundary=d%d\r\n\r\n--d%d\r\n", i, i)
		tail = fmt.Sprintf("\r\n--d%d--", i) + tail
	}
	return head + "Content-Type: application/pdf; name=deep.pdf\r\n\r\n%PDF" + tail
}

// oddWholes are whole messages.
var oddWholes = []struct{ name, raw string }{
	{"no boundary parameter", oddHeader("lost boundary") +
		"Content-Type: multipart/mixed\r\n\r\n--edge\r\nContent-Type: text/plain\r\n\r\ntext\r\n--edge\r\nContent-Type: " +
		"application/pdf; name=a.pdf\r\n\r\n%PDF\r\n--edge--\r\n"},
	{"another boundary", oddHeader("wrong boundary") +
		"Content-Type: multipart/mixed; boundary=other\r\n\r\n--edge\r\nContent-Type: " +
		"text/plain\r\n\r\ntext\r\n--edge\r\nContent-Type: application/pdf; name=a.pdf\r\n\r\n%PDF\r\n--edge--\r\n"},
	{"an empty boundary", oddHeader("empty boundary") +
		"Content-Type: multipart/mixed; boundary=\"\"\r\n\r\n--edge\r\nContent-Type: application/pdf; " +
		"name=a.pdf\r\n\r\n%PDF\r\n--edge--\r\n"},
	{"no last boundary", oddHeader("no end") +
		"Content-Type: multipart/mixed; boundary=edge\r\n\r\n--edge\r\nContent-Type: application/pdf; " +
		"name=a.pdf\r\n\r\n%PDF\r\n"},
	{"text before and after", oddHeader("around") +
		"Content-Type: multipart/mixed; boundary=edge\r\n\r\nbefore\r\n--edge\r\nContent-Type: application/pdf; " +
		"name=a.pdf\r\n\r\n%PDF\r\n--edge--\r\nafter\r\n"},
	{"no MIME-Version", strings.Replace(oddHeader("no version"), "MIME-Version: 1.0\r\n", "", 1) +
		"Content-Type: application/pdf; name=a.pdf\r\n\r\n%PDF\r\n"},
	{"no sender", strings.Replace(oddHeader("no sender"), "From: Oda Fenwick <oda@tidewatch.example>\r\n", "", 1) +
		"Content-Type: application/pdf; name=a.pdf\r\n\r\n%PDF\r\n"},
	{"no subject and no date", "From: oda@tidewatch.example\r\nMessage-ID: $ID\r\nContent-Type: application/pdf; " +
		"name=a.pdf\r\n\r\n%PDF\r\n"},
	{"only text", oddHeader("only text") + "\r\njust text\r\n"},
	{"nothing but a header", oddHeader("only a header")},
	{"an empty body", oddHeader("empty body") + "\r\n"},
	{"a header that never ends with an empty line", oddHeader("no body") + "X-Last: yes\r\n"},
	{"a space before a colon", oddHeader("space") + "Content-Type : application/pdf; name=a.pdf\r\n\r\n%PDF\r\n"},
	{"lines in the header that are no fields", oddHeader("noise") + "this is no field\r\nContent-Type: application/pdf; " +
		"name=a.pdf\r\n\r\n%PDF\r\n"},
	{"a web page alone", oddHeader("page") + "Content-Type: text/html\r\n\r\n<p>page\r\n"},
	{"a calendar entry alone", oddHeader("entry") + "Content-Type: text/calendar\r\n\r\nBEGIN:VCALENDAR\r\n"},
	{"a forward alone", oddHeader("forward alone") +
		"Content-Type: message/rfc822\r\n\r\nSubject: in\r\nContent-Type: text/csv; name=in.csv\r\n\r\na;b\r\n"},
	{"an encoded forward alone", oddHeader("encoded alone") +
		"Content-Type: message/rfc822\r\nContent-Transfer-Encoding: base64\r\n\r\n" +
		base64.StdEncoding.EncodeToString([]byte("Subject: in\r\n\r\ntext")) + "\r\n"},
	{"a hundred attachments", oddMany(100)},
}

func oddMany(n int) string {
	var b strings.Builder
	b.WriteString(oddHeader("many") + "Content-Type: multipart/mixed; boundary=edge\r\n\r\n")
	for i := range n {
		fmt.Fprintf(&b, "--edge\r\nContent-Type: application/octet-stream\r\nContent-Disposition: attachment; "+
			"filename=file %d of many.dat\r\n\r\n%d\r\n", i, i)
	}
	return b.String() + "--edge--\r\n"
}

// oddFields are fields beside the usual ones.
var oddFields = []struct{ name, field string }{
	{"a long one", "X-Long: " + strings.Repeat("word ", 190)},
	{"a folded one", "X-Folded: a\r\n b\r\n\tc"},
	{"a folded empty line", "X-Blank: a\r\n \r\n b"},
	{"no value", "X-Empty:"},
	{"eight bits", "X-Bits: \xe4\xf6\xfc"},
	{"an encoded subject", "Subject: =?utf-8?Q?Pegelst=C3=A4nde?="},
	{"a list of addresses", "Cc: a@x.example, \"B, C\" <b@x.example>, Masters: d@x.example;"},
	{"an odd date", "Date: 12. Mai 2026"},
	{"Received", "Received: from a by b; Tue, 12 May 2026 06:02:00 +0000"},
	{"an odd Message-ID", "Message-ID: no brackets"},
}
