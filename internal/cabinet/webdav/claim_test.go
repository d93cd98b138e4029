package webdav_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/cabinettest"
	"inktray.example/inktray/internal/cabinet/tree"
	"inktray.example/inktray/internal/cabinet/webdav"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/testbed"
)

// Several programs want one name at the very same moment, again and again: one of
// them gets it. Apache alone lets more than one win.
func TestTwoWritersAtOnceOnOneServer(t *testing.T) {
	w := testbed.StartWebDAV(t, "apache2")
	folder := cabinettest.Subfolder(t, w.Folder)
	const writers, rounds = 4, 60
	var cabinets [writers]*tree.Cabinet
	for i := range cabinets {
		at := webdav.New(config(t, w, folder))
		id, err := tree.Prepare(t.Context(), at, now)
		if err != nil {
			t.Fatal(err)
		}
		cabinets[i] = tree.New(at, id)
		defer cabinets[i].Close()
	}
	for round := range rounds {
		name := fmt.Sprintf("plan%d.pdf", round)
		won := make([]bool, writers)
		var all sync.WaitGroup
		begin := make(chan struct{})
		for i, c := range cabinets {
			if _, err := c.Stage(t.Context(), fmt.Sprint("w", i), now, strings.NewReader(fmt.Sprint("writer ", i))); err != nil {
				t.Fatal(err)
			}
			all.Go(func() {
				<-begin
				err := c.Commit(t.Context(), fmt.Sprint("w", i), name)
				if won[i] = err == nil; err != nil && !errors.Is(err, cabinet.ErrTaken) {
					t.Errorf("writer %d: %v", i, err)
				}
			})
		}
		close(begin)
		all.Wait()
		n := 0
		for _, w := range won {
			if w {
				n++
			}
		}
		if n != 1 {
			t.Fatalf("in round %d, %d of %d writers were told that they have the name", round, n, writers)
		}
	}
}

// A claim whose owner has ended holds nobody up for ever, and one that is fresh is
// respected.
func TestAClaimThatWasLeftOverIsTakenAway(t *testing.T) {
	w := testbed.StartWebDAV(t, "apache2")
	folder := cabinettest.Subfolder(t, w.Folder)
	at := webdav.New(config(t, w, folder))
	id, err := tree.Prepare(t.Context(), at, now)
	if err != nil {
		t.Fatal(err)
	}
	c := tree.New(at, id)
	defer c.Close()
	for i, name := range []string{"first.pdf", "plan.pdf"} { // the first makes the folder of claims
		if _, err := c.Stage(t.Context(), fmt.Sprint(i), now, strings.NewReader("x")); err != nil {
			t.Fatal(err)
		}
		if i == 1 {
			left := filepath.Join(folder, filepath.FromSlash(webdav.Claim(name)))
			old := time.Now().Add(-3 * time.Minute)
			if err := errors.Join(os.Mkdir(left, 0o777), os.Chmod(filepath.Dir(left), 0o777),
				os.Chtimes(left, old, old)); err != nil {
				t.Fatal(err)
			}
		}
		if err := c.Commit(t.Context(), fmt.Sprint(i), name); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
	}
	// One that nobody wants any more goes with the leftovers, a fresh one stays.
	old, fresh := filepath.Join(folder, filepath.FromSlash(webdav.Claim("old.pdf"))),
		filepath.Join(folder, filepath.FromSlash(webdav.Claim("fresh.pdf")))
	before := time.Now().Add(-time.Hour)
	if err := errors.Join(os.Mkdir(old, 0o777), os.Mkdir(fresh, 0o777), os.Chtimes(old, before, before)); err != nil {
		t.Fatal(err)
	}
	if _, err := cabinet.Leftovers(t.Context(), c); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(old); !os.IsNotExist(err) {
		t.Errorf("an old claim is left: %v", err)
	}
	if _, err := os.Stat(fresh); err != nil {
		t.Errorf("a fresh claim is gone: %v", err)
	}
}

// What servers answer when they are out of sorts, in words and with what follows.
func TestServersOutOfSorts(t *testing.T) {
	for name, c := range map[string]struct {
		status  int
		header  map[string]string
		says    string
		after   time.Duration
		lasting bool
	}{
		"busy":       {503, map[string]string{"Retry-After": "120"}, "asks to wait", 2 * time.Minute, false},
		"throttling": {429, map[string]string{"Retry-After": "99999999"}, "asks to wait", time.Hour, false},
		"full":       {507, nil, "no room left", 0, false},
		"large":      {413, nil, "larger than the server takes", 0, true},
		"elsewhere": {301, map[string]string{"Location": "https://other.example/x"}, "leads elsewhere, to " +
			"https://other.example/x", 0, false},
		"refusing": {401, nil, "refuses name or password", 0, false},
		"broken":   {500, nil, "the server answers 500", 0, false},
	} {
		url := testbed.Serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			for k, v := range c.header {
				w.Header().Set(k, v)
			}
			w.WriteHeader(c.status)
		}))
		tr := tree.New(webdav.New(config(t, &testbed.WebDAV{URL: url}, "x")), "x")
		_, err := tr.Stage(t.Context(), "1", now, strings.NewReader("x"))
		var told *cabinet.Error
		if !errors.As(err, &told) || !strings.Contains(told.Problem, c.says) || told.After != c.after ||
			told.Lasting != c.lasting {
			t.Errorf("%s: %+v", name, err)
		}
		tr.Close()
	}
}

