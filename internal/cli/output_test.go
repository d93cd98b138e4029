package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func TestTablesAlignAndHoldNothingHostile(t *testing.T) {
	var out bytes.Buffer
	c := &command{out: &out}
	c.table([]string{"NO.", "FILE", "SIZE"},
		[][]string{{"1", "März 港.pdf", "1 KB"}, {"22", "a\x1b[31mred\u202e\n.pdf", "2 KB"}})
	lines := strings.Split(strings.TrimSuffix(out.String(), "\n"), "\n")
	if len(lines) != 3 || strings.ContainsAny(out.String(), "\x1b\u202e") {
		t.Fatalf("%q", out.String())
	}
	if lines[0] != "NO.  FILE             SIZE" || lines[1] != "1    März 港.pdf      1 KB" {
		t.Errorf("the columns do not stand under each other:\n%s", out.String())
	}
}

func TestShortAndWrap(t *testing.T) {
	for _, c := range []struct {
		in   string
		n    int
		want string
	}{{"short", 10, "short"}, {"exactly ten", 11, "exactly ten"}, {"longer than that", 8, "longer …"},
		{"  spaces \n and lines ", 20, "spaces and lines"}, {"港港港港", 5, "港港…"}} {
		if got := short(c.in, c.n); got != c.want {
			t.Errorf("short(%q, %d) = %q, want %q", c.in, c.n, got, c.want)
		}
	}
	if got := wrap("one two three four", 9); got != "one two\nthree\nfour" {
		t.Errorf("wrap = %q", got)
	}
}

func TestSecretsComeFromAFileTheEnvironmentOrThePipe(t *testing.T) {
	file := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(file, []byte("from the file\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ name, file, env, in, want string }{
		{"file", file, "x", "y", "from the file"}, {"environment", "", "from the environment", "y", "from the environment"},
		{"pipe", "", "", "from the pipe\r\nand more", "from the pipe"},
	} {
		t.Setenv("TEST_SECRET", c.env)
		got, err := (&command{in: strings.NewReader(c.in)}).secret(c.file, "TEST_SECRET", "Secret")
		if err != nil || got != c.want {
			t.Errorf("%s: %q, %v", c.name, got, err)
		}
	}
	t.Setenv("TEST_SECRET", "")
	if _, err := (&command{in: strings.NewReader("")}).secret("", "TEST_SECRET", "Secret"); err == nil {
		t.Error("no secret at all is no error")
	}
	if _, err := (&command{}).secret(file+"none", "TEST_SECRET", "Secret"); err == nil {
		t.Error("a file that is not there is no error")
	}
}

func TestProgressIsDrawnForPeopleOnly(t *testing.T) {
	var out bytes.Buffer
	p := &progress{c: &command{errs: &out}}
	p.draw(1, 2, "half")
	p.end()
	if out.Len() != 0 {
		t.Errorf("into a pipe it draws %q", out.String())
	}
}

func TestTheDemoEmptiesItsOwnFolderOnly(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "demo")
	if err := demoFolder(folder); err != nil {
		t.Fatal(err)
	}
	left := filepath.Join(folder, "left over")
	if err := os.WriteFile(left, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := demoFolder(folder); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(left); err == nil {
		t.Error("what an earlier demo left is there still")
	}
	other := t.TempDir()
	if err := os.WriteFile(filepath.Join(other, "mine.txt"), []byte("mine"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := demoFolder(other); err == nil {
		t.Error("somebody else's folder was taken")
	}
	if data, err := os.ReadFile(filepath.Join(other, "mine.txt")); err != nil || string(data) != "mine" {
		t.Errorf("somebody else's file: %q, %v", data, err)
	}
}

func TestTheFirstStartPrintsHowToSignIn(t *testing.T) {
	out, errs := &lines{}, &lines{}
	done := make(chan int, 1)
	data := t.TempDir()
	c := &command{in: strings.NewReader(""), out: out, errs: errs}
	root := c.root()
	root.SetArgs([]string{"serve", "--data", data, "--listen", "127.0.0.1:0", "--log", "json"})
	stopped, stop := context.WithCancel(t.Context())
	go func() {
		if err := root.ExecuteContext(stopped); err != nil {
			done <- 1
			return
		}
		done <- 0
	}()
	until(t, "it says how to sign in", func() bool { return strings.Contains(out.String(), "/set-up#") })
	if text := out.String(); !strings.Contains(text, "Its records are in "+data) ||
		!strings.Contains(text, "inktray sign-in --set-up") {
		t.Errorf("it says %s", text)
	}
	stop()
	select {
	case code := <-done:
		if code != 0 {
			t.Errorf("it ended with %d: %s", code, errs.String())
		}
	case <-time.After(20 * time.Second):
		t.Fatal("it does not stop")
	}
}
