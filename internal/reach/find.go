package reach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
)

// Found is a server that a domain publishes.
type Found struct {
	Protocol   string // imap, jmap or pop3
	Host       string
	Port       int
	Encryption Encryption
}

// Find looks up the servers that an address's domain publishes (RFC 6186 section
// 3; RFC 8620 section 2.2), the best first: IMAP before JMAP before POP3, encrypted from the first byte before
// encrypted later. That the names can be believed is for a person to judge.
func Find(ctx context.Context, resolver *net.Resolver, address string) ([]Found, error) {
	if resolver == nil {
		resolver = net.DefaultResolver
	}
	at := strings.LastIndexByte(address, '@')
	domain := strings.TrimSuffix(strings.TrimSpace(address[at+1:]), ".")
	if at < 1 || domain == "" || strings.ContainsAny(domain, " /:") {
		return nil, &Error{Step: NameLookup, Problem: fmt.Sprintf("%q is not an address", address),
			Advice: "Enter the whole address, such as gauges@brackwater.example.", Lasting: true}
	}
	ctx, cancel := context.WithTimeout(ctx, stepTime)
	defer cancel()
	var found []Found
	var failed error
	for _, service := range []struct {
		name, protocol string
		encryption     Encryption
	}{{"imaps", "imap", TLS}, {"imap", "imap", StartTLS}, {"jmap", "jmap", TLS}, {"pop3s", "pop3", TLS},
		{"pop3", "pop3", StartTLS}} {
		_, records, err := resolver.LookupSRV(ctx, service.name, "tcp", domain)
		var missing *net.DNSError
		if err != nil && !(errors.As(err, &missing) && missing.IsNotFound) {
			failed = err
		}
		for _, r := range records {
			if host := strings.TrimSuffix(r.Target, "."); host != "" { // "." says: not here
				found = append(found, Found{service.protocol, host, int(r.Port), service.encryption})
			}
		}
	}
	switch {
	case len(found) > 0:
		return found, nil
	case failed != nil:
		return nil, &Error{Step: NameLookup,
			Problem: fmt.Sprintf("the domain %s cannot be looked up (%v)", domain, Cause(failed)),
			Advice:  "Try again, or enter the mail server by hand.", Err: failed}
	}
	return nil, &Error{Step: NameLookup, Problem: fmt.Sprintf("the domain %s does not say where its mail is read", domain),
		Advice: "Ask the administrator of the mail server for its name, and enter it by hand.", Lasting: true}
}
