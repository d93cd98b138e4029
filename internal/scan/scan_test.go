package scan

import (
	"errors"
	"net"
	"strings"
	"testing"

	"inktray.example/inktray/internal/testbed"
)

func ask(t *testing.T, s *Scanner, content string) (string, error) {
	t.Helper()
	stream, err := s.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if n, err := stream.Write([]byte(content)); n != len(content) || err != nil {
		t.Fatalf("wrote %d, %v", n, err)
	}
	return stream.Verdict()
}

func TestARealScannerIsAsked(t *testing.T) {
	s := &Scanner{Address: testbed.StartClamd(t, 3<<20)}
	version, err := s.Ping(t.Context())
	if err != nil || !strings.HasPrefix(version, "ClamAV ") {
		t.Fatalf("%q, %v", version, err)
	}
	for content, want := range map[string]string{
		"": "", "the readings of May": "", testbed.Virus: testbed.VirusName,
		strings.Repeat("x", 2<<20) + testbed.Virus: testbed.VirusName, // beyond one chunk
	} {
		if found, err := ask(t, s, content); found != want || err != nil {
			t.Errorf("%.30q: found %q, %v", content, found, err)
		}
	}
	found, err := ask(t, s, strings.Repeat("x", 6<<20))
	var known *Error
	if found != "" || !errors.As(err, &known) || !known.Lasting || known.Problem != "it is larger than the virus "+
		"scanner takes" {
		t.Errorf("too large: %q, %v", found, err)
	}
	stream, err := s.Begin(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	stream.Close() // given up half way
	if found, err := ask(t, s, "still there"); found != "" || err != nil {
		t.Errorf("after one that was given up: %q, %v", found, err)
	}
}

func TestAScannerThatFailsIsTold(t *testing.T) {
	if _, err := (&Scanner{Address: "unix:/nowhere/s"}).Begin(t.Context()); err == nil ||
		!strings.Contains(err.Error(), "cannot be reached") {
		t.Errorf("no scanner: %v", err)
	}
	for name, answer := range map[string]string{"broke off": "", "says: stream: nonsense": "stream: nonsense\x00",
		"says: Can't open file": "Can't open file ERROR\x00"} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { l.Close() })
		go func() {
			c, err := l.Accept()
			if err != nil {
				return
			}
			defer c.Close()
			buffer := make([]byte, 1<<16)
			_, _ = c.Read(buffer)
			_, _ = c.Write([]byte(answer))
		}()
		found, err := ask(t, &Scanner{Address: l.Addr().String()}, "x")
		var known *Error
		if found != "" || !errors.As(err, &known) || known.Lasting ||
			!strings.Contains(err.Error(), strings.TrimPrefix(name, "says: stream: ")) {
			t.Errorf("%s: %q, %v", name, found, err)
		}
	}
}
