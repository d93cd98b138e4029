package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"inktray.example/inktray/internal/store"
)

// hidden is in every name, word and text of what a restricted person may not see, and nowhere else.
const hidden = "qzjx"

// said is how much of an answer an administrator sees of another mailbox.
type said int

const (
	tells  said = iota // an administrator sees something of the other mailbox, so the test can fail
	silent             // nobody sees anything of a mailbox there
)

// contract is what is asked of each operation that is for more than administrators. An operation that is not
// here fails the test. body holds what is sent, with the words MESSAGE, ITEM, ENTRY and OWN for identities.
var contract = map[string]struct {
	said
	query, body string
}{
	"GetInterface": {said: silent},
	"GetHealth":    {said: silent}, "GetReady": {said: silent}, "GetVersion": {said: silent}, "GetSetup": {said: silent},
	"PostSetup": {silent, "", `{"code":"x","name":"x","password":"a very long one"}`},
	"SignIn":    {silent, "", `{"name":"nobody","password":"a very long one"}`},
	"GetMe":     {said: silent}, "GetReceiving": {said: silent}, "GetRuleSchema": {said: silent},
	"GetLanguage": {said: silent}, "GetRegisterLanguage": {said: silent}, "TakeConsent": {said: silent},
	"GetTrust": {said: silent}, "GetScans": {said: silent}, "GetLimits": {said: silent}, "ListTables": {said: silent},
	"MakeToken":        {silent, "", `{"label":"t"}`},
	"ChangeMyPassword": {silent, "", `{"old":"not this one","new":"another long one"}`},
	"ListMyKeys":       {said: silent}, "EndMyKey": {said: silent},
	"GetMyFactor": {said: silent}, "BeginFactor": {silent, "", `{"password":"not this one"}`},
	"ConfirmFactor": {silent, "", `{"code":"123456"}`}, "RemoveMyFactor": {silent, "", `{"password":"not this one"}`},
	"BeginPasskey":  {silent, "", `{"password":"not this one"}`},
	"AddPasskey":    {silent, "", `{"ticket":"x","name":"phone","credential":{}}`},
	"RemovePasskey": {silent, "", `{"password":"not this one"}`}, "BeginPasskeySignIn": {said: silent},
	"SignInByPasskey":   {silent, "", `{"ticket":"x","credential":{}}`},
	"MakeRecoveryCodes": {silent, "", `{"password":"not this one"}`},
	"GetOfficeDoor":     {said: silent}, "GoToOffice": {said: silent}, "BackFromOffice": {said: silent},
	"LookAtLink":    {silent, "", `{"code":"x"}`},
	"UseLink":       {silent, "", `{"code":"x","password":"a very long one"}`},
	"ChooseColumns": {silent, "", `{"columns":[]}`},
	"GetMachine":    {said: silent}, "ListMachines": {said: silent}, "GetOtherMachine": {said: silent},

	"ListMailboxes": {said: tells}, "GetMailbox": {said: tells}, "TryMailbox": {said: silent},
	"GetMailboxRemains": {said: silent}, "ListFolders": {said: silent},
	"LookInto": {said: tells}, "TakeIn": {said: silent},
	"ListCabinets": {said: tells}, "CheckCabinet": {said: tells}, "ListCabinetFolders": {said: tells},
	"ListCorrespondents": {said: silent}, "ListProposals": {said: silent},
	"ListTopics": {said: silent}, "AddTopic": {silent, "", `{"name":"tides"}`},
	"ListExamples": {said: tells}, "MarkMessages": {silent, "", `{"messages":[MESSAGE],"about":true}`},
	"TakeExamplesBack": {silent, "?number=1", ""}, "ListTeachings": {said: silent}, "RehearseTopic": {said: silent},
	"ListRules": {said: tells}, "GetRule": {said: tells}, "GetRemains": {said: silent},
	"ListRevisions": {said: tells}, "ExportRules": {said: tells},
	"RehearseRule": {tells, "?last=100", `{"name":"x","cabinet":"harbour","look":{"mailboxes":"all"},` +
		`"match":"every message","attachments":[{"take":"everything","folder":"F"}]}`},
	"RehearseAll": {said: tells}, "GetChoices": {said: tells}, "DraftRule": {said: tells},
	"FileOldMail":  {said: silent, body: `{"most":1}`},
	"ListMessages": {said: tells}, "ExplainMessage": {said: tells}, "JudgeMessage": {said: silent},
	"ProveMessage": {said: silent}, "ReadMessage": {said: tells}, "ShowMessage": {said: silent},
	"FileByHand":   {silent, "", `{"messages":[{"message":MESSAGE}],"cabinet":"harbour","folder":"By hand"}`},
	"ChangeByHand": {silent, "", `{"messages":[MESSAGE],"mark":["read"]}`},
	"FileAgain":    {said: silent},
	"ListPasses":   {said: tells}, "GetPass": {said: tells}, "SteerPass": {silent, "", `{"to":"stopped"}`},
	"ListPassMessages": {said: tells}, "ListUnreadMessages": {said: silent}, "PreviewUndoOfPass": {said: tells},
	"UndoPass": {said: silent}, "FilePassAgain": {said: silent}, "PreviewUndoOfItem": {said: tells},
	"UndoItem":       {said: silent},
	"ListAddressees": {said: silent}, "ListAlarms": {said: tells}, "GetMetrics": {said: tells},
	"ListRegister": {said: tells}, "ListRegisterMessages": {said: tells}, "ListRegisterFolders": {said: tells},
	"GetActivity": {said: silent}, "StartExport": {silent, "", `{"format":"csv"}`}, "GetExport": {said: silent},
	"StopExport": {said: silent}, "GetExportFile": {said: tells}, "GetVerification": {said: silent},
	"StartVerification": {silent, "", `{}`}, "StartReadingValues": {silent, "", `{}`},
	"GetFiling": {said: tells}, "AddNote": {silent, "", `{"text":"noted"}`}, "CorrectValue": {silent, "", `{"text":"1"}`}, "RemoveNote": {said: silent},
	"VerifyFiling": {said: tells}, "GetFile": {said: tells},
	"GetPlaces": {said: silent}, "GetInside": {said: tells},
	"ProposeValue": {tells, "?in=subject&selected=.csv", ""}, "GetWords": {said: silent},
	"ListRegisterFiles": {said: tells}, "WriteRegisterFile": {said: silent},
	"ListTray":     {said: tells},
	"AnswerTopics": {silent, "", `{"matters":["ITEM"],"about":true}`},
	"TryAgain":     {silent, "", `{"matters":["ITEM"]}`}, "ReleaseHeld": {silent, "", `{"matters":["ITEM"]}`},
	"FileElsewhere":    {silent, "", `{"matters":["ITEM"],"cabinet":"harbour","folder":"Elsewhere"}`},
	"FileMissingAgain": {silent, "", `{"matters":["fITEM"]}`}, "SetAside": {silent, "", `{"matters":["ITEM"]}`},
	"SettleNotice": {said: silent}, "GetToday": {said: tells},
}

