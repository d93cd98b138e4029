package engine

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/cabinettest"
	"inktray.example/inktray/internal/cabinet/s3"
	"inktray.example/inktray/internal/cabinet/sftp"
	"inktray.example/inktray/internal/cabinet/tree"
	"inktray.example/inktray/internal/cabinet/webdav"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/testbed"
)

// faultPlace is a cabinet on a real server, of which every exchange is a step.
type faultPlace struct {
	open  func(step func(op string) error) cabinet.Cabinet
	files func() map[string]string
}

// stepped stands before every exchange with a server and after it: a fault after
// it is an answer that was lost.
type stepped struct {
	tree.Tree
	step func(op string) error
}

func (s stepped) do(op string, f func() error) error {
	ill := func(err error) error {
		if err == nil || errors.Is(err, errDead) {
			return err
		}
		return &cabinet.Error{Problem: err.Error(), Advice: "It is tried again."}
	}
	if err := s.step("before " + op); err != nil {
		return ill(err)
	}
	if err := f(); err != nil {
		return err
	}
	return ill(s.step("after " + op))
}

func (s stepped) Create(ctx context.Context, name string, modified time.Time, r io.Reader) error {
	return s.do("create", func() error { return s.Tree.Create(ctx, name, modified, r) })
}

func (s stepped) Open(ctx context.Context, name string) (f io.ReadCloser, err error) {
	err = s.do("open", func() error { f, err = s.Tree.Open(ctx, name); return err })
	if err != nil && f != nil {
		f.Close()
	}
	return f, err
}

func (s stepped) Stat(ctx context.Context, name string) (e cabinet.Entry, err error) {
	err = s.do("stat", func() error { e, err = s.Tree.Stat(ctx, name); return err })
	return e, err
}

func (s stepped) List(ctx context.Context, folder string) (all []cabinet.Entry, err error) {
	err = s.do("list", func() error { all, err = s.Tree.List(ctx, folder); return err })
	return all, err
}

func (s stepped) Mkdir(ctx context.Context, folder string) error {
	return s.do("mkdir", func() error { return s.Tree.Mkdir(ctx, folder) })
}

func (s stepped) Move(ctx context.Context, from, to string) error {
	return s.do("move", func() error { return s.Tree.Move(ctx, from, to) })
}

func (s stepped) Remove(ctx context.Context, name string) error {
	return s.do("remove", func() error { return s.Tree.Remove(ctx, name) })
}

// steppedStore is the same for a store, whose staged objects lie here.
type steppedStore struct {
	stepped
	store *s3.Tree
}

func (s steppedStore) Writable(ctx context.Context, probe string) error {
	return s.do("probe", func() error { return s.store.Writable(ctx, probe) })
}

func (s steppedStore) WriteNote(ctx context.Context, name string, data []byte) error {
	return s.do("note", func() error { return s.store.WriteNote(ctx, name, data) })
}

func (s steppedStore) ProveMore(ctx context.Context, probe string) (string, error) {
	return s.store.ProveMore(ctx, probe)
}

// onDisk reads a folder that a server serves, with the cabinet's own files.
func onDisk(t *testing.T, folder string) map[string]string {
	files := map[string]string{}
	err := filepath.WalkDir(folder, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(name)
		relative, _ := filepath.Rel(folder, name)
		files[filepath.ToSlash(relative)] = string(data)
		return err
	})
	if err != nil {
		t.Error(err)
	}
	return files
}

func served(t testing.TB, address string, schemes ...string) (reach.Server, string) {
	t.Helper()
	server, path, err := reach.ParseURL(address, schemes...)
	if err != nil {
		t.Fatal(err)
	}
	return server, path
}

// prepared makes the identity of a place the one that all of these tests use.
func prepared(t *testing.T, at tree.Tree) string {
	t.Helper()
	id, err := tree.Prepare(t.Context(), at, time.Now())
	if err := errors.Join(err, at.Close()); err != nil {
		t.Fatal(err)
	}
	return id
}

