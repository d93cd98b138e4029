package cli

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/testbed"
)

// machineOf is one machine of an office: a process with a mailbox, a cabinet in a folder, a rule, and a replica.
type machineOf struct {
	*process
	name, place string
}

// oneOffice is several machines, of which the first knows the others.
type oneOffice struct {
	t        *testing.T
	mail     *testbed.Dovecot
	files    string // the cabinet of all
	machines []*machineOf
}

const officePhrase = "seven gulls on a cold mole"

// startOffice starts machines, and lets the first one know the others.
func startOffice(t *testing.T, names ...string) *oneOffice {
	t.Helper()
	t.Setenv(replicaPassphrase, officePhrase)
	o := &oneOffice{t: t, mail: testbed.StartDovecot(t)}
	o.files = t.TempDir()
	for _, name := range names {
		o.machine(name)
	}
	o.on(o.machines[0])
	for _, m := range o.machines[1:] {
		o.join(m)
	}
	return o
}

// machine starts a machine that nobody knows yet.
func (o *oneOffice) machine(name string) *machineOf { return o.machineIn(o.t.TempDir(), name) }

// machineIn starts one with a place for its replica.
func (o *oneOffice) machineIn(place, name string, more ...string) *machineOf {
	o.t.Helper()
	m := &machineOf{name: name, place: place, process: startProcess(o.t, append([]string{"--machine", name, "--replica",
		place, "--replica-every", "200ms"}, more...)...)}
	o.machines = append(o.machines, m)
	if _, err := call[client.Cabinet](m.api.AddCabinet(o.t.Context(),
		client.CabinetSettings{Name: "files", Folder: o.files})); err != nil {
		o.t.Fatal(err)
	}
	o.mailbox(m, name)
	o.rule(m, fmt.Sprintf(`{"id":%q,"name":"Readings of %s","cabinet":"files","look":{"mailboxes":[%q]},`+
		`"match":{"subject":{"contains":"reading"}},`+
		`"attachments":[{"take":"everything","folder":"Gauges"}]}`, "r-"+name, name, name), "r-"+name)
	return m
}

// rule gives a machine a rule, and switches it on.
func (o *oneOffice) rule(m *machineOf, document, id string) {
	o.t.Helper()
	if _, err := call[client.Rule](m.api.AddRule(o.t.Context(), []byte(document))); err != nil {
		o.t.Fatal(err)
	}
	if _, err := call[client.Rule](m.api.SwitchRuleOn(o.t.Context(), id, client.SwitchOnRequest{})); err != nil {
		o.t.Fatal(err)
	}
}

// held lets something wait in the tray of a machine.
func (o *oneOffice) held(m *machineOf) {
	o.t.Helper()
	o.rule(m, fmt.Sprintf(`{"id":"held","name":"Held","cabinet":"files","look":{"mailboxes":[%q]},`+
		`"match":{"subject":{"contains":"doubtful"}},"attachments":[{"take":"everything","folder":"Doubtful"}]}`,
		m.name), "held")
	testbed.Append(o.t, o.mail.Client(m.name), "INBOX", []byte("From: oda@tidewatch.example\r\nSubject: doubtful\r\n"+
		"Message-ID: <doubtful@tidewatch.example>\r\nContent-Type: application/pdf; name=held-00.pdf\r\n\r\n"+
		"MZ, a program and no paper\r\n"), time.Now())
}

func (o *oneOffice) mailbox(m *machineOf, user string) {
	o.t.Helper()
	secret, interval := "pw", 1
	if _, err := call[client.Mailbox](m.api.AddMailbox(o.t.Context(),
		client.MailboxSettings{Name: user, Host: "127.0.0.1", Port: &o.mail.IMAP, Encryption: "none", Username: user,
			Secret: &secret, IntervalSeconds: &interval})); err != nil {
		o.t.Fatal(err)
	}
}

// on lets commands ask a machine.
func (o *oneOffice) on(m *machineOf) {
	o.t.Setenv("INKTRAY_SERVICE", m.url)
	o.t.Setenv("INKTRAY_TOKEN", m.token)
}

// tokenFor makes the token with which the first machine asks another one.
func (o *oneOffice) tokenFor(m *machineOf) string {
	o.t.Helper()
	scope := client.ScopeMachine
	token, err := call[client.Token](m.api.MakeToken(o.t.Context(), client.TokenRequest{Label: "south", Scope: &scope}))
	if err != nil {
		o.t.Fatal(err)
	}
	return token.Token
}

