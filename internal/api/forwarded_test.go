package api

import (
	"net/netip"
	"net/url"
	"slices"
	"testing"
)

// Who is believed says for whom requests are made, and nobody before him is.
func TestForWhomWebServersInFrontAsk(t *testing.T) {
	for _, c := range []struct {
		standard, usual string
		want            []string
	}{
		{"", "", nil},
		{"", "203.0.113.5", []string{"203.0.113.5"}},
		{"", "1.2.3.4, 203.0.113.5:4711", []string{"1.2.3.4", "203.0.113.5"}},
		{"", "2001:db8::1, [2001:db8::2]:80", []string{"2001:db8::1", "2001:db8::2"}},
		{`for=203.0.113.5;proto=https;by=192.0.2.1, For="[2001:db8::17]:4711"`, "9.9.9.9", []string{"203.0.113.5",
			"2001:db8::17"}},
		{"for=unknown", "", []string{"unknown"}},
		{"proto=https", "9.9.9.9", nil},
	} {
		if got := forwarded(c.standard, c.usual); !slices.Equal(got, c.want) {
			t.Errorf("%q and %q give %q, want %q", c.standard, c.usual, got, c.want)
		}
	}
	s := &Server{Config: Config{Proxies: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/24")}}}
	for address, want := range map[string]bool{"192.0.2.9": true, "203.0.113.5": false, "127.0.0.1": false} {
		if s.trusts(netip.MustParseAddr(address)) != want {
			t.Errorf("%s is trusted: %t, want %t", address, !want, want)
		}
	}
	s.Reached = []*url.URL{{Scheme: "https", Host: "inktray.example"}}
	if !s.trusts(netip.MustParseAddr("127.0.0.1")) {
		t.Error("a web server on this machine is not trusted")
	}
}
