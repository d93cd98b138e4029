package cli

import (
	"cmp"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"inktray.example/inktray/client"
)

// between stands between two machines, and does harm to what one asks the other.
type between struct {
	harm atomic.Pointer[func(w http.ResponseWriter, r *http.Request, pass http.Handler) (done bool)]
}

func standBetween(t *testing.T, address string) (b *between, at string) {
	t.Helper()
	to, err := url.Parse(address)
	if err != nil {
		t.Fatal(err)
	}
	b = &between{}
	pass := httputil.NewSingleHostReverseProxy(to)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if harm := b.harm.Load(); harm == nil || !(*harm)(w, r, pass) {
			pass.ServeHTTP(w, r)
		}
	}))
	t.Cleanup(s.Close)
	return b, s.URL
}

// cut ends a connection without an answer.
func cut() { panic(http.ErrAbortHandler) }

// newestFile is the newest file of a folder.
func newestFile(t *testing.T, folder string) string {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(folder, "*"))
	if err != nil || len(files) == 0 {
		t.Fatalf("there is no file in %s: %v", folder, err)
	}
	return slices.MaxFunc(files, func(a, b string) int {
		return cmp.Compare(changedAt(t, a).UnixNano(), changedAt(t, b).UnixNano())
	})
}

func changedAt(t *testing.T, name string) time.Time {
	t.Helper()
	info, err := os.Stat(name)
	if err != nil {
		t.Fatal(err)
	}
	return info.ModTime()
}

// A mailbox that moves is at one machine or, where nobody can know at which, at none, with a word about where its file
// is: whatever happens between the machines, it is never at both.
func TestAMailboxThatMovesIsNeverAtTwoMachines(t *testing.T) {
	o := startOffice(t, "south")
	south := o.machines[0]
	north := o.machine("north")
	b, address := standBetween(t, north.url)
	o.on(south)
	t.Setenv(machineToken, o.tokenFor(north))
	t.Setenv("INKTRAY_SECRET", "pw")
	until(t, "north has begun its replica", func() bool {
		_, errs, code := run(t, "", "machines", "add", "north", "--address", address, "--of", north.place)
		if code != 0 && !strings.Contains(errs, "there is no replica") {
			t.Fatal(errs)
		}
		return code == 0
	})
	takes := func(r *http.Request) bool {
		return strings.HasSuffix(r.URL.Path, "/take-over") && r.URL.Query().Get("try") == ""
	}
	t.Cleanup(func() {
		if t.Failed() {
			for _, m := range o.machines {
				t.Logf("%s warns: %s", m.name, strings.Join(m.warnings(30), ""))
			}
		}
	})
	sent := 0
	for _, c := range []struct {
		name      string
		harm      func(w http.ResponseWriter, r *http.Request, pass http.Handler) bool
		says, not string // what the command says; "" where it succeeds
		at        string // where the mailbox is then; "" at neither
	}{
		{"nothing happens", nil, "", "", "north"},
		{"the answer is lost", func(_ http.ResponseWriter, r *http.Request, pass http.Handler) bool {
			if takes(r) {
				pass.ServeHTTP(httptest.NewRecorder(), r)
				cut()
			}
			return false
		}, "", "", "north"},
		{"a page of something else is the answer", func(w http.ResponseWriter, r *http.Request, pass http.Handler) bool {
			if takes(r) {
				pass.ServeHTTP(httptest.NewRecorder(), r)
				_, _ = w.Write([]byte("<p>Welcome</p>"))
			}
			return takes(r)
		}, "", "", "north"},
		{"it refuses", func(w http.ResponseWriter, r *http.Request, _ http.Handler) bool {
			if takes(r) {
				w.Header().Set("Content-Type", "application/problem+json")
				w.WriteHeader(http.StatusUnprocessableEntity)
				_, _ = w.Write([]byte(`{"detail":"not today"}`))
			}
			return takes(r)
		}, "not today", "not known", "south"},
		{"what is asked never arrives", func(_ http.ResponseWriter, r *http.Request, _ http.Handler) bool {
			if takes(r) {
				cut()
			}
			return false
		}, "it is not known whether the mailbox “south” was taken at the machine “north”", "", ""},
		{"a gateway gives up", func(w http.ResponseWriter, r *http.Request, _ http.Handler) bool {
			if takes(r) {
				w.WriteHeader(http.StatusGatewayTimeout)
			}
			return takes(r)
		}, "it is not known whether", "", ""},
		{"it takes it, and is heard of no more", func() func(http.ResponseWriter, *http.Request, http.Handler) bool {
			var took atomic.Bool
			return func(_ http.ResponseWriter, r *http.Request, pass http.Handler) bool {
				if takes(r) && took.CompareAndSwap(false, true) {
					pass.ServeHTTP(httptest.NewRecorder(), r)
				}
				if took.Load() {
					cut()
				}
				return false
			}
		}(), "it is not known whether", "", "north"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.harm != nil {
				b.harm.Store(&c.harm)
			}
			out, errs, code := run(t, "", "mailboxes", "move", "south", "--to", "north", "--yes")
			b.harm.Store(nil)
			if (code == 0) != (c.says == "") || !strings.Contains(errs, c.says) || c.not != "" && strings.Contains(errs, c.not) {
				t.Errorf("it says %d, %s %s; want %q", code, out, errs, c.says)
			}
			var at []string
			for _, m := range []*machineOf{south, north} {
				all, err := call[[]client.Mailbox](m.api.ListMailboxes(t.Context()))
				if err != nil {
					t.Fatal(err)
				}
				if slices.ContainsFunc(all, func(one client.Mailbox) bool { return one.Name == "south" }) {
					at = append(at, m.name)
				}
			}
			if where := strings.Join(at, " and "); where != c.at {
				t.Fatalf("it is at %q, want %q", where, c.at)
			}
			o.send("south", sent, sent+2)
			sent += 2
			if c.at == "" { // as the command advises
				says(t, "the advice", errs, "handed-over among the records of “south”")
				must(t, "mailboxes", "take-over", newestFile(t, filepath.Join(south.folder, "records", "handed-over")))
			}
			if c.says != "" && c.at == "north" {
				says(t, "the advice", errs, "If it is at “north”, enter its password there.")
				must(t, "--at", "north", "mailboxes", "change", "south", "--new-secret")
			}
			until(t, "what came is filed", func() bool { return o.register(south, "mailbox:south").Total >= sent })
			if c.at == "north" {
				must(t, "mailboxes", "move", "south", "--from", "north", "--to", "south", "--yes")
			}
		})
	}
	if n := o.register(south, "mailbox:south").Total; n != sent {
		t.Errorf("%d are filed, of %d: something was filed twice", n, sent)
	}
}
