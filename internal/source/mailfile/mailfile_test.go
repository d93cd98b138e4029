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
			uids, err := numbers.Number(t.Context(), "INBOX", []string{name})
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
	if want := []string{"INBOX inbox", "Archive/2026 ", "Entwürfe ", "Projects/North mole ",
		"Sent sent"}; !slices.Equal(got, want) {
		t.Errorf("folders %q, want %q", got, want)
	}
}

func TestNamesInModifiedUTF7(t *testing.T) {
	for name, coded := range map[string]string{"Entwürfe": "Entw&APw-rfe", "R&D": "R&-D", "港": "&bi8-", "plain": "plain",
		"😀": "&2D3eAA-"} {
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
	if flags, err := s.Mark(t.Context(), 1, []string{"to_file"}, []string{`\Flagged`}); err != nil ||
		!slices.Equal(flags, []string{`\Seen`, "To_file"}) {
		t.Errorf("%v, %v", flags, err)
	}
	if found, err := s.UIDs(t.Context(), source.Query{Keywords: []string{"TO_FILE"}}); err != nil ||
		!slices.Equal(found, []uint32{1}) {
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

// box is an mbox file with separators in every form that programs write.
const box = "From oda@tidewatch.example Tue May 12 06:02:00 2026\nSubject: one\n\nfirst\n>From the mole\n>>From " +
	"twice\n\n" +
	"From MAILER-DAEMON Tue May 12 06:03:00 2026 +0200\r\nSubject: two\r\nDate: Tue, 12 May 2026 06:00:00 " +
	"+0000\r\n\r\nFrom here on\r\nnot a separator\r\n\r\n" +
	"From - Tue May 12 06:04:00 2026\nSubject: three\n\nthird\n\n" +
	// the zone before the year, and no empty line before it
	"From oda@tidewatch.example Tue May 12 06:05:00 +0200 2026\nSubject: four\n\nfourth\n" +
	"From oda@tidewatch.example Tue May 12 06:06:00 UTC 2026\nSubject: five\n\nfifth\n" +
	"From oda@tidewatch.example  Tue, 12 May 2026 06:07:00 +0000\nSubject: six\n\nsixth\n\n" +
	"From oda@tidewatch.example Tue May 12 06:08 2026\nX-Own: no usual field\n\nseventh\n\n" +
	"From oda@tidewatch.example Tue May 12 06:09:00 2026\nSubject: eight\n\nFrom bob Tue May 12 06:02:00 2026\nis " +
	"quoted without a mark\n\n" +
	"From ???@??? Tue May 12 06:10:00 2026\nSubject: nine\n\nno line end at the end"

func TestMessagesOfAnMbox(t *testing.T) {
	var subjects, bodies []string
	var times []time.Time
	var octets int64
	err := Mbox(strings.NewReader(box), func(b Boxed) error {
		m := mail.Parse(b.Raw)
		subject := m.Message.Envelope.Subject
		if subject == "" {
			subject = "(" + mail.HeaderOf(b.Raw)[0].Name + ")"
		}
		if b.Offset != octets || !strings.HasPrefix(box[b.Offset:], "From ") {
			t.Errorf("“%s” begins at %d, after %d octets", subject, b.Offset, octets)
		}
		octets += b.Size
		subjects, times = append(subjects, subject), append(times, b.Received.UTC())
		bodies = append(bodies, string(b.Raw[bytes.Index(b.Raw, []byte("\n"))+1:]))
		return nil
	})
	if want := "one two three four five six (X-Own) eight nine"; err != nil || strings.Join(subjects, " ") != want {
		t.Fatal(subjects, err)
	}
	if octets != int64(len(box)) {
		t.Errorf("%d of %d octets are accounted for", octets, len(box))
	}
	if !strings.Contains(bodies[0], "\nFrom the mole\n>From twice\n") || !strings.HasSuffix(bodies[8], "at the end") ||
		!strings.Contains(bodies[1], "From here on\r\n") || !strings.Contains(bodies[7], "From bob") {
		t.Errorf("bodies %q", bodies)
	}
	for i, at := range times {
		want := time.Date(2026, 5, 12, 6, 2+i, 0, 0, time.UTC)
		if i == 1 || i == 3 {
			want = want.Add(-2 * time.Hour)
		}
		if !at.Equal(want) {
			t.Errorf("“%s” is of %v, want %v", subjects[i], at, want)
		}
	}
}

func TestEveryOctetOfAFileThatIsTakenInIsAccountedFor(t *testing.T) {
	const separator = "From oda@tidewatch.example Tue May 12 06:02:00 2026\n"
	for name, c := range map[string]struct {
		file string
		want Report
	}{
		"a message":                {"Subject: one\n\nx\n", Report{Found: 1, Taken: 1}},
		"without the usual fields": {"X-Own: one\n\nx\n", Report{Found: 1, Taken: 1}},
		"an mbox":                  {box, Report{Found: 9, Taken: 9}},
		"the same message twice": {separator + "Subject: one\n\nx\n\n" + separator + "Subject: one\n\nx\n",
			Report{Found: 2, Taken: 1, Known: 1}},
		"no message": {"just text\n", Report{Found: 1, Refused: []Refusal{{1, 0, 10, ErrNoMessage.Error()}}}},
		"nothing":    {"", Report{Found: 1, Refused: []Refusal{{1, 0, 0, ErrNoMessage.Error()}}}},
		"text before the first": {"From nobody\nwords\n\n" + separator + "Subject: one\n\nx\n",
			Report{Found: 1, Taken: 1, Refused: []Refusal{{0, 0, 19, "it is before the first line that begins with “From ” " +
				"and a date"}}}},
		"one that is none": {separator + "Subject: one\n\nx\n\n" + separator + "\nno header\n\n" + separator +
			"Subject: two\n\ny\n", Report{Found: 3, Taken: 2, Refused: []Refusal{{2, 69, 64, ErrNoMessage.Error()}}}},
	} {
		t.Run(name, func(t *testing.T) {
			folder := t.TempDir()
			if err := Prepare(folder); err != nil {
				t.Fatal(err)
			}
			d, err := disk.Root(folder)
			if err != nil {
				t.Fatal(err)
			}
			defer d.Close()
			in, err := NewIntake(d)
			if err != nil {
				t.Fatal(err)
			}
			got, err := in.TakeFile(strings.NewReader(c.file), time.Now())
			c.want.Octets = int64(len(c.file))
			if err != nil || fmt.Sprintf("%+v", got) != fmt.Sprintf("%+v", c.want) {
				t.Errorf("got  %+v, %v\nwant %+v", got, err, c.want)
			}
			if n, err := Count(folder); err != nil || n != got.Taken {
				t.Errorf("%d messages lie there, %v", n, err)
			}
		})
	}
}

func TestAMessageThatIsTooLargeDoesNotEndTheTakingIn(t *testing.T) {
	if testing.Short() {
		t.Skip("it makes a file of 130 MB")
	}
	const separator = "From oda@tidewatch.example Tue May 12 06:02:00 2026\n"
	folder := t.TempDir()
	if err := Prepare(folder); err != nil {
		t.Fatal(err)
	}
	d, err := disk.Root(folder)
	if err != nil {
		t.Fatal(err)
	}
	defer d.Close()
	in, err := NewIntake(d)
	if err != nil {
		t.Fatal(err)
	}
	large := io.LimitReader(endless("Subject: large and without an end "), maxMessage+2)
	got, err := in.TakeFile(io.MultiReader(strings.NewReader(separator+"Subject: one\n\nx\n\n"+separator), large,
		strings.NewReader("\n\n"+separator+"Subject: two\n\ny\n")), time.Now())
	if err != nil || got.Found != 3 || got.Taken != 2 || len(got.Refused) != 1 || got.Refused[0].Reason != tooLarge {
		t.Errorf("got %+v, %v", got, err)
	}
}

// endless repeats a text.
type endless string

func (e endless) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = e[i%len(e)]
	}
	return len(p), nil
}
