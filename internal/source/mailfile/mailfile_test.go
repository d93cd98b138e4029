package mailfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/disk/faultfs"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/sourcetest"
)

func dial(t *testing.T, c Config) *Session {
	t.Helper()
	s, err := Dial(t.Context(), c)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

func maildir(t *testing.T) string {
	t.Helper()
	folder := filepath.Join(t.TempDir(), "Maildir")
	if err := Prepare(folder); err != nil {
		t.Fatal(err)
	}
	return folder
}

func put(t *testing.T, folder, dir string, raw []byte, received time.Time) string {
	t.Helper()
	root, err := disk.Root(folder)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	name, err := DeliverInto(root, dir, received, bytes.NewReader(raw))
	if err != nil {
		t.Fatal(err)
	}
	return name
}

func conform(t *testing.T, quiet bool) {
	folder, numbers := maildir(t), &sourcetest.Numbers{}
	config := Config{Folder: folder, Numbers: numbers, Own: true, Quiet: quiet}
	fileOf := func(t *testing.T, uid uint32) (*Session, string) {
		s := dial(t, config)
		if _, err := s.Open(t.Context(), "INBOX"); err != nil {
			t.Fatal(err)
		}
		return s, s.files[uid].path
	}
	sourcetest.Run(t, sourcetest.Box{
		Session: func(t *testing.T) source.Session { return dial(t, config) },
		Deliver: func(t *testing.T, _ string, raw []byte, received time.Time, _ ...string) uint32 {
			name := put(t, folder, ".", raw, received)
			uids, err := numbers.Number("INBOX", []string{name})
			if err != nil {
				t.Fatal(err)
			}
			return uids[name]
		},
		Delete: func(t *testing.T, _ string, uid uint32) {
			_, name := fileOf(t, uid)
			if err := os.Remove(filepath.Join(folder, name)); err != nil {
				t.Fatal(err)
			}
		},
		Flags: func(t *testing.T, _ string, uid uint32) []string {
			s, name := fileOf(t, uid)
			if strings.HasPrefix(name, "new/") != (len(s.flags(name)) == 0) {
				t.Errorf("the file is %s", name)
			}
			return s.flags(name)
		},
	})
}

func TestConformance(t *testing.T)                      { conform(t, false) }
func TestConformanceWhereNothingIsWatched(t *testing.T) { conform(t, true) }

func TestFoldersOfBothLayouts(t *testing.T) {
	folder := maildir(t)
	for _, dir := range []string{".Archive.2026", ".Entw&APw-rfe", ".Sent", "Projects/North mole", "Projects/plain"} {
		if err := os.MkdirAll(filepath.Join(folder, dir, "cur"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Remove(filepath.Join(folder, "Projects", "plain", "cur")); err != nil {
		t.Fatal(err)
	}
	folders, err := dial(t, Config{Folder: folder, Numbers: &sourcetest.Numbers{}}).Folders(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, f := range folders {
		got = append(got, f.Path+" "+f.Role)
	}
	if want := []string{"INBOX inbox", "Archive/2026 ", "Entwürfe ", "Projects/North mole ", "Sent sent"}; !slices.Equal(got, want) {
		t.Errorf("folders %q, want %q", got, want)
	}
}

func TestNamesInModifiedUTF7(t *testing.T) {
	for name, coded := range map[string]string{"Entwürfe": "Entw&APw-rfe", "R&D": "R&-D", "港": "&bi8-", "plain": "plain", "😀": "&2D3eAA-"} {
		if got := toUTF7(name); got != coded {
			t.Errorf("%q is written %q, want %q", name, got, coded)
		}
		if got := fromUTF7(coded); got != name {
			t.Errorf("%q is read %q, want %q", coded, got, name)
		}
	}
	for _, broken := range []string{"a&b", "&!!-", "&AA-"} {
		if got := fromUTF7(broken); got != broken {
			t.Errorf("%q is read as %q", broken, got)
		}
	}
}

// What somebody's mail program does with the files meanwhile is followed.
func TestAMessageIsFoundThoughItsFileIsRenamed(t *testing.T) {
	folder := maildir(t)
	name := put(t, folder, ".", []byte("Subject: a\r\n\r\nx"), time.Now())
	s := dial(t, Config{Folder: folder, Numbers: &sourcetest.Numbers{}})
	state, err := s.Open(t.Context(), "INBOX")
	if err != nil || state.Messages != 1 {
		t.Fatal(state, err)
	}
	if err := os.Rename(filepath.Join(folder, "new", name), filepath.Join(folder, "cur", name+":2,FS")); err != nil {
		t.Fatal(err)
	}
	facts, err := s.Facts(t.Context(), []uint32{1})
	if err != nil || len(facts) != 1 || !slices.Equal(facts[0].Flags, []string{`\Flagged`, `\Seen`}) {
		t.Errorf("%+v, %v", facts, err)
	}
	if _, err := s.Mark(t.Context(), 1, []string{"To_file"}, nil); !errors.Is(err, source.ErrNoLabels) {
		t.Errorf("a label in somebody else's Maildir: %v", err)
	}
	if err := os.WriteFile(filepath.Join(folder, keywordFile), []byte("0 To_file\n1 Seen_by_Oda\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Open(t.Context(), "INBOX"); err != nil {
		t.Fatal(err)
	}
	if flags, err := s.Mark(t.Context(), 1, []string{"to_file"}, []string{`\Flagged`}); err != nil || !slices.Equal(flags, []string{`\Seen`, "To_file"}) {
		t.Errorf("%v, %v", flags, err)
	}
	if found, err := s.UIDs(t.Context(), source.Query{Keywords: []string{"TO_FILE"}}); err != nil || !slices.Equal(found, []uint32{1}) {
		t.Errorf("%v, %v", found, err)
	}
	if err := os.Remove(filepath.Join(folder, "cur", name+":2,Sa")); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Part(t.Context(), &facts[0], source.Whole); !errors.Is(err, source.ErrGone) {
		// its contents may still be at hand; a new session must see that it is gone
		again := dial(t, Config{Folder: folder, Numbers: s.config.Numbers})
		if _, err := again.Open(t.Context(), "INBOX"); err != nil {
			t.Fatal(err)
		}
		if left, err := again.Facts(t.Context(), []uint32{1}); err != nil || len(left) != 0 {
			t.Errorf("%v, %v", left, err)
		}
	}
}

func TestWhatCannotBeReadIsSaid(t *testing.T) {
	for name, c := range map[string]struct {
		folder string
		says   string
	}{
		"nothing there": {filepath.Join(t.TempDir(), "none"), "no such file"},
		"no Maildir":    {t.TempDir(), "is no Maildir"},
	} {
		checks := Check(t.Context(), Config{Folder: c.folder, Numbers: &sourcetest.Numbers{}})
		if len(checks) != 1 || checks[0].OK || !strings.Contains(checks[0].Detail, c.says) || checks[0].Advice == "" {
			t.Errorf("%s: %+v", name, checks)
		}
	}
	checks := Check(t.Context(), Config{Folder: maildir(t), Numbers: &sourcetest.Numbers{}})
	if len(checks) != 2 || !checks[0].OK || !checks[1].OK {
		t.Errorf("%+v", checks)
	}
}

// lines reads the messages of a Maildir on a disk.
func lines(t *testing.T, d disk.FS) []string {
	t.Helper()
	entries, err := d.ReadDir("new")
	if err != nil {
		t.Fatal(err)
	}
	var all []string
	for _, e := range entries {
		r, err := d.Open(path.Join("new", e.Name()))
		if err != nil {
			t.Fatal(err)
		}
		data, _ := io.ReadAll(r)
		r.Close()
		all = append(all, string(data))
	}
	slices.Sort(all)
	return all
}

func onMemory(t *testing.T) *faultfs.FS {
	t.Helper()
	d := faultfs.New()
	for _, sub := range []string{"cur", "new", "tmp"} {
		if err := d.Mkdir(sub); err != nil {
			t.Fatal(err)
		}
	}
	if err := d.SyncDir("."); err != nil {
		t.Fatal(err)
	}
	return d
}

// Whatever moment the power goes at: what was acknowledged is there, whole.
func TestThePowerMayGoAtAnyMomentOfADelivery(t *testing.T) {
	lost := func(skip string) (losses int) {
		for cut := 1; cut < 40; cut++ {
			d := onMemory(t)
			if skip != "" {
				d.Skip[skip] = true
			}
			d.CutAt(cut)
			var acknowledged []string
			for i := range 3 {
				text := fmt.Sprintf("Subject: %d\r\n\r\n%s", i, strings.Repeat("x", 5000))
				if _, err := DeliverInto(d, ".", time.Unix(1_770_000_000, 0), strings.NewReader(text)); err != nil {
					break
				}
				acknowledged = append(acknowledged, text)
			}
			d.PowerUp()
			there := lines(t, d)
			for _, text := range acknowledged {
				if !slices.Contains(there, text) {
					losses++
				}
			}
			for _, text := range there {
				if len(text) < 5000 && skip == "" {
					t.Errorf("after a cut at operation %d a message is there in part: %.40q", cut, text)
				}
			}
			if err := Sweep(d, ".", time.Unix(1_770_000_000, 0).AddDate(5, 0, 0)); err != nil {
				t.Errorf("sweeping: %v", err)
			}
		}
		return losses
	}
	if n := lost(""); n > 0 {
		t.Errorf("%d acknowledged messages were lost", n)
	}
	for _, skip := range []string{"file", "dir"} {
		if lost(skip) == 0 {
			t.Errorf("leaving out the flush of the %s is not noticed", skip)
		}
	}
}

func TestADeliveryThatIsCutLeavesNothing(t *testing.T) {
	d := onMemory(t)
	_, err := DeliverInto(d, ".", time.Now(), io.MultiReader(strings.NewReader("Subject: a"), cut{}))
	if !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("%v", err)
	}
	for _, sub := range []string{"new", "tmp", "cur"} {
		if left, _ := d.ReadDir(sub); len(left) > 0 {
			t.Errorf("%s holds %v", sub, left)
		}
	}
}

type cut struct{}

func (cut) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

func TestMessagesOfAnMbox(t *testing.T) {
	const box = "From oda@tidewatch.example Tue May 12 06:02:00 2026\nSubject: one\n\nfirst\n>From the mole\n>>From twice\n\n" +
		"From MAILER-DAEMON Tue May 12 06:03:00 2026 +0200\r\nSubject: two\r\nDate: Tue, 12 May 2026 06:00:00 +0000\r\n\r\nFrom here on\r\nnot a separator\r\n\r\n" +
		"From - Tue May 12 06:04:00 2026\nSubject: three\n\nno line end at the end"
	var subjects []string
	var bodies []string
	var times []time.Time
	err := Mbox(strings.NewReader(box), func(raw []byte, at time.Time) error {
		m := mail.Parse(raw)
		subjects, times = append(subjects, m.Message.Envelope.Subject), append(times, at.UTC())
		bodies = append(bodies, string(raw[bytes.Index(raw, []byte("\n"))+1:]))
		return nil
	})
	if err != nil || !slices.Equal(subjects, []string{"one", "two", "three"}) {
		t.Fatal(subjects, err)
	}
	if !strings.Contains(bodies[0], "\nFrom the mole\n>From twice\n") || !strings.HasSuffix(bodies[2], "at the end") || !strings.Contains(bodies[1], "From here on\r\n") {
		t.Errorf("bodies %q", bodies)
	}
	if want := time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC); !times[0].Equal(want) || !times[1].Equal(want.Add(time.Minute-2*time.Hour)) {
		t.Errorf("times %v", times)
	}
	for _, bad := range []string{"", "Subject: no separator\n\nx", "\n\n"} {
		if err := Mbox(strings.NewReader(bad), func([]byte, time.Time) error { return nil }); !errors.Is(err, ErrNoMbox) {
			t.Errorf("%q: %v", bad, err)
		}
	}
}