// elsewhere says where an operation is tried instead.
var elsewhere = map[string]string{"GetEvents": "below", "SignOut": "it would end the token of this test"}

// twoMailboxes is an office with two mailboxes, two cabinets and a rule for each, and what was filed and held.
type twoMailboxes struct {
	*office
	own, other belongings
}

// belongings are the identities of what belongs to a mailbox.
type belongings struct {
	mailbox, cabinet, rule, topic, file, entry string
	messages                                   []int64
	filed, held, pass                          int64
}

func (o *twoMailboxes) letter(word, file string) string {
	content := "content of " + word
	if strings.HasSuffix(file, ".pdf") { // which it is not
		content = "MZ\x90\x00\x03\x00\x00\x00" + content
	}
	text := "From: Oda <oda@" + word + ".example>\r\nTo: office@brackwater.example\r\nSubject: about " + word + " " +
		file +
		"\r\nMessage-ID: <" + word + file + "@" + word + ".example>\r\nDate: " + time.Now().Format(time.RFC1123Z) +
		"\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\n" +
		"this tells of " + word + "\r\n--b\r\nContent-Type: application/octet-stream\r\nContent-Disposition: attachment; " +
		"filename=\"" + file + "\"\r\n\r\n" + content + "\r\n--b--\r\n"
	return text
}