// A server that wants to be told lengths gets them, after it said so once.
func TestAServerThatWantsLengths(t *testing.T) {
	var lengths []int64
	url := testbed.Serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut {
			lengths = append(lengths, r.ContentLength)
			if r.ContentLength < 0 {
				w.WriteHeader(http.StatusLengthRequired)
				return
			}
			w.WriteHeader(http.StatusCreated)
		}
	}))
	tr := webdav.New(config(t, &testbed.WebDAV{URL: url}, "x"))
	defer tr.Close()
	large := strings.Repeat("x", 200_000)
	if err := tr.Create(t.Context(), "a", now, strings.NewReader(large)); err == nil ||
		!strings.Contains(err.Error(), "told the length") {
		t.Errorf("first: %v", err)
	}
	if err := tr.Create(t.Context(), "a", now, strings.NewReader(large)); err != nil {
		t.Errorf("then: %v", err)
	}
	if len(lengths) != 2 || lengths[1] != 200_000 {
		t.Errorf("lengths %v", lengths)
	}
}

// A server's certificate is believed where somebody vouches for it, or where it is the
// one that was pinned.
func TestCertificates(t *testing.T) {
	w := testbed.StartWebDAV(t, "apache2")
	folder := cabinettest.Subfolder(t, w.Folder)
	plain := config(t, w, folder)
	secure := config(t, &testbed.WebDAV{URL: w.TLS, Password: w.Password}, folder)
	secure.Path = plain.Path
	ask := func(authority, pinned string) error {
		c := secure
		c.Server.Authority, c.Server.Pinned = authority, pinned
		at := webdav.New(c)
		defer at.Close()
		_, err := at.Stat(t.Context(), "")
		return err
	}
	block, _ := pem.Decode(w.Authority)
	sum := sha256.Sum256(block.Bytes)
	print := hex.EncodeToString(sum[:])
	var told *cabinet.Error
	if err := ask("", ""); !errors.As(err, &told) || !strings.Contains(told.Problem, "signed by nobody that this "+
		"machine trusts") || !strings.Contains(told.Advice, print) {
		t.Errorf("with nobody to vouch for it: %v", err)
	}
	if err := ask(string(w.Authority), ""); err != nil {
		t.Errorf("with its authority: %v", err)
	}
	if err := ask("", print); err != nil {
		t.Errorf("pinned: %v", err)
	}
	if err := ask("", strings.Repeat("0", 64)); !errors.As(err, &told) ||
		!strings.Contains(told.Problem, "is not the one that is pinned") {
		t.Errorf("with another pinned: %v", err)
	}
}

// Whoever is called off while a name is claimed leaves no claim behind.
func TestACallThatIsCalledOffLeavesNoClaim(t *testing.T) {
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	claimed := 0
	url := testbed.Serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.Method {
		case "MKCOL":
			claimed++
			cancel() // the server has done it, and nobody wants to know
			<-time.After(50 * time.Millisecond)
			w.WriteHeader(http.StatusCreated)
		case http.MethodDelete:
			claimed--
			w.WriteHeader(http.StatusNoContent)
		case "PROPFIND": // the name is free
			w.WriteHeader(http.StatusNotFound)
		default:
			w.WriteHeader(http.StatusCreated)
		}
	}))
	at := webdav.New(config(t, &testbed.WebDAV{URL: url}, "x"))
	defer at.Close()
	if err := at.Move(ctx, ".inktray/staging/1.part", "plan.pdf"); err != nil {
		t.Errorf("a move that was begun: %v", err)
	}
	if claimed != 0 {
		t.Errorf("%d claims are left", claimed)
	}
	if err := at.Move(ctx, ".inktray/staging/2.part", "other.pdf"); !errors.Is(err, context.Canceled) {
		t.Errorf("one that was not begun: %v", err)
	}
}

// Some servers answer 200 and nothing where a file vanishes while they look; at the
// folder itself that is no WebDAV server.
func TestAnAnswerOfNothingIsAFileThatVanished(t *testing.T) {
	address := testbed.Serve(t,
		http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusOK) }))
	server, path, err := reach.ParseURL(address+"/dav", "http")
	if err != nil {
		t.Fatal(err)
	}
	tr := webdav.New(webdav.Config{Server: server, Path: path})
	defer tr.Close()
	if _, err := tr.Stat(t.Context(), "a.pdf"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a file: %v", err)
	}
	if _, err := tr.Stat(t.Context(), ""); err == nil ||
		!strings.Contains(err.Error(), "where it should list the folder") {
		t.Errorf("the folder: %v", err)
	}
}
