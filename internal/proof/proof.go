// Package proof says whether a message comes from the domain of its author: by a
// signature (DKIM, RFC 6376) checked here, or by what a trusted server reports
// (RFC 8601), aligned with the author's domain as DMARC wants it (RFC 7489 section
// 3.1). Whatever a sender writes himself proves nothing.
package proof

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"regexp"
	"strings"
	"time"

	"github.com/emersion/go-msgauth/authres"
	"github.com/emersion/go-msgauth/dkim"
	"github.com/emersion/go-msgauth/dmarc"
	"golang.org/x/net/publicsuffix"

	"inktray.example/inktray/internal/core/mail"
)

const (
	maxSignatures = 5
	limit         = 20 * time.Second // for all that is asked about one message
)

// Author is the domain that has to be proven. A message with no author or with
// several is nobody's.
func Author(h mail.Header) (domain, problem string) {
	from := h.All("From")
	if len(from) != 1 {
		return "", fmt.Sprintf("it has %d From fields", len(from))
	}
	authors := mail.ParseAddresses(from[0])
	if len(authors) != 1 || authors[0].Domain == "" {
		return "", "it has not exactly one author with an address"
	}
	return authors[0].Domain, ""
}

// Reported looks for what trusted servers report of a message. Only what is
// above the first line by which it came in from outside counts: all below it can be
// the sender's own. ok is false where there is no such report.
func Reported(h mail.Header, domain string, trusted []string) (p mail.Proof, ok bool) {
	for _, f := range h {
		switch {
		case strings.EqualFold(f.Name, "Received"):
			if !inside(f.Value) {
				return p, false
			}
		case strings.EqualFold(f.Name, "Authentication-Results"):
			id, results, err := authres.Parse(f.Value)
			if err != nil || !trusts(trusted, id) {
				continue
			}
			if p, ok := told(id, results, domain); ok {
				return p, true
			}
		}
	}
	return p, false
}

func trusts(trusted []string, id string) bool {
	for _, t := range trusted {
		if strings.EqualFold(strings.TrimSpace(t), id) {
			return true
		}
	}
	return false
}

var (
	spaces  = regexp.MustCompile(`\s+`)
	version = regexp.MustCompile(`(?i)IPv6:`) // comes before an address (RFC 5321 section 4.1.3)
	locally = regexp.MustCompile(`(?i)^by \S+( \([^()]*\))* with LMTPS?A?\b`)
)

// inside says whether a line tells of a step within the office's own servers: from
// an address of a private network, or handed over by LMTP, which nobody speaks to
// servers from outside. As what the other side introduced itself is anybody's choice
// and may look like any part of the line; what the own server adds it cannot take
// away. So one other address makes it a step from outside, and so does a second "by".
func inside(received string) bool {
	line := spaces.ReplaceAllString(strings.TrimSpace(received), " ")
	from, by, _ := strings.Cut(line, " by ")
	within := false
	for _, word := range strings.FieldsFunc(version.ReplaceAllString(line, " "),
		func(r rune) bool { return !strings.ContainsRune("0123456789abcdefABCDEF:.", r) }) {
		ip, err := netip.ParseAddr(word)
		if err != nil {
			continue
		}
		if ip = ip.Unmap(); !ip.IsPrivate() && !ip.IsLoopback() && !ip.IsLinkLocalUnicast() {
			return false
		}
		within = within || strings.Contains(from, word)
	}
	if within || !strings.HasPrefix(strings.ToLower(line), "from ") {
		return true
	}
	return !strings.Contains(by, " by ") && locally.MatchString("by "+by)
}

// told reads the results of one server. Results for domains other than the sender's are ignored. Where the results
// decide nothing, ok is false and the signatures are checked here.
func told(id string, results []authres.Result, domain string) (mail.Proof, bool) {
	yes := func(by, of string) (mail.Proof, bool) {
		return mail.Proof{Proven: true, Text: fmt.Sprintf("%s reports %s of %s", id, by, of)}, true
	}
	for _, result := range results {
		r, ok := result.(*authres.DMARCResult)
		if !ok {
			continue
		}
		of := domainOf(r.From)
		switch {
		case !Aligned(of, domain, false):
		case r.Value == authres.ResultPass:
			return yes("DMARC", of)
		case r.Value == authres.ResultFail: // it knows the policy, which may be strict
			return mail.Proof{Text: fmt.Sprintf("%s reports that DMARC of %s fails", id, of)}, true
		}
	}
	for _, result := range results {
		switch r := result.(type) {
		case *authres.DKIMResult:
			of := r.Domain
			if of == "" {
				of = domainOf(r.Identifier)
			}
			if r.Value == authres.ResultPass && Aligned(of, domain, false) {
				return yes("a valid signature (DKIM)", of)
			}
		case *authres.SPFResult:
			of := domainOf(r.From)
			if r.Value == authres.ResultPass && Aligned(of, domain, false) {
				return yes("SPF", of)
			}
		}
	}
	return mail.Proof{}, false
}