func (o *twoMailboxes) must(method, path, body, content string) map[string]any {
	o.t.Helper()
	status, _, answer := o.ask(method, path, o.token, body, "Content-Type", content)
	if status >= 300 {
		o.t.Fatalf("%s %s: %d %v", method, path, status, answer)
	}
	return answer
}

func openTwoMailboxes(t *testing.T) *twoMailboxes {
	o := &twoMailboxes{office: openOffice(t, empty)}
	o.token, _ = o.person("Ines Halloway", store.Administrator)
	o.t.Setenv("INKTRAY_TOKEN", o.token)
	var err error
	if o.api, err = (&command{service: o.service.address()}).connectWith(o.token); err != nil {
		t.Fatal(err)
	}
	const js = "application/json"
	topic := fmt.Sprint(o.must("POST", "/api/v1/topics", `{"name":"soundings"}`, js)["id"])
	for _, of := range []struct{ word, cabinet string }{{"berths", "harbour"}, {hidden, hidden + "cabinet"}} {
		at := &o.own
		if of.word == hidden {
			at = &o.other
		}
		at.topic = topic
		folder := filepath.Join(o.folder, of.cabinet)
		if err := os.MkdirAll(folder, 0o755); err != nil {
			t.Fatal(err)
		}
		at.cabinet = fmt.Sprint(o.must("POST", "/api/v1/cabinets", fmt.Sprintf(`{"name":%q,"folder":%q}`, of.cabinet, folder),
			js)["id"])
		at.mailbox = fmt.Sprint(o.must("POST", "/api/v1/mailboxes", fmt.Sprintf(`{"name":%q,"kind":"files"}`, of.word), js)["id"])
		at.rule = "rule-" + of.word
		o.must("POST", "/api/v1/rules", fmt.Sprintf(`{"id":%q,"name":"of %s","cabinet":%q,"look":{"mailboxes":%q},`+
			`"match":"every message","attachments":[{"take":"everything","folder":"%s/<received year>"}]}`, at.rule, of.word,
			of.cabinet, of.word, of.word), js)
		o.must("POST", "/api/v1/rules/"+at.rule+"/on", `{}`, js)
		at.file = fmt.Sprint(o.must("POST", "/api/v1/register-files", fmt.Sprintf(
			`{"name":"register of %s","cabinet":%q,"format":"csv","rule":%q}`, of.word, of.cabinet, "of "+of.word), js)["id"])
		o.must("POST", "/api/v1/addressees", fmt.Sprintf(`{"name":"office %s","kind":"mail","addresses":["a@brackwater.example"]}`,
			of.word[:1]), js)
		o.must("POST", "/api/v1/alarms", fmt.Sprintf(`{"name":"quiet %s","kind":"out of reach","mailbox":%q,`+
			`"after_minutes":60,"who":["office %s"]}`, of.word, of.word, of.word[:1]), js)
	}
	for _, of := range []struct{ word, box string }{{"berths", o.own.mailbox}, {hidden, o.other.mailbox}} {
		for _, file := range []string{of.word + ".csv", of.word + ".pdf", "more of " + of.word + ".csv"} {
			o.must("POST", "/api/v1/mailboxes/"+of.box+"/messages", o.letter(of.word, file), "application/octet-stream")
		}
	}
	records := o.service.store
	until(t, "all is filed or held", func() bool {
		states, err := records.Journal.StateCounts(t.Context(), store.System)
		return err == nil && states[store.Filed] == 4 && states[store.Held] == 2
	})
	rows, err := records.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 100})
	if err != nil {
		t.Fatal(err)
	}
	for i := range rows {
		at := &o.own
		if rows[i].MailboxID == o.other.mailbox {
			at = &o.other
		}
		at.messages = append(at.messages, rows[i].ID)
		entries, err := records.Journal.OfMessage(t.Context(), store.System, rows[i].ID)
		if err != nil {
			t.Fatal(err)
		}
		for _, e := range entries {
			if e.State == store.Held {
				at.held = e.ID
			} else {
				at.filed, at.entry, at.pass = e.ID, fmt.Sprintf("%d-%d", e.RegisterYear, e.RegisterNumber), e.PassID
			}
		}
	}
	o.must("POST", "/api/v1/topics/"+topic+"/examples", fmt.Sprintf(`{"messages":[%d],"about":true}`, o.own.messages[0]), js)
	o.must("POST", "/api/v1/topics/"+topic+"/examples", fmt.Sprintf(`{"messages":[%d],"about":true}`, o.other.messages[0]), js)
	return o
}

