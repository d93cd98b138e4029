package unpack

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/klauspost/compress/zstd"
	"github.com/smallstep/pkcs7"
	"github.com/ulikunitz/xz"
)

// opened lists what is found, "number name: content".
func opened(t testing.TB, data []byte, r Request) ([]string, error) {
	t.Helper()
	r.Contents = true
	var found []string
	err := Open(bytes.NewReader(data), int64(len(data)), r, func(e Entry, content io.Reader) error {
		text, err := io.ReadAll(content)
		if err != nil {
			return err
		}
		line := e.Number + " " + e.Name + ": " + string(text)
		if e.Left != "" {
			line = e.Number + " " + e.Name + " (" + e.Left + ")"
		}
		if e.Remark != "" {
			line += " (" + e.Remark + ")"
		}
		if e.Text {
			line = "text: " + string(text)
		}
		found = append(found, line)
		return nil
	})
	return found, err
}

func zipOf(t testing.TB, files ...string) []byte {
	t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for i := 0; i < len(files); i += 2 {
		w, err := z.Create(files[i])
		if err == nil {
			_, err = io.WriteString(w, files[i+1])
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

func tarOf(t testing.TB, headers ...tar.Header) []byte {
	t.Helper()
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, h := range headers {
		h.Mode = 0o644
		if err := w.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write(bytes.Repeat([]byte("x"), int(h.Size))); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func packed(t testing.TB, data []byte, with func(io.Writer) (io.WriteCloser, error)) []byte {
	t.Helper()
	var out bytes.Buffer
	w, err := with(&out)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.Write(data); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func gz(w io.Writer) (io.WriteCloser, error) { return gzip.NewWriter(w), nil }

// fixture is an archive that another program made: see testdata/README.
func fixture(t testing.TB, name string) []byte {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("testdata", name+".base64"))
	if err != nil {
		t.Fatal(err)
	}
	data, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(text)), ""))
	if err != nil {
		t.Fatal(err)
	}
	return data
}

func TestEveryFormIsOpened(t *testing.T) {
	plain := tarOf(t, tar.Header{Name: "plans/", Typeflag: tar.TypeDir}, tar.Header{Name: "plans/a.csv", Size: 3})
	for _, k := range []struct {
		name string
		data []byte
		file string
		want string
	}{
		{"zip", zipOf(t, "plans/", "", "plans/a.csv", "1;2", "b.txt", "two"), "x.zip", "1 plans/a.csv: 1;2|2 b.txt: two"},
		{"an empty zip", zipOf(t), "x.zip", ""},
		{"tar", plain, "x.tar", "1 plans/a.csv: xxx"},
		{"tar.gz", packed(t, plain, gz), "x.tar.gz", "1 plans/a.csv: xxx"},
		{"tar.xz", packed(t, plain, func(w io.Writer) (io.WriteCloser, error) { return xz.NewWriter(w) }), "x.txz",
			"1 plans/a.csv: xxx"},
		{"tar.zst", packed(t, plain, func(w io.Writer) (io.WriteCloser, error) { return zstd.NewWriter(w) }), "x.tar.zst",
			"1 plans/a.csv: xxx"},
		{"one file", packed(t, []byte("levels"), gz), "levels.csv.gz", "1 levels.csv: levels"},
		{"bzip2", fixture(t, "levels.bz2"), "levels.csv.bz2", "1 levels.csv: levels\n"},
		{"7z", fixture(t, "plans.7z"), "x.7z", "1 plans/a.csv: 1;2\n|2 plans/b.txt: two\n"},
		{"rar", rar5("plans/a.csv", "1;2", "b.txt", "two"), "x.rar", "1 plans/a.csv: 1;2|2 b.txt: two"},
		{"names of an old program", zipOf(t, "M\x84rz.txt", "x"), "x.zip", "1 März.txt: x"},
	} {
		found, err := opened(t, k.data, Request{Name: k.file})
		if got := strings.Join(found, "|"); err != nil || got != k.want {
			t.Errorf("%s: %q, %v; want %q", k.name, got, err, k.want)
		}
	}
}

func TestPathsThatLeadOutsideAreFiledInside(t *testing.T) {
	data := zipOf(t, "../../etc/cron.d/x", "a", "/abs/y", "b", `C:\win\z.txt`, "c", "./ok/./w", "d")
	found, err := opened(t, data, Request{})
	want := `1 etc/cron.d/x: a (its path in the archive, "../../etc/cron.d/x", leads outside; it is filed inside)|2 abs/y: b (its path in the archive, "/abs/y", leads outside; it is filed inside)|` +
		`3 win/z.txt: c (its path in the archive, "C:\\win\\z.txt", leads outside; it is filed inside)|4 ok/w: d`
	if got := strings.Join(found, "|"); err != nil || got != want {
		t.Errorf("got  %s, %v\nwant %s", got, err, want)
	}
	links := tarOf(t, tar.Header{Name: "link", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"},
		tar.Header{Name: "dev", Typeflag: tar.TypeChar})
	found, err = opened(t, links, Request{})
	if got := strings.Join(found, "|"); err != nil ||
		got != "1 link (a link or a device, which is never followed)|2 dev (a link or a device, which is never followed)" {
		t.Errorf("links: %s, %v", got, err)
	}
}

func TestTrapsStopAtTheirLimits(t *testing.T) {
	zeros := make([]byte, 80_000_000)
	bomb := func() []byte {
		var out bytes.Buffer
		z := zip.NewWriter(&out)
		w, _ := z.Create("zeros")
		w.Write(zeros)
		z.Close()
		return out.Bytes()
	}()
	var many []string
	for i := range 51 {
		many = append(many, fmt.Sprint(i), "")
	}
	for _, k := range []struct {
		name  string
		data  []byte
		r     Request
		says  string
		limit bool
	}{
		{"a bomb by its directory", bomb, Request{}, "200 times", true},
		{"a bomb in a stream", packed(t, zeros, gz), Request{Name: "x.gz"}, "200 times", true},
		{"a bomb in a tar", packed(t, tarOf(t, tar.Header{Name: "z", Size: 70_000_000}), gz), Request{}, "200 times", true},
		{"a zip that lies about its sizes", lying(t), Request{}, "broken", false},
		{"too large", zipOf(t, "a", strings.Repeat("x", 1001)), Request{Limits: Limits{Octets: 1000}}, "larger than", true},
		{"too many files", zipOf(t, many...), Request{Limits: Limits{Entries: 50}}, "more than 50 files", true},
		{"nothing", nil, Request{}, "empty", false},
		{"not an archive", []byte("hello, this is text"), Request{Name: "x.zip"}, "not an archive", false},
		{"cut", zipOf(t, "a", "x")[:40], Request{}, "broken", false},
		{"cut stream", packed(t, bytes.Repeat([]byte("levels "), 100), gz)[:30], Request{}, "broken", false},
	} {
		for _, contents := range []bool{true, false} {
			r := k.r
			r.Contents = contents
			err := Open(bytes.NewReader(k.data), int64(len(k.data)), r, func(e Entry, content io.Reader) error {
				if content == nil {
					return nil
				}
				_, err := io.Copy(io.Discard, content)
				return err
			})
			var known *Error
			if k.name == "a zip that lies about its sizes" && !contents {
				continue // nothing was read yet
			}
			if !errors.As(err, &known) || !strings.Contains(known.Problem, k.says) || known.Limit != k.limit {
				t.Errorf("%s (contents %v): %v, want ...%s..., limit %v", k.name, contents, err, k.says, k.limit)
			}
		}
	}
}

// lying is a zip whose directory says one octet where there are a thousand.
func lying(t testing.TB) []byte {
	data := zipOf(t, "a", strings.Repeat("x", 1000))
	at := bytes.LastIndex(data, []byte("PK\x01\x02"))
	binary.LittleEndian.PutUint32(data[at+24:], 1)
	return data
}

func TestEncryptedArchivesAreOpenedWithAKnownPassword(t *testing.T) {
	for _, name := range []string{"secret-traditional.zip", "secret-aes256.zip", "secret-aes128.zip", "secret.7z",
		"secret-names.7z"} {
		data := fixture(t, name)
		for _, k := range []struct {
			passwords []string
			want      string
			says      string
		}{
			{nil, "", "is encrypted"},
			{[]string{"ebb"}, "", "the known password does not open it"},
			{[]string{"ebb", "flood"}, "", "none of the 2 known passwords"},
			{[]string{"ebb", "slack-water"}, "1 plans/a.csv: 1;2\n|2 plans/b.txt: two\n", ""},
		} {
			found, err := opened(t, data, Request{Passwords: k.passwords})
			if k.says != "" {
				var known *Error
				if !errors.As(err, &known) || !known.Encrypted || !strings.Contains(known.Problem, k.says) || len(found) > 0 {
					t.Errorf("%s with %q: %q, %v; want ...%s...", name, k.passwords, found, err, k.says)
				}
				continue
			}
			if got := strings.Join(found, "|"); err != nil || got != k.want {
				t.Errorf("%s with %q: %q, %v", name, k.passwords, got, err)
			}
		}
	}
}

func TestWinmailIsOpened(t *testing.T) {
	wide := func(s string) []byte {
		var b []byte
		for _, u := range utf16.Encode([]rune(s)) {
			b = binary.LittleEndian.AppendUint16(b, u)
		}
		return b
	}
	inner := tnefOf(tnefAttachment("inside.txt", nil, []byte("deep")))
	object := append(make([]byte, 16), inner...)
	data := tnefOf(
		tnefAttachment("BERTH~1.PDF", props(propLongName, 0x1F, append(wide("Berth plan – März.pdf"), 0, 0)), []byte("%PDF")),
		tnefAttachment("M\xe4rz.txt", nil, []byte("x")),
		tnefAttachment("note", props(propObject, 0x0D, object), nil),
	)
	found, err := opened(t, data, Request{Name: "winmail.dat", Type: "application/ms-tnef"})
	if got := strings.Join(found, "|"); err != nil ||
		got != "1 Berth plan – März.pdf: %PDF|2 März.txt: x|3 inside.txt: deep" {
		t.Errorf("%q, %v", got, err)
	}
	for n := range len(data) { // cut at every place: told or read, never a panic
		_, _ = opened(t, data[:n], Request{Type: "application/ms-tnef"})
	}
	if _, err := opened(t, []byte("no tnef at all"), Request{Name: "winmail.dat"}); err == nil ||
		!strings.Contains(err.Error(), "not a winmail.dat") {
		t.Errorf("what is none: %v", err)
	}
}

func tnefOf(attachments ...[]byte) []byte {
	data := []byte{0x78, 0x9f, 0x3e, 0x22, 1, 0}
	data = append(data, attribute(1, 0x89006, []byte{0, 0, 1, 0})...) // attTnefVersion
	return append(data, bytes.Join(attachments, nil)...)
}

func attribute(level byte, id uint32, value []byte) []byte {
	b := []byte{level}
	b = binary.LittleEndian.AppendUint32(b, id)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(value)))
	b = append(b, value...)
	return append(b, 0, 0)
}

func tnefAttachment(title string, properties, data []byte) []byte {
	b := attribute(2, attachStart, make([]byte, 14))
	b = append(b, attribute(2, attachTitle, append([]byte(title), 0))...)
	if properties != nil {
		b = append(b, attribute(2, attachProps, properties)...)
	}
	if data != nil {
		b = append(b, attribute(2, attachData, data)...)
	}
	return b
}

func props(id, kind uint16, value []byte) []byte {
	b := binary.LittleEndian.AppendUint32(nil, 2)
	b = binary.LittleEndian.AppendUint16(b, 0x03) // an integer before it
	b = binary.LittleEndian.AppendUint16(b, 0x0E20)
	b = append(b, 1, 2, 3, 4)
	b = binary.LittleEndian.AppendUint16(b, kind)
	b = binary.LittleEndian.AppendUint16(b, id)
	b = binary.LittleEndian.AppendUint32(b, 1)
	b = binary.LittleEndian.AppendUint32(b, uint32(len(value)))
	b = append(b, value...)
	return append(b, make([]byte, (4-len(value)%4)%4)...)
}

func TestSignedMailIsOpenedAndEncryptedMailIsNot(t *testing.T) {
	inside := "Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\nSee " +
		"plan.\r\n--b\r\nContent-Type: application/pdf; name=plan.pdf\r\nContent-Transfer-Encoding: " +
		"base64\r\n\r\nJVBERg==\r\n--b--\r\n"
	signed, err := pkcs7.NewSignedData([]byte(inside))
	if err != nil {
		t.Fatal(err)
	}
	data, err := signed.Finish()
	if err != nil {
		t.Fatal(err)
	}
	found, err := opened(t, data, Request{Name: "smime.p7m", Type: "application/pkcs7-mime"})
	if got := strings.Join(found, "|"); err != nil || got != "text: See plan.|2 plan.pdf: %PDF" {
		t.Errorf("%q, %v", got, err)
	}
	enveloped := fixture(t, "enveloped.p7m")
	var known *Error
	if _, err := opened(t, enveloped, Request{Name: "smime.p7m", Type: "application/pkcs7-mime"}); !errors.As(err,
		&known) || !known.Encrypted {
		t.Errorf("encrypted mail: %v", err)
	}
	if _, err := opened(t, data[:len(data)/2], Request{Type: "application/pkcs7-mime"}); !errors.As(err, &known) ||
		known.Encrypted {
		t.Errorf("cut: %v", err)
	}
}

func TestOnlyWhatIsAskedForIsRead(t *testing.T) {
	data := zipOf(t, "a", "1", "b", "2", "c", "3")
	var got []string
	err := Open(bytes.NewReader(data), int64(len(data)), Request{Contents: true, Only: []string{"2"}},
		func(e Entry, content io.Reader) error {
			text := "-"
			if content != nil {
				b, err := io.ReadAll(content)
				if err != nil {
					return err
				}
				text = string(b)
			}
			got = append(got, e.Name+text)
			return nil
		})
	if s := strings.Join(got, " "); err != nil || s != "a- b2 c-" {
		t.Errorf("%s, %v", s, err)
	}
	own := errors.New("the caller's own")
	if err := Open(bytes.NewReader(data), int64(len(data)), Request{},
		func(Entry, io.Reader) error { return Passed(own) }); !errors.Is(err, own) {
		t.Errorf("an error of the caller comes back as %v", err)
	}
}

// rar5 writes an archive of stored files (RAR 5.0 archive format).
func rar5(files ...string) []byte {
	vint := func(n uint64) (b []byte) { return binary.AppendUvarint(nil, n) }
	block := func(fields ...[]byte) []byte {
		body := bytes.Join(fields, nil)
		body = append(vint(uint64(len(body))), body...)
		return append(binary.LittleEndian.AppendUint32(nil, crc(body)), body...)
	}
	out := []byte("Rar!\x1a\x07\x01\x00")
	out = append(out, block(vint(1), vint(0), vint(0))...)
	for i := 0; i < len(files); i += 2 {
		name, data := files[i], files[i+1]
		n := uint64(len(data))
		out = append(out, block(vint(2), vint(2), vint(n), vint(4), vint(n), vint(0o100644),
			binary.LittleEndian.AppendUint32(nil, crc([]byte(data))), vint(0), vint(1), vint(uint64(len(name))),
			[]byte(name))...)
		out = append(out, data...)
	}
	return append(out, block(vint(5), vint(0), vint(0))...)
}

func FuzzOpen(f *testing.F) {
	f.Add(zipOf(f, "a/b.txt", "x"), "x.zip", "")
	f.Add(packed(f, tarOf(f, tar.Header{Name: "a", Size: 3}), gz), "x.tgz", "")
	f.Add(tarOf(f, tar.Header{Name: "a", Size: 3}), "x.tar", "")
	f.Add(rar5("a", "b"), "x.rar", "")
	f.Add(tnefOf(tnefAttachment("a", props(propLongName, 0x1E, []byte("long")), []byte("x"))), "winmail.dat",
		"application/ms-tnef")
	for _, name := range []string{"plans.7z", "secret.7z", "secret-aes256.zip", "secret-traditional.zip", "levels.bz2",
		"enveloped.p7m"} {
		f.Add(fixture(f, name), name, map[bool]string{true: "application/pkcs7-mime"}[strings.HasSuffix(name, "p7m")])
	}
	f.Fuzz(func(t *testing.T, data []byte, name, mediaType string) {
		r := Request{Name: name, Type: mediaType, Contents: true, Passwords: []string{"slack-water"},
			Limits: Limits{Entries: 100, Octets: 4 << 20}}
		var total int64
		err := Open(bytes.NewReader(data), int64(len(data)), r, func(e Entry, content io.Reader) error {
			if strings.HasPrefix(e.Name, "/") || strings.Contains("/"+e.Name+"/", "/../") || strings.Contains(e.Name, `\`) {
				t.Errorf("the name %q leads outside", e.Name)
			}
			n, err := io.Copy(io.Discard, content)
			total += n
			return err
		})
		if total > 5<<20 {
			t.Errorf("%d octets came out of %d", total, len(data))
		}
		var known *Error
		if err != nil && !errors.As(err, &known) {
			t.Errorf("an error that says nothing to a person: %v", err)
		}
	})
}

func crc(b []byte) uint32 { return crc32.ChecksumIEEE(b) }
