package demo

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"image/color"
	"math/rand/v2"
	"mime"
	"path"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/core/mail"
)

// Mailboxes are the harbour office's, by the part before the @.
var Mailboxes = []string{"berths", "gauges", "safety"}

// More places where mail of the harbour office arrives: an account that is read by
// consent, a drop address, and mail from files.
const (
	ByConsent  = "pilots"
	DropName   = "forwarded"
	DropDomain = "drop.brackwater.example"
	FilesName  = "mail from files"
)

// Rules are the harbour office's, as a document. The cabinet is called "harbour files".
const Rules = `format: 1
rules:
  - id: berth-requests
    name: Berth requests
    cabinet: harbour files
    look: {mailboxes: berths}
    match:
      any:
        - subject: {contains: berth}
        - attachment: {kind: pdf, name: "*berth*"}
    unless:
      - subject: {begins: Draft}
    attachments:
      - take: {kind: pdf}
        folder: Berths/<received year>/<received month> <received month name>/<sender.name>
        name: <received date> <subject find "BK-[0-9]+" or file.stem>
    values:
      - {name: request, from: ['<file.text find "BK-[0-9]+">', '<subject find "BK-[0-9]+">']}
      - {name: deposit, type: amount, from: '<file.text find "Deposit: ([0-9.,]+ EUR)">'}
  - id: crew-lists
    name: Crew lists
    cabinet: harbour files
    look: {mailboxes: berths}
    match: {subject: {contains: crew list}}
    attachments:
      - take: [{kind: spreadsheet}, {kind: document}]
        folder: Crew lists/<received year>/<sender.domain>
  - id: tide-gauges
    name: Tide gauge readings
    cabinet: harbour files
    look: {mailboxes: gauges}
    match:
      all:
        - sender: {domain: tidewatch.example}
        - subject: {contains: [reading, water level]}
    unless:
      - subject: {begins: Draft}
    attachments:
      - take: [{kind: spreadsheet}, {name: "*.csv"}]
        folder: Gauges/<received year>/<received month> <received month name>
        name: <received date> <lookup stations of (file.stem) or file.stem>
    rest: {folder: Gauges/Other/<received year>}
    afterwards:
      - {mark: read, label: Filed}
  - id: certificates
    name: Insurance certificates
    cabinet: harbour files
    look: {mailboxes: safety}
    match: {sender: {correspondent: Insurers}}
    attachments:
      - take: {kind: pdf}
        folder: Certificates/<received year>/<correspondent>
        name: <register.year>-<register pad 4> <file.stem>
    afterwards:
      - reply:
          text: |
            Good day,

            thank you. We have filed:
            <filed.list>

            Brackwater harbour office
          once in: 1 day
      - tell: {who: Harbour master}
  - id: dive-surveys
    name: Dive surveys
    cabinet: harbour files
    look: {mailboxes: safety}
    match: {sender: {domain: deepline.example}}
    attachments:
      - take: [{kind: picture}, {kind: archive}]
        unpack: files
        inner folders: drop
        folder: Surveys/<received year>/<received date> <subject>
  - id: waste-declarations
    name: Waste declarations
    cabinet: harbour files
    look: {mailboxes: safety}
    match: {subject: {contains: waste}}
    attachments:
      - take: everything
        folder: Waste/<received minus 1 month as "yyyy-MM">
    values:
      - {name: declaration, from: ['<file.code find "WD-[0-9]+-[0-9]+">', '<file.text find "WD-[0-9]+-[0-9]+">']}
      - {name: oily, type: number, from: '<file.text find "Oily water: ([0-9.,]+)">'}
    afterwards:
      - move: Filed/Waste
      - tell: {who: Berth planner}
  - id: harbour-dues
    name: Harbour dues
    cabinet: harbour files
    look: {mailboxes: safety}
    match: {subject: {contains: dues}}
    attachments:
      - take: {electronic invoice: does not add up}
        folder: Dues/To be looked at
        name: <invoice.number> <invoice.faults>
      - take: {kind: e-invoice}
        folder: Dues/<invoice.issued year>/<invoice.seller>
        name: <invoice.issued date> <invoice.number>
    values:
      - {name: invoice, from: <invoice.seller> <invoice.number>, again: ask}
      - {name: total, type: amount, from: <invoice.total> <invoice.currency>}
      - {name: due, type: date, from: <invoice.due date>}
`

