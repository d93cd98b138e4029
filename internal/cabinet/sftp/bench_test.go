package sftp_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"inktray.example/inktray/internal/cabinet/cabinettest"
	"inktray.example/inktray/internal/cabinet/sftp"
	"inktray.example/inktray/internal/cabinet/tree"
	"inktray.example/inktray/internal/testbed"
)

// BenchmarkThroughput compares with OpenSSH's own client, which flushes too (put -f).
func BenchmarkThroughput(b *testing.B) {
	s := testbed.StartSFTP(b)
	at := sftp.New(config(b, s, cabinettest.Subfolder(b, s.Folder)))
	id, err := tree.Prepare(b.Context(), at, now)
	if err != nil {
		b.Fatal(err)
	}
	c := tree.New(at, id)
	defer c.Close()
	key := filepath.Join(b.TempDir(), "key")
	if err := os.WriteFile(key, []byte(s.Key), 0o600); err != nil {
		b.Fatal(err)
	}
	port := strings.Split(strings.TrimPrefix(s.URL, "sftp://localhost:"), "/")[0]
	cabinettest.Throughput(b, c, func(b *testing.B, folder string, files []string) {
		var batch strings.Builder
		fmt.Fprintf(&batch, "-mkdir %s/%s\n", s.Folder, folder)
		for _, f := range files {
			fmt.Fprintf(&batch, "put -f %s %s/%s/%s\n", f, s.Folder, folder, filepath.Base(f))
		}
		client := exec.Command("sftp", "-q", "-b", "-", "-i", key, "-P", port, "-o", "StrictHostKeyChecking=no", "-o",
			"UserKnownHostsFile=/dev/null", "root@127.0.0.1")
		client.Stdin = strings.NewReader(batch.String())
		if out, err := client.CombinedOutput(); err != nil {
			b.Errorf("%v %s", err, out)
		}
	})
}