func (o *oneOffice) join(m *machineOf) {
	o.t.Helper()
	o.t.Setenv(machineToken, o.tokenFor(m))
	until(o.t, m.name+" has begun its replica", func() bool {
		_, errs, code := run(o.t, "", "machines", "add", m.name, "--address", m.url, "--of", m.place)
		if code != 0 && !strings.Contains(errs, "there is no replica") {
			o.t.Fatal(errs)
		}
		return code == 0
	})
}

// send brings readings into the mailbox of a machine, each with an attachment.
func (o *oneOffice) send(user string, from, to int) {
	box := o.mail.Client(user)
	for i := from; i < to; i++ {
		testbed.Append(o.t, box, "INBOX", fmt.Appendf(nil, "From: Oda Lind <oda@tidewatch.example>\r\n"+
			"Subject: reading %02d of %s\r\nMessage-ID: <%s-%d@tidewatch.example>\r\nContent-Type: text/csv; "+
			"name=%s-%02d.csv\r\n\r\n%s,%d\r\n", i, user, user, i, user, i, user, i),
			time.Date(2026, 5, 1+i%28, 6, 0, i, 0, time.UTC))
	}
}

// register is the register of the whole office by a machine, of a search.
func (o *oneOffice) register(m *machineOf, words string) client.RegisterPage {
	o.t.Helper()
	most, everywhere := 500, true
	page, err := call[client.RegisterPage](m.api.ListRegister(o.t.Context(),
		&client.ListRegisterParams{Everywhere: &everywhere, Most: &most, Text: &words}))
	if err != nil {
		o.t.Fatal(err)
	}
	return page
}