// Correspondent is an entry of the harbour office's book.
type Correspondent struct {
	Name, Domain, Group string
}

// Book is the harbour office's.
var Book = []Correspondent{
	{"Tidewatch Instruments", "tidewatch.example", "Surveyors"}, {"Kelp Mutual", "kelpmutual.example", "Insurers"},
	{"North Sound Marine", "northsound.example", "Insurers"},
	{"Marram Shipping", "marram.example", "Agents"}, {"Corrin Liner Agency", "corrin-liner.example", "Agents"},
	{"Deepline Divers", "deepline.example", "Surveyors"},
}

// Stations says what a file of readings is about, by its name.
var Stations = [][2]string{{"st3-st7", "Ferry steps to North mole"}, {"st9", "Outer light"}}

// Letter is one message of the scenario.
type Letter struct {
	Mailbox  string
	Received time.Time
	Raw      []byte
}

// attachment is a file of a message.
type attachment struct {
	name   string
	data   []byte
	inline bool
	broken bool // named as some old programs do: an encoded word inside quotes
}

type person struct{ name, address string }

var (
	agents = []person{{"Marram Shipping", "agents@marram.example"}, {"Corrin Liner Agency", "desk@corrin-liner.example"},
		{"Zoë Ørsted, Sandling Tramp", "zoe@sandling.example"}}
	watchers = []person{{"Tidewatch Instruments", "readings@tidewatch.example"},
		{"Oda Fenwick", "oda.fenwick@tidewatch.example"}}
	masters = []person{{"Master MV Corrin", "bridge@corrin-liner.example"}, {"Capt. R. Osei", "master@sandling.example"},
		{"Master MV Bluebell", "bluebell@marram.example"}}
	insurers = []person{{"Kelp Mutual", "certificates@kelpmutual.example"},
		{"North Sound Marine", "desk@northsound.example"}}
	divers  = person{"Deepline Divers", "jobs@deepline.example"}
	waste   = person{"Saltmarsh Waste", "office@saltmarsh.example"}
	vessels = []string{"MV Corrin", "MV Sandling", "MV Bluebell", "MV Thrift", "MV Samphire"}
	quays   = []string{"quay A", "quay B", "quay C", "the north pier"}
)

// OldMail is what is in the mailboxes when the demo starts: about seven weeks
// up to now, always the same but for the dates.
func OldMail(now time.Time) []Letter {
	w := &writer{random: newRandom(2026)}
	var all []Letter
	for day := 48; day >= 0; day-- {
		date := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location()).AddDate(0, 0, -day)
		at := func(hour, minute int) time.Time {
			return date.Add(time.Duration(hour)*time.Hour + time.Duration(minute)*time.Minute)
		}
		all = append(all, w.reading(at(6, 2)), w.reading(at(18, 4)))
		if day%2 == 0 {
			all = append(all, w.berth(at(8, 40)))
		}
		switch day % 7 {
		case 1:
			all = append(all, w.crew(at(9, 15)))
		case 2:
			all = append(all, w.certificate(at(10, 30)))
		case 3:
			all = append(all, w.chatter(at(11, 5)))
		case 4:
			all = append(all, w.survey(at(15, 20)))
		case 5:
			all = append(all, w.wasteDeclaration(at(16, 0)), w.forward(at(16, 30)))
		case 6:
			all = append(all, w.draft(at(12, 10)))
		}
	}
	all = append(all, papers(now)...)
	slices.SortStableFunc(all, func(a, b Letter) int { return a.Received.Compare(b.Received) })
	all = append(all, w.disguised(now.Add(-26*time.Hour)), w.climbing(now.Add(-25*time.Hour)))
	kept := all[:0]
	for _, l := range all {
		if l.Received.Before(now) {
			kept = append(kept, l)
		}
	}
	return kept
}

func newRandom(seed uint64) *rand.Rand { return rand.New(rand.NewPCG(seed, 512)) }

