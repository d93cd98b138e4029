package testbed

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
)

// Hostile makes messages that nobody writes by accident: names, nesting, headers, archives and structures at and
// beyond every limit. The same random source gives the same messages.
func Hostile(random *rand.Rand, n int) (kind string, message []byte) {
	shape := hostileShapes[random.IntN(len(hostileShapes))]
	head := fmt.Sprintf("From: Mallory <m%d@hostile.example>\r\nTo: gauges@brackwater.example\r\nSubject: hostile %d "+
		"%s\r\nMessage-ID: <hostile-%d@hostile.example>\r\nMIME-Version: 1.0\r\n", n%50, n, shape.kind, n)
	return shape.kind, append([]byte(head), shape.make(random)...)
}

type hostileShape struct {
	kind string
	make func(r *rand.Rand) string
}

// upTo is a size: mostly small, at times the largest.
func upTo(r *rand.Rand, most int) int {
	if r.IntN(8) == 0 {
		return most
	}
	return 1 + r.IntN(max(most/20, 1))
}

func wrapped(content []byte) string {
	encoded := base64.StdEncoding.EncodeToString(content)
	var b strings.Builder
	for line := range slices.Chunk([]byte(encoded), 76) {
		b.Write(line)
		b.WriteString("\r\n")
	}
	return b.String()
}

// attaching is the rest of a message with one attachment; its name is as it is.
func attaching(name, kind string, content []byte) string {
	return "Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: " +
		"text/plain\r\n\r\nhello\r\n--b\r\nContent-Type: " + kind + "\r\nContent-Disposition: attachment; filename=\"" +
		name + "\"\r\nContent-Transfer-Encoding: base64\r\n\r\n" + wrapped(content) + "--b--\r\n"
}

func hostileName(r *rand.Rand) string {
	return []string{
		strings.Repeat("long", upTo(r, 50_000)) + ".csv", "../../../../etc/passwd", `..\..\windows\system.ini`,
		"\x1b]0;owned\x07.csv", "report\u202efdp.exe", "CON.csv", strings.Repeat("../", 200) + "x.csv", "a\x00b.csv", ".",
		"..", "",
		strings.Repeat("\u0300", upTo(r, 5000)) + ".csv", strings.Repeat("👩‍👩‍👧‍👦", upTo(r,
			2000)) + ".csv", "desktop.ini", ".inktray/cabinet.json", "  .csv ", strings.Repeat(".", 300), "=?utf-8?q?" +
			strings.Repeat("=41", upTo(r, 3000)) + "?=.csv",
	}[r.IntN(18)]
}

func zipOf(r *rand.Rand, entries int, content func(i int) (name string, data []byte, broken bool)) []byte {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for i := range entries {
		name, data, broken := content(i)
		if broken {
			if w, err := z.CreateRaw(&zip.FileHeader{Name: name, Method: zip.Deflate, CompressedSize64: 4,
				UncompressedSize64: 4}); err == nil {
				w.Write([]byte{0xff, 0xff, byte(r.IntN(256)), 0xff})
			}
		} else if w, err := z.Create(name); err == nil {
			w.Write(data)
		}
	}
	z.Close()
	return out.Bytes()
}

func noise(r *rand.Rand, n int) []byte {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.IntN(256))
	}
	return b
}