func TestSeveralMachinesAreOneOffice(t *testing.T) {
	o := startOffice(t, "south", "north", "east")
	south := o.machines[0]
	const each = 12
	for _, m := range o.machines {
		o.send(m.name, 0, each)
	}
	until(t, "one register has what all filed", func() bool { return o.register(south, "").Total == 3*each })

	t.Run("pages of the register follow one another without gaps", func(t *testing.T) {
		for _, sort := range []string{"number", "received", "filed", "sender", "subject", "file",
			"folder", "size", "kind", "rule", "mailbox"} {
			for _, way := range []client.ListRegisterParamsDirection{"up", "down"} {
				most, everywhere := 5, true
				p := client.ListRegisterParams{Everywhere: &everywhere, Most: &most, Sort: &sort, Direction: &way}
				var subjects, entries []string
				for {
					page, err := call[client.RegisterPage](south.api.ListRegister(t.Context(), &p))
					if err != nil {
						t.Fatal(err)
					}
					for _, f := range page.Filings {
						subjects = append(subjects, f.Subject)
						entries = append(entries, *f.Machine+" "+f.Entry)
					}
					if p.After = page.Next; p.After == nil {
						break
					}
				}
				if sort == "subject" && !slices.IsSorted(subjects) && way == "up" {
					t.Errorf("by subject the lines are %q", subjects)
				}
				slices.Sort(entries)
				if n := len(slices.Compact(entries)); n != 3*each || len(entries) != n {
					t.Errorf("by %s, %s: %d lines, %d different, want %d", sort, way, len(entries), n, 3*each)
				}
			}
		}
	})

	t.Run("searches are the same words", func(t *testing.T) {
		for words, want := range map[string]int{"machine:north": each, "machine:n": each, "machine:SOUTH reading": each,
			"machine:west": 0, "file:-03": 3, "rule:east": each, "without:east": 2 * each} {
			if n := o.register(south, words).Total; n != want {
				t.Errorf("%q finds %d, want %d", words, n, want)
			}
		}
		if _, errs, code := run(t, "", "register", "list", "larger:much", "--everywhere"); code != exitInvalid ||
			!strings.Contains(errs, "larger:much") {
			t.Errorf("a search that cannot be: %d, %q", code, errs)
		}
	})

	t.Run("an export has the lines of all", func(t *testing.T) {
		file := filepath.Join(t.TempDir(), "all.csv")
		says(t, "the export", must(t, "register", "export", "--everywhere", "--columns", "number,subject", "--sort",
			"subject", "--up", "--file", file), "36 filings")
		f, err := os.Open(file)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		rows, err := csv.NewReader(f).ReadAll()
		if err != nil || len(rows) != 3*each+1 {
			t.Fatal(len(rows), err)
		}
		var subjects []string
		seen := map[string]int{}
		for _, r := range rows[1:] {
			subjects = append(subjects, r[2])
			seen[r[0]]++
		}
		if !slices.IsSorted(subjects) || seen["south"] != each || seen["north"] != each || seen["east"] != each {
			t.Errorf("the lines are %v, in the order %q", seen, subjects)
		}
	})

	t.Run("history, activity and folders count all", func(t *testing.T) {
		everywhere, most := true, 2
		var machines []string
		p := client.ListPassesParams{Everywhere: &everywhere, Most: &most}
		for {
			answer, err := south.api.ListPasses(t.Context(), &p)
			next := ""
			if err == nil {
				next = answer.Header.Get("Inktray-Next")
			}
			passes, err := call[[]client.Pass](answer, err)
			if err != nil {
				t.Fatal(err)
			}
			for _, pass := range passes {
				machines = append(machines, *pass.Machine)
			}
			if next == "" {
				break
			}
			p.Cursor = &next
		}
		for _, m := range o.machines {
			own, err := call[[]client.Pass](m.api.ListPasses(t.Context(), &client.ListPassesParams{}))
			if err != nil {
				t.Fatal(err)
			}
			if n := len(machines) - len(slices.DeleteFunc(slices.Clone(machines),
				func(name string) bool { return name == m.name })); n != len(own) {
				t.Errorf("%d passes of %s, want %d", n, m.name, len(own))
			}
		}
		says(t, "the activity", must(t, "register", "activity", "--everywhere", "--by", "rule"), "Readings of north",
			"36 filings")
		says(t, "the folders", must(t, "register", "folders", "--everywhere", "--cabinet", "files"), "Gauges", "36")
	})

	t.Run("a command is carried out elsewhere", func(t *testing.T) {
		says(t, "its rules", must(t, "--at", "north", "rules", "list"), "Readings of north")
		says(t, "its register", must(t, "--at", "north", "register", "list"), "north-03.csv")
		entry := o.register(south, "machine:east reading 01").Filings[0].Entry
		into := filepath.Join(t.TempDir(), "fetched.csv")
		must(t, "--at", "east", "register", "fetch", entry, "--to", into)
		if data, err := os.ReadFile(into); err != nil || string(data) != "east,1\r\n" {
			t.Errorf("the file of another machine is %q, %v", data, err)
		}
		says(t, "an unknown one", fails(t, "--at", "west", "rules", "list"),
			"no other machine of the office is called “west”")
		says(t, "a token", fails(t, "--at", "north", "keys", "make", "more"), "done at the machine itself")
		must(t, "--at", "east", "register", "note", entry, "seen from the south")
		until(t, "the note is found", func() bool { return o.register(south, "note:south").Total == 1 })
		says(t, "its trail", must(t, "--at", "east", "audit", "list"), "note on filing", demoPerson)
	})

	t.Run("what cannot be added is refused", func(t *testing.T) {
		must(t, "machines", "remove", "east", "--yes")
		north, east := o.machines[1], o.machines[2]
		for _, c := range []struct {
			says, name, address, place string
			of                         *machineOf // whose token is shown
		}{
			{"is what this machine is called", "South", east.url, east.place, east},
			{"already, as “north”", "again", north.url, north.place, north},
			{"letters, digits, dots and dashes only", "a/b", east.url, east.place, east},
			{"names more than a machine", "x", east.url + "/x", east.place, east},
			{"the address begins with ftp", "x", "ftp://east.example", east.place, east},
			{"does not answer", "x", "http://127.0.0.1:1", east.place, east},
			{"no replica", "x", east.url, t.TempDir(), east},
			{"is that of another installation", "x", east.url, north.place, east},
			{"give the whole path", "x", east.url, "relative", east},
			{"it does not take the token", "x", east.url, east.place, north},
			{"that is this machine itself", "x", south.url, south.place, south},
		} {
			t.Setenv(machineToken, o.tokenFor(c.of))
			says(t, c.says, fails(t, "machines", "add", c.name, "--address", c.address, "--of", c.place), c.says)
		}
		t.Setenv(machineToken, "")
		token, phrase := o.tokenFor(east), os.Getenv(replicaPassphrase)
		added := make(chan string)
		for _, name := range []string{"east", "east-too", "eastern"} { // three people at once
			go func() {
				_, err := call[client.Machine](south.api.AddMachine(t.Context(), client.MachineSettings{Name: name,
					Address: east.url, Place: east.place, Token: &token, Passphrase: &phrase}))
				if err == nil {
					added <- name
				} else if added <- ""; !strings.Contains(err.Error(), "that machine is here already, as") {
					t.Errorf("%s is refused: %v", name, err)
				}
			}()
		}
		if names := <-added + <-added + <-added; !strings.HasPrefix(names, "east") || strings.Count(names, "east") != 1 {
			t.Errorf("added at once: %q", names)
		} else {
			must(t, "machines", "remove", names, "--yes")
		}
		o.join(east)
		t.Setenv(machineToken, "")
		t.Setenv(replicaPassphrase, "")
		says(t, "another address", fails(t, "machines", "change", "north", "--address", "http://127.0.0.1:1"),
			"given for another address; enter it again")
		must(t, "machines", "change", "north", "--name", "far-north")
		must(t, "machines", "change", "far-north", "--name", "north")
	})

	t.Run("a machine that is away is told, and its lists stay", func(t *testing.T) {
		o.machines[2].kill()
		until(t, "it is told", func() bool {
			return strings.Contains(must(t, "machines", "list"), "no: it does not answer")
		})
		if n := o.register(south, "").Total; n != 3*each {
			t.Errorf("the register has %d lines, want %d", n, 3*each)
		}
		says(t, "its list from the copy", must(t, "--at", "east", "register", "list"), "east-03.csv")
		says(t, "its tray from the copy", must(t, "--at", "east", "tray", "list"), "The tray is empty")
		says(t, "a change", fails(t, "--at", "east", "rules", "off", "Readings of east"), "does not answer")
		o.machines[2].start()
	})

	t.Run("a mailbox moves there and back", func(t *testing.T) {
		t.Setenv("INKTRAY_SECRET", "pw")
		says(t, "the move", must(t, "mailboxes", "move", "south", "--to", "north", "--yes"), "is now on the machine “north”")
		o.send("south", each, each+3)
		until(t, "what came meanwhile is filed there", func() bool { return o.register(south, "").Total == 3*each+3 })
		if n := o.register(south, "machine:north mailbox:south").Total; n != 3 {
			t.Errorf("north filed %d of it, want 3", n)
		}
		says(t, "there", must(t, "--at", "north", "mailboxes", "list"), "south")
		says(t, "a wrong secret", fails2(t, "wrong", "mailboxes", "move", "south", "--from", "north", "--to", "south",
			"--yes"), "does not reach the mailbox")
		says(t, "still there", must(t, "--at", "north", "mailboxes", "list"), "south")
		must(t, "mailboxes", "move", "south", "--from", "north", "--to", "south", "--yes")
		o.send("south", each+3, each+5)
		until(t, "it goes on here", func() bool { return o.register(south, "machine:south").Total == each+2 })
		if n := o.register(south, "").Total; n != 3*each+5 {
			t.Errorf("%d are filed in all, want %d: something was filed twice, or not", n, 3*each+5)
		}
		says(t, "to nowhere", fails(t, "mailboxes", "move", "south", "--to", "west", "--yes"), "no other machine")
		says(t, "to itself", fails(t, "mailboxes", "move", "south", "--to", "south", "--yes"), "already")
	})
}

