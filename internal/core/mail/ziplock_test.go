package mail

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"
)

// zipWith makes a zip of so many files, of which the one with the number locked is marked as encrypted.
func zipWith(t testing.TB, n, locked int, comment string) []byte {
	t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	if err := z.SetComment(comment); err != nil {
		t.Fatal(err)
	}
	for i := range n {
		h := &zip.FileHeader{Name: fmt.Sprintf("folder/%d.csv", i), Method: zip.Store, CompressedSize64: 3,
			UncompressedSize64: 3}
		if i == locked {
			h.Flags |= 1
		}
		w, err := z.CreateRaw(h)
		if err == nil {
			_, err = w.Write([]byte("a;b"))
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

func lockOf(t testing.TB, r io.Reader) (locked, known bool) {
	t.Helper()
	z := &ZipLock{}
	if _, err := io.Copy(z, r); err != nil {
		t.Fatal(err)
	}
	return z.Locked()
}

func TestZipsAreSeenToBeLockedWhileTheyGoBy(t *testing.T) {
	inner := zipWith(t, 2, 0, "")
	var outer bytes.Buffer
	z := zip.NewWriter(&outer)
	w, err := z.CreateHeader(&zip.FileHeader{Name: "locked.zip", Method: zip.Store})
	if err == nil {
		_, err = w.Write(inner)
	}
	if err != nil || z.Close() != nil {
		t.Fatal(err)
	}
	// begins as no zip does, and has other offsets
	large := append(bytes.Repeat([]byte{'x'}, 3*zipTail), zipWith(t, 3, 2, "")...)
	for _, one := range []struct {
		what          string
		content       []byte
		locked, known bool
	}{
		{"nothing in it", zipWith(t, 0, -1, ""), false, true},
		{"open", zipWith(t, 5, -1, ""), false, true},
		{"the first is locked", zipWith(t, 5, 0, ""), true, true},
		{"the last is locked", zipWith(t, 1500, 1499, ""), true, true},
		{"a comment", zipWith(t, 5, 4, "for the harbour office"), true, true},
		{"a comment that looks like the end", zipWith(t, 5, 4, "PK\x05\x06 and more than that, so it may be the end"),
			false, false},
		{"a locked zip within an open one", outer.Bytes(), false, true},
		{"a directory that is too long", zipWith(t, 12_000, 11_999, ""), false, false},
		{"something before it", large, false, false},
		{"cut off", zipWith(t, 5, 4, "")[:300], false, false},
		{"no zip", []byte("station;level"), false, false},
		{"empty", nil, false, false},
	} {
		for _, r := range []io.Reader{bytes.NewReader(one.content), iotest.OneByteReader(bytes.NewReader(one.content))} {
			if locked, known := lockOf(t, r); locked != one.locked || known != one.known {
				t.Errorf("%s: locked %v, known %v", one.what, locked, known)
			}
		}
	}
	mark := zipWith(t, 3, 1, "")
	if !IsZip(mark) || IsZip([]byte("Rar!")) || !IsZip(zipWith(t, 0, -1, "")) {
		t.Error("zips are not told by their beginning")
	}
}

// TestTheLockOfAZipIsWhatTheStandardLibrarySays compares with Go's own reader, on zips that Go's source has for its
// tests.
func TestTheLockOfAZipIsWhatTheStandardLibrarySays(t *testing.T) {
	samples, _ := filepath.Glob(filepath.Join(goRoot(), "src", "archive", "zip", "testdata", "*.zip"))
	compared := 0
	for _, name := range samples {
		content, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		locked, known := lockOf(t, bytes.NewReader(content))
		z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
		if !known {
			continue
		}
		compared++
		want := false
		if err == nil {
			for _, f := range z.File {
				want = want || f.Flags&1 != 0 && !strings.HasSuffix(f.Name, "/")
			}
		}
		if locked != want {
			t.Errorf("%s: locked %v, want %v (%v)", filepath.Base(name), locked, want, err)
		}
	}
	if len(samples) > 0 && compared < 5 {
		t.Errorf("only %d of %d samples were compared", compared, len(samples))
	}
}

// goRoot is where Go's own source is.
func goRoot() string {
	out, _ := exec.Command("go", "env", "GOROOT").Output()
	return strings.TrimSpace(string(out))
}

func FuzzZipLock(f *testing.F) {
	f.Add(zipWith(f, 3, 1, ""))
	f.Add(zipWith(f, 0, -1, "comment"))
	f.Fuzz(func(t *testing.T, content []byte) {
		locked, known := lockOf(t, bytes.NewReader(content))
		if locked && !known {
			t.Error("locked, and not known")
		}
		z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
		if !known || err != nil {
			return
		}
		want := false
		for _, f := range z.File {
			want = want || f.Flags&1 != 0
		}
		if want != locked {
			t.Errorf("locked %v, want %v", locked, want)
		}
	})
}
