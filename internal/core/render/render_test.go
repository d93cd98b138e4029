package render

import (
	"bytes"
	"encoding/base64"
	"image"
	"image/color"
	"image/png"
	"strings"
	"testing"

	"inktray.example/inktray/internal/core/rule"
)

func pngOf(t testing.TB) string {
	t.Helper()
	img := image.NewRGBA(image.Rect(0, 0, 40, 20))
	for x := range 40 {
		img.Set(x, 10, color.RGBA{200, 30, 30, 255})
	}
	var out bytes.Buffer
	if err := png.Encode(&out, img); err != nil {
		t.Fatal(err)
	}
	return base64.StdEncoding.EncodeToString(out.Bytes())
}

func letterOf(t testing.TB, html string) []byte {
	return []byte(strings.ReplaceAll("From: Oda Fenwick <oda@tidewatch.example>\nTo: berths@brackwater.example\nDate: "+
		"Tue, 12 May 2026 06:00:00 +0000\nSubject: Berth <plan> 7\nMIME-Version: 1.0\n"+
		"Content-Type: multipart/mixed; boundary=m\n\n--m\nContent-Type: multipart/related; "+
		"boundary=r\n\n--r\nContent-Type: multipart/alternative; boundary=a\n\n--a\nContent-Type: text/plain; "+
		"charset=utf-8\n\nSee the plan.\n--a\n"+
		"Content-Type: text/html; charset=utf-8\n\n"+html+
		"\n--a--\n--r\nContent-Type: image/png\nContent-ID: <plan@x>\nContent-Transfer-Encoding: base64\n\n"+pngOf(t)+
		"\n--r--\n"+
		"--m\nContent-Type: application/pdf; name=plan.pdf\n\n%PDF\n--m--\n", "\n", "\r\n"))
}

const written = `<html><head><style>p{color:red}</style><script>alert(1)</script></head><body onload="x()"><h1>Berth 7</h1><p>Καλημέρα, <b>доброе утро</b> &amp; good morning.<img src="cid:plan@x" alt="the plan"><img src="http://pictures.example/1.png"></p>` +
	`<ul><li>one<li>two</ul><ol><li>first</li></ol><blockquote>said <a href="https://tidewatch.example/">there</a></blockquote><table><tr><th>Station</th><td>3</td></tr></table><pre>a  b
c</pre><a href="javascript:x()">no</a></body></html>`

func form(t *testing.T, raw []byte, f rule.CopyForm) (string, Report) {
	t.Helper()
	var out bytes.Buffer
	report, err := Write(&out, raw, Request{Form: f, Zone: "Europe/Oslo"})
	if err != nil {
		t.Fatal(err)
	}
	return out.String(), report
}

func TestTextIsThePlainFormElseWhatAPersonReadsOfTheWebForm(t *testing.T) {
	got, _ := form(t, letterOf(t, written), rule.CopyText)
	want := "From: Oda Fenwick <oda@tidewatch.example>\nTo: berths@brackwater.example\nDate: 2026-05-12 08:00 " +
		"+0200\nSubject: Berth <plan> 7\nAttachments: plan.pdf (4 B)\n\nSee the plan.\n"
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	only := strings.Replace(string(letterOf(t, written)), "See the plan.", "", 1)
	got, _ = form(t, []byte(only), rule.CopyText)
	for _, line := range []string{"Berth 7", "Καλημέρα, доброе утро & good morning.", "• one", "1. first",
		"said there <https://tidewatch.example/>", "Station   3", "a  b\nc"} {
		if !strings.Contains(got, line) {
			t.Errorf("%q is missing in\n%s", line, got)
		}
	}
	if strings.Contains(got, "alert") || strings.Contains(got, "color") {
		t.Errorf("script or style is taken for text:\n%s", got)
	}
}

func TestTheWebFormLoadsAndDoesNothing(t *testing.T) {
	got, report := form(t, letterOf(t, written), rule.CopyHTML)
	for _, must := range []string{"Berth &lt;plan&gt; 7", "default-src 'none'", `src="data:image/png;base64,`,
		"доброе утро", "<li>one"} {
		if !strings.Contains(got, must) {
			t.Errorf("%q is missing", must)
		}
	}
	for _, never := range []string{"<script", "onload", "javascript:", "pictures.example"} {
		if strings.Contains(got, never) {
			t.Errorf("%q is in the page", never)
		}
	}
	if report.Remote != 1 || report.Broken != 0 {
		t.Errorf("report %+v", report)
	}
}

func TestThePDFSaysWhatItCannotDraw(t *testing.T) {
	got, report := form(t, letterOf(t, written), rule.CopyPDF)
	if !strings.HasPrefix(got, "%PDF-1.") || !strings.Contains(got, "/Subtype /Image") {
		t.Errorf("no PDF with a picture: %.40q", got)
	}
	if !report.Whole() || report.Remote != 1 || report.Sentence() != "1 picture on another server: not fetched." {
		t.Errorf("Latin, Greek and Cyrillic: %+v, %s", report, report.Sentence())
	}
	if again, _ := form(t, letterOf(t, written), rule.CopyPDF); again != got {
		t.Error("the same message gives another PDF")
	}
	_, report = form(t, letterOf(t, "<p>港 and 🚢 and Å</p><img src=cid:missing>"), rule.CopyPDF)
	if report.Undrawn != 2 || report.Such != "U+6E2F, U+1F6A2" || report.Broken != 1 || report.Whole() {
		t.Errorf("what has no shape: %+v", report)
	}
}

func TestHostileTextsAreDrawn(t *testing.T) {
	for name, html := range map[string]string{
		"deep":          strings.Repeat("<div><blockquote><ul><li>", 20_000) + "x",
		"long word":     "<p>" + strings.Repeat("x", 100_000) + "</p>",
		"broken":        "<p <b <<>> &#xFFFFFFFF; &notanentity; <img src='cid:",
		"closed twice":  "</ul></blockquote></pre></b>x",
		"control":       "a\x00b\x01c\u202Ed",
		"huge picture?": `<img src="cid:plan@x"><img src="data:image/png;base64,AAAA">`,
	} {
		for _, f := range []rule.CopyForm{rule.CopyHTML, rule.CopyText, rule.CopyPDF} {
			if got, _ := form(t, letterOf(t, html), f); got == "" {
				t.Errorf("%s as %s: nothing", name, f)
			}
		}
	}
	for _, f := range []rule.CopyForm{rule.CopyHTML, rule.CopyText, rule.CopyPDF} {
		if got, _ := form(t, nil, f); got == "" {
			t.Errorf("an empty message as %s: nothing", f)
		}
	}
}

func FuzzWrite(f *testing.F) {
	f.Add(letterOf(f, written))
	f.Add([]byte("Subject: x\r\nContent-Type: text/html\r\n\r\n<table><tr><td>a<td>b"))
	f.Fuzz(func(t *testing.T, raw []byte) {
		for _, form := range []rule.CopyForm{rule.CopyHTML, rule.CopyText, rule.CopyPDF} {
			var out bytes.Buffer
			if _, err := Write(&out, raw, Request{Form: form}); err != nil {
				t.Errorf("%s: %v", form, err)
			}
		}
	})
}
