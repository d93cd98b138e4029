package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/demo"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/testbed"
)

// plainLetter is a message without anything a rule of the demo looks for.
func plainLetter(subject, text, name string) []byte {
	return fmt.Appendf(nil, "From: Vera Quill <vera@quill.example>\r\nTo: berths@brackwater.example\r\nSubject: "+
		"%s\r\nMessage-ID: <%s@quill.example>\r\nDate: Tue, 12 May 2026 06:02:00 +0000\r\nContent-Type: multipart/mixed; "+
		"boundary=b\r\n\r\n--b\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n%s\r\n--b\r\nContent-Type: text/csv; "+
		"name=%s\r\nContent-Disposition: attachment\r\n\r\n1;2\r\n--b--\r\n",
		subject, strings.ReplaceAll(subject, " ", "."), text, name)
}

// nearer are texts of which each is nearer to the demo's topic than the one before. Which of them is in doubt
// depends on the mail that was counted.
var nearer = []string{"Shall we have soup at the berth on Thursday?", "Please reserve a berth, and soup, for Thursday.",
	"Berth request for our vessel on Thursday. Please reserve the berth."}

// asked is the first matter in the tray about a topic; none while nothing is in doubt.
func asked(t *testing.T) (matter client.Matter) {
	t.Helper()
	for _, g := range value[client.Tray](t, "tray", "list").Groups {
		if g.Cause == "topic" {
			return g.Matters[0]
		}
	}
	return matter
}

const topicRule = `format: 1
rules:
  - name: By meaning
    cabinet: harbour files
    look: {mailboxes: berths}
    match: {all: [{topic: {is: Berth requests, confidence: 85%}}, {sender: {domain: quill.example}}]}
    attachments: [{take: everything, folder: By meaning}]
`

