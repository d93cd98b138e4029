package testbed

import (
	"context"
	"net"
	"strings"
	"testing"

	"golang.org/x/net/dns/dnsmessage"
)

// Names is what a name server knows: by name in lower case with its last dot, as in
// a zone. A name that is not there is told as such; one in Failing is not answered
// for.
type Names struct {
	TXT     map[string][]string
	A       map[string][4]byte
	SRV     map[string][]net.SRV
	MX      map[string][]string // in their order
	Failing map[string]bool
}

// StartDNS starts a name server on loopback and gives a resolver that asks it, and
// its address.
func StartDNS(t testing.TB, names Names) (*net.Resolver, string) {
	t.Helper()
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	go func() {
		buffer := make([]byte, 4096)
		for {
			n, from, err := conn.ReadFrom(buffer)
			if err != nil {
				return
			}
			if answer, err := names.answer(buffer[:n]); err == nil {
				_, _ = conn.WriteTo(answer, from)
			}
		}
	}()
	address := conn.LocalAddr().String()
	return &net.Resolver{PreferGo: true, StrictErrors: true,
		Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "udp", address)
		}}, address
}

func (n *Names) answer(packet []byte) ([]byte, error) {
	var p dnsmessage.Parser
	head, err := p.Start(packet)
	if err != nil {
		return nil, err
	}
	q, err := p.Question()
	if err != nil {
		return nil, err
	}
	name := strings.ToLower(q.Name.String())
	txt, a, srv, mx := n.TXT[name], n.A[name], n.SRV[name], n.MX[name]
	code := dnsmessage.RCodeSuccess
	switch {
	case n.Failing[name]:
		code = dnsmessage.RCodeServerFailure
	case txt == nil && a == [4]byte{} && srv == nil && mx == nil:
		code = dnsmessage.RCodeNameError
	}
	b := dnsmessage.NewBuilder(nil, dnsmessage.Header{ID: head.ID, Response: true, Authoritative: true, RCode: code})
	if err := b.StartQuestions(); err != nil {
		return nil, err
	}
	if err := b.Question(q); err != nil {
		return nil, err
	}
	if err := b.StartAnswers(); err != nil {
		return nil, err
	}
	h := dnsmessage.ResourceHeader{Name: q.Name, Class: dnsmessage.ClassINET, TTL: 1}
	switch {
	case code != dnsmessage.RCodeSuccess:
	case q.Type == dnsmessage.TypeTXT:
		for _, text := range txt {
			var parts []string
			for len(text) > 255 {
				parts, text = append(parts, text[:255]), text[255:]
			}
			if err := b.TXTResource(h, dnsmessage.TXTResource{TXT: append(parts, text)}); err != nil {
				return nil, err
			}
		}
	case q.Type == dnsmessage.TypeA && a != [4]byte{}:
		if err := b.AResource(h, dnsmessage.AResource{A: a}); err != nil {
			return nil, err
		}
	case q.Type == dnsmessage.TypeMX:
		for i, host := range mx {
			to, err := dnsmessage.NewName(host)
			if err != nil {
				return nil, err
			}
			if err := b.MXResource(h, dnsmessage.MXResource{Pref: uint16(10 * i), MX: to}); err != nil {
				return nil, err
			}
		}
	case q.Type == dnsmessage.TypeSRV:
		for _, s := range srv {
			target, err := dnsmessage.NewName(s.Target)
			if err != nil {
				return nil, err
			}
			if err := b.SRVResource(h,
				dnsmessage.SRVResource{Priority: s.Priority, Weight: s.Weight, Port: s.Port, Target: target}); err != nil {
				return nil, err
			}
		}
	}
	return b.Finish()
}
