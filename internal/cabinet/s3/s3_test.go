package s3_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/cabinettest"
	"inktray.example/inktray/internal/cabinet/s3"
	"inktray.example/inktray/internal/cabinet/tree"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/testbed"
)

var now = time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC)

var places atomic.Int64

func config(t testing.TB, m *testbed.MinIO, node int, prefix string) s3.Config {
	t.Helper()
	server, path, err := reach.ParseURL("http://"+m.Nodes[node]+"/"+m.Bucket+"/"+prefix, "https", "http")
	if err != nil {
		t.Fatal(err)
	}
	spool := t.TempDir()
	return s3.Config{Server: server, Path: path, Name: m.Name, Secret: m.Secret,
		Spool: func() (disk.FS, error) { return disk.Root(spool) }}
}

func place(t *testing.T, m *testbed.MinIO) cabinettest.Place {
	t.Helper()
	prefix := fmt.Sprintf("place%d", places.Add(1))
	at := s3.New(config(t, m, 0, prefix))
	id, err := tree.Prepare(t.Context(), at, now)
	if err != nil {
		t.Fatal(err)
	}
	c := tree.New(at, id)
	t.Cleanup(func() { c.Close() })
	return cabinettest.Place{
		Cabinet: c,
		Files: func(t *testing.T) map[string]string {
			files := map[string]string{}
			for o := range m.ListObjects(t.Context(), m.Bucket,
				minio.ListObjectsOptions{Prefix: prefix + "/", Recursive: true}) {
				name := strings.TrimPrefix(o.Key, prefix+"/")
				if o.Err != nil {
					t.Fatal(o.Err)
				}
				if strings.HasPrefix(name, cabinet.Reserved) {
					continue
				}
				r, err := m.GetObject(t.Context(), m.Bucket, o.Key, minio.GetObjectOptions{})
				if err != nil {
					t.Fatal(err)
				}
				data, err := io.ReadAll(r)
				if err := errors.Join(err, r.Close()); err != nil {
					t.Fatal(err)
				}
				files[name] = string(data)
			}
			return files
		},
		Put: func(t *testing.T, name, content string) {
			if _, err := m.PutObject(t.Context(), m.Bucket, prefix+"/"+name, strings.NewReader(content), int64(len(content)),
				minio.PutObjectOptions{DisableContentSha256: true}); err != nil {
				t.Fatal(err)
			}
		},
		Modified: func(t *testing.T, name string) time.Time {
			info, err := m.StatObject(t.Context(), m.Bucket, prefix+"/"+name, minio.StatObjectOptions{})
			if err != nil {
				t.Fatal(err)
			}
			at, err := time.Parse(time.RFC3339, info.UserMetadata["Inktray-Received"])
			if err != nil {
				t.Fatal(err)
			}
			return at
		},
		Unmount: func(t *testing.T) { // somebody emptied the bucket
			for o := range m.ListObjects(t.Context(), m.Bucket,
				minio.ListObjectsOptions{Prefix: prefix + "/", Recursive: true}) {
				if err := m.RemoveObject(t.Context(), m.Bucket, o.Key, minio.RemoveObjectOptions{}); err != nil {
					t.Fatal(err)
				}
			}
		},
	}
}

func TestConformance(t *testing.T) {
	m := testbed.StartMinIO(t)
	cabinettest.Run(t, func(t *testing.T) cabinettest.Place { return place(t, m) })
	t.Run("the demo", func(t *testing.T) {
		p, err := demo.StartPlaces(t.TempDir())
		if err != nil {
			t.Fatal(err)
		}
		defer p.Close()
		host := strings.Split(p.Objects, "/")[2]
		client, err := minio.New(host, &minio.Options{Creds: credentials.NewStaticV4(demo.PlacesName, demo.Password, "")})
		if err != nil {
			t.Fatal(err)
		}
		d := &testbed.MinIO{Nodes: []string{host}, Name: demo.PlacesName, Secret: demo.Password, Bucket: "archive",
			Client: client}
		cabinettest.Run(t, func(t *testing.T) cabinettest.Place { return place(t, d) })
	})
	t.Run("objects in parts", func(t *testing.T) { inParts(t, m) })
	t.Run("what is staged outlives a restart", func(t *testing.T) { restart(t, m) })
}