func TestTopicsAndTrustByTheCommandLine(t *testing.T) {
	o := openOffice(t, theLast)
	says(t, "the demo's topic", must(t, "topics", "list"), "Berth requests (", "Of 100 such messages it probably finds")
	rules := filepath.Join(t.TempDir(), "rules.yaml")
	if err := os.WriteFile(rules, []byte(topicRule), 0o600); err != nil {
		t.Fatal(err)
	}
	says(t, "the rule", must(t, "rules", "save", rules), "By meaning")
	says(t, "its sentence", must(t, "rules", "show", "By meaning"), "about “Berth requests” (85 % sure)")
	must(t, "rules", "on", "By meaning", "--begin", "now")
	deliver := func(subject, text, name string) {
		t.Helper()
		if err := o.mail.Deliver("berths", plainLetter(subject, text, name), time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	var matter client.Matter
	for _, text := range nearer {
		deliver("Lunch", text, "soup.csv")
	}
	until(t, "the tray asks", func() bool {
		matter = asked(t)
		return matter.ID != ""
	})
	says(t, "the tray", must(t, "tray", "list"), "What is it about?",
		"it is in doubt whether it is about “Berth requests”", "Answer: inktray tray answer "+matter.ID+
			" --about, or --not-about")
	number := fmt.Sprint(matter.Message.ID)
	says(t, "why", must(t, "messages", "topics", number), "Berth requests", "in doubt")
	says(t, "neither", fails(t, "tray", "answer", matter.ID), "--about or --not-about")
	says(t, "the answer", must(t, "tray", "answer", matter.ID, "--not-about"), "Learned, and 1 item decided.")
	until(t, "it is left", func() bool {
		return strings.Contains(must(t, "messages", "why", number), "a person said that it is not about “Berth requests”")
	})
	says(t, "answered twice", fails(t, "tray", "answer", matter.ID, "--about"), "none of these waits because a topic is "+
		"in doubt")
	says(t, "you said so", must(t, "messages", "topics", number), "not about (you said so)")
	says(t, "examples", must(t, "topics", "examples", "Berth requests"), "Lunch", "vera@quill.example", "tray")

	// A topic of one's own, from nothing.
	says(t, "a new one", must(t, "topics", "add", "Soup"), "needs 5 of each", "inktray topics ask \"Soup\"")
	says(t, "twice", fails(t, "topics", "add", "soup"), "there is a topic called “soup” already")
	asked := value[[]client.Teaching](t, "topics", "ask", "Soup", "--most", "3")
	if len(asked) != 3 || asked[0].Likely != 50 {
		t.Errorf("asked %+v", asked)
	}
	says(t, "asked", must(t, "topics", "ask", "Soup"), "Answer: inktray topics mark \"Soup\"")
	says(t, "marked", must(t, "topics", "mark", "Soup", number, "--about"), "Learned.", "knows 1 message about it")
	says(t, "not said which", fails(t, "topics", "mark", "Soup", number), "--about or --not-about")
	says(t, "no message", fails(t, "topics", "mark", "Soup", "999999", "--about"), "nothing of that name or number")
	says(t, "no topic", fails(t, "topics", "mark", "Porridge", number, "--about"), "there is no topic called “Porridge”")
	example := value[[]client.TopicExample](t, "topics", "examples", "Soup")[0]
	says(t, "taken back", must(t, "topics", "forget", "Soup", fmt.Sprint(example.ID)), "knows 0 messages about it")
	says(t, "taken back twice", fails(t, "topics", "forget", "Soup", fmt.Sprint(example.ID)),
		"nothing of that name or number")

	// One goes from one installation to another.
	file := filepath.Join(t.TempDir(), "topic.json")
	says(t, "exported", must(t, "topics", "export", "Berth requests", "--file", file), "is in "+file)
	says(t, "imported", must(t, "topics", "import", file, "--name", "Moorings"), "Learned from", "“Moorings” knows")
	berths, moorings := value[[]client.Topic](t, "topics", "list")[0], value[[]client.Topic](t, "topics", "list")[1]
	// those that say the same word for word count once
	if berths.About != moorings.About || !moorings.Ready || berths.Ready != moorings.Ready {
		t.Errorf("%+v became %+v", berths, moorings)
	}
	if err := os.WriteFile(file, []byte(`{"format":7,"name":"x","examples":[]}`), 0o600); err != nil {
		t.Fatal(err)
	}
	says(t, "another format", fails(t, "topics", "import", file), "reads format 1")
	if err := os.WriteFile(file, []byte(`nonsense`), 0o600); err != nil {
		t.Fatal(err)
	}
	says(t, "no topic at all", fails(t, "topics", "import", file), "is not an exported topic")
	says(t, "the past", must(t, "topics", "past", "Moorings", "--last", "30"), "Of the last ",
		"are about “Moorings” for sure", "Nothing was written.")
	says(t, "renamed", must(t, "topics", "rename", "Moorings", "Places to lie"), "Renamed. “Places to lie”")
	says(t, "in use", fails(t, "topics", "remove", "Berth requests", "--yes"), "the rule “By meaning” asks for the topic")
	says(t, "removed", must(t, "topics", "remove", "Places to lie", "--yes"), "are gone")

	// Who is believed.
	says(t, "trust", must(t, "trust", "show"), demo.MailHost, "only if the sender is verified",
		"none; start with --virus-scanner")
	says(t, "switching a rule that replies on", must(t, "rules", "on", "Insurance certificates", "--begin", "now"),
		"replies to verified senders only")
	says(t, "its rehearsal", must(t, "rules", "rehearse", "Insurance certificates", "--last", "3"),
		"replies to verified senders only")
	says(t, "not verified", must(t, "messages", "verify", number), "The sender is not verified: it is not signed (DKIM).")
	known := value[client.LookedInto](t, "messages", "look", "berths", "--text", "crew")
	says(t, "verified", must(t, "messages", "verify", fmt.Sprint(known.Messages[0].ID)), "The sender is verified: "+
		demo.MailHost+" reports DMARC of")
	says(t, "changed", must(t, "trust", "set", "--server", "mx.other.example", "--correspondents"), "mx.other.example",
		"Correspondents count      only if the sender is verified")
	says(t, "no server", fails(t, "trust", "set", "--server", "a b"), "is not the name of a mail server")

	// A reader neither teaches nor sees what others wrote.
	reader, _ := o.person("Rea Der", store.Reader)
	for _, c := range [][2]string{{"POST", "/api/v1/topics"}, {"GET", "/api/v1/topics/" + berths.ID + "/examples"},
		{"GET", "/api/v1/topics/" + berths.ID + "/export"}, {"PUT", "/api/v1/trust"}, {"POST", "/api/v1/tray/answer"},
		{"GET", "/api/v1/messages/" + number + "/topics"}} {
		if status, _, body := o.ask(c[0], c[1], reader, `{}`); status != 403 {
			t.Errorf("%s %s: a reader gets %d, %v", c[0], c[1], status, body)
		}
	}
}

func TestAVirusScannerIsNamedAtTheStart(t *testing.T) {
	address := testbed.StartClamd(t, 0)
	o := openOffice(t, empty, func(s *serviceOptions) { s.scanner = address })
	o.first()
	says(t, "the scanner", must(t, "trust", "show"), address+": ClamAV")
	o.everything("In")
	if err := o.mail.Deliver("berths", plainLetter("one", "x", "a.csv"), time.Now()); err != nil {
		t.Fatal(err)
	}
	if _, err := scannerAt("nonsense"); err == nil ||
		!strings.Contains(err.Error(), "is not an address of a virus scanner") {
		t.Errorf("an address that is none: %v", err)
	}
}

// The same in the console, in both looks without barriers: a topic is taught, asked
// for by a rule, answered for in the tray and in Mail; whom to trust is set.
func TestTopicsAndTrustInTheConsole(t *testing.T) {
	source := axe(t)
	o := openOffice(t, theWeeks)
	o.settled()
	b := testbed.StartBrowser(t, 1280, 800)
	b.Scheme("light")
	signInAtTheDoor(b, o)
	barriers := barriersIn(t, b, source, "dark", "light")
	section(b, "Safety")
	b.Sees("Trusted mail servers")
	b.Press("Edit trusted servers")
	b.Sees("reads only the lines that these servers added")
	barriers("whom to trust")
	b.Press("recognise correspondents only if the sender is verified")
	b.Press("Save")
	b.Sees("only if the sender is verified")
	until(t, "whom to trust is kept", func() bool { return value[client.Trust](t, "trust", "show").Correspondents })
	section(b, "Topics")
	b.Sees("Of 100 such messages it probably finds")

	b.Press("Teach Berth requests")
	b.Sees("Is this about Berth requests?")
	b.Sees("your answers teach it most")
	known := value[[]client.Topic](t, "topics", "list")[0]
	b.Press("The last 100")
	b.Sees("are about it for sure")
	barriers("a topic")
	picture(t, b, "topic")
	b.Press("No: ")
	until(t, "the answer teaches",
		func() bool { return value[[]client.Topic](t, "topics", "list")[0].Others == known.Others+1 })
	b.Press("Take back: ")
	until(t, "an example is taken back", func() bool {
		now := value[[]client.Topic](t, "topics", "list")[0]
		return now.About+now.Others == known.About+known.Others
	})
	b.Press("Rename…")
	b.Type("Name", "Places to lie")
	b.Run(`[...document.querySelectorAll('[role=dialog] button')].find(x => x.innerText === 'Rename').click()`, nil)
	until(t, "it has another name",
		func() bool { return value[[]client.Topic](t, "topics", "list")[0].Name == "Places to lie" })
	must(t, "topics", "rename", "Places to lie", "Berth requests")
	section(b, "Topics")
	b.Press("Add a topic")
	b.Type("Name", "Berth requests")
	b.Press("Add topic")
	b.Sees("There is a topic called “Berth requests” already")
	b.Type("Name", "Soup")
	b.Press("Add topic")
	b.Until("its page is there", `document.querySelector('h1')?.innerText === 'Soup'`)
	b.Sees("It does not judge yet")
	barriers("a topic without examples")
	b.Open(o.service.address() + "/topics/nowhere")
	b.Sees("It may have been removed")
	barriers("a topic that is not there")

	// A rule that asks for it: the blank, the rehearsal, and marking there.
	b.Open(o.service.address() + "/rules/new")
	b.Type("Name of the rule", "By meaning")
	b.Press("from")
	b.Sees("What is looked at")
	b.Run(`(() => { const s = [...document.querySelectorAll('select')].find(x => [...x.options].some(o => o.text === 'about')); s.value = [...s.options].find(o => o.text === 'about').value; s.dispatchEvent(new Event('change', {bubbles: true})) })()`, nil)
	b.Sees("How sure it has to be")
	b.Press("Berth requests")
	barriers("the blank of a topic")
	b.Leave()
	b.Press("PDFs")
	b.Type("Words inside, any of them", "Place: quay C")
	b.Press("Add")
	barriers("words inside")
	b.Leave()
	b.Sees("PDFs in which Place: quay C stands")
	b.Sees("not yet the text inside was not read yet")
	b.Press("look into texts and archives")
	b.Sees("It is about Berth requests")
	b.Press("The usual safeguards")
	b.Sees("office files with macros")
	b.Leave()
	b.Press("Save")
	until(t, "the rule is kept", func() bool {
		for _, r := range value[[]client.Rule](t, "rules", "list") {
			if r.Name == "By meaning" {
				return strings.Contains(string(r.Document), `"topic":{"is":"Berth requests"}`) ||
					strings.Contains(string(r.Document), `"topic": {`)
			}
		}
		return false
	})
	must(t, "rules", "on", "By meaning", "--begin", "now")

	// What is in doubt is answered in the tray.
	for n, text := range nearer {
		letter := plainLetter(fmt.Sprintf("Lunch %d", n+1), text, fmt.Sprintf("soup%d.pdf", n+1))
		if err := o.mail.Deliver("berths", letter, time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	b.Press("Tray")
	b.Sees("What is it about?")
	barriers("a topic in the tray")
	first := asked(t)
	for matter := first; matter.ID != ""; matter = asked(t) {
		pressed := false // an earlier answer may have taught what this one is, and then nobody is asked any more
		until(t, "the answer is taken", func() bool {
			if !pressed {
				b.Run(`(() => { const it = [...document.querySelectorAll('button')].find(x => x.ariaLabel === `+
					strconv.Quote("It is not about Berth requests: "+matter.Name)+`); it?.click(); return !!it })()`, &pressed)
			}
			return asked(t).ID != matter.ID
		})
	}

	// A message says what it is about, and whether its sender is verified.
	b.Open(o.service.address() + fmt.Sprintf("/messages/%d", first.Message.ID))
	b.Press("Is the sender verified?")
	b.Sees("The sender is not verified: it is not signed (DKIM).")
	b.Press("Look")
	b.Sees("not about it, you said")
	barriers("a message")
	b.Press("It is about Berth requests")
	b.Sees("about it, you said")

	// Several are marked in Mail.
	b.Open(o.service.address() + "/mail")
	b.Press("Choose “Crew list")
	b.Press("Topic…")
	b.Sees("are kept as examples, on this machine")
	barriers("marking messages")
	b.Press("They are not about it")
	b.Sees("Learned.")
	b.Press("Close")
}
