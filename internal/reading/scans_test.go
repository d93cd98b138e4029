package reading

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/ocr"
	"inktray.example/inktray/internal/core/unpack"
)

// A page that cannot be read is told of like one beyond the limit, and what was read of the others counts.
func TestPagesThatCannotBeReadAreToldOf(t *testing.T) {
	word := ocr.Reading{Words: []ocr.Word{{Text: "WD-44", Sure: 90}}, Sure: 90}
	var s scanned
	for page, err := range []error{nil, &unpack.Error{Problem: "the page is broken"}} {
		if err := s.add(word, page, err); err != nil {
			t.Fatal(err)
		}
	}
	var read mail.Read
	s.into(&read)
	if read.Text != "WD-44" || read.Missing() != "one scanned page of it was not read: the page is broken" {
		t.Errorf("%+v says %q", read, read.Missing())
	}
	s.Left = 2
	s.Wrong = ""
	s.into(&read)
	if read.Missing() != "3 scanned pages of it were not read, because of the limit in Settings" {
		t.Errorf("with more pages it says %q", read.Missing())
	}
	if err := s.add(word, 2, context.Canceled); !errors.Is(err, context.Canceled) {
		t.Errorf("the machine's error is %v", err)
	}
}

func TestWhatWasReadOfScansIsKeptForAMonthAndForgotten(t *testing.T) {
	s := Scans{Folder: filepath.Join(t.TempDir(), "scans")}
	what := &scanned{Pages: []Page{{Reading: ocr.Reading{Sure: 90}}}}
	old := time.Now().Add(-unused - time.Hour)
	for i := range 3 {
		s.keep(fmt.Sprint(i), what)
	}
	if err := os.Chtimes(filepath.Join(s.Folder, "1"), old, old); err != nil {
		t.Fatal(err)
	}
	s.tidied = old
	s.keep("3", what)
	for i, want := range []bool{true, false, true, true} {
		if got := s.kept(fmt.Sprint(i)) != nil; got != want {
			t.Errorf("%d is kept: %v", i, got)
		}
	}
	if err := os.WriteFile(filepath.Join(s.Folder, "large"), []byte(strings.Repeat("x", 1<<20)), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(filepath.Join(s.Folder, "large"), mostKept+1); err != nil { // takes no room on the disk
		t.Fatal(err)
	}
	earlier := time.Now().Add(-time.Hour)
	if err := os.Chtimes(filepath.Join(s.Folder, "large"), earlier, earlier); err != nil {
		t.Fatal(err)
	}
	s.tidy(time.Now())
	if _, err := os.Stat(filepath.Join(s.Folder, "large")); err == nil || s.kept("3") == nil {
		t.Errorf("of too much, the oldest is kept: %v, and the newest: %v", err == nil, s.kept("3") != nil)
	}
	let, err := s.alone(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	ended, end := context.WithCancel(t.Context())
	end()
	if err := s.Forget(ended); !errors.Is(err, context.Canceled) || s.kept("3") == nil {
		t.Errorf("while a scan is read and the service ends: %v", err)
	}
	let()
	if err := s.Forget(t.Context()); err != nil || s.kept("3") != nil {
		t.Errorf("forgetting: %v", err)
	}
}
