package testbed

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
)

// MinIO is a distributed object store of several nodes with a bucket "harbour".
type MinIO struct {
	URL    string // of the first node and the bucket
	Nodes  []string
	Each   [4]*Process // the nodes' programs, in that order
	Name   string      // access key
	Secret string
	Bucket string
	*minio.Client
}

// minioVersion is what .ci/needs builds from its module and keeps in the user's cache.
const minioVersion = "v0.0.0-20260212201848-7aac2a2c5b7c"

// StartMinIO starts a store of four nodes with a drive each.
func StartMinIO(t testing.TB) *MinIO {
	t.Helper()
	cache, err := os.UserCacheDir()
	if err != nil {
		t.Fatal(err)
	}
	program := filepath.Join(cache, "inktray-testbed", "minio-"+minioVersion, "minio")
	if _, err := os.Stat(program); err != nil {
		LeaveOut(t, "MinIO, which .ci/needs builds")
	}
	m := &MinIO{Bucket: "harbour", Name: "harbour-office", Secret: "a secret for tests"}
	d := t.TempDir()
	for try := 1; ; try++ {
		m.Nodes = nil
		var drives []string
		var ports []int
		for i := range 4 {
			port := FreePort(t)
			ports = append(ports, port)
			m.Nodes = append(m.Nodes, fmt.Sprintf("127.0.0.1:%d", port))
			drives = append(drives, fmt.Sprintf("http://127.0.0.1:%d%s/try%d-drive%d", port, d, try, i))
		}
		var all [4]*Process
		ended := make(chan error, 4)
		for i, port := range ports {
			go func() {
				p, err := Start(t, program,
					append([]string{"server", "--quiet", "--address", fmt.Sprintf("127.0.0.1:%d", port)}, drives...), port,
					"_MINIO_SERVER_LOCAL="+fmt.Sprintf("127.0.0.1:%d", port), "MINIO_ROOT_USER="+m.Name, "MINIO_ROOT_PASSWORD="+
						m.Secret, "MINIO_CI_CD=1", "MINIO_BROWSER=off", "MINIO_UPDATE=off", "HOME="+d, "GOMAXPROCS=1")
				all[i] = p
				ended <- err
			}()
		}
		err := error(nil)
		for range ports {
			if e := <-ended; e != nil {
				err = e
			}
		}
		if err == nil {
			err = m.ready()
		}
		if err == nil {
			m.Each = all
			return m
		}
		for _, p := range all {
			p.Stop()
		}
		if try == 3 {
			t.Fatal(err)
		}
	}
}

// ready waits until the nodes have found each other, and makes the bucket.
func (m *MinIO) ready() error {
	client, err := minio.New(m.Nodes[0], &minio.Options{Creds: credentials.NewStaticV4(m.Name, m.Secret, "")})
	if err != nil {
		return err
	}
	m.Client, m.URL = client, "http://"+m.Nodes[0]+"/harbour"
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	for {
		healthy := 0
		for _, node := range m.Nodes {
			if r, err := http.Get("http://" + node + "/minio/health/cluster"); err == nil {
				r.Body.Close()
				if r.StatusCode == http.StatusOK {
					healthy++
				}
			}
		}
		if healthy == len(m.Nodes) {
			if err = client.MakeBucket(ctx, "harbour", minio.MakeBucketOptions{}); err == nil ||
				minio.ToErrorResponse(err).Code == minio.BucketAlreadyOwnedByYou {
				if err = m.writable(ctx); err == nil {
					return nil
				}
			}
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("the store does not come up: %d nodes are well, %v", healthy, err)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// writable writes by each node: one that is well may still ask to wait.
func (m *MinIO) writable(ctx context.Context) error {
	for _, node := range m.Nodes {
		client, err := minio.New(node, &minio.Options{Creds: credentials.NewStaticV4(m.Name, m.Secret, "")})
		if err != nil {
			return err
		}
		if _, err := client.PutObject(ctx, "harbour", "ready", strings.NewReader("x"), 1,
			minio.PutObjectOptions{DisableContentSha256: true}); err != nil {
			return err
		}
	}
	return m.RemoveObject(ctx, "harbour", "ready", minio.RemoveObjectOptions{})
}
