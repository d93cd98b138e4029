package s3_test

import (
	"io"
	"strings"
	"testing"

	"inktray.example/inktray/internal/cabinet/s3"
	"inktray.example/inktray/internal/cabinet/tree"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/disk/faultfs"
	"inktray.example/inktray/internal/reach"
)

// What is staged for a store outlives the power, for the journal counts on it.
func TestThePowerMayGoOnceItIsStaged(t *testing.T) {
	f := faultfs.New()
	open := func() *tree.Cabinet {
		return tree.New(
			s3.New(s3.Config{Server: reach.Server{Host: "127.0.0.1", Port: 1, Encryption: reach.None}, Path: "harbour",
				Spool: func() (disk.FS, error) { return f, nil }}), "x")
	}
	if _, err := open().Stage(t.Context(), "1", now, strings.NewReader("readings")); err != nil {
		t.Fatal(err)
	}
	f.PowerUp()
	if there, err := open().Staged(t.Context(), "1"); err != nil || !there {
		t.Fatalf("it is staged: %t, %v", there, err)
	}
	r, err := f.Open("1.part")
	if err != nil {
		t.Fatal(err)
	}
	defer r.Close()
	if data, err := io.ReadAll(r); err != nil || string(data) != "readings" {
		t.Errorf("it holds %q, %v", data, err)
	}
}
