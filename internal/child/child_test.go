package child

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/base64"
	"errors"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/render"
	"inktray.example/inktray/internal/core/unpack"
)

func TestMain(m *testing.M) {
	Main()
	os.Exit(m.Run())
}

func file(t *testing.T, data []byte) *os.File {
	t.Helper()
	path := filepath.Join(t.TempDir(), "item")
	if err := os.WriteFile(path, data, 0o600); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return f
}

func archive(t *testing.T, size int) []byte {
	t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, name := range []string{"a.csv", "plans/b.csv"} {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Store})
		if err == nil {
			_, err = w.Write(bytes.Repeat([]byte("levels;"), size/7))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func TestAChildUnpacks(t *testing.T) {
	var names []string
	err := Unpack(t.Context(), file(t, archive(t, 700_000)), unpack.Request{Contents: true}, func(e unpack.Entry, content io.Reader) error {
		n, err := io.Copy(io.Discard, content)
		if n != e.Size || n != 700_000 {
			t.Errorf("%s: %d octets, said %d", e.Name, n, e.Size)
		}
		names = append(names, e.Name)
		return err
	})
	if err != nil || strings.Join(names, " ") != "a.csv plans/b.csv" {
		t.Errorf("%v, %v", names, err)
	}
	names = nil
	if err := Unpack(t.Context(), file(t, archive(t, 70)), unpack.Request{}, func(e unpack.Entry, content io.Reader) error {
		if content != nil {
			t.Error("contents come unasked")
		}
		names = append(names, e.Name)
		return nil
	}); err != nil || len(names) != 2 {
		t.Errorf("a list: %v, %v", names, err)
	}
}

func TestWhatACallerDoesNotReadIsPassedOver(t *testing.T) {
	n := 0
	err := Unpack(t.Context(), file(t, archive(t, 700_000)), unpack.Request{Contents: true}, func(unpack.Entry, io.Reader) error { n++; return nil })
	if err != nil || n != 2 {
		t.Errorf("%d entries, %v", n, err)
	}
	own := errors.New("the disk is full")
	if err := Unpack(t.Context(), file(t, archive(t, 700_000)), unpack.Request{Contents: true}, func(unpack.Entry, io.Reader) error { return own }); !errors.Is(err, own) {
		t.Errorf("the caller's own error comes back as %v", err)
	}
}

func TestTrapsAreHeldWithinTwoSecondsAndTheServiceDoesNotGrow(t *testing.T) {
	var bomb bytes.Buffer
	z := gzip.NewWriter(&bomb)
	zeros := make([]byte, 1<<20)
	for range 300 {
		if _, err := z.Write(zeros); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	err := Unpack(t.Context(), file(t, bomb.Bytes()), unpack.Request{Name: "x.gz"}, func(unpack.Entry, io.Reader) error { return nil })
	var known *unpack.Error
	if !errors.As(err, &known) || !known.Limit {
		t.Errorf("a bomb: %v", err)
	}
	if took := time.Since(began); took > 20*time.Second { // benchmarks measure; this only tells a hang
		t.Errorf("it took %v", took)
	}
}

func TestAChildThatDiesIsAReason(t *testing.T) {
	for name, told := range map[string]string{"no order": "{}", "no JSON": "x"} {
		got := work(told, file(t, []byte("x")), nil)
		if got.Problem == "" {
			t.Errorf("%s: no problem is told", name)
		}
	}
	ctx, cancel := context.WithCancel(t.Context())
	err := Unpack(ctx, file(t, archive(t, 7_000_000)), unpack.Request{Contents: true}, func(unpack.Entry, io.Reader) error { cancel(); return nil })
	if !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
}

// A file of 64 octets asks for a dictionary of 1.5 GB: xz, with dict=1536MiB.
func TestMoreMemoryThanAChildHasIsAReason(t *testing.T) {
	data, err := base64.StdEncoding.DecodeString("/Td6WFoAAATm1rRGAgAhASUAAAA7eHtBAQAGbGV2ZWxzCgAA5CJbLT+uvTkAAR8HFi64cx+2830BAAAAAARZWg==")
	if err != nil {
		t.Fatal(err)
	}
	err = Unpack(t.Context(), file(t, data), unpack.Request{Name: "x.xz", Contents: true}, func(_ unpack.Entry, content io.Reader) error {
		_, err := io.Copy(io.Discard, content)
		return err
	})
	var known *unpack.Error
	if !errors.As(err, &known) || runtime.GOOS == "linux" && (!known.Limit || !strings.Contains(known.Problem, "512 MB of memory")) {
		t.Errorf("a huge dictionary: %v", err)
	}
}

func TestWantOfMemoryIsToldFromOtherEnds(t *testing.T) {
	for words, want := range map[string]bool{
		"fatal error: runtime: out of memory\n":                                                    true,
		"runtime: goroutine stack exceeds 1000000000-byte limit\nfatal error: stack overflow\n":    true,
		"SIGSEGV: segmentation violation\nPC=0x43587d m=3 sigcode=1 addr=0x0\n":                    true,
		"panic: runtime error: invalid memory address\n[signal SIGSEGV: segmentation violation]\n": false,
		"": false,
	} {
		if got := starved([]byte(words)); got != want {
			t.Errorf("%q: %v, want %v", words, got, want)
		}
	}
}

func TestAChildDraws(t *testing.T) {
	var out bytes.Buffer
	report, err := Render(t.Context(), file(t, []byte("Subject: Berth plan\r\n\r\nSee 港.\r\n")), render.Request{Form: "pdf"}, &out)
	if err != nil || !strings.HasPrefix(out.String(), "%PDF") || report.Undrawn != 1 {
		t.Errorf("%+v, %v, %.20q", report, err, out.String())
	}
	if _, err := Render(t.Context(), file(t, nil), render.Request{Form: "odd"}, io.Discard); err == nil {
		t.Error("a form that is not known is drawn")
	}
}
