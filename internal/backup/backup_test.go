package backup

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
)

// put writes files into a folder.
func put(t *testing.T, folder string, files map[string]string) {
	t.Helper()
	for name, content := range files {
		full := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(full, []byte(content), 0o600); err != nil {
			t.Fatal(err)
		}
	}
}

// lies reads all files of a folder.
func lies(t *testing.T, folder string) map[string]string {
	t.Helper()
	files := map[string]string{}
	err := filepath.WalkDir(folder, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || d.Name() == lockFile {
			return err
		}
		data, err := os.ReadFile(name)
		within, _ := filepath.Rel(folder, name)
		files[filepath.ToSlash(within)] = string(data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return files
}

// as finishes a restoring without doing anything.
func as(*Contents, string) error { return nil }

// made makes a backup; meanwhile is called while the records are copied.
func made(t *testing.T, data string, meanwhile func()) (sealed []byte, id *age.X25519Identity) {
	t.Helper()
	id, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	j := &Job{Data: data, About: About{Version: "1", Records: 15, MadeAt: time.Now().UTC(), Installation: "test"},
		Snapshot: func(_ context.Context, records, key string) error {
			if meanwhile != nil {
				meanwhile()
			}
			if err := os.WriteFile(key, []byte("the key"), 0o600); err != nil {
				return err
			}
			return os.WriteFile(records, []byte("the records"), 0o600)
		}}
	var out bytes.Buffer
	if _, err := j.Make(t.Context(), &out, id.Recipient()); err != nil {
		t.Fatal(err)
	}
	if left, err := filepath.Glob(filepath.Join(data, workFolder+"*")); err != nil || len(left) > 0 {
		t.Errorf("what it was prepared in is left: %v, %v", left, err)
	}
	return out.Bytes(), id
}

var office = map[string]string{"secret.key": "the key", "inktray.db": "in use", "mail/a/new/1": "one",
	"mail/a/new/2": "two", "waiting/7": "waits", "staged/x.part": "on its way", "spool/y": "not needed",
	"mail/a/tmp/3": "half delivered", "crash.txt": ""}

func TestABackupHoldsTheInstallationAsItIsAtOneMoment(t *testing.T) {
	data := t.TempDir()
	put(t, data, office)
	sealed, id := made(t, data, func() { // read by a mail program, filed, removed, delivered: all at this moment
		must := func(err error) {
			if err != nil {
				t.Fatal(err)
			}
		}
		must(os.MkdirAll(filepath.Join(data, "mail/a/cur"), 0o700))
		must(os.Rename(filepath.Join(data, "mail/a/new/1"), filepath.Join(data, "mail/a/cur/1:2,S")))
		must(os.Remove(filepath.Join(data, "waiting/7")))
		put(t, data, map[string]string{"mail/a/new/4": "four"})
	})
	to := filepath.Join(t.TempDir(), "records")
	contents, err := Restore(t.Context(), bytes.NewReader(sealed), to, as, id)
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]string{"secret.key": "the key", "inktray.db": "the records", "mail/a/cur/1:2,S": "one",
		"mail/a/new/2": "two", "mail/a/new/4": "four", "waiting/7": "waits", "staged/x.part": "on its way"}
	if got := lies(t, to); !maps.Equal(got, want) {
		t.Errorf("there are %v, want %v", got, want)
	}
	if contents.About.Installation != "test" || contents.About.Format != Format || len(contents.Files) != len(want)+1 {
		t.Errorf("it says %+v", contents)
	}
	info, err := os.Stat(filepath.Join(to, "secret.key"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key: %v, %v", info, err)
	}
}

// A backup that is cut anywhere, or of which any part changed, is not taken for whole, and nothing of it is put back.
func TestADamagedBackupIsFoundAndLeavesNothing(t *testing.T) {
	data := t.TempDir()
	put(t, data, office)
	put(t, data, map[string]string{"mail/a/new/large": strings.Repeat("something to seal ", 20_000)})
	sealed, id := made(t, data, nil)
	try := func(what string, text []byte) {
		t.Helper()
		to := t.TempDir()
		_, err := Restore(t.Context(), bytes.NewReader(text), to, as, id)
		var not *Error
		if !errors.As(err, &not) {
			t.Errorf("%s: %v", what, err)
		}
		if left := lies(t, to); len(left) > 0 {
			t.Errorf("%s left %v", what, left)
		}
	}
	for n := 0; n < len(sealed); n += max(1, len(sealed)/97) {
		try("cut", sealed[:n])
		changed := slices.Clone(sealed)
		changed[n] ^= 0x40
		try("changed", changed)
	}
	other, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Read(t.Context(), bytes.NewReader(sealed), nil, other); err == nil ||
		!strings.Contains(err.Error(), "not opened by this passphrase or key") {
		t.Errorf("another key: %v", err)
	}
}

// pack seals a tar of one's own making.
func pack(t *testing.T, to age.Recipient, headers []tar.Header, contents []string) []byte {
	t.Helper()
	var out bytes.Buffer
	sealed, err := age.Encrypt(&out, to)
	if err != nil {
		t.Fatal(err)
	}
	packed, err := zstd.NewWriter(sealed)
	if err != nil {
		t.Fatal(err)
	}
	w := tar.NewWriter(packed)
	for i := range headers {
		h := headers[i]
		h.Size, h.Mode = int64(len(contents[i])), 0o600
		if err := w.WriteHeader(&h); err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(contents[i])); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []interface{ Close() error }{w, packed, sealed} {
		if err := c.Close(); err != nil {
			t.Fatal(err)
		}
	}
	return out.Bytes()
}

func TestWhatIsNoBackupIsRefused(t *testing.T) {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	file := func(name string) tar.Header { return tar.Header{Name: name, Typeflag: tar.TypeReg} }
	about := `{"format":1,"version":"9"}`
	for _, c := range []struct {
		what, want string
		headers    []tar.Header
		contents   []string
	}{
		{"nothing", "ends too early", nil, nil},
		{"something else", "is not a backup", []tar.Header{file("readme")}, []string{"x"}},
		{"a newer one", "newer Ink Tray (9)", []tar.Header{file(aboutFile)}, []string{`{"format":2,"version":"9"}`}},
		{"a way out", "not a file of an Ink Tray", []tar.Header{file(aboutFile), file("mail/../../out")},
			[]string{about, "x"}},
		{"an absolute path", "not a file of an Ink Tray", []tar.Header{file(aboutFile), file("/tmp/out")},
			[]string{about, "x"}},
		{"a link", "not a file of an Ink Tray",
			[]tar.Header{file(aboutFile), {Name: "mail/a", Typeflag: tar.TypeSymlink, Linkname: "/etc"}}, []string{about, ""}},
		{"a file of the program", "not a file of an Ink Tray", []tar.Header{file(aboutFile), file("crash.txt")},
			[]string{about, ""}},
		{"no end", "ends too early", []tar.Header{file(aboutFile), file(keyFile)}, []string{about, "k"}},
		{"another list", "not those that it lists", []tar.Header{file(aboutFile), file(contentsFile)}, []string{about, "[]"}},
		{"no list", "damaged", []tar.Header{file(aboutFile), file(contentsFile)}, []string{about, "{"}},
	} {
		to := t.TempDir()
		_, err := Restore(t.Context(), bytes.NewReader(pack(t, id.Recipient(), c.headers, c.contents)), to, as, id)
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", c.what, err, c.want)
		}
		if left := lies(t, to); len(left) > 0 {
			t.Errorf("%s left %v", c.what, left)
		}
	}
}

func TestABackupIsPutBackIntoAnEmptyFolderOnly(t *testing.T) {
	data := t.TempDir()
	put(t, data, office)
	sealed, id := made(t, data, nil)
	to := t.TempDir()
	put(t, to, map[string]string{"notes.txt": "mine"})
	if _, err := Restore(t.Context(), bytes.NewReader(sealed), to, as, id); err == nil ||
		!strings.Contains(err.Error(), "notes.txt is in it") {
		t.Errorf("into a folder of somebody: %v", err)
	}
	if got := lies(t, to); len(got) != 1 {
		t.Errorf("there are %v", got)
	}
	failing := t.TempDir()
	if _, err := Restore(t.Context(), bytes.NewReader(sealed), failing, func(*Contents, string) error {
		return errors.New("the disk is full")
	}, id); err == nil || len(lies(t, failing)) > 0 {
		t.Errorf("where the records could not be prepared: %v, %v", err, lies(t, failing))
	}
	half := t.TempDir() // as a kill leaves it, in the midst of giving everything its place
	put(t, half, map[string]string{Unfinished + "/inktray.db": "the records", "mail/a/new/9": "of another try",
		"secret.key": "the key"})
	if _, err := Restore(t.Context(), bytes.NewReader(sealed), half, as, id); err != nil {
		t.Errorf("after a restoring that did not end: %v", err)
	}
	if got := lies(t, half); got["mail/a/new/1"] != "one" || got["inktray.db"] == "" ||
		got["mail/a/new/9"] != "" {
		t.Errorf("there are %v", got)
	}
}

func TestSeals(t *testing.T) {
	private, public, err := NewKey()
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		seal Seal
		want string
	}{
		{Seal{}, "give the passphrase"},
		{Seal{Passphrase: "short"}, "at least 12 characters"},
		{Seal{Passphrase: "long enough, it is", PublicKeys: []string{public}}, "not with both"},
		{Seal{PublicKeys: []string{private}}, "is not a public key"},
		{Seal{Passphrase: "long enough, it is"}, ""},
		{Seal{PublicKeys: []string{public}}, ""},
	} {
		to, witness, err := c.seal.Witness()
		if c.want != "" {
			if err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%+v: %v, want %q", c.seal, err, c.want)
			}
			continue
		}
		data := t.TempDir()
		put(t, data, office)
		var out bytes.Buffer
		j := &Job{Data: data, Snapshot: func(_ context.Context, records, key string) error {
			return errors.Join(os.WriteFile(records, nil, 0o600), os.WriteFile(key, nil, 0o600))
		}}
		if _, err := j.Make(t.Context(), &out, to...); err != nil {
			t.Fatal(err)
		}
		if _, err := Read(t.Context(), bytes.NewReader(out.Bytes()), nil, witness); err != nil {
			t.Errorf("%+v: who proves it cannot open it: %v", c.seal, err)
		}
		ids, err := Identities(c.seal.Passphrase, map[bool]string{true: private}[c.seal.Passphrase == ""])
		if err != nil {
			t.Fatal(err)
		}
		if _, err := Read(t.Context(), bytes.NewReader(out.Bytes()), nil, ids...); err != nil {
			t.Errorf("%+v: it is not opened: %v", c.seal, err)
		}
	}
	if _, err := Identities("", "no key"); err == nil || !strings.Contains(err.Error(), "no private key") {
		t.Errorf("a file without a key: %v", err)
	}
}
