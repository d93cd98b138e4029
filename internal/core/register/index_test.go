package register

import (
	"bytes"
	"fmt"
	"math/rand"
	"slices"
	"strings"
	"testing"
	"time"
	_ "time/tzdata" // the machine's own zone data may be missing
)

var zone = time.FixedZone("", 2*3600)

// made makes lines as an office's years would: few rules and mailboxes, some
// senders, a folder for each month, many subjects and names.
func made(n int, seed int64) []Row {
	r := rand.New(rand.NewSource(seed))
	words := strings.Fields("gauge reading water level tide certificate survey berth pilot notice crane dredging " +
		"invoice monthly weekly plan chart cargo manifest Überprüfung Ölhafen straße")
	pick := func(n int) string {
		all := make([]string, n)
		for i := range all {
			all[i] = words[r.Intn(len(words))]
		}
		return strings.Join(all, " ")
	}
	kinds := []string{"pdf", "spreadsheet", "picture", "document"}
	rows := make([]Row, n)
	at := time.Date(2020, 1, 1, 6, 0, 0, 0, time.UTC)
	message := int64(0)
	subject, sender := "", 0
	for i := range rows {
		at = at.Add(time.Duration(r.Intn(6)) * time.Minute)
		if i == 0 || r.Intn(3) > 0 {
			message++
			subject, sender = pick(3+r.Intn(4)), r.Intn(1+n/40)
		}
		k := r.Intn(len(kinds))
		row := Row{Number: Number{2020 + i*5/n, i + 1}, Message: message, State: Filed,
			Received: at.Unix() - int64(r.Intn(86400*3)), Filed: at.Unix(), Size: int64(r.Intn(4_000_000)),
			MailboxID: fmt.Sprint("m", r.Intn(5)), RuleID: fmt.Sprint("r", r.Intn(12)), CabinetID: "c", Cabinet: "harbour files",
			Kind:          kinds[k],
			SenderName:    fmt.Sprintf("Person %c %d", 'A'+rune(sender%26), sender),
			SenderAddress: fmt.Sprintf("person%d@firm%d.example", sender, sender%50),
			Folder:        fmt.Sprintf("%s/%d/%02d", words[r.Intn(len(words))], at.Year(), at.Month()),
			File:          fmt.Sprintf("%s %05d.%s", pick(2), r.Intn(n), []string{"pdf", "csv", "jpg", "docx"}[k]),
			Subject:       subject}
		row.Mailbox, row.Rule = "mailbox "+row.MailboxID[1:], "rule "+row.RuleID[1:]
		switch r.Intn(40) {
		case 0:
			row.State = TakenBack
		case 1:
			row.State, row.Filed, row.Folder, row.File = Void, 0, "", ""
		case 2:
			row.Notes = "signed by " + pick(1)
		}
		rows[i] = row
	}
	return rows
}