// Who is known at both machines sees there what she may see there, and nothing more; the token of a machine is good for
// nothing else.
func TestAtAnotherMachineEverybodyHasTheRightsOfThere(t *testing.T) {
	o := startOffice(t, "south", "north")
	south, north := o.machines[0], o.machines[1]
	o.mailbox(north, "secret")
	for _, user := range []string{"south", "north"} {
		o.send(user, 0, 4)
	}
	until(t, "all is filed", func() bool { return o.register(south, "").Total == 8 })
	// person invites somebody; what she may see is by name.
	person := func(m *machineOf, name string, role client.Role, mailboxes ...string) client.Invited {
		t.Helper()
		rights := client.Rights{AllMailboxes: len(mailboxes) == 0, AllCabinets: true, Mailboxes: mailboxes,
			Cabinets: []string{}}
		if rights.Mailboxes == nil {
			rights.Mailboxes = []string{}
		}
		in, err := call[client.Invited](m.api.InvitePerson(t.Context(), client.Invitation{
			Person: client.PersonSettings{Name: name, Role: role, Rights: &rights}}))
		if err != nil {
			t.Fatal(err)
		}
		return in
	}
	signedIn := func(in client.Invited) *machineOf {
		t.Helper()
		_, code, _ := strings.Cut(in.Path, "#")
		c := &command{service: south.url}
		token, err := c.tokenBy(t.Context(), "three words of hers", func(api *client.Client) (*http.Response, error) {
			return api.UseLink(t.Context(), client.LinkUse{Code: code, Password: "three words of hers"})
		})
		if err != nil {
			t.Fatal(err)
		}
		api, err := c.connectWith(token)
		if err != nil {
			t.Fatal(err)
		}
		return &machineOf{name: "south", process: &process{t: t, url: south.url, token: token, api: api}}
	}
	mara := signedIn(person(south, "Mara", client.Reader))
	person(north, "Mara", client.Clerk, "secret")
	tove := signedIn(person(south, "Tove", client.Clerk))
	until(t, "she is known there", func() bool {
		all, err := call[client.Machines](mara.api.ListMachines(t.Context()))
		return err == nil && all.Others[0].Known
	})
	if page := o.register(mara, ""); page.Total != 4 || page.Missing != nil {
		t.Errorf("who may see another mailbox of the north sees %d lines, %v", page.Total, page.Missing)
	}
	if page := o.register(tove, ""); page.Total != 4 || page.Missing != nil {
		t.Errorf("who is not known in the north sees %d lines, %v", page.Total, page.Missing)
	}
	o.on(tove)
	says(t, "who is not known there", fails(t, "--at", "north", "register", "list"), "nobody called “Tove” may sign in")
	says(t, "what she sees of it", must(t, "machines", "list"), "no")
	o.on(mara)
	says(t, "who is no administrator there", fails(t, "--at", "north", "people", "list"),
		"this needs the role administrator")
	says(t, "her mailboxes there", must(t, "--at", "north", "mailboxes", "list"), "secret")
	if out := must(t, "--at", "north", "mailboxes", "list"); strings.Contains(out, "north ") {
		t.Errorf("she sees of the north\n%s", out)
	}
	all, err := call[client.Machines](mara.api.ListMachines(t.Context()))
	if err != nil || all.Others[0].Place != nil || all.Others[0].User != nil {
		t.Errorf("a reader is told where the replica is: %+v, %v", all, err)
	}
	for _, command := range [][]string{{"machines", "remove", "north", "--yes"},
		{"mailboxes", "move", "south", "--to", "north", "--yes"}} {
		says(t, strings.Join(command, " "), fails(t, command...), "this needs the role administrator")
	}
	o.on(south)
	token := o.tokenFor(north)
	for _, c := range []struct {
		what, path, person string
		status             int
		says               string
	}{
		{"what the machine is", "/api/v1/machine", "", 200, `"name":"north"`},
		{"anything else without a person", "/api/v1/register", "", 403, "for machine only"},
		{"for an administrator", "/api/v1/register", demoPerson, 200, "reading 01 of north"},
		{"for nobody", "/api/v1/register", "nobody", 403, "nobody called"},
		{"for an empty name", "/api/v1/register", "%20", 403, "nobody called"},
		{"more tokens", "/api/v1/me/keys", demoPerson, 403, "at the machine itself"},
		{"a third machine", "/api/at/south/v1/register", demoPerson, 403, "scope full"},
	} {
		if status, body := asks(t, north.url+c.path, token, c.person); status != c.status || !strings.Contains(body, c.says) {
			t.Errorf("%s: %d, %.300s; want %d, %q", c.what, status, body, c.status, c.says)
		}
	}
	// An address in another spelling is none.
	for _, at := range []string{"/API/at/north/v1/register", "/api/AT/north/v1/register", "/api/at//v1/register",
		"/api/at/north/V1/register", "/api/at/north/v1/../v1/register", "/api/at/north/%761/register",
		"/api/at/north/v1%2fregister", "/api/at/north", "/api/at/north/", "/api/at/north/metrics",
		"/api/at/../v1/register", "/api/at/north/v1//register", "/api/at/north%2fv1/register"} {
		if status, body := asks(t, south.url+at, south.token, ""); status == 200 && !strings.Contains(body, "<!doctype") ||
			strings.Contains(body, "of north") {
			t.Errorf("%s answers %d: %.200s", at, status, body)
		}
	}
	for _, c := range []struct{ token, site string }{{"", "same-origin"}, {south.token, "cross-site"}} {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, south.url+"/api/at/north/v1/rules/r-north/off",
			strings.NewReader("{}"))
		if err != nil {
			t.Fatal(err)
		}
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set("Sec-Fetch-Site", c.site)
		if c.token != "" {
			r.Header.Set("Authorization", "Bearer "+c.token)
		}
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			t.Fatal(err)
		}
		if answer.Body.Close(); answer.StatusCode != 401 && answer.StatusCode != 403 {
			t.Errorf("from %s with the token %q: %d", c.site, c.token, answer.StatusCode)
		}
	}
	// What a restricted person sees of a copy is what she would see there.
	north.kill()
	until(t, "it is told", func() bool { return strings.Contains(must(t, "machines", "list"), "does not answer") })
	shown := 0
	for _, path := range []string{"register", "register/messages", "register/folders?cabinet=files",
		"register/activity?by=sender", "register/activity?by=mailbox", "tray", "passes", "messages", "today", "mailboxes",
		"rules", "register/2026-1", "passes/1", "me", "cabinets", "machines"} {
		at := south.url + "/api/at/north/v1/" + path
		if status, body := asks(t, at, mara.token, ""); strings.Contains(body, "of north") || strings.Contains(body,
			"north-0") || status >= 500 && status != 502 {
			t.Errorf("from the copy she learns by %s (%d): %.300s", path, status, body)
		}
		if _, body := asks(t, at, south.token, ""); strings.Contains(body, "of north") {
			shown++
		}
	}
	if shown < 6 {
		t.Errorf("an administrator sees something of the mailbox by %d addresses only, so this proves little", shown)
	}
	if status, body := asks(t, south.url+"/api/at/north/v1/people", south.token, ""); status != 502 ||
		!strings.Contains(body, "the copy of its records does not say this") {
		t.Errorf("what no copy says: %d, %s", status, body)
	}
	north.start()
	// The field says nothing with another token.
	if _, body := asks(t, north.url+"/api/v1/me", north.token, "somebody else"); !strings.Contains(body, demoPerson) {
		t.Errorf("with an ordinary token the service answers %s", body)
	}
}

