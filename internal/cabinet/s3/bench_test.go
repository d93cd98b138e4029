package s3_test

import (
	"path/filepath"
	"testing"

	"github.com/minio/minio-go/v7"

	"inktray.example/inktray/internal/cabinet/cabinettest"
	"inktray.example/inktray/internal/cabinet/s3"
	"inktray.example/inktray/internal/cabinet/tree"
	"inktray.example/inktray/internal/testbed"
)

// BenchmarkThroughput compares with the store's own client library.
func BenchmarkThroughput(b *testing.B) {
	m := testbed.StartMinIO(b)
	at := s3.New(config(b, m, 0, "speed"))
	id, err := tree.Prepare(b.Context(), at, now)
	if err != nil {
		b.Fatal(err)
	}
	c := tree.New(at, id)
	defer c.Close()
	cabinettest.Throughput(b, c, func(b *testing.B, folder string, files []string) {
		for _, f := range files {
			if _, err := m.FPutObject(b.Context(), "harbour", folder+"/"+filepath.Base(f), f,
				minio.PutObjectOptions{}); err != nil {
				b.Error(err)
			}
		}
	})
}