// plainly answers a query by looking at every line, as simply as can be.
func plainly(rows []Row, q Query) (found []Row) {
	has := func(text, word string) bool { return strings.Contains(Fold(text), Fold(word)) }
	for _, r := range rows {
		fits := slices.Contains(q.States, r.State) || q.States == nil && slices.Contains(There, r.State)
		fits = fits && (q.Mailboxes == nil || slices.Contains(q.Mailboxes, r.MailboxID)) &&
			(q.RuleID == "" || q.RuleID == r.RuleID) && (q.MailboxID == "" || q.MailboxID == r.MailboxID)
		fits = fits && (q.Folder == "" || r.Folder == q.Folder || strings.HasPrefix(r.Folder, q.Folder+"/")) &&
			(q.Cabinet == "" || r.Cabinet == q.Cabinet)
		anywhere := func(w string) bool {
			for _, text := range []string{r.File, r.Subject, r.SenderName, r.SenderAddress, r.Folder, r.Cabinet, r.Rule,
				r.Notes} {
				if has(text, w) {
					return true
				}
			}
			return r.Number.String() == w || fmt.Sprint(r.Number.Number) == w
		}
		for _, w := range q.Words {
			fits = fits && anywhere(w)
		}
		for _, w := range q.Without {
			fits = fits && !anywhere(w)
		}
		for _, w := range q.Sender {
			fits = fits && (has(r.SenderName, w) || has(r.SenderAddress, w))
		}
		for _, w := range q.File {
			fits = fits && has(r.File, w)
		}
		for _, w := range q.Subject {
			fits = fits && has(r.Subject, w)
		}
		for _, w := range q.Note {
			fits = fits && has(r.Notes, w)
		}
		fits = fits && (q.Kinds == nil || slices.Contains(q.Kinds, r.Kind)) && r.Size > int64(q.Larger) &&
			(q.Smaller == 0 || r.Size < int64(q.Smaller))
		fits = fits && (q.Since.IsZero() || r.Received >= q.Since.Unix()) &&
			(q.Before.IsZero() || r.Received < q.Before.Unix())
		fits = fits && (q.FiledSince.IsZero() || r.Filed >= q.FiledSince.Unix()) &&
			(q.FiledBefore.IsZero() || r.Filed < q.FiledBefore.Unix() && r.Filed > 0)
		if fits {
			found = append(found, r)
		}
	}
	slices.SortStableFunc(found, func(a, b Row) int {
		var c int
		switch q.Sort {
		case ByReceived:
			c = int(a.Received - b.Received)
		case ByFiled:
			c = int(a.Filed - b.Filed)
		case BySize:
			c = int(a.Size - b.Size)
		case BySender:
			c = strings.Compare(Fold(a.SenderName+sep+a.SenderAddress), Fold(b.SenderName+sep+b.SenderAddress))
		case BySubject:
			c = strings.Compare(Fold(a.Subject), Fold(b.Subject))
		case ByFile:
			c = strings.Compare(Fold(a.File), Fold(b.File))
		case ByFolder:
			c = strings.Compare(Fold(a.Cabinet+sep+a.Folder), Fold(b.Cabinet+sep+b.Folder))
		case ByKind:
			c = strings.Compare(a.Kind, b.Kind)
		case ByRule:
			c = strings.Compare(Fold(a.Rule), Fold(b.Rule))
		case ByMailbox:
			c = strings.Compare(Fold(a.Mailbox), Fold(b.Mailbox))
		}
		if c == 0 {
			c = int(a.Number.key() - b.Number.key())
		}
		if !q.Ascending {
			c = -c
		}
		return c
	})
	return found
}

