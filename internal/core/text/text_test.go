package text

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"strings"
	"testing"

	"codeberg.org/go-pdf/fpdf"
	"github.com/xuri/excelize/v2"

	"inktray.example/inktray/internal/demo/paper"
	"inktray.example/inktray/internal/testbed"
)

func zipped(t testing.TB, files ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for i := 0; i < len(files); i += 2 {
		f, err := w.Create(files[i])
		if err == nil {
			_, err = f.Write([]byte(files[i+1]))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func drawn(t testing.TB, password string, pages ...string) []byte {
	t.Helper()
	d := fpdf.New("P", "mm", "A4", "")
	if password != "" {
		d.SetProtection(fpdf.CnProtectPrint, password, "owner")
	}
	d.SetFont("Helvetica", "", 12)
	for _, p := range pages {
		d.AddPage()
		if p != "" {
			d.MultiCell(0, 6, p, "", "", false)
		}
	}
	var b bytes.Buffer
	if err := d.Output(&b); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func workbook(t testing.TB, password string) []byte {
	t.Helper()
	f := excelize.NewFile()
	for cell, v := range map[string]any{"A1": "Station", "B1": "Level", "A2": "ST-03", "B2": 4.12} {
		if err := f.SetCellValue("Sheet1", cell, v); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := f.NewSheet("Costs"); err != nil {
		t.Fatal(err)
	}
	if err := f.SetCellValue("Costs", "A1", "Invoice BK-20417"); err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := f.Write(&b, excelize.Options{Password: password}); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

const word = `<?xml version="1.0"?><w:document xmlns:w="w"><w:body><w:p><w:r><w:t>Invoice </w:t></w:r><w:r><w:t>BK-20417</w:t></w:r></w:p><w:p><w:r><w:t>Berth</w:t><w:tab/><w:t>north quay</w:t></w:r><w:instrText>HYPERLINK</w:instrText></w:p><w:tbl><w:tr><w:tc><w:p><w:r><w:t>Dues</w:t></w:r></w:p></w:tc><w:tc><w:p><w:r><w:t>1,250.00</w:t></w:r></w:p></w:tc></w:tr><w:tr><w:tc><w:p><w:r><w:t>Water</w:t></w:r></w:p></w:tc></w:tr></w:tbl></w:body></w:document>`
const open = `<?xml version="1.0"?><office:document-content xmlns:office="o" xmlns:text="t" xmlns:table="b"><text:h>Rechnung</text:h><text:p>Liegeplatz<text:s/>BK-20417</text:p><text:tracked-changes><text:p>struck out</text:p></text:tracked-changes><table:table-row><table:table-cell><text:p>Pegel</text:p></table:table-cell><table:table-cell><text:p>4,12</text:p></table:table-cell></table:table-row><text:p>Ende<office:annotation><text:p>a remark</text:p></office:annotation></text:p></office:document-content>`
const slide = `<p:sld xmlns:p="p" xmlns:a="a"><a:p><a:r><a:t>%s</a:t></a:r></a:p></p:sld>`

// written writes a PDF by hand, as programs write that set each word by itself.
func written(content, within string) []byte {
	var b bytes.Buffer
	var at []int
	b.WriteString("%PDF-1.4\n")
	for i, o := range []string{"<</Type/Catalog/Pages 2 0 R>>", "<</Type/Pages/Kids[3 0 R]/Count 1>>",
		"<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents 4 0 R/Resources<</Font<</F1 5 0 R>>/XObject<</X1 6 0 " +
			"R>>>>>>",
		fmt.Sprintf("<</Length %d>>stream\n%s\nendstream", len(content), content),
		"<</Type/Font/Subtype/Type1/BaseFont/Helvetica/Encoding/WinAnsiEncoding>>",
		fmt.Sprintf("<</Type/XObject/Subtype/Form/BBox[0 0 595 842]/Resources<</Font<</F1 5 0 R>>>>/Length "+
			"%d>>stream\n%s\nendstream", len(within), within)} {
		at = append(at, b.Len())
		fmt.Fprintf(&b, "%d 0 obj%s endobj\n", i+1, o)
	}
	x := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(at)+1)
	for _, n := range at {
		fmt.Fprintf(&b, "%010d 00000 n \n", n)
	}
	fmt.Fprintf(&b, "trailer<</Root 1 0 R/Size %d>>\nstartxref\n%d\n%%%%EOF\n", len(at)+1, x)
	return b.Bytes()
}

func TestTextIsReadOfEveryForm(t *testing.T) {
	for name, c := range map[string]struct {
		data []byte
		file string
		want []string
	}{
		"PDF": {drawn(t, "", "Invoice BK-20417 for berth fees", "second page"), "a.pdf",
			[]string{"Invoice BK-20417 for berth fees", "second page"}},
		"PDF in pieces": {written("BT /F1 12 Tf 72 700 Td [(Place:)-300(qua)20(y)-300(C)]TJ 0 -20 Td (Harbour dues) Tj 200 "+
			"0 Td (1,250.00) Tj -200 -20 Td (the pilot boat and the tug-) Tj 0 -14 Td (master of North-) Tj 0 -14 Td (Quay) "+
			"Tj ET /X1 Do", "BT /F1 12 Tf 72 500 Td (Stamped: paid) Tj ET"), "a.pdf", []string{"Place: quay C\nHarbour dues " +
			"1,250.00\n", "Stamped: paid", "tugmaster of North-Quay"}},
		"DOCX": {
			zipped(t, "word/document.xml", word, "word/header1.xml", strings.ReplaceAll(word, "Invoice", "Letterhead")),
			"a.docx", []string{"Invoice BK-20417\nBerth north quay\nDues 1,250.00\nWater", "Letterhead"}},
		"XLSX": {workbook(t, ""), "a.xlsx", []string{"Station Level\nST-03 4.12", "Invoice BK-20417"}},
		"PPTX": {
			zipped(t, "ppt/presentation.xml", "<p/>", "ppt/slides/slide10.xml", fmt.Sprintf(slide, "the tenth"),
				"ppt/slides/slide2.xml", fmt.Sprintf(slide, "the second")), "a.pptx", []string{"the second\nthe tenth"}},
		"ODT": {
			zipped(t, "mimetype", "application/vnd.oasis.opendocument.text", "content.xml", open, "styles.xml",
				strings.ReplaceAll(open, "Rechnung", "Briefkopf")), "a.odt", []string{"Briefkopf\n", "Rechnung\nLiegeplatz " +
				"BK-20417\nPegel 4,12\nEnde"}},
		"ODS": {
			zipped(t, "mimetype", "application/vnd.oasis.opendocument.spreadsheet", "content.xml", open, "styles.xml",
				"<x><p>HYPERLINK</p></x>"), "a.ods", []string{"Pegel 4,12\nEnde"}},
		"CSV":     {[]byte("station;level\n3;2.10\n"), "a.csv", []string{"station;level\n3;2.10"}},
		"Latin-1": {[]byte("Gr\xfc\xdfe vom Kai"), "a.txt", []string{"Grüße vom Kai"}},
		"UTF-16":  {[]byte("\xff\xfeK\x00a\x00i\x00"), "a.txt", []string{"Kai"}},
		"a web page": {
			[]byte("<html><head><style>x{}</style></head><body><p>Berth&nbsp;request</p><script>no()</script></body></html>"),
			"a.html", []string{"Berth request"}},
		"nothing":       {nil, "a.txt", []string{""}},
		"a wrong name":  {drawn(t, "", "Invoice BK-20417"), "a.docx", []string{"Invoice BK-20417"}},
		"many of lines": {[]byte(strings.Repeat("0123456789\n", 200_000)), "a.txt", []string{"0123456789\n0123456789"}},
	} {
		found, err := Read(bytes.NewReader(c.data), int64(len(c.data)), Request{Name: c.file, Reader: testbed.Ready(t)})
		if err != nil {
			t.Errorf("%s: %v", name, err)
		}
		got := found.Text
		for _, want := range c.want {
			if !strings.Contains(got, want) {
				t.Errorf("%s: %.200q does not hold %q", name, got, want)
			}
		}
		if strings.Contains(got, "HYPERLINK") || strings.Contains(got, "no()") || strings.Contains(got, "struck out") ||
			strings.Contains(got, "a remark") || len(got) > Most {
			t.Errorf("%s: %.200q", name, got)
		}
	}
}

func TestWhatCannotBeReadIsSaid(t *testing.T) {
	before := mostPart
	mostPart = 1 << 20
	t.Cleanup(func() { mostPart = before })
	bomb := zipped(t, "word/document.xml", "<w:document><w:t>"+strings.Repeat("<x/>", 1<<20)+"</w:t></w:document>")
	for name, c := range map[string]struct {
		data   []byte
		file   string
		says   string
		locked bool
	}{
		"scanned":           {drawn(t, "", ""), "a.pdf", "perhaps it was scanned", false},
		"a locked PDF":      {drawn(t, "secret", "Invoice"), "a.pdf", "locked by a password", true},
		"a locked workbook": {workbook(t, "secret"), "a.xlsx", "locked by a password", true},
		"a locked ODT": {zipped(t, "mimetype", "x", "META-INF/manifest.xml", "<m><manifest:encryption-data "+
			"xmlns:manifest='m'/></m>", "content.xml", "x"), "a.odt", "locked by a password", true},
		"an old office file": {append([]byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"), make([]byte, 600)...), "a.doc",
			"old office format", false},
		"RTF":                    {[]byte(`{\rtf1 text}`), "a.rtf", "RTF", false},
		"no PDF":                 {[]byte("plain"), "a.pdf", "not a PDF", false},
		"half a PDF":             {drawn(t, "", "Invoice")[:300], "a.pdf", "broken", false},
		"half an archive":        {zipped(t, "word/document.xml", word)[:40], "a.docx", "broken", false},
		"an archive":             {zipped(t, "readme.txt", "x"), "a.docx", "an archive, and no document", false},
		"no text":                {[]byte("a\x00b"), "a.txt", "not text, though", false},
		"more than it may be":    {bomb, "a.docx", "unpacks to more than", false},
		"empty slides":           {zipped(t, "ppt/presentation.xml", "<p/>"), "a.pptx", "no text in it", false},
		"a workbook of nonsense": {zipped(t, "xl/workbook.xml", "nonsense"), "a.xlsx", "", false},
	} {
		found, err := Read(bytes.NewReader(c.data), int64(len(c.data)), Request{Name: c.file, Reader: testbed.Ready(t)})
		got := found.Text
		var known *Error
		if !errors.As(err, &known) || known.Encrypted != c.locked || !strings.Contains(known.Problem, c.says) || got != "" {
			t.Errorf("%s: %.100q, %v", name, got, err)
		}
	}
	if _, err := Read(bytes.NewReader(nil), MostFile+1, Request{Name: "a.pdf"}); err == nil ||
		!strings.Contains(err.Error(), "more than") {
		t.Errorf("a file beyond the limit: %v", err)
	}
}

func FuzzRead(f *testing.F) {
	for _, d := range [][]byte{drawn(f, "", "Invoice"), zipped(f, "word/document.xml", word),
		zipped(f, "mimetype", "x", "content.xml", open), workbook(f, ""), []byte("a;b\n"), []byte("<p>x")} {
		f.Add(d, "a.pdf")
		f.Add(d, "a.html")
	}
	f.Add(written("BT /F1 12 Tf 72 700 Td [(a)-300(b)]TJ ET", ""), "a.pdf")
	ready := testbed.Ready(f)
	f.Fuzz(func(t *testing.T, data []byte, name string) {
		found, err := Read(bytes.NewReader(data), int64(len(data)), Request{Name: name, Reader: ready})
		got := found.Text
		if err != nil && got != "" || len(got) > Most {
			t.Errorf("%d octets, %v", len(got), err)
		}
	})
}

const anInvoice = `<?xml version="1.0"?><Invoice xmlns="urn:oasis:names:specification:ubl:schema:xsd:Invoice-2"
 xmlns:cac="urn:oasis:names:specification:ubl:schema:xsd:CommonAggregateComponents-2"
 xmlns:cbc="urn:oasis:names:specification:ubl:schema:xsd:CommonBasicComponents-2"><cbc:ID>HD-7</cbc:ID>
<cbc:DocumentCurrencyCode>EUR</cbc:DocumentCurrencyCode><cac:LegalMonetaryTotal>
<cbc:LineExtensionAmount>5.00</cbc:LineExtensionAmount>
<cbc:TaxExclusiveAmount>5.00</cbc:TaxExclusiveAmount><cbc:TaxInclusiveAmount>5.00</cbc:TaxInclusiveAmount>
<cbc:PayableAmount>4.00</cbc:PayableAmount></cac:LegalMonetaryTotal><cac:InvoiceLine><cbc:LineExtensionAmount>5.00
</cbc:LineExtensionAmount></cac:InvoiceLine></Invoice>`

func TestElectronicInvoicesAreReadAsXMLAndWithinPDFs(t *testing.T) {
	ready := testbed.Ready(t)
	for name, data := range map[string][]byte{"a.xml": []byte(anInvoice), "b.pdf": paper.Hybrid([]string{"Harbour dues"},
		"factur-x.xml", anInvoice), "c.pdf": paper.Hybrid(nil, "dues.XML", anInvoice)} {
		got, err := Read(bytes.NewReader(data), int64(len(data)), Request{Name: name, Reader: ready})
		if err != nil || got.Invoice == nil || got.Invoice.Number != "HD-7" || len(got.Invoice.Faults) != 1 {
			t.Errorf("%s: %+v, %v", name, got.Invoice, err)
			continue
		}
		for _, want := range []string{"Electronic invoice (EN 16931, UBL)", "Number: HD-7", "Does not add up: BR-CO-16"} {
			if !strings.Contains(got.Text, want) {
				t.Errorf("%s: its text does not hold %q:\n%s", name, want, got.Text)
			}
		}
		if name == "b.pdf" && !strings.Contains(got.Text, "Harbour dues") {
			t.Errorf("the text of the pages is gone:\n%s", got.Text)
		}
	}
	other := paper.Hybrid([]string{"Harbour dues"}, "a.xml", "<plan/>")
	if got, err := Read(bytes.NewReader(other), int64(len(other)), Request{Name: "a.pdf", Reader: ready}); err != nil ||
		got.Invoice != nil || !strings.Contains(got.Text, "Harbour dues") {
		t.Errorf("with another attachment: %+v, %v", got, err)
	}
	hostile := strings.Replace(anInvoice, "<Invoice", "<!DOCTYPE x [<!ENTITY a \"b\">]><Invoice", 1)
	for name, data := range map[string][]byte{"a.xml": []byte(hostile), "b.pdf": paper.Hybrid([]string{"HD-7"},
		"factur-x.xml", hostile)} {
		if got, err := Read(bytes.NewReader(data), int64(len(data)), Request{Name: name, Reader: ready}); err != nil ||
			!strings.Contains(got.Unread, "declares a document type") || got.Invoice != nil ||
			!strings.Contains(got.Text, "HD-7") { // the text is there all the same
			t.Errorf("%s: %+v, %v", name, got, err)
		}
	}
}