// Next is a message that arrives now; n counts them.
func Next(n int, now time.Time) Letter {
	w := &writer{random: rand.New(rand.NewPCG(uint64(n), 99)), number: 5000 + n}
	switch n % 8 {
	case 1, 5:
		return w.berth(now)
	case 2:
		return w.crew(now)
	case 3:
		return w.certificate(now)
	case 4:
		return w.chatter(now)
	case 6:
		return w.survey(now)
	}
	return w.reading(now)
}

type writer struct {
	random *rand.Rand
	number int
}

func pick[T any](w *writer, list []T) T { return list[w.random.IntN(len(list))] }

func (w *writer) next() int { w.number++; return w.number }

func (w *writer) reading(at time.Time) Letter {
	rows := [][]string{{"station", "time", "level in m", "wind in m/s"}}
	sheet := [][]any{{"station", "time", "level in m"}}
	for s := 3; s <= 7; s++ {
		for h := range 6 {
			level := 1.8 + w.random.Float64()*2.4
			t := at.Add(time.Duration(h-6) * time.Hour).Format("2006-01-02 15:04")
			rows = append(rows,
				[]string{fmt.Sprintf("ST%d", s), t, fmt.Sprintf("%.2f", level), fmt.Sprintf("%.1f", w.random.Float64()*14)})
			sheet = append(sheet, []any{fmt.Sprintf("ST%d", s), t, level})
		}
	}
	subject := fmt.Sprintf("Readings %d %s, stations 3 to 7", at.Day(), at.Month())
	files := []attachment{{name: "st3-st7.csv", data: csvFile(rows)}}
	if w.random.IntN(4) == 0 {
		subject = fmt.Sprintf("Re: Water level alarm test %d/%d", at.Day(), int(at.Month()))
		files = []attachment{{name: "calibration.xlsx", data: xlsx("Calibration", sheet)},
			{name: "protocol.pdf", data: pdf("Calibration protocol", at, "Stations 3 to 7 were compared with the staff gauge.")}}
	}
	return w.letter("gauges", at, pick(w, watchers), subject, "The readings of the last six hours are attached.",
		append(files, w.logo()))
}

func (w *writer) berth(at time.Time) Letter {
	vessel, number := pick(w, vessels), 20000+w.next()
	from, to := at.AddDate(0, 0, 2+w.random.IntN(4)), at.AddDate(0, 0, 7)
	subject := fmt.Sprintf("Berth request BK-%d: %s, %d to %d %s", number, vessel, from.Day(), to.Day(), to.Month())
	switch w.random.IntN(5) {
	case 0:
		subject = "AW: " + subject
	case 1:
		subject = fmt.Sprintf("Berth for %s / %s?", vessel, pick(w, quays))
	}
	doc := pdf("Request for a berth", at, "Vessel: "+vessel, fmt.Sprintf("Number: BK-%d", number), "Place: "+
		pick(w, quays), fmt.Sprintf("From %s to %s", from.Format("2 January 2006"), to.Format("2 January 2006")),
		fmt.Sprintf("Deposit: %d.00 EUR", 100+number%17*25))
	return w.letter("berths", at, pick(w, agents), subject, "Please find our request attached.",
		[]attachment{{name: "Berth request " + vessel + ".pdf", data: doc}, w.logo()})
}

func (w *writer) crew(at time.Time) Letter {
	vessel := pick(w, vessels)
	lines := []string{"Crew list " + vessel}
	rows := [][]any{{"no.", "rank", "name"}}
	for i, rank := range []string{"Master", "Mate", "Engineer", "Bosun", "Cook"} {
		name := pick(w, []string{"A. Penrose", "J. Tamm", "R. Osei", "L. Quist", "M. Haraldsen", "D. Okoro"})
		lines = append(lines, fmt.Sprintf("%d. %s: %s", i+1, rank, name))
		rows = append(rows, []any{i + 1, rank, name})
	}
	slug := strings.ToLower(strings.TrimPrefix(vessel, "MV "))
	file := attachment{name: "crew-" + slug + ".docx", data: docx(lines...)}
	if w.random.IntN(2) == 0 {
		file = attachment{name: "crew " + slug + " März.xlsx", data: xlsx("Crew", rows), broken: true}
	}
	return w.letter("berths", at, pick(w, masters), "Crew list "+vessel, "Crew list as required.", []attachment{file})
}