// Where a standby takes over from another machine, the office goes on with it, at its own address.
func TestTheOfficeGoesOnWithAMachineThatTookOver(t *testing.T) {
	o := startOffice(t, "south")
	south := o.machines[0]
	place := t.TempDir()
	north := o.machineIn(place, "north", "--lease", "2s")
	waits := &process{t: t, folder: t.TempDir(), url: fmt.Sprintf("http://127.0.0.1:%d", testbed.FreePort(t))}
	waits.args = []string{"standby", "--data", waits.records(), "--listen", strings.TrimPrefix(waits.url, "http://"),
		"--of", place, "--machine", "north-2", "--lease", "2s", "--time-zone", "UTC"}
	t.Cleanup(waits.kill)
	waits.begin()
	first := north.url
	north.url += " " + waits.url
	o.join(north)
	north.url = first
	o.send("north", 0, 5)
	until(t, "all is filed", func() bool { return o.register(south, "machine:north").Total == 5 })
	until(t, "the standby is ready", func() bool {
		r, err := call[client.Replica](north.api.GetReplica(t.Context()))
		return err == nil && len(r.Waiting) == 1 && r.Waiting[0].Ready
	})
	north.kill()
	o.send("north", 5, 8)
	until(t, "the other machine works, and its filings are seen", func() bool {
		return o.register(south, "machine:north").Total == 8
	})
	until(t, "it is asked at its own address", func() bool {
		out, _, code := run(t, "", "--at", "north", "version")
		m, err := call[client.Machine](south.api.GetOtherMachine(t.Context(), "north"))
		return code == 0 && out != "" && err == nil && m.Answers
	})
	says(t, "its rules", must(t, "--at", "north", "rules", "list"), "Readings of north")
}

// fails2 runs a command with a secret that has to fail.
func fails2(t *testing.T, secret string, args ...string) string {
	t.Helper()
	t.Setenv("INKTRAY_SECRET", secret)
	defer t.Setenv("INKTRAY_SECRET", "pw")
	return fails(t, args...)
}

// asks asks a machine by HTTP with a token, for a person.
func asks(t *testing.T, url, token, person string) (status int, body string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url, nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+token)
	if person != "" {
		r.Header.Set("Inktray-Person", person)
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	data, err := io.ReadAll(answer.Body)
	if err = errors.Join(err, answer.Body.Close()); err != nil {
		t.Fatal(err)
	}
	return answer.StatusCode, string(data)
}
