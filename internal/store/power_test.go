package store

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"unsafe"

	"modernc.org/libc"
	sqlite3lib "modernc.org/sqlite/lib"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/source"
)

// recorder is a file system under SQLite that writes down every write and every
// flush, so that a power cut can be played at any of them.
type recorder struct {
	mutex sync.Mutex
	log   []diskEvent
	files map[uintptr]string  // by SQLite's handle
	below map[uintptr]uintptr // the methods of the file system below
	tls   *libc.TLS
	open  uintptr // of the file system below
	kept  []any   // functions that only SQLite knows, so that they are not collected
}

type diskEvent struct {
	file  string // its base name
	flush bool
	cut   bool // truncated to at
	gone  bool // removed, which SQLite flushes at once
	at    int64
	data  []byte
}

// at is what lies at an address that SQLite gave.
func at[T any](p uintptr) *T { return *(**T)(unsafe.Pointer(&p)) }

// address is that of a function, as SQLite's own code takes it.
func (r *recorder) address(f any) uintptr {
	r.kept = append(r.kept, f)
	return (*[2]uintptr)(unsafe.Pointer(&f))[1]
}

// call makes a function of its address.
func call[F any](p uintptr) F { return *(*F)(unsafe.Pointer(&struct{ uintptr }{p})) }

func record(t *testing.T, name string) *recorder {
	t.Helper()
	r := &recorder{files: map[uintptr]string{}, below: map[uintptr]uintptr{}, tls: libc.NewTLS()}
	base := at[sqlite3lib.Tsqlite3_vfs](sqlite3lib.Xsqlite3_vfs_find(r.tls, 0))
	p := libc.Xmalloc(r.tls, libc.Tsize_t(unsafe.Sizeof(*base)))
	v := at[sqlite3lib.Tsqlite3_vfs](p)
	*v = *base
	zName, err := libc.CString(name)
	if err != nil {
		t.Fatal(err)
	}
	v.FpNext, v.FzName, r.open = 0, zName, base.FxOpen
	v.FxOpen = r.address(func(tls *libc.TLS, vfs, zName, file uintptr, flags int32, out uintptr) int32 {
		rc := call[func(*libc.TLS, uintptr, uintptr, uintptr, int32, uintptr) int32](r.open)(tls, vfs, zName, file, flags,
			out)
		if rc == sqlite3lib.SQLITE_OK && zName != 0 {
			r.take(tls, file, filepath.Base(libc.GoString(zName)))
		}
		return rc
	})
	remove := base.FxDelete
	v.FxDelete = r.address(func(tls *libc.TLS, vfs, zName uintptr, flush int32) int32 {
		rc := call[func(*libc.TLS, uintptr, uintptr, int32) int32](remove)(tls, vfs, zName, flush)
		if rc == sqlite3lib.SQLITE_OK {
			r.mutex.Lock()
			defer r.mutex.Unlock()
			r.log = append(r.log, diskEvent{file: filepath.Base(libc.GoString(zName)), gone: true})
		}
		return rc
	})
	if rc := sqlite3lib.Xsqlite3_vfs_register(r.tls, p, 0); rc != sqlite3lib.SQLITE_OK {
		t.Fatalf("registering a file system: %d", rc)
	}
	return r
}

// take stands between SQLite and one of its files.
func (r *recorder) take(tls *libc.TLS, file uintptr, name string) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	f := at[sqlite3lib.Tsqlite3_file](file)
	below := at[sqlite3lib.Tsqlite3_io_methods](f.FpMethods)
	p := libc.Xmalloc(tls, libc.Tsize_t(unsafe.Sizeof(*below)))
	m := at[sqlite3lib.Tsqlite3_io_methods](p)
	*m = *below
	r.files[file], r.below[file] = name, f.FpMethods
	m.FxWrite = r.address(func(tls *libc.TLS, file, data uintptr, n int32, offset int64) int32 {
		content := slices.Clone(unsafe.Slice(at[byte](data), n))
		return r.pass(file, diskEvent{at: offset, data: content}, func(b *sqlite3lib.Tsqlite3_io_methods) int32 {
			return call[func(*libc.TLS, uintptr, uintptr, int32, int64) int32](b.FxWrite)(tls, file, data, n, offset)
		})
	})
	m.FxTruncate = r.address(func(tls *libc.TLS, file uintptr, size int64) int32 {
		return r.pass(file, diskEvent{cut: true, at: size}, func(b *sqlite3lib.Tsqlite3_io_methods) int32 {
			return call[func(*libc.TLS, uintptr, int64) int32](b.FxTruncate)(tls, file, size)
		})
	})
	m.FxSync = r.address(func(tls *libc.TLS, file uintptr, flags int32) int32 {
		return r.pass(file, diskEvent{flush: true}, func(b *sqlite3lib.Tsqlite3_io_methods) int32 {
			return call[func(*libc.TLS, uintptr, int32) int32](b.FxSync)(tls, file, flags)
		})
	})
	f.FpMethods = p
}