// Two writers, at two nodes, want one name for objects that go in parts: one wins.
func inParts(t *testing.T, m *testbed.MinIO) {
	var cabinets [2]*tree.Cabinet
	for i := range cabinets {
		c := config(t, m, i, "parts")
		c.Largest = 1 << 20
		at := s3.New(c)
		id, err := tree.Prepare(t.Context(), at, now)
		if err != nil {
			t.Fatal(err)
		}
		cabinets[i] = tree.New(at, id)
		defer cabinets[i].Close()
	}
	for round := range 3 {
		name := fmt.Sprintf("Surveys/large%d.bin", round)
		errs := make(chan error, 2)
		for i, c := range cabinets {
			if _, err := c.Stage(t.Context(), "x", now, strings.NewReader(strings.Repeat(fmt.Sprint(i), 40<<20))); err != nil {
				t.Fatal(err)
			}
		}
		for _, c := range cabinets {
			go func() { errs <- c.Commit(t.Context(), "x", name) }()
		}
		one, other := <-errs, <-errs
		if one != nil {
			one, other = other, one
		}
		if one != nil || !errors.Is(other, cabinet.ErrTaken) {
			t.Errorf("the writers were told %v and %v", one, other)
		}
		sum, err := cabinets[0].Sum(t.Context(), name)
		if err != nil || sum.Size != 40<<20 {
			t.Errorf("%d octets are there, %v", sum.Size, err)
		}
	}
}

// What is staged is found by a service that starts anew, and goes on.
func restart(t *testing.T, m *testbed.MinIO) {
	c := config(t, m, 0, "restart")
	at := s3.New(c)
	id, err := tree.Prepare(t.Context(), at, now)
	if err != nil {
		t.Fatal(err)
	}
	first := tree.New(at, id)
	was, err := first.Stage(t.Context(), "y", now, strings.NewReader("readings"))
	if err := errors.Join(err, first.Close()); err != nil {
		t.Fatal(err)
	}
	second := tree.New(s3.New(c), id)
	defer second.Close()
	if there, err := second.Staged(t.Context(), "y"); err != nil || !there {
		t.Fatalf("staged: %v, %v", there, err)
	}
	if err := second.Commit(t.Context(), "y", "a.csv"); err != nil {
		t.Fatal(err)
	}
	if is, err := cabinet.Sum(t.Context(), second, "a.csv"); err != nil || is != was {
		t.Errorf("%+v, %v", is, err)
	}
	// The same object again, as after an answer that was lost: it is ours.
	third := tree.New(s3.New(c), id)
	defer third.Close()
	if _, err := third.Stage(t.Context(), "y", now, strings.NewReader("readings")); err != nil {
		t.Fatal(err)
	}
	if err := third.Commit(t.Context(), "y", "a.csv"); err != nil {
		t.Errorf("its own object was taken for another's: %v", err)
	}
}

// A check that is called off, or whose answer is lost, leaves no object behind.
func TestACheckThatIsCutOffLeavesNothing(t *testing.T) {
	m := testbed.StartMinIO(t)
	node, err := url.Parse("http://" + m.Nodes[0])
	if err != nil {
		t.Fatal(err)
	}
	var cut func(w http.ResponseWriter, r *http.Request, pass http.Handler)
	pass := httputil.NewSingleHostReverseProxy(node)
	address := testbed.Serve(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if cut != nil && r.Method == http.MethodPut && strings.Contains(r.URL.Path, "/"+cabinet.Probe) {
			cut(w, r, pass)
			return
		}
		pass.ServeHTTP(w, r)
	}))
	prefix := fmt.Sprintf("place%d", places.Add(1))
	settings := config(t, m, 0, prefix)
	if settings.Server, settings.Path, err = reach.ParseURL(address+"/"+m.Bucket+"/"+prefix, "http"); err != nil {
		t.Fatal(err)
	}
	c, id := s3.New(settings), ""
	defer c.Close()
	if id, err = tree.Prepare(t.Context(), c, now); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	for name, strike := range map[string]func(w http.ResponseWriter, r *http.Request, pass http.Handler){
		"called off": func(w http.ResponseWriter, r *http.Request, pass http.Handler) { cancel(); pass.ServeHTTP(w, r) },
		"the answer is lost": func(_ http.ResponseWriter, r *http.Request, pass http.Handler) {
			pass.ServeHTTP(httptest.NewRecorder(), r)
			panic(http.ErrAbortHandler)
		},
	} {
		var struck atomic.Bool
		cut = func(w http.ResponseWriter, r *http.Request, pass http.Handler) {
			struck.Store(true)
			strike(w, r, pass)
		}
		in := t.Context()
		if name == "called off" {
			in = ctx
		}
		err := tree.New(c, id).Check(in)
		t.Logf("%s: %v", name, err)
		if !struck.Load() {
			t.Errorf("%s: nothing was cut", name)
		}
		for o := range m.ListObjects(t.Context(), m.Bucket,
			minio.ListObjectsOptions{Prefix: prefix + "/" + cabinet.Reserved + "/" + cabinet.Probe, Recursive: true}) {
			t.Errorf("%s: it left %s, %v", name, o.Key, o.Err)
		}
	}
	if err := tree.New(c, id).Check(ctx); !errors.Is(err, context.Canceled) {
		t.Errorf("a check that nobody waits for: %v", err)
	}
}