func domainOf(address string) string { return address[strings.LastIndexByte(address, '@')+1:] }

// Resolver looks texts up in the name service.
type Resolver interface {
	LookupTXT(ctx context.Context, name string) ([]string, error)
}

// Signed checks a message's signatures here.
func Signed(ctx context.Context, content io.Reader, domain string, resolver Resolver) mail.Proof {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	var passing error
	lookup := func(name string) ([]string, error) {
		found, err := resolver.LookupTXT(ctx, name)
		var missing *net.DNSError
		if err != nil && !(errors.As(err, &missing) && missing.IsNotFound) {
			passing = errors.Join(passing, err)
		}
		return found, err
	}
	content, fits := within(content)
	if !fits {
		return mail.Proof{Text: "its header is larger than any in which signatures are looked for"}
	}
	signatures, err := dkim.VerifyWithOptions(content,
		&dkim.VerifyOptions{MaxVerifications: maxSignatures, LookupTXT: lookup})
	if err != nil && !errors.Is(err, dkim.ErrTooManySignatures) {
		return mail.Proof{Text: fmt.Sprintf("its signatures cannot be read (%v)", err)}
	}
	why := "it is not signed (DKIM)"
	for _, s := range signatures {
		switch {
		case s.Err != nil:
			why = fmt.Sprintf("the signature of %s is not valid (%v)", s.Domain, strings.TrimPrefix(s.Err.Error(), "dkim: "))
			continue
		case !Aligned(s.Domain, domain, false):
			why = fmt.Sprintf("it is signed by %s, which is not %s", s.Domain, domain)
			continue
		}
		// Only where another name of the organisation signed it matters what the domain
		// wants; without an answer that is not known.
		if Aligned(s.Domain, domain, true) || !wantsStrict(domain, lookup) && passing == nil {
			return mail.Proof{Proven: true, Text: fmt.Sprintf("signed by %s (DKIM)", s.Domain)}
		}
		why = fmt.Sprintf("it is signed by %s, and %s wants exactly its own name (DMARC)", s.Domain, domain)
	}
	if passing != nil {
		return mail.Proof{Unknown: true, Text: "the name service does not answer"}
	}
	return mail.Proof{Text: why}
}

// Bounds of a header in which signatures are looked for: each field that a signature names is looked for among all
// lines.
const (
	mostHeader = 256 << 10 // octets
	mostLines  = 5_000
	mostNames  = 20_000 // colons, which stand between the names that a signature covers
)

// within says whether a message's header is within the bounds. The message is to be read from what it returns.
func within(content io.Reader) (io.Reader, bool) {
	in := bufio.NewReaderSize(content, mostHeader)
	head, err := in.Peek(mostHeader)
	end := bytes.Index(head, []byte("\r\n\r\n"))
	if bare := bytes.Index(head, []byte("\n\n")); end < 0 || bare >= 0 && bare < end {
		end = bare
	}
	if end < 0 {
		if err == nil { // there is more, and still no end
			return in, false
		}
		end = len(head)
	}
	head = head[:end]
	return in, bytes.Count(head, []byte("\n")) <= mostLines && bytes.Count(head, []byte(":")) <= mostNames
}

// wantsStrict asks whether a domain wants signatures of exactly its own name
// (RFC 7489 section 6.3, adkim). The record may be that of the organisation.
func wantsStrict(domain string, lookup func(string) ([]string, error)) bool {
	for _, name := range []string{domain, Organisation(domain)} {
		record, err := dmarc.LookupWithOptions(name, &dmarc.LookupOptions{LookupTXT: lookup})
		if err == nil {
			return record.DKIMAlignment == dmarc.AlignmentStrict
		}
	}
	return false
}

// Aligned says whether two domains belong to one organisation, or are the same
// where that is wanted (RFC 7489 section 3.1).
func Aligned(a, b string, strict bool) bool {
	a, b = strings.ToLower(strings.TrimSuffix(a, ".")), strings.ToLower(strings.TrimSuffix(b, "."))
	if a == "" || b == "" {
		return false
	}
	return a == b || !strict && Organisation(a) == Organisation(b)
}

// Organisation is the domain that somebody registered.
func Organisation(domain string) string {
	if o, err := publicsuffix.EffectiveTLDPlusOne(domain); err == nil {
		return o
	}
	return domain
}