func (w *writer) certificate(at time.Time) Letter {
	vessel := pick(w, vessels)
	doc := pdf("Certificate of insurance", at, "Vessel: "+vessel, "Liability for wreck removal and pollution.",
		fmt.Sprintf("Valid until %s", at.AddDate(1, 0, 0).Format("2 January 2006")))
	return w.letter("safety", at, pick(w, insurers), "Insurance certificate "+vessel, "The certificate for the coming "+
		"year.", []attachment{{name: "certificate.pdf", data: doc}, w.logo()})
}

func (w *writer) survey(at time.Time) Letter {
	place := pick(w, quays)
	files := []attachment{}
	for i := range 2 + w.random.IntN(3) {
		files = append(files, attachment{name: fmt.Sprintf("hull-survey-%02d.jpg", i+1), data: photo(w.random.Uint64())})
	}
	if w.random.IntN(3) == 0 {
		files = []attachment{
			{name: "dive-photos.zip",
				data: zipped([]zipEntry{{"photos/01.jpg", photo(w.random.Uint64())}, {"photos/02.jpg", photo(w.random.Uint64())},
					{"readme.txt", []byte("Taken at " + place)}})}}
	}
	return w.letter("safety", at, divers, "Survey of "+place, "Pictures of today's dive.", append(files, w.logo()))
}

func (w *writer) wasteDeclaration(at time.Time) Letter {
	month := at.AddDate(0, -1, 0)
	rows := [][]any{{"kind", "kg"}, {"oily water", 400 + w.random.IntN(900)}, {"household", 100 + w.random.IntN(300)},
		{"glass", w.random.IntN(80)}}
	return w.letter("safety", at, waste, "Waste declaration "+month.Format("01/2006"), "As every month.",
		[]attachment{{name: "declaration.xlsx", data: xlsx("Waste", rows)}})
}

// chatter is mail that no rule wants.
func (w *writer) chatter(at time.Time) Letter {
	subject := pick(w,
		[]string{"Invitation: harbour day", "Parking on Friday", "New price list", "Is the crane free on Monday?"})
	var files []attachment
	if strings.HasPrefix(subject, "New") {
		files = append(files, attachment{name: "prices.pdf", data: pdf("Price list", at, "Ropes, fenders, paint.")})
	}
	return w.letter(pick(w, Mailboxes), at, person{"Heron Chandlery", "shop@heron.example"}, subject,
		"Kind regards from over the water.", append(files, w.logo()))
}

func (w *writer) draft(at time.Time) Letter {
	return w.letter("gauges", at, watchers[1], "Draft: readings for review", "Not final yet, please do not use.",
		[]attachment{{name: "draft.csv", data: csvFile([][]string{{"station", "level"}, {"ST3", "?"}})}})
}

// forward is a colleague's message that holds another with its attachment.
func (w *writer) forward(at time.Time) Letter {
	inner := w.berth(at.Add(-2 * time.Hour))
	header := w.header(at, person{"Ines Halloway", "ines.halloway@brackwater.example"}, "berths",
		"Fwd: berth request, please file")
	boundary := w.boundary()
	var b bytes.Buffer
	fmt.Fprintf(&b, "%sContent-Type: multipart/mixed; boundary=%q\r\n\r\n--%s\r\nContent-Type: text/plain; "+
		"charset=utf-8\r\n\r\nThis came to me by mistake.\r\n--%s\r\nContent-Type: message/rfc822\r\n\r\n%s\r\n--%s--\r\n",
		header, boundary, boundary, boundary, inner.Raw, boundary)
	return Letter{Mailbox: "berths", Received: at, Raw: b.Bytes()}
}

// disguised is a program that calls itself a certificate, from somebody who calls
// himself an insurer.
func (w *writer) disguised(at time.Time) Letter {
	l := w.letter("safety", at, person{"Kelp Mutual", "certificates@kelpmutual.example"}, "Insurance certificate MV "+
		"Corrin (corrected)", "Please open the attached certificate.",
		[]attachment{{name: "certificate.pdf", data: append([]byte("MZ\x90\x00"), make([]byte, 2000)...)}})
	l.Raw = bytes.Replace(l.Raw, []byte("dmarc=pass"), []byte("dmarc=fail"), 1)
	return l
}

