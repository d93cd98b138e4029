package child

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"codeberg.org/go-pdf/fpdf"

	"inktray.example/inktray/internal/core/render"
	"inktray.example/inktray/internal/core/text"
	"inktray.example/inktray/internal/core/unpack"
	"inktray.example/inktray/internal/testbed"
)

func TestMain(m *testing.M) {
	Main()
	if len(os.Args) > 4 && os.Args[0] == "tesseract" { // a process became this program, and tells what it can do
		var p Probe
		if err := json.Unmarshal([]byte(os.Args[4]), &p); err != nil {
			os.Exit(1)
		}
		fmt.Println(strings.Repeat("level\t", 12))
		fmt.Printf("5\t1\t0\t0\t0\t0\t0\t0\t0\t0\t99\tcould: %s\n", strings.Join(p.could(), ", "))
		os.Exit(0)
	}
	os.Exit(m.Run())
}

func file(t testing.TB, data []byte) *os.File {
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

func zipped(t testing.TB, names ...string) []byte {
	t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, name := range names {
		w, err := z.Create(name)
		if err == nil {
			_, err = io.WriteString(w, "a")
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
	err := Unpack(t.Context(), file(t, archive(t, 700_000)), unpack.Request{Contents: true}, func(e unpack.Entry,
		content io.Reader) error {
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
	if err := Unpack(t.Context(), file(t, archive(t, 70)), unpack.Request{}, func(e unpack.Entry,
		content io.Reader) error {
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
	err := Unpack(t.Context(), file(t, archive(t, 700_000)), unpack.Request{Contents: true}, func(unpack.Entry,
		io.Reader) error {
		n++
		return nil
	})
	if err != nil || n != 2 {
		t.Errorf("%d entries, %v", n, err)
	}
	own := errors.New("the disk is full")
	if err := Unpack(t.Context(), file(t, archive(t, 700_000)), unpack.Request{Contents: true}, func(unpack.Entry,
		io.Reader) error {
		return own
	}); !errors.Is(err, own) {
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
	err := Unpack(t.Context(), file(t, bomb.Bytes()), unpack.Request{Name: "x.gz"}, func(unpack.Entry,
		io.Reader) error {
		return nil
	})
	var known *unpack.Error
	if !errors.As(err, &known) || !known.Limit {
		t.Errorf("a bomb: %v", err)
	}
	if took := time.Since(began); took > 20*time.Second { // benchmarks measure; this only tells a hang
		t.Errorf("it took %v", took)
	}
}

// What a child cannot do, whatever it is made to do by what it reads.
func TestAChildReadsWritesAndReachesNothingElse(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("only Linux confines processes so")
	}
	folder := t.TempDir()
	key := filepath.Join(folder, "secret.key")
	if err := os.WriteFile(key, []byte("secret"), 0o600); err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	p := Probe{Read: key, Write: folder, Connect: l.Addr().String(), Run: self}
	if could := p.could(); len(could) != 4 {
		t.Fatalf("the probe finds that this process, which is not confined, could only %q", could)
	}
	for name, within := range map[string]string{"that opens nothing": "", "with the reader of PDFs": t.TempDir()} {
		p.Folder = within
		if could, err := p.Try(t.Context()); err != nil || len(could) > 0 {
			t.Errorf("a child %s could %q, %v", name, could, err)
		}
	}
}

// Names come out of messages, and may be of any length.
func TestAnItemWithAVeryLongNameIsRead(t *testing.T) {
	for _, n := range []int{100, 25_000, 70_000, 3 << 20} {
		name := strings.Repeat("ø", n/2) + ".zip"
		found := 0
		err := Unpack(t.Context(), file(t, zipped(t, "a.txt")), unpack.Request{Name: name, Type: strings.Repeat("x/",
			n)}, func(unpack.Entry, io.Reader) error { found++; return nil })
		if err != nil || found != 1 {
			t.Errorf("a name of %d bytes: %d found, %v", len(name), found, err)
		}
	}
	long := strings.Repeat("n", 65_500)
	if err := Unpack(t.Context(), file(t, zipped(t, long+".txt")), unpack.Request{Name: "a.zip"},
		func(e unpack.Entry, _ io.Reader) error {
			if len(e.Name) > 1<<12+8 || !strings.HasSuffix(e.Name, ".txt") {
				t.Errorf("an entry's name comes with %d bytes", len(e.Name))
			}
			return nil
		}); err != nil {
		t.Error(err)
	}
}

func TestAChildThatDiesIsAReason(t *testing.T) {
	if got := work(&order{}, file(t, []byte("x")), nil); got.Problem == "" {
		t.Error("no order: no problem is told")
	}
	ctx, cancel := context.WithCancel(t.Context())
	err := Unpack(ctx, file(t, archive(t, 7_000_000)), unpack.Request{Contents: true}, func(unpack.Entry,
		io.Reader) error {
		cancel()
		return nil
	})
	if !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
}

// A file of 64 octets asks for a dictionary of 1.5 GB: xz, with dict=1536MiB.
func TestMoreMemoryThanAChildHasIsAReason(t *testing.T) {
	data, err := base64.StdEncoding.DecodeString(
		"/Td6WFoAAATm1rRGAgAhASUAAAA7eHtBAQAGbGV2ZWxzCgAA5CJbLT+uvTkAAR8HFi64cx+2830BAAAAAARZWg==")
	if err != nil {
		t.Fatal(err)
	}
	err = Unpack(t.Context(), file(t, data), unpack.Request{Name: "x.xz", Contents: true}, func(_ unpack.Entry,
		content io.Reader) error {
		_, err := io.Copy(io.Discard, content)
		return err
	})
	var known *unpack.Error
	if !errors.As(err, &known) || runtime.GOOS == "linux" && (!known.Limit || !strings.Contains(known.Problem,
		"512 MB of memory")) {
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
	report, err := Render(t.Context(), file(t, []byte("Subject: Berth plan\r\n\r\nSee 港.\r\n")),
		render.Request{Form: "pdf"}, &out)
	if err != nil || !strings.HasPrefix(out.String(), "%PDF") || report.Undrawn != 1 {
		t.Errorf("%+v, %v, %.20q", report, err, out.String())
	}
	if _, err := Render(t.Context(), file(t, nil), render.Request{Form: "odd"}, io.Discard); err == nil {
		t.Error("a form that is not known is drawn")
	}
}

func drawn(t testing.TB, pages int) []byte {
	t.Helper()
	d := fpdf.New("P", "mm", "A4", "")
	d.SetFont("Helvetica", "", 12)
	for i := range pages {
		d.AddPage()
		d.MultiCell(0, 6, fmt.Sprintf("Invoice BK-%d\n%s", i,
			strings.Repeat("Harbour dues for the vessel and her tugs. ", 40)), "", "", false)
	}
	var b bytes.Buffer
	if err := d.Output(&b); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// A child reads PDFs with what was made ready before, since it may write nothing itself;
// where it cannot be made ready that is told as the machine's fault and not the file's.
func TestAChildReadsPDFs(t *testing.T) {
	f := file(t, drawn(t, 2))
	for range 2 {
		got, err := Text(t.Context(), f, text.Request{Name: "a.pdf", Reader: testbed.Ready(t)})
		if err != nil || !strings.Contains(got.Text, "Invoice BK-0") ||
			!strings.Contains(got.Text, "Invoice BK-1\nHarbour dues") {
			t.Errorf("%.200q, %v", got.Text, err)
		}
	}
	// What an older version made ready goes once the program runs anew.
	old := filepath.Join(testbed.Ready(t), fmt.Sprint("of an older version ", os.Getpid()))
	if err := os.Mkdir(old, 0o700); err != nil {
		t.Fatal(err)
	}
	pdfs.prepared = nil
	if _, err := Text(t.Context(), f, text.Request{Name: "a.pdf", Reader: testbed.Ready(t)}); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(old); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("what an older version made is there: %v", err)
	}
	taken := filepath.Join(t.TempDir(), "taken")
	if err := os.WriteFile(taken, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	var known *unpack.Error
	if _, err := Text(t.Context(), f, text.Request{Name: "a.pdf", Reader: filepath.Join(taken,
		"ready")}); err == nil || errors.As(err, &known) ||
		!strings.Contains(err.Error(), "making the reader of PDFs ready") {
		t.Errorf("where nothing can be made ready: %v", err)
	}
	if got, err := Text(t.Context(), file(t, []byte("a;b\n")), text.Request{Name: "a.csv",
		Reader: filepath.Join(taken, "ready")}); err != nil || got.Text != "a;b" {
		t.Errorf("what is no PDF: %q, %v", got.Text, err)
	}
}

// A child reads one PDF after another, and what becomes of one is nothing to the next:
// a broken one, one that is away, a child that was killed while it waited or at work.
func TestAChildStaysForTheNextPDF(t *testing.T) {
	ready := testbed.Ready(t)
	good := file(t, drawn(t, 1))
	read := func(f *os.File) (string, error) {
		found, err := Text(t.Context(), f, text.Request{Name: "a.pdf", Reader: ready})
		return found.Text, err
	}
	well := func(when string) {
		t.Helper()
		if got, err := read(good); err != nil || !strings.Contains(got, "BK-0") {
			t.Errorf("%s: %.100q, %v", when, got, err)
		}
	}
	waiting := func() *helper {
		t.Helper()
		pdfs.mutex.Lock()
		defer pdfs.mutex.Unlock()
		if len(pdfs.waiting) == 0 {
			t.Fatal("no child waits")
		}
		return pdfs.waiting[len(pdfs.waiting)-1]
	}
	well("the first")
	first := waiting()
	well("the second")
	if waiting() != first {
		t.Error("the second was read by another child")
	}
	var known *unpack.Error
	if _, err := read(file(t, drawn(t, 1)[:400])); !errors.As(err, &known) || !strings.Contains(known.Problem, "broken") {
		t.Errorf("half a PDF: %v", err)
	}
	away := file(t, drawn(t, 1))
	if err := os.Remove(away.Name()); err != nil {
		t.Fatal(err)
	}
	if _, err := read(away); err != nil && !errors.As(err,
		&known) { // it was opened before; elsewhere it is opened by name
		t.Errorf("one that is away: %v", err)
	}
	well("after these")
	if waiting() != first {
		t.Errorf("they ended the child: %s", first.stderr)
	}
	if err := first.cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	well("after it was killed while it waited")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Text(ctx, good, text.Request{Name: "a.pdf", Reader: ready}); !errors.Is(err, context.Canceled) {
		t.Errorf("called off: %v", err)
	}
	well("after one was called off")
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() { well("many at once") })
	}
	all.Wait()
	for range mostRead {
		well("many in a row")
	}
	pdfs.mutex.Lock()
	defer pdfs.mutex.Unlock()
	if len(pdfs.waiting) > mostWaiting {
		t.Errorf("%d children wait", len(pdfs.waiting))
	}
	for _, h := range pdfs.waiting {
		if h.read >= mostRead {
			t.Errorf("one waits that has read %d", h.read)
		}
	}
}

// What reading the text of one PDF takes, a process and all.
func BenchmarkText(b *testing.B) {
	for _, pages := range []int{1, 20} {
		data := drawn(b, pages)
		b.Run(fmt.Sprintf("%d pages", pages), func(b *testing.B) {
			path := filepath.Join(b.TempDir(), "a.pdf")
			if err := os.WriteFile(path, data, 0o600); err != nil {
				b.Fatal(err)
			}
			for b.Loop() {
				f, err := os.Open(path)
				if err != nil {
					b.Fatal(err)
				}
				if got, err := Text(b.Context(), f, text.Request{Name: "a.pdf", Reader: testbed.Ready(b)}); err != nil ||
					!strings.Contains(got.Text, "BK-0") {
					b.Fatal(got, err)
				}
				f.Close()
			}
		})
	}
}
