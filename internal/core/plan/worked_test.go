package plan

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/text/language"

	"inktray.example/inktray/internal/core/correspondent"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/rule"
)

// written makes a message of the lines that a worked rule gives.
func written(t *testing.T, lines string) *mail.Message {
	t.Helper()
	header, text := "Message-ID: <1@harbour.example>\r\n", "Good day."
	var parts []string
	received, size, flags := time.Date(2026, 5, 12, 6, 2, 0, 0, time.UTC), int64(0), []string{}
	inner := map[int][]string{}
	for _, line := range strings.Split(strings.TrimSpace(lines), "\n") {
		key, value, ok := strings.Cut(line, ": ")
		if !ok {
			t.Fatalf("%q is no line of a message", line)
		}
		switch key {
		case "Text":
			text = value
		case "Label":
			flags = append(flags, value)
		case "Size":
			var s rule.Size
			if err := s.UnmarshalText([]byte(value)); err != nil {
				t.Fatal(err)
			}
			size = int64(s)
		case "Received-At":
			at, err := time.Parse("2006-01-02 15:04", value)
			if err != nil {
				t.Fatal(err)
			}
			received = at
		case "Forwarded":
			from, file, _ := strings.Cut(value, " | ")
			parts = append(parts, "Content-Type: message/rfc822\r\n\r\nFrom: "+from+"\r\nSubject: berth "+
				"request\r\nContent-Type: application/pdf; name="+file+"\r\n\r\nx")
		case "Attached":
			for value != "" {
				one := value
				if open := strings.IndexByte(value, '['); open >= 0 && !strings.Contains(value[:open], ",") {
					end := strings.IndexByte(value, ']')
					one, value = strings.TrimSpace(value[:open]), strings.TrimPrefix(value[end+1:], ", ")
					inner[len(parts)] = strings.Split(
						strings.TrimSpace(lines[strings.IndexByte(lines, '[')+1:strings.IndexByte(lines, ']')]), ", ")
				} else {
					one, value, _ = strings.Cut(value, ", ")
				}
				name, note, _ := strings.Cut(one, " (")
				disposition, length := "attachment", rule.Size(1000)
				switch note = strings.TrimSuffix(note, ")"); {
				case note == "inline":
					disposition = "inline"
				case note != "":
					if err := length.UnmarshalText([]byte(note)); err != nil {
						t.Fatal(err)
					}
				}
				parts = append(parts, fmt.Sprintf("Content-Disposition: %s; filename=\"%s\"\r\nContent-Type: "+
					"application/octet-stream\r\n\r\n%s", disposition, name, strings.Repeat("x", int(length))))
				if note == "inline" { // the text shows it
					parts[len(parts)-1] = "Content-ID: <shown>\r\n" + parts[len(parts)-1]
				}
			}
		default:
			header += line + "\r\n"
		}
	}
	body := "--b\r\nContent-Type: text/plain\r\n\r\n" + text + "\r\n"
	for _, p := range parts {
		body += "--b\r\n" + p + "\r\n"
	}
	raw := []byte(header + "Content-Type: multipart/mixed; boundary=b\r\n\r\n" + body + "--b--\r\n")
	m := mail.Parse(raw).Message
	m.AllHeader, _ = mail.ParseHeader(raw)
	m.Received, m.Flags, m.Text, m.Folder = received, flags, &text, "INBOX"
	m.Size = max(m.Size, size)
	for i, names := range inner {
		outer, ok := m.Find(fmt.Sprint(i + 2))
		if !ok {
			t.Fatal("there is no such archive")
		}
		opened := &mail.Opened{}
		for k, n := range names {
			opened.Items = append(opened.Items, mail.Inner(&outer, fmt.Sprint(k+1), n, "", 100))
		}
		m.Inside = map[string]*mail.Opened{outer.ID: opened}
	}
	return m
}

func TestTheWorkedRulesDoWhatTheirPageSays(t *testing.T) {
	page, err := os.ReadFile(filepath.Join("..", "..", "..", "docs", "worked-rules.md"))
	if err != nil {
		t.Fatal(err)
	}
	book := correspondent.New([]correspondent.Correspondent{
		{Name: "Tidewatch Instruments", Domains: []string{"tidewatch.example"}, Groups: []string{"Surveyors"}},
		{Name: "Deepline Divers", Domains: []string{"deepline.example"}, Groups: []string{"Surveyors"}},
		{Name: "Kelp Mutual", Domains: []string{"kelpmutual.example"}, Groups: []string{"Insurers"}},
		{Name: "North Sound Marine", Domains: []string{"northsound.example"}, Groups: []string{"Insurers"}},
		{Name: "Marram Shipping", Domains: []string{"marram.example"}, Groups: []string{"Agents"}},
	})
	lookup := func(_, key string) (string, bool) {
		v, ok := map[string]string{"st-03": "Ferry steps"}[strings.ToLower(key)]
		return v, ok
	}
	count := 0
	for _, section := range strings.Split(string(page), "\n## ")[1:] {
		title, _, _ := strings.Cut(section, "\n")
		block := func(kind string) string {
			_, rest, ok := strings.Cut(section, "```"+kind+"\n")
			if !ok {
				t.Errorf("%s has no %s", title, kind)
			}
			text, _, _ := strings.Cut(rest, "```")
			return text
		}
		count++
		c := compile(t, "cabinet: harbour files\nlook: {mailboxes: all}\n"+block("yaml"))
		m := written(t, block("mail"))
		s := Setting{Mailbox: "harbour", Now: time.Date(2026, 5, 12, 6, 3, 0, 0, time.UTC), Language: language.English,
			Book: book, Lookup: lookup, Explain: true}
		if m.Received.After(s.Now) {
			s.Now = m.Received
		}
		p := Make([]*rule.Compiled{c}, m, s)
		var got []string
		for _, i := range p.Rules[0].Items {
			if i.Verdict == Filed {
				got = append(got, strings.ReplaceAll(i.Path(), m.Key(), "KEY"))
			} else {
				got = append(got, fmt.Sprintf("%s: %s (%s)", i.Verdict, i.Item.Name, i.Reason))
			}
		}
		if want := strings.TrimSpace(block("files")); strings.Join(got, "\n") != want {
			t.Errorf("%s (%s: %s)\ngot\n%s\nwant\n%s", title, p.Rules[0].Match.Answer, p.Rules[0].Match.Text,
				strings.Join(got, "\n"), want)
		}
		if never := c.Never(); len(never) > 0 {
			t.Errorf("%s: %v", title, never)
		}
	}
	if count != 20 {
		t.Errorf("there are %d rules", count)
	}
}
