package testbed

import (
	"os"
	"strings"
	"testing"
)

// WriteSection puts rows into a document, between the comments that mark a section.
func WriteSection(t testing.TB, file, section, rows string) {
	t.Helper()
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	begin, end := "<!-- "+section+" -->\n", "<!-- end of "+section+" -->"
	head, rest, ok := strings.Cut(string(data), begin)
	_, tail, ok2 := strings.Cut(rest, end)
	if !ok || !ok2 {
		t.Fatalf("%s has no section %s", file, section)
	}
	if err := os.WriteFile(file, []byte(head+begin+rows+end+tail), 0o644); err != nil {
		t.Fatal(err)
	}
}

// CheckSection proves that a document has the text between the comments that mark a section, or, with write, puts it
// there.
func CheckSection(t testing.TB, file, section, text string, write bool) {
	t.Helper()
	if write {
		WriteSection(t, file, section, text)
		return
	}
	data, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(data), "<!-- "+section+" -->\n"+text+"<!-- end of "+section+" -->") {
		t.Errorf("the section %s of %s is not what the code says; run this test with -args -write-docs", section, file)
	}
}
