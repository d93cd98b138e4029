package webdav_test

import (
	"os/exec"
	"path/filepath"
	"testing"

	"inktray.example/inktray/internal/cabinet/cabinettest"
	"inktray.example/inktray/internal/cabinet/tree"
	"inktray.example/inktray/internal/cabinet/webdav"
	"inktray.example/inktray/internal/testbed"
)

// BenchmarkThroughput compares with curl, which puts its files over one connection.
func BenchmarkThroughput(b *testing.B) {
	for _, kind := range []string{"apache2", "lighttpd"} {
		b.Run(kind, func(b *testing.B) {
			w := testbed.StartWebDAV(b, kind)
			at := webdav.New(config(b, w, cabinettest.Subfolder(b, w.Folder)))
			id, err := tree.Prepare(b.Context(), at, now)
			if err != nil {
				b.Fatal(err)
			}
			c := tree.New(at, id)
			defer c.Close()
			cabinettest.Throughput(b, c, func(b *testing.B, folder string, files []string) {
				exec.Command("curl", "-s", "-u", "harbour:pw", "-X", "MKCOL", w.URL+"/"+folder+"/").Run() // whoever comes first
				args := []string{"-s", "-S", "--fail", "-u", "harbour:pw"}
				for _, f := range files {
					args = append(args, "-T", f, w.URL+"/"+folder+"/"+filepath.Base(f))
				}
				if out, err := exec.Command("curl", args...).CombinedOutput(); err != nil {
					b.Errorf("%v %s", err, out)
				}
			})
		})
	}
}