// state is what was decided of the other mailbox, what is to be done in it, and what people wrote about it.
func (o *twoMailboxes) state() string {
	o.t.Helper()
	var b strings.Builder
	for _, id := range o.other.messages {
		entries, err := o.service.store.Journal.OfMessage(o.t.Context(), store.System, id)
		if err != nil {
			o.t.Fatal(err)
		}
		for _, e := range entries {
			fmt.Fprintln(&b, e.ID, e.State, e.Path, e.Given, e.Undo)
		}
		steps, err := o.service.store.FollowUps.FollowUpsOf(o.t.Context(), store.System, id)
		if err != nil {
			o.t.Fatal(err)
		}
		fmt.Fprintln(&b, id, len(steps))
	}
	fmt.Fprintln(&b, o.must("GET", "/api/v1/register/"+o.other.entry, "", "")["notes"])
	return b.String()
}

// export writes a table with what somebody sees, and gives its identity once it is there.
func (o *twoMailboxes) export(token string) string {
	o.t.Helper()
	status, _, answer := o.ask("POST", "/api/v1/register/exports", token, `{"format":"csv"}`)
	if status >= 300 {
		o.t.Fatal(status, answer)
	}
	id := fmt.Sprint(answer["id"])
	until(o.t, "the export is there", func() bool {
		_, _, x := o.ask("GET", "/api/v1/register/exports/"+id, token, "")
		return x["state"] == "done"
	})
	return id
}

// text asks, and gives the status and the whole answer in small letters.
func (o *twoMailboxes) text(method, path, token, body, content string) (int, string) {
	o.t.Helper()
	status, header, data := o.request(method, path, token, body, "Content-Type", content)
	return status, strings.ToLower(string(data) + fmt.Sprint(header))
}

// addresses are the addresses at which an operation is tried: of the other mailbox, and of one's own.
func (o *twoMailboxes) addresses(path string, export string) []string {
	if !strings.Contains(path, "{") {
		return []string{path}
	}
	var all []string
	for _, of := range []*belongings{&o.other, &o.own} {
		id := map[string]string{"mailboxes": of.mailbox, "cabinets": of.cabinet, "rules": of.rule, "topics": of.topic,
			"register-files": of.file}[strings.Split(path, "/")[3]]
		if strings.Contains(path, "/exports/") {
			id = export
		}
		number := map[string]int64{"messages": of.messages[0], "passes": of.pass, "items": of.filed,
			"rules": of.messages[0], "register": 1, "tray": 1}[strings.Split(path, "/")[3]]
		path = strings.ReplaceAll(path, "{name}", "none")
		if id == "" { // of nothing that this test has
			id = "none"
		}
		all = append(all, strings.NewReplacer("{id}", id, "{number}", itoa(number), "{entry}", of.entry).Replace(path))
	}
	return all
}