// climbing is a message whose file name tries to leave its folder.
func (w *writer) climbing(at time.Time) Letter {
	return w.letter("gauges", at, watchers[0], "Readings: special series", "A special series.",
		[]attachment{
			{name: "../../../etc/special: series?.csv", data: csvFile([][]string{{"station", "level"}, {"ST9", "2.10"}})}})
}

func (w *writer) logo() attachment {
	colour := pick(w, []color.RGBA{{36, 72, 124, 255}, {44, 101, 73, 255}, {168, 50, 31, 255}})
	return attachment{name: "image001.png", data: mark(colour), inline: true}
}

func (w *writer) boundary() string { return fmt.Sprintf("=_bw_%08x", w.random.Uint32()) }

// Topic is what the demo's topic is called, which some of its old mail teaches.
const Topic = "Berth requests"

// MailHost is the name under which the office's mail server reports on what comes in.
const MailHost = "mx.brackwater.example"

// reported is what that server writes above a message (RFC 8601).
func reported(at time.Time, from person, result string) string {
	_, domain, _ := strings.Cut(from.address, "@")
	if domain == "brackwater.example" {
		return ""
	}
	return fmt.Sprintf("Authentication-Results: %s; dmarc=%s header.from=%s\r\nReceived: from mail.%s (mail.%s "+
		"[192.0.2.25]) by %s with ESMTPS; %s\r\n", MailHost, result, domain, domain, domain, MailHost,
		at.Format(time.RFC1123Z))
}

func (w *writer) header(at time.Time, from person, mailbox, subject string) string {
	return fmt.Sprintf("From: %s <%s>\r\nTo: %s@brackwater.example\r\nSubject: %s\r\nDate: %s\r\nMessage-ID: "+
		"<%d.%08x@%s>\r\nMIME-Version: 1.0\r\n",
		mime.QEncoding.Encode("utf-8", from.name), from.address, mailbox, mime.QEncoding.Encode("utf-8", subject),
		at.Format(time.RFC1123Z), w.next(), w.random.Uint32(), strings.SplitN(from.address, "@", 2)[1])
}

func (w *writer) letter(mailbox string, at time.Time, from person, subject, text string, files []attachment) Letter {
	var b bytes.Buffer
	boundary := w.boundary()
	b.WriteString(reported(at, from, "pass"))
	fmt.Fprintf(&b, "%sContent-Type: multipart/mixed; boundary=%q\r\n\r\n--%s\r\nContent-Type: text/plain; "+
		"charset=utf-8\r\n\r\nGood day,\r\n\r\n%s\r\n\r\n%s\r\n", w.header(at, from, mailbox, subject), boundary, boundary,
		text, from.name)
	for i, f := range files {
		kind := mime.TypeByExtension(path.Ext(f.name))
		if kind == "" || mail.KindOf("", path.Ext(f.name)) == mail.Spreadsheet {
			kind = "application/octet-stream"
		}
		kind, _, _ = strings.Cut(kind, ";")
		disposition, id := "attachment", ""
		if f.inline {
			disposition, id = "inline", fmt.Sprintf("Content-ID: <mark%d@%s>\r\n", i, strings.SplitN(from.address, "@", 2)[1])
		}
		name := mime.FormatMediaType(disposition, map[string]string{"filename": f.name})
		if f.broken {
			name = fmt.Sprintf("%s; filename=%q", disposition, mime.BEncoding.Encode("utf-8", f.name))
		}
		fmt.Fprintf(&b, "--%s\r\nContent-Type: %s\r\nContent-Disposition: %s\r\n%sContent-Transfer-Encoding: base64\r\n\r\n",
			boundary, kind, name, id)
		encoded := base64.StdEncoding.EncodeToString(f.data)
		for len(encoded) > 76 {
			b.WriteString(encoded[:76] + "\r\n")
			encoded = encoded[76:]
		}
		b.WriteString(encoded + "\r\n")
	}
	fmt.Fprintf(&b, "--%s--\r\n", boundary)
	return Letter{Mailbox: mailbox, Received: at, Raw: b.Bytes()}
}