func (r *recorder) pass(file uintptr, e diskEvent, do func(*sqlite3lib.Tsqlite3_io_methods) int32) int32 {
	r.mutex.Lock()
	e.file = r.files[file]
	below := at[sqlite3lib.Tsqlite3_io_methods](r.below[file])
	r.mutex.Unlock()
	rc := do(below)
	if rc == sqlite3lib.SQLITE_OK {
		r.mutex.Lock()
		r.log = append(r.log, e)
		r.mutex.Unlock()
	}
	return rc
}

func (r *recorder) length() int { r.mutex.Lock(); defer r.mutex.Unlock(); return len(r.log) }

// after is what lies on the disk after a power cut: of what was not flushed
// nothing, or the first half.
func (r *recorder) after(events int, half bool) map[string][]byte {
	lasting := map[string][]byte{}
	open := map[string][]diskEvent{}
	apply := func(e diskEvent) {
		data := lasting[e.file]
		if e.cut {
			lasting[e.file] = data[:min(int64(len(data)), e.at)]
			return
		}
		if need := e.at + int64(len(e.data)); int64(len(data)) < need {
			data = append(data, make([]byte, need-int64(len(data)))...)
		}
		copy(data[e.at:], e.data)
		lasting[e.file] = data
	}
	for _, e := range r.log[:events] {
		if e.gone {
			delete(lasting, e.file)
			delete(open, e.file)
			continue
		}
		if !e.flush {
			open[e.file] = append(open[e.file], e)
			continue
		}
		for _, waiting := range open[e.file] {
			apply(waiting)
		}
		open[e.file] = nil
	}
	if half {
		for _, name := range slices.Sorted(maps.Keys(open)) {
			for _, e := range open[name][:len(open[name])/2] {
				apply(e)
			}
		}
	}
	return lasting
}

// TestThePowerMayGoAtAnyMomentOfACommit plays a power cut at every write and
// flush that SQLite makes while items go through the journal: what was said to
// be committed is there, and the records can be opened.
func TestThePowerMayGoAtAnyMomentOfACommit(t *testing.T) {
	folder := t.TempDir()
	r := record(t, "recorder")
	s, err := openOn(folder, "recorder")
	if err != nil {
		t.Fatal(err)
	}
	type promise struct {
		events int // how much had happened on the disk when it was given
		entry  int64
		state  State
	}
	var promises []promise
	began := r.length()
	raw := mail.Parse([]byte("From: oda@tidewatch.example\r\nSubject: reading\r\n\r\nx"))
	for u := range uint32(8) {
		m, _, err := NewMessage("box", "INBOX", 1,
			&source.Facts{UID: u + 1, Received: day, Header: raw.Message.Header, Structure: raw.Structure()}, day)
		if err != nil {
			t.Fatal(err)
		}
		look := Look{Messages: []*Message{m},
			Entries: map[*Message][]Entry{
				m: {{RuleID: "r", Item: "1", State: Planned, Name: "a.csv", Wanted: "A/a.csv", CabinetID: "c", PlannedAt: day}}}}
		if err := s.Messages.Commit(t.Context(), look); err != nil {
			t.Fatal(err)
		}
		e := look.Entries[m][0]
		promises = append(promises, promise{r.length(), e.ID, Planned})
		e.Path, e.Size, e.SHA256 = fmt.Sprintf("A/a (%d).csv", u), 1, make([]byte, 32)
		if err := s.Journal.Stage(t.Context(), &e, nil, day); err != nil {
			t.Fatal(err)
		}
		promises = append(promises, promise{r.length(), e.ID, Staged})
		if err := s.Journal.File(t.Context(), &e, day); err != nil {
			t.Fatal(err)
		}
		promises = append(promises, promise{r.length(), e.ID, Filed})
	}
	total := r.length()
	key, err := os.ReadFile(filepath.Join(folder, "secret.key"))
	if err := errors.Join(err, s.Close()); err != nil {
		t.Fatal(err)
	}
	if total-began < 24 {
		t.Fatalf("only %d writes and flushes were seen", total-began)
	}
	order := []State{"", Planned, Staged, Filed}
	for cut := began; cut <= total; cut++ {
		again := filepath.Join(t.TempDir(), "records")
		if err := errors.Join(os.Mkdir(again, 0o700),
			os.WriteFile(filepath.Join(again, "secret.key"), key, 0o600)); err != nil {
			t.Fatal(err)
		}
		for name, data := range r.after(cut, cut%2 == 0) {
			if err := os.WriteFile(filepath.Join(again, name), data, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		s, err := Open(again)
		if err != nil {
			t.Fatalf("cut at %d of %d: %v", cut, total, err)
		}
		for _, p := range promises {
			if p.events > cut {
				break
			}
			e, err := s.Journal.ByID(t.Context(), System, p.entry)
			if err != nil || slices.Index(order, e.State) < slices.Index(order, p.state) {
				t.Errorf("cut at %d: entry %d was %s and is %q (%v)", cut, p.entry, p.state, e.State, err)
			}
			if e.State == Filed {
				if f, err := s.Register.OfEntry(t.Context(), e.ID); err != nil || f.FiledAt == nil {
					t.Errorf("cut at %d: entry %d is filed and not in the register (%v)", cut, p.entry, err)
				}
			}
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
}
