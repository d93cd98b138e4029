package drop

import (
	"context"
	"errors"
	"strings"
	"time"

	"blitiri.com.ar/go/spf"
	"github.com/emersion/go-smtp"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/proof"
)

const verifyTime = 20 * time.Second

// verify says whether a message comes from one of those who may send to an address:
// its author is listed, and proven by a DKIM signature (RFC 6376) or a sender
// policy (RFC 7208) of the author's own domain, as DMARC aligns them (RFC 7489
// section 3.1).
func (s *session) verify(m *message, a Address) error {
	author := mail.ParseAddresses(m.header.Get("From"))
	if len(author) != 1 || len(m.header.All("From")) != 1 || author[0].Domain == "" {
		return refuse(550, smtp.EnhancedCode{5, 7, 1},
			"The message has not exactly one author, so it cannot be said who sent it")
	}
	who := author[0]
	if !listed(a.Senders, who) {
		return refuse(550, smtp.EnhancedCode{5, 7, 1}, "%s may not send to this address", who.String())
	}
	proven, passing := s.proven(m, who.Domain)
	switch {
	case proven:
		return nil
	case passing != nil:
		s.receiver.config.Log.Warn("verifying a sender", "sender", who.String(), "error", passing)
		return refuse(451, smtp.EnhancedCode{4, 7, 5},
			"It cannot be found out now whether the message comes from %s; try again later", who.Domain)
	}
	return refuse(550, smtp.EnhancedCode{5, 7, 1},
		"It is not proven that the message comes from %s: it needs a valid DKIM signature or SPF of that domain", who.Domain)
}

// listed says whether an address is among addresses and domains.
func listed(senders []string, who mail.Address) bool {
	for _, s := range senders {
		s = strings.ToLower(strings.TrimPrefix(strings.TrimSpace(s), "@"))
		if s == strings.ToLower(who.String()) || s == who.Domain || !strings.Contains(s, "@") &&
			strings.HasSuffix(who.Domain, "."+s) {
			return true
		}
	}
	return false
}

// proven looks for a proof that the message comes from a domain. passing is an
// error that may be over later.
func (s *session) proven(m *message, domain string) (proven bool, passing error) {
	c := &s.receiver.config
	ctx, cancel := context.WithTimeout(context.Background(), verifyTime)
	defer cancel()
	if s.lmtp {
		// What the server in front reports is topmost: it hands over itself.
		if field := m.header.Get("Authentication-Results"); c.Trusted != "" && field != "" {
			if p, _ := proof.Reported(mail.Header{{Name: "Authentication-Results", Value: field}}, domain,
				[]string{c.Trusted}); p.Proven {
				return true, nil
			}
		}
	} else if ip := s.remote(); ip != nil {
		_, sent, _ := strings.Cut(s.from, "@")
		if proof.Aligned(sent, domain, false) {
			result, err := spf.CheckHostWithSender(ip, s.conn.Hostname(), s.from, spf.WithContext(ctx),
				spf.WithResolver(c.Resolver))
			switch result {
			case spf.Pass:
				return true, nil
			case spf.TempError:
				passing = errors.Join(passing, err)
			}
		}
	}
	content, err := m.open()
	if err != nil {
		return false, err
	}
	signed := proof.Signed(ctx, content, domain, c.Resolver)
	if signed.Unknown {
		passing = errors.Join(passing, errors.New(signed.Text))
	}
	return signed.Proven, passing
}