// For every operation: somebody with rights on one of two mailboxes, and on one of two cabinets, learns nothing of the
// other ones, neither by what is listed nor by naming what belongs to it.
func TestNoOperationTellsOfAMailboxWithoutTheRightToIt(t *testing.T) {
	o := openTwoMailboxes(t)
	spec, err := openapi3.NewLoader().LoadFromFile(filepath.Join("..", "api", "openapi.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	type person struct {
		name, token, export string
		role                store.Role
	}
	var people []person
	only := store.Rights{Mailboxes: []string{o.own.mailbox}, Cabinets: []string{o.own.cabinet}}
	for name, role := range map[string]store.Role{"Tamsin Clerk": store.Clerk, "Rowan Reader": store.Reader,
		"Petra of a group": store.Clerk} {
		token, id := o.person(name, role)
		p, err := o.service.store.People.ByID(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		rights := only
		if strings.Contains(name, "group") { // who has her rights from a group alone
			rights = store.Rights{}
			g := store.Group{ID: store.NewID(), Name: "berth office", MadeAt: time.Now()}
			if err := o.service.store.People.SaveGroup(t.Context(), &g, only, []string{id}, "test"); err != nil {
				t.Fatal(err)
			}
			if err := o.service.store.People.Change(t.Context(), &p, rights, []string{g.ID}, 0, "test"); err != nil {
				t.Fatal(err)
			}
		} else if err := o.service.store.People.Change(t.Context(), &p, rights, nil, 0, "test"); err != nil {
			t.Fatal(err)
		}
		people = append(people, person{name, token, o.export(token), role})
	}
	boss := person{"the administrator", o.token, o.export(o.token), store.Administrator}
	tried, before := 0, o.state()
	events, stop := o.listen(people[0].token)
	defer stop()
	methods := []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodDelete}
	for _, method := range methods { // what changes something comes last
		for _, path := range slices.Sorted(maps.Keys(spec.Paths.Map())) {
			operation := spec.Paths.Find(path).Operations()[method]
			if operation == nil || elsewhere[operation.OperationID] != "" {
				continue
			}
			needed, _ := operation.Extensions["x-permission"].(string)
			row, known := contract[operation.OperationID]
			if needed != string(store.Administrator) && !known {
				t.Errorf("%s is new: say in this test what it may tell", operation.OperationID)
				continue
			}
			content := "application/json"
			if operation.OperationID == "TakeIn" {
				content, row.body = "application/octet-stream", o.letter("berths", "once more.csv")
			}
			for _, who := range append([]person{boss}, people...) {
				if who.role == store.Administrator && (needed == string(store.Administrator) || row.said == silent) {
					continue
				}
				told := false
				for i, at := range o.addresses(path, who.export) {
					of := &o.other
					if i == 1 {
						of = &o.own
					}
					body := strings.NewReplacer("MESSAGE", itoa(of.messages[0]), "ITEM", itoa(of.held)).Replace(row.body)
					if body == "" && operation.RequestBody != nil {
						body = "{}"
					}
					status, answer := o.text(method, at+row.query, who.token, body, content)
					tried++
					if status >= 500 {
						t.Errorf("%s: %s %s answers %d: %.300s", who.name, method, at, status, answer)
					}
					if !who.role.May(store.Role(needed)) && needed != "everyone" && status != 403 {
						t.Errorf("%s: %s %s answers %d, though it needs the role %s", who.name, method, at, status, needed)
					}
					told = told || strings.Contains(answer, hidden)
					if at := strings.Index(answer, hidden); at >= 0 && who.role != store.Administrator {
						t.Errorf("%s learns by %s (%d): …%s…", who.name, operation.OperationID, status,
							answer[max(0, at-150):min(len(answer), at+50)])
					}
				}
				if who.role == store.Administrator && !told {
					t.Errorf("an administrator sees nothing of the other mailbox by %s, so this test proves nothing there",
						operation.OperationID)
				}
			}
		}
	}
	o.settled()
	if after := o.state(); after != before {
		t.Errorf("something of the other mailbox was changed:\n%s\nbefore:\n%s", after, before)
	}
	o.must("POST", "/api/v1/mailboxes/"+o.other.mailbox+"/messages", o.letter(hidden, "at last.csv"),
		"application/octet-stream")
	o.settled()
	if heard := events(); strings.Contains(heard, hidden) || strings.Contains(heard, o.other.mailbox) {
		t.Errorf("the stream of events tells of the other mailbox: %s", heard)
	}
	if tried < 300 {
		t.Errorf("only %d requests were made", tried)
	}
}

// listen gathers what a stream of events tells somebody.
func (o *twoMailboxes) listen(token string) (heard func() string, stop func()) {
	ctx, cancel := context.WithCancel(o.t.Context())
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, o.service.address()+"/api/v1/events", nil)
	if err != nil {
		o.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+token)
	response, err := http.DefaultClient.Do(r)
	if err != nil {
		o.t.Fatal(err)
	}
	var all lines
	done := make(chan struct{})
	go func() {
		defer close(done)
		_, _ = io.Copy(&all, response.Body)
	}()
	return all.String, func() { cancel(); <-done; response.Body.Close() }
}