// kinds of cabinets on real servers, each started once for all runs.
func faultKinds(t *testing.T) map[string]func(t *testing.T) *faultPlace {
	var dav = map[string]*testbed.WebDAV{}
	onServer := func(folder string, at func() tree.Tree) func(t *testing.T) *faultPlace {
		return func(t *testing.T) *faultPlace {
			id := prepared(t, at())
			return &faultPlace{
				open:  func(step func(string) error) cabinet.Cabinet { return tree.New(stepped{at(), step}, id) },
				files: func() map[string]string { return onDisk(t, folder) },
			}
		}
	}
	kinds := map[string]func(t *testing.T) *faultPlace{}
	for _, kind := range []string{"apache2", "lighttpd"} {
		dav[kind] = testbed.StartWebDAV(t, kind)
		kinds["WebDAV ("+kind+")"] = func(t *testing.T) *faultPlace {
			folder := cabinettest.Subfolder(t, dav[kind].Folder)
			server, path := served(t, dav[kind].URL+"/"+filepath.Base(folder), "http")
			return onServer(folder, func() tree.Tree {
				return webdav.New(webdav.Config{Server: server, Path: path, Username: "harbour", Password: "pw"})
			})(t)
		}
	}
	ssh := testbed.StartSFTP(t)
	kinds["SFTP (OpenSSH)"] = func(t *testing.T) *faultPlace {
		folder := cabinettest.Subfolder(t, ssh.Folder)
		server, path := served(t, ssh.URL+"/"+filepath.Base(folder), "sftp")
		return onServer(folder, func() tree.Tree {
			return sftp.New(sftp.Config{Server: server, Path: path, Username: "root", Secret: ssh.Key, HostKey: ssh.HostKey})
		})(t)
	}
	objects := testbed.StartMinIO(t)
	var places atomic.Int64
	kinds["object store (MinIO, four nodes)"] = func(t *testing.T) *faultPlace {
		prefix := fmt.Sprintf("fault%d", places.Add(1))
		server, path := served(t, objects.URL+"/"+prefix, "http")
		spool := t.TempDir()
		at := func() *s3.Tree {
			return s3.New(s3.Config{Server: server, Path: path, Name: objects.Name, Secret: objects.Secret,
				Spool: func() (disk.FS, error) { return disk.Root(spool) }})
		}
		id := prepared(t, at())
		return &faultPlace{
			open: func(step func(string) error) cabinet.Cabinet {
				store := at()
				return tree.New(steppedStore{stepped{store, step}, store}, id)
			},
			files: func() map[string]string {
				files := map[string]string{}
				for name, content := range onDisk(t, spool) {
					files[cabinet.Staging+"/"+name] = content
				}
				for o := range objects.ListObjects(t.Context(), "harbour",
					minio.ListObjectsOptions{Prefix: prefix + "/", Recursive: true}) {
					r, err := objects.GetObject(t.Context(), "harbour", o.Key, minio.GetObjectOptions{})
					if err != nil {
						t.Error(err)
						continue
					}
					data, err := io.ReadAll(r)
					if err := errors.Join(o.Err, err, r.Close()); err != nil {
						t.Error(err)
					}
					files[strings.TrimPrefix(o.Key, prefix+"/")] = string(data)
				}
				return files
			},
		}
	}
	return kinds
}

// kindFaults are what goes wrong with a cabinet on a server.
func kindFaults() []*theFault {
	return []*theFault{
		{name: "the process is killed", on: "cabinet", done: "starts again from the journal",
			strike: func(r *faultRun) error { r.dead = true; return errDead }},
		{name: "an exchange is cut before it is done, or its answer is lost", on: "cabinet",
			done: "looks at what became of it", strike: func(*faultRun) error { return errors.New("the server broke off") }},
		{name: "the server refuses everything for a while", on: "cabinet", done: "waits and goes on once it answers",
			strike: func(r *faultRun) error {
				r.ill["cabinet"] = errors.New("the server asks to wait")
				return r.ill["cabinet"]
			}},
	}
}

// The same with cabinets on real servers, for each exchange with them.
func TestEveryFaultAtEveryExchangeWithAServer(t *testing.T) {
	out := startOutside(t)
	type key struct{ kind, fault string }
	runs := map[key]int{}
	var mutex sync.Mutex
	kinds := faultKinds(t)
	t.Run("kinds", func(t *testing.T) {
		which := 0
		for kind, place := range kinds {
			for _, fault := range kindFaults() {
				which++
				var total int
				t.Run("none/"+kind+"/"+fault.name, func(t *testing.T) { total = len(runFault(t, out, fault, 0, place(t))) })
				for n := 1 + which%stride(); n <= total; n += stride() {
					t.Run(fmt.Sprintf("%s/%s/%d", kind, fault.name, n), func(t *testing.T) {
						t.Parallel()
						runFault(t, out, fault, n, place(t))
						mutex.Lock()
						defer mutex.Unlock()
						runs[key{kind, fault.name}]++
					})
				}
			}
		}
	})
	if t.Failed() || !*writeDocs {
		return
	}
	var b strings.Builder
	for _, fault := range kindFaults() {
		fmt.Fprintf(&b, "| %s | %s |", fault.name, fault.done)
		for _, kind := range []string{"WebDAV (apache2)", "WebDAV (lighttpd)", "SFTP (OpenSSH)",
			"object store (MinIO, four nodes)"} {
			fmt.Fprintf(&b, " %d |", runs[key{kind, fault.name}])
		}
		b.WriteString("\n")
	}
	testbed.WriteSection(t, "../../docs/reliability.md", "fault-kinds", b.String())
}