func asked(t testing.TB, text string) Search {
	t.Helper()
	s, err := ParseSearch(text, zone)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// searches are what people ask, from everything to nothing.
var searches = []string{"", "gauge", "pdf", "straße", "STRASSE", "uberpruf", "oelhafen", "gauge certificate",
	"without:gauge", "sender:person1", "sender:firm7", "sender:zeppelin", `subject:"water level"`,
	"file:.csv larger:1MB", "kind:pdf since:2021", "on:2022-03", "before:2020-06 smaller:20KB", "filed:2023", "state:all",
	`state:"taken back"`, "state:void", "note:signed", "17", "2020-17", "level state:all without:pdf kind:picture",
	"folder:tide/2021", "rule:3", "mailbox:1 a"}

func TestEveryQuestionIsAnsweredAsByLookingAtEveryLine(t *testing.T) {
	rows := made(3000, 1)
	var x Index
	x.Put(rows...)
	for i, text := range searches {
		for k, order := range Sorts {
			q := Query{Search: asked(t, text), Sort: order, Ascending: (i+k)%2 == 0, Most: 37}
			if strings.HasPrefix(text, "folder:") || strings.HasPrefix(text, "rule:") || strings.HasPrefix(text, "mailbox:") {
				q.Search = Search{}
				q.Folder, q.RuleID = "tide/2021", "r3"
			}
			if i%3 == 0 {
				q.Mailboxes = []string{"m1", "m2"}
			}
			want := plainly(rows, q)
			var size int64
			for _, r := range want {
				size += r.Size
			}
			for page := 0; ; page++ {
				got := x.Find(q)
				if got.Total != len(want) || got.Size != size {
					t.Fatalf("%q by %s: got %d lines of %d octets, want %d of %d", text, order, got.Total, got.Size, len(want), size)
				}
				rest := want[min(page*37, len(want)):]
				for n, number := range got.Numbers {
					if number != rest[n].Number {
						t.Fatalf("%q by %s, page %d: line %d is %v, want %v", text, order, page, n, number, rest[n].Number)
					}
				}
				if len(got.Numbers) != min(37, len(rest)) || got.More != (len(rest) > 37) {
					t.Fatalf("%q by %s, page %d: %d lines, more %t; want %d of %d", text, order, page, len(got.Numbers), got.More,
						min(37, len(rest)), len(rest))
				}
				if !got.More || page > 3 {
					break
				}
				q.After = got.Numbers[len(got.Numbers)-1]
			}
		}
	}
}

func TestALineOfTheRegisterCanChangeAndComeLate(t *testing.T) {
	rows := made(500, 2)
	var x, whole Index
	x.Put(rows[:200]...)
	for _, r := range rows[300:] { // a number of a moment ago is told late
		x.Put(r)
	}
	x.Find(Query{Sort: BySender})
	x.Find(Query{Search: asked(t, "gauge person")}) // what was answered once stays true
	for i := 299; i >= 200; i-- {
		x.Put(rows[i])
	}
	x.Find(Query{Search: asked(t, "gauge person"), Sort: BySender})
	for i := range rows {
		if i%7 == 0 {
			rows[i].State, rows[i].SenderName, rows[i].Subject, rows[i].File, rows[i].Notes = TakenBack, "", "erased", "", "gone"
			x.Put(rows[i])
		}
	}
	whole.Put(rows...)
	for _, text := range []string{"", "gauge", "erased state:all", "note:gone state:all", "person"} {
		for _, order := range Sorts {
			q := Query{Search: asked(t, text), Sort: order}
			if got, want := x.Find(q), whole.Find(q); !slices.Equal(got.Numbers, want.Numbers) || got.Total != want.Total {
				t.Errorf("%q by %s: %d lines, want %d in the same order", text, order, got.Total, want.Total)
			}
		}
	}
	if got := x.Find(Query{Search: Search{Words: []string{"erased"}, States: []State{TakenBack}}}); got.Total != 72 {
		t.Errorf("%d lines are erased, want 72", got.Total)
	}
}

func TestWhatIsErasedIsInNoColumn(t *testing.T) {
	var x Index
	r := Row{Number: Number{2026, 1}, State: Filed, Subject: "About Ansel Quorn", File: "quorn.pdf"}
	x.Put(Row{Number: Number{2025, 9}, State: Filed, Subject: "before"}, r)
	r.Subject, r.File = "", ""
	x.Put(r)
	for _, of := range []*texts{&x.subjects, &x.files} {
		if bytes.Contains(bytes.ToLower(of.all), []byte("quorn")) {
			t.Errorf("%q still holds the name", of.all)
		}
	}
}

func TestMessagesAreFoundByAnyOfTheirFiles(t *testing.T) {
	rows := made(2000, 3)
	var x Index
	x.Put(rows...)
	for _, text := range []string{"", "csv", "gauge tide", "sender:person3", "zeppelin"} {
		for _, order := range []Sort{ByNumber, BySize, BySubject} {
			q := Query{Search: asked(t, text), Sort: order, Most: 25}
			var want []int64
			for _, r := range plainly(rows, q) {
				if !slices.Contains(want, r.Message) {
					want = append(want, r.Message)
				}
			}
			var got []int64
			for {
				letters, f := x.FindLetters(q)
				if f.Total != len(want) {
					t.Fatalf("%q: %d messages, want %d", text, f.Total, len(want))
				}
				for _, l := range letters {
					got = append(got, l.Message)
					all := 0
					for _, r := range rows {
						if r.Message == l.Message && slices.Contains(There, r.State) {
							all++
						}
					}
					if len(l.Numbers) != all {
						t.Fatalf("%q: message %d has %d lines, want all %d", text, l.Message, len(l.Numbers), all)
					}
				}
				if !f.More {
					break
				}
				q.After = letters[len(letters)-1].First
			}
			if !slices.Equal(got, want) {
				t.Errorf("%q by %s: messages %v…, want %v…", text, order, got[:min(5, len(got))], want[:min(5, len(want))])
			}
		}
	}
}

func TestCountsAddUpToWhatIsFound(t *testing.T) {
	rows := made(3000, 4)
	var x Index
	x.Put(rows...)
	london, err := time.LoadLocation("Europe/London")
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{"", "gauge", "kind:pdf", "zeppelin"} {
		q := Query{Search: asked(t, text)}
		found := x.Find(q)
		days := map[string]int{}
		for _, r := range plainly(rows, q) {
			days[time.Unix(r.Filed, 0).In(london).Format(time.DateOnly)]++
		}
		for _, by := range []By{PerDay, PerMonth, PerRule, PerMailbox, PerSender, PerKind, PerCabinet, PerFolder} {
			total, size := 0, int64(0)
			tallies, f := x.Count(q, by, london, 0)
			if f.Total != found.Total || f.Size != found.Size {
				t.Errorf("%q by %s: %d lines of %d octets are said, want %d of %d", text, by, f.Total, f.Size, found.Total,
					found.Size)
			}
			for _, tally := range tallies {
				total, size = total+tally.Count, size+tally.Size
				if by == PerDay && tally.Count != days[tally.Name] {
					t.Errorf("%q: %d on %s, want %d", text, tally.Count, tally.Name, days[tally.Name])
				}
			}
			if total != found.Total || size != found.Size {
				t.Errorf("%q by %s: %d lines of %d octets, want %d of %d", text, by, total, size, found.Total, found.Size)
			}
		}
	}
	if top, _ := x.Count(Query{}, PerRule, london, 3); len(top) != 3 || top[0].Count < top[1].Count || top[0].Name == "" {
		t.Errorf("the three rules that filed most: %v", top)
	}
}

func TestFoldersAreATreeWithCounts(t *testing.T) {
	var x Index
	for i, folder := range []string{"Gauges/2026/05", "Gauges/2026/05", "Gauges/2026", "Gauges/2025/12", "",
		"Gauges old/2020", "Ämter"} {
		x.Put(Row{Number: Number{2026, i + 1}, State: Filed, Cabinet: "harbour files", Folder: folder, Size: 10})
	}
	x.Put(Row{Number: Number{2026, 20}, State: Filed, Cabinet: "archive", Folder: "x"},
		Row{Number: Number{2026, 21}, State: Void})
	say := func(all []Branch) string {
		var b strings.Builder
		for _, f := range all {
			fmt.Fprintf(&b, "%s|%s %d %t; ", f.Name, f.Folder, f.Count, f.More)
		}
		return b.String()
	}
	for _, c := range []struct{ cabinet, folder, want string }{
		{"", "", "archive| 1 true; harbour files| 7 true; "},
		{"harbour files", "", "Ämter|Ämter 1 false; Gauges|Gauges 4 true; Gauges old|Gauges old 1 true; "},
		{"harbour files", "Gauges", "2025|Gauges/2025 1 true; 2026|Gauges/2026 3 true; "},
		{"harbour files", "Gauges/2026", "05|Gauges/2026/05 2 false; "},
		{"harbour files", "Gauges/2026/05", ""},
	} {
		if got := say(x.Branches(Query{}, c.cabinet, c.folder)); got != c.want {
			t.Errorf("in %q %q: %s, want %s", c.cabinet, c.folder, got, c.want)
		}
	}
	if got := x.Find(Query{Cabinet: "harbour files", Folder: "Gauges/2026"}); got.Total != 3 {
		t.Errorf("%d lie in Gauges/2026 and below, want 3", got.Total)
	}
}

func BenchmarkMillion(b *testing.B) {
	var x Index
	x.Put(made(1_000_000, 5)...)
	for _, text := range []string{"", "pdf", "gauge certificate", "sender:person17", "zeppelin",
		"without:gauge kind:pdf"} {
		s, err := ParseSearch(text, zone)
		if err != nil {
			b.Fatal(err)
		}
		for _, order := range []Sort{ByNumber, BySender, BySubject, BySize} {
			b.Run(fmt.Sprintf("find %q by %s", text, order), func(b *testing.B) {
				for b.Loop() {
					x.subjects.known.words, x.files.known.words = map[string]set{}, map[string]set{} // as if asked for the first time
					x.subjects.known.order, x.files.known.order = nil, nil
					x.Find(Query{Search: s, Sort: order, Most: 60})
				}
			})
		}
		b.Run(fmt.Sprintf("letters %q", text), func(b *testing.B) {
			for b.Loop() {
				x.FindLetters(Query{Search: s, Most: 60})
			}
		})
		b.Run(fmt.Sprintf("days %q", text), func(b *testing.B) {
			for b.Loop() {
				x.Count(Query{Search: s}, PerDay, zone, 0)
			}
		})
		b.Run(fmt.Sprintf("tree %q", text), func(b *testing.B) {
			for b.Loop() {
				x.Branches(Query{Search: s}, "harbour files", "tide")
			}
		})
	}
}