var hostileShapes = []hostileShape{
	{"name", func(r *rand.Rand) string { return attaching(hostileName(r), "text/csv", []byte("a;b")) }},
	{"name of many pieces", func(r *rand.Rand) string {
		var b strings.Builder
		for i := range upTo(r, 3000) {
			fmt.Fprintf(&b, ";\r\n filename*%d*=utf-8''%%41", i)
		}
		return "Content-Type: text/csv\r\nContent-Disposition: attachment" + b.String() + "\r\n\r\na;b\r\n"
	}},
	{"nested multiparts", func(r *rand.Rand) string {
		inner := "Content-Type: text/csv; name=deep.csv\r\n\r\na;b"
		for i := range upTo(r, 150) {
			inner = fmt.Sprintf("Content-Type: multipart/mixed; boundary=b%d\r\n\r\n--b%d\r\n%s\r\n--b%d--\r\n", i, i, inner, i)
		}
		return inner
	}},
	{"nested forwards", func(r *rand.Rand) string {
		return strings.Repeat("Content-Type: message/rfc822\r\n\r\nSubject: within\r\n", upTo(r, 150)) + "\r\nend\r\n"
	}},
	{"folded header", func(r *rand.Rand) string {
		return "Cc: a@b.example" + strings.Repeat("\r\n ", upTo(r, 150_000)) + "\r\n" + attaching("a.csv", "text/csv",
			[]byte("x"))
	}},
	{"encoded words", func(r *rand.Rand) string {
		return "Reply-To: " + strings.Repeat("=?utf-8?q?", upTo(r, 20_000)) + "\r\n" + attaching("a.csv", "text/csv",
			[]byte("x"))
	}},
	{"many fields", func(r *rand.Rand) string {
		return strings.Repeat("X-Field: value\r\n", upTo(r, 40_000)) + attaching("a.csv", "text/csv", []byte("x"))
	}},
	{"many parameters", func(r *rand.Rand) string {
		return "Content-Type: application/pdf; " + strings.Repeat("a; b=c; ", upTo(r, 20_000)) + "name=x.pdf\r\n\r\n%PDF"
	}},
	{"many parts", func(r *rand.Rand) string {
		return "Content-Type: multipart/mixed; boundary=b\r\n\r\n" + strings.Repeat("--b\r\nContent-Type: text/csv; "+
			"name=p.csv\r\n\r\nx\r\n", upTo(r, []int{300, 300, 300, 12_000}[r.IntN(4)])) + "--b--\r\n"
	}},
	{"no boundary", func(r *rand.Rand) string {
		return []string{"Content-Type: multipart/mixed\r\n\r\n--x\r\n\r\nhello\r\n",
			"Content-Type: multipart/mixed; boundary=\"\"\r\n\r\n--\r\n\r\nx\r\n----\r\n", "Content-Type: multipart/mixed; " +
				"boundary=never\r\n\r\n" + strings.Repeat("--other\r\n", upTo(r, 20_000))}[r.IntN(3)]
	}},
	{"broken base64", func(r *rand.Rand) string {
		return "Content-Type: application/zip; name=a.zip\r\nContent-Transfer-Encoding: base64\r\n\r\n" +
			strings.Repeat("!!!====\r\n", upTo(r, 5000))
	}},
	{"zip of long names", func(r *rand.Rand) string {
		return attaching("names.zip", "application/zip", zipOf(r, 1+r.IntN(20), func(i int) (string, []byte, bool) {
			return strings.Repeat("n", upTo(r, 65_000)) + fmt.Sprint(i) + ".csv", []byte("x"), false
		}))
	}},
	{"zip that climbs", func(r *rand.Rand) string {
		return attaching("climb.zip", "application/zip", zipOf(r, 5, func(i int) (string, []byte, bool) {
			return []string{"../../../../etc/passwd", "/root/.ssh/authorized_keys", `..\..\x.ini`,
				strings.Repeat("deep/", 300) + "w", "a/../../b"}[i], []byte("x"), false
		}))
	}},
	{"broken zip", func(r *rand.Rand) string {
		return attaching("broken.zip", "application/zip", zipOf(r, upTo(r, 1000), func(i int) (string, []byte,
			bool) {
			return fmt.Sprintf("%d.csv", i), []byte("x"), i%3 > 0
		}))
	}},
	{"nested zips", func(r *rand.Rand) string {
		inner := zipOf(r, 1+r.IntN(100), func(i int) (string, []byte, bool) {
			return fmt.Sprintf("%d.zip", i),
				[]byte("no archive"), false
		})
		return attaching("nested.zip", "application/zip", zipOf(r, upTo(r, 200), func(i int) (string, []byte,
			bool) {
			return fmt.Sprintf("%d.zip", i), inner, false
		}))
	}},
	{"zip bomb", func(r *rand.Rand) string {
		zeros := make([]byte, 1<<20)
		return attaching("bomb.zip", "application/zip", zipOf(r, 1+upTo(r, 200), func(i int) (string, []byte,
			bool) {
			return fmt.Sprint("zeros", i), zeros, false
		}))
	}},
	{"gzip bomb", func(r *rand.Rand) string {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		for range 1 + upTo(r, 200) {
			z.Write(make([]byte, 1<<20))
		}
		z.Close()
		return attaching("bomb.gz", "application/gzip", b.Bytes())
	}},
	{"tar of links", func(r *rand.Rand) string {
		var b bytes.Buffer
		t := tar.NewWriter(&b)
		for i := range upTo(r, 500) {
			t.WriteHeader(&tar.Header{Name: fmt.Sprintf("link%d", i), Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"})
		}
		t.WriteHeader(&tar.Header{Name: "dev", Typeflag: tar.TypeChar})
		t.Close()
		return attaching("links.tar", "application/x-tar", b.Bytes())
	}},
	{"archive of noise", func(r *rand.Rand) string {
		magic := []string{"7z\xbc\xaf\x27\x1c", "Rar!\x1a\x07\x01\x00", "\xfd7zXZ\x00", "\x28\xb5\x2f\xfd", "BZh9",
			"\x1f\x8b\x08", "PK\x03\x04"}[r.IntN(7)]
		return attaching("noise.zip", "application/zip", append([]byte(magic), noise(r, upTo(r, 50_000))...))
	}},
	{"winmail.dat", func(r *rand.Rand) string {
		out := []byte{0x78, 0x9f, 0x3e, 0x22, 1, 0}
		attribute := func(id uint32, data []byte) {
			out = binary.LittleEndian.AppendUint32(append(out, 2), id)
			out = append(append(binary.LittleEndian.AppendUint32(out, uint32(len(data))), data...), 0, 0)
		}
		for range 1 + upTo(r, 50) {
			attribute(0x00069002, make([]byte, 14))
			attribute(0x00018010, []byte(strings.Repeat("name", upTo(r, 6000))+".csv\x00"))
			attribute(0x0006800f, noise(r, 20))
		}
		return attaching("winmail.dat", "application/ms-tnef", append(out, noise(r, r.IntN(3)*1000)...))
	}},
	{"document of noise", func(r *rand.Rand) string {
		kind := r.IntN(3)
		name := []string{"a.pdf", "a.docx", "a.xlsx"}[kind]
		content := append([]byte("%PDF-1.7\n"), noise(r, upTo(r, 30_000))...)
		if kind > 0 {
			bomb := `<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;"><!ENTITY c "&b;&b;&b;&b;&b;&b;&b;&b;">]><x>` + strings.Repeat("&c;", 1000) + "</x>"
			content = zipOf(r, 3, func(i int) (string, []byte, bool) {
				return []string{"[Content_Types].xml", "word/document.xml", "xl/sharedStrings.xml"}[i], []byte(bomb), false
			})
		}
		return attaching(name, "application/octet-stream", content)
	}},
	{"one long line", func(r *rand.Rand) string {
		return "Content-Type: text/html\r\n\r\n" + strings.Repeat("<div>", upTo(r, 60_000)) + "\r\n"
	}},
	{"signed noise", func(r *rand.Rand) string {
		return "Content-Type: application/pkcs7-mime; smime-type=signed-data; name=smime.p7m\r\nContent-Transfer-Encoding: " +
			"base64\r\n\r\n" + wrapped(noise(r, upTo(r, 20_000)))
	}},
}
