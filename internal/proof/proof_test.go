package proof

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"io"
	"net"
	"strings"
	"testing"

	"github.com/emersion/go-msgauth/dkim"

	"inktray.example/inktray/internal/core/mail"
)

// zone is a name service for tests. "down" is what is not answered for.
type zone map[string]string

func (z zone) LookupTXT(_ context.Context, name string) ([]string, error) {
	v, ok := z[strings.TrimSuffix(name, ".")]
	switch {
	case v == "down":
		return nil, errors.New("the name server does not answer")
	case !ok:
		return nil, &net.DNSError{Err: "no such host", Name: name, IsNotFound: true}
	}
	return []string{v}, nil
}

const letter = "From: Oda Fenwick <oda@tidewatch.example>\r\nTo: gauges@brackwater.example\r\nSubject: " +
	"Levels\r\nDate: Tue, 12 May 2026 06:02:00 +0000\r\nContent-Type: text/csv; " +
	"name=levels.csv\r\n\r\nstation;level\r\n3;2.10\r\n"

func sign(t *testing.T, raw, domain string, key ed25519.PrivateKey) string {
	t.Helper()
	var out bytes.Buffer
	if err := dkim.Sign(&out, strings.NewReader(raw),
		&dkim.SignOptions{Domain: domain, Selector: "s", Signer: key}); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func TestSignaturesAndTheirForgeries(t *testing.T) {
	public, key, _ := ed25519.GenerateKey(rand.Reader)
	_, stranger, _ := ed25519.GenerateKey(rand.Reader)
	record := "v=DKIM1; k=ed25519; p=" + base64.StdEncoding.EncodeToString(public)
	names := zone{"s._domainkey.tidewatch.example": record, "s._domainkey.mail.tidewatch.example": record,
		"s._domainkey.evil.example":   record,
		"s._domainkey.strict.example": record, "s._domainkey.mail.strict.example": record,
		"_dmarc.strict.example":            "v=DMARC1; p=reject; adkim=s",
		"s._domainkey.mail.unsure.example": record, "_dmarc.unsure.example": "down", "s._domainkey.unsure.example": record,
		"s._domainkey.withdrawn.example": "v=DKIM1; k=ed25519; p=", "s._domainkey.down.example": "down"}
	good := sign(t, letter, "tidewatch.example", key)
	from := func(domain string) string { return strings.Replace(letter, "tidewatch.example", domain, 1) }
	for name, c := range map[string]struct {
		raw    string
		proven bool
		says   string
	}{
		"signed by the author's domain": {good, true, "signed by tidewatch.example (DKIM)"},
		"by a domain of the same organisation": {sign(t, letter, "mail.tidewatch.example", key), true,
			"signed by mail.tidewatch.example"},
		"not signed": {letter, false, "not signed"},
		"signed by another": {sign(t, letter, "evil.example", key), false, "signed by evil.example, which " +
			"is not tidewatch.example"},
		"with another's key": {sign(t, letter, "tidewatch.example", stranger), false, "is not valid"},
		"the author exchanged": {
			strings.Replace(good, "From: Oda Fenwick <oda@tidewatch.example>", "From: Oda Fenwick <oda@other.tidewatch.example>",
				1), false, "is not valid"},
		"the attachment exchanged": {strings.Replace(good, "3;2.10", "3;9.99", 1), false, "is not valid"},
		"something added":          {good + "3;9.99\r\n", false, "is not valid"},
		"a key withdrawn": {sign(t, from("withdrawn.example"), "withdrawn.example", key), false,
			"is not valid"},
		"a strict domain's own signature": {sign(t, from("strict.example"), "strict.example", key), true,
			"signed by strict.example"},
		"a strict domain's neighbour": {sign(t, from("strict.example"), "mail.strict.example", key), false,
			"wants exactly its own name"},
		"a length that leaves room for more": {strings.Replace(good, "v=1;", "v=1; l=5;", 1) + "more\r\n", false,
			"insecure body length"},
		"a signature that is none": {"DKIM-Signature: v=1; nonsense\r\n" + letter, false, ""},
		"the author twice":         {"From: Somebody <x@evil.example>\r\n" + good, false, "2 From fields"},
		"two authors": {
			strings.Replace(letter, "From: Oda Fenwick <oda@tidewatch.example>", "From: oda@tidewatch.example, x@evil.example",
				1), false, "not exactly one author"},
		"an author without a domain": {strings.Replace(letter, "Oda Fenwick <oda@tidewatch.example>", "Oda Fenwick", 1),
			false, "not exactly one author"},
	} {
		h, _ := mail.ParseHeader([]byte(c.raw))
		domain, problem := Author(h)
		p := mail.Proof{Text: problem}
		if problem == "" {
			p = Signed(t.Context(), strings.NewReader(c.raw), domain, names)
		}
		if p.Proven != c.proven || p.Unknown || !strings.Contains(p.Text, c.says) {
			t.Errorf("%s: %+v", name, p)
		}
	}
	// its policy cannot be asked for
	for signer, proven := range map[string]bool{"unsure.example": true, "mail.unsure.example": false} {
		if p := Signed(t.Context(), strings.NewReader(sign(t, from("unsure.example"), signer, key)), "unsure.example",
			names); p.Proven != proven || p.Unknown == proven {
			t.Errorf("signed by %s while the policy is not known: %+v", signer, p)
		}
	}
	if p := Signed(t.Context(), strings.NewReader(sign(t, from("down.example"), "down.example", key)), "down.example",
		names); !p.Unknown || p.Proven {
		t.Errorf("a name service that does not answer: %+v", p)
	}
}

func TestWhatTrustedServersReportAndItsForgeries(t *testing.T) {
	const own = "Received: from mail.tidewatch.example (mail.tidewatch.example [198.51.100.7]) by mx.brackwater.example " +
		"with ESMTPS; Tue, 12 May 2026 06:02:00 +0000\r\n"
	const within = "Received: from mx.brackwater.example (mx.brackwater.example [10.0.0.4])\r\n\tby " +
		"imap.brackwater.example with ESMTP; Tue, 12 May 2026 06:02:01 +0000\r\n"
	const lmtp = "Received: from imap.brackwater.example by imap.brackwater.example with LMTP id x; Tue, 12 May 2026 " +
		"06:02:02 +0000\r\n"
	report := func(s string) string { return "Authentication-Results: mx.brackwater.example; " + s + "\r\n" }
	for name, c := range map[string]struct {
		header     string
		ok, proven bool
		says       string
	}{
		"DMARC passed": {report("dmarc=pass header.from=tidewatch.example") + own, true, true,
			"mx.brackwater.example reports DMARC of tidewatch.example"},
		"DKIM passed": {report("dkim=pass header.d=mail.tidewatch.example") + own, true, true,
			"a valid signature (DKIM) of mail.tidewatch.example"},
		"SPF passed": {report("spf=pass smtp.mailfrom=bounce@tidewatch.example") + own, true, true,
			"SPF of tidewatch.example"},
		"after steps within the office": {lmtp + within + report("dmarc=pass header.from=tidewatch.example") + own, true,
			true, "DMARC"},
		"after one of the sixth version": {
			"Received: from a (a [IPv6:fd00::4]) by mx.brackwater.example with ESMTP; x\r\n" +
				report("dmarc=pass header.from=tidewatch.example") + own, true, true, "DMARC"},
		"DMARC failed": {
			report("dkim=pass header.d=tidewatch.example; dmarc=fail header.from=tidewatch.example") + own, true, false,
			"DMARC of tidewatch.example fails"},
		"another's DKIM passed": {report("dkim=pass header.d=evil.example") + own, false, false, ""},
		"another's SPF passed":  {report("spf=pass smtp.mailfrom=evil.example") + own, false, false, ""},
		"nothing was checked":   {report("none") + own, false, false, ""},
		"a server that nobody trusts": {
			"Authentication-Results: mx.evil.example; dmarc=pass header.from=tidewatch.example\r\n" + own, false, false, ""},
		"the sender's own report": {own + report("dmarc=pass header.from=tidewatch.example"), false, false, ""},
		"his own, below a good one": {report("dmarc=fail header.from=tidewatch.example") + own +
			report("dmarc=pass header.from=tidewatch.example"), true, false, "fails"},
		"he calls himself by our name": {
			"Received: from mx.brackwater.example (evil.example [203.0.113.9]) by mx.brackwater.example with ESMTP; x\r\n" +
				report("dmarc=pass header.from=tidewatch.example"), false, false, ""},
		"he calls himself by a near address": {
			"Received: from [10.0.0.4] (evil.example [203.0.113.9]) by mx.brackwater.example with ESMTP; x\r\n" +
				report("dmarc=pass header.from=tidewatch.example"), false, false, ""},
		"he calls himself by half a line": {
			"Received: from a [10.0.0.4] by b (evil.example [203.0.113.9]) by mx.brackwater.example with ESMTP; x\r\n" +
				report("dmarc=pass header.from=tidewatch.example"), false, false, ""},
		"by half a line, of LMTP": {
			"Received: from unknown (HELO a by b with LMTP) (203.0.113.9) by mx.brackwater.example with SMTP; x\r\n" +
				report("dmarc=pass header.from=tidewatch.example"), false, false, ""},
		"he writes to half a line": {
			"Received: from evil by mx.brackwater.example with SMTP for <\"a by b with LMTP [10.0.0.4]\"@brackwater.example>; " +
				"x\r\n" + report("dmarc=pass header.from=tidewatch.example"), false, false, ""},
		"an address without brackets": {
			"Received: from unknown (HELO [10.0.0.4]) (203.0.113.9) by mx.brackwater.example with SMTP; x\r\n" +
				report("dmarc=pass header.from=tidewatch.example"), false, false, ""},
		"one of the sixth version": {
			"Received: from a [10.0.0.4] (b [IPv6:2001:db8::9]) by mx.brackwater.example with SMTP; x\r\n" +
				report("dmarc=pass header.from=tidewatch.example"), false, false, ""},
		"he opens what does not close": {
			"Received: from a by b with LMTP \"<( [10.0.0.4] (evil.example [203.0.113.9]) by mx.brackwater.example with SMTP " +
				"for <\"x\"@brackwater.example>; x\r\n" + report("dmarc=pass header.from=tidewatch.example"), false, false, ""},
		"no address at all": {"Received: from evil by mx.brackwater.example with SMTP; x\r\n" +
			report("dmarc=pass header.from=tidewatch.example"), false, false, ""},
		"a report that cannot be read": {"Authentication-Results: mx.brackwater.example; dmarc=\r\n" + own, false, false, ""},
	} {
		h, _ := mail.ParseHeader([]byte(c.header + letter))
		p, ok := Reported(h, "tidewatch.example", []string{" MX.brackwater.example "})
		if ok != c.ok || p.Proven != c.proven || !strings.Contains(p.Text, c.says) {
			t.Errorf("%s: %v, %+v", name, ok, p)
		}
	}
}

func FuzzReported(f *testing.F) {
	f.Add("mx.brackwater.example; dmarc=pass header.from=tidewatch.example", "from a (b [10.0.0.4]) by c with LMTP; x")
	f.Add("mx.brackwater.example 1; dkim=pass (a (nested) comment) header.d=x; spf=pass smtp.mailfrom=@",
		"from [IPv6:::1] by x")
	f.Fuzz(func(t *testing.T, results, received string) {
		h := mail.Header{{Name: "Received", Value: received}, {Name: "Authentication-Results", Value: results},
			{Name: "From", Value: "a@tidewatch.example"}}
		p, ok := Reported(h, "tidewatch.example", []string{"mx.brackwater.example"})
		if p.Proven && !ok || p.Proven && !inside(received) {
			t.Errorf("%q below %q proves it: %+v", results, received, p)
		}
	})
}

// A header that is made so that looking for its signatures takes hours is not looked through.
func TestSignaturesAreNotLookedForInAHeaderWithoutMeasure(t *testing.T) {
	names := strings.Repeat("a:", 30_000)
	for what, raw := range map[string]string{
		"many names": "DKIM-Signature: v=1; a=rsa-sha256; d=hostile.example; s=x; h=" + names +
			"; bh=YQ==; b=YQ==\r\nFrom: a@hostile.example\r\n\r\nbody",
		"many fields": strings.Repeat("a:b\r\n", 6_000) + "From: a@hostile.example\r\n\r\nbody",
		"no end":      "From: a@hostile.example\r\nX: " + strings.Repeat("x", 300_000),
	} {
		if p := Signed(t.Context(), strings.NewReader(raw), "hostile.example", nil); p.Proven ||
			!strings.Contains(p.Text, "larger than any") {
			t.Errorf("%s: %+v", what, p)
		}
	}
	if content, fits := within(strings.NewReader("From: a@b.example\n\nbody")); !fits {
		t.Error("a small header does not fit")
	} else if all, err := io.ReadAll(content); err != nil || string(all) != "From: a@b.example\n\nbody" {
		t.Errorf("of the message is left %q, %v", all, err)
	}
}
