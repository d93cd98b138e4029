package cli

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/testbed"
)

// A new administrator's first day, by the command line, with a real mail server: TLS, mailboxes, a cabinet and a rule;
// a clerk and a reader with rights; the office's own sign-in; a backup; then the folder of the records is gone, and is
// put back. Nothing is lost and nothing is there twice.
func TestTheFirstDayOfAnAdministrator(t *testing.T) {
	d := testbed.StartDovecot(t)
	certificate, key := signed(t)
	o := openOffice(t, empty, func(s *serviceOptions) { s.certificate, s.key = certificate, key })
	t.Setenv("INKTRAY_AUTHORITY", certificate)
	as := func(password string, signIn ...string) (use func()) { // each person has settings of her own
		home := t.TempDir()
		use = func() {
			t.Setenv("XDG_CONFIG_HOME", home)
			t.Setenv("INKTRAY_PASSWORD", password)
		}
		use()
		must(t, append([]string{"sign-in"}, signIn...)...)
		return use
	}
	ines := as("cold tide at dusk", "--set-up", setupCode(t, o), "--name", "Ines Halloway")
	t.Setenv("INKTRAY_SECRET", "pw")
	for _, name := range []string{"gauges", "berths"} {
		must(t, "mailboxes", "add", name, "--host", "127.0.0.1", "--port", fmt.Sprint(d.IMAP), "--encryption", "none",
			"--user", name, "--interval", "1")
	}
	files := filepath.Join(t.TempDir(), "files")
	must(t, "cabinets", "add", "harbour files", "--folder", files)
	must(t, "rules", "save", write(t, "rules.yaml", `format: 1
rules:
  - name: Everything
    cabinet: harbour files
    look: {mailboxes: all}
    match: every message
    attachments:
      - take: everything
        folder: <mailbox>
        name: <register.year>-<register pad 4> <file.stem>
`))
	must(t, "rules", "on", "Everything", "--begin", "now")
	want := map[string]int{}
	readings(t, d, "gauges", 3, want)
	readings(t, d, "berths", 2, want)
	filed := func() (all []client.Filing) {
		return value[client.RegisterPage](t, "register", "list", "--most", "500").Filings
	}
	until(t, "ten files are filed", func() bool { return len(filed()) == 10 })

	link := func(args ...string) string {
		t.Helper()
		return regexp.MustCompile(`--link (\S+)`).FindStringSubmatch(must(t, args...))[1]
	}
	rowan := as("warm quay at noon", "--link", link("people", "invite", "Rowan Tidd", "--role", "clerk", "--mailboxes",
		"berths", "--cabinets", "all"))
	ines()
	oda := as("grey gull at dawn", "--link", link("people", "invite", "Oda Fenwick", "--role", "reader", "--mailboxes",
		"gauges", "--cabinets", "all", "--mail", "oda@brackwater.example"))
	sees := func(who func(), name, mailbox string, n int) {
		t.Helper()
		who()
		all := filed()
		for _, f := range all {
			if f.Mailbox != mailbox {
				t.Errorf("%s sees a file of %s", name, f.Mailbox)
			}
		}
		if len(all) != n {
			t.Errorf("%s sees %d files, want %d", name, len(all), n)
		}
	}
	sees(rowan, "the clerk", "berths", 4)
	sees(oda, "the reader", "gauges", 6)

	ines()
	t.Setenv("INKTRAY_SECRET", "shared")
	must(t, "sign-in-rules", "set", "--issuer", o.authority.Issuer(), "--client", "inktray", "--roles", "berth desk=clerk")
	trusted, err := trusting(certificate)
	if err != nil {
		t.Fatal(err)
	}
	b := o.browser()
	b.client.Transport = trusted
	if end := b.through(o, "oda@brackwater.example", "berth desk", "yes"); end != "/" {
		t.Errorf("by the office's sign-in the reader ends at %q", end)
	}
	if _, _, me := b.ask(http.MethodGet, "/me", ""); me["name"] != "Oda Fenwick" || me["role"] != "clerk" {
		t.Errorf("by the office's sign-in she is %v", me)
	}

	safe := filepath.Join(t.TempDir(), "safe")
	phrase := write(t, "phrase", "seven gulls on a cold mole")
	must(t, "backup", "plan", "--folder", safe, "--passphrase-file", phrase)
	made := value[client.Backup](t, "backup", "make")
	readings(t, d, "gauges", 5, want) // the first three are the same messages again, which are not filed twice
	until(t, "what came after the backup is filed", func() bool { return len(filed()) == 14 })
	tree := func() map[string]string {
		all := map[string]string{}
		for _, f := range filed() {
			data, err := os.ReadFile(filepath.Join(files, f.Folder, f.File))
			if err != nil {
				t.Fatal(err)
			}
			all[f.Folder+"/"+f.File] = string(data)
		}
		return all
	}
	before := tree()

	address := o.service.listener.Addr().String()
	if err := o.service.stop(); err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(o.options.data); err != nil {
		t.Fatal(err)
	}
	must(t, "restore", filepath.Join(safe, made.Kept[0].Name), "--data", o.options.data, "--passphrase-file", phrase,
		"--yes")
	o.options.listen = address
	if o.service, err = start(o.options); err != nil {
		t.Fatal(err)
	}
	until(t, "the comparison is over", func() bool { return value[client.Restored](t, "restored").EndedAt != nil })
	after := tree()
	for name, content := range before {
		if after[name] != content {
			t.Errorf("the register has %s no more, or with another content", name)
		}
	}
	there := 0
	err = filepath.WalkDir(files, func(name string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() && !strings.Contains(name, ".inktray") {
			there++
		}
		return err
	})
	if err != nil || len(after) != 14 || there != 14 {
		t.Errorf("the register has %d files, in the cabinet are %d, want 14 of each; %v", len(after), there, err)
	}

	// The last one of each is new, and messages are decided about in their order: then nothing more comes.
	readings(t, d, "gauges", 6, want)
	readings(t, d, "berths", 3, want)
	until(t, "what comes now is filed", func() bool { return len(filed()) >= 18 })
	sees(rowan, "the clerk with her token of before", "berths", 6)
	ines()
	if n := len(filed()); n != 18 {
		t.Errorf("%d files are filed, want 18", n)
	}
	numbers := map[string]bool{}
	for _, f := range filed() {
		if numbers[f.Entry] {
			t.Errorf("the number %s was given twice", f.Entry)
		}
		numbers[f.Entry] = true
		year, number, _ := strings.Cut(f.Entry, "-")
		if shown := fmt.Sprintf("%s-%04s", year, number); !strings.HasPrefix(f.File, shown) {
			t.Errorf("%s has the number %s", f.File, f.Entry)
		}
	}
}
