package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"testing"

	"inktray.example/inktray/client"
)

// hostileText is what a message may be called by somebody who wants to steer a terminal.
const hostileText = "\x1b]0;owned\x07\x1b[2J\x1b[31mred\u009b5m\u202etxt.exe\u2066x\r\nFrom: harbour\x08\x7f"

func TestNothingThatIsWrittenSteersATerminal(t *testing.T) {
	for _, asJSON := range []bool{false, true} {
		for size := 1; size < 9; size++ { // characters that come in pieces
			var out bytes.Buffer
			c := &clean{to: &out, json: asJSON}
			text := "Zoë 港 " + hostileText + " مرحبا\u200f 👩‍🚀"
			if asJSON {
				data, err := json.Marshal(text)
				if err != nil {
					t.Fatal(err)
				}
				text = string(data)
			}
			for data := []byte(text); len(data) > 0; data = data[min(size, len(data)):] {
				if n, err := c.Write(data[:min(size, len(data))]); err != nil || n != min(size, len(data)) {
					t.Fatal(n, err)
				}
			}
			got := out.String()
			if i := strings.IndexFunc(got, func(r rune) bool { return steers(r) }); i >= 0 {
				t.Errorf("in pieces of %d: %q is left in %q", size, got[i:], got)
			}
			if !strings.Contains(got, "Zoë 港") || !strings.Contains(got, "مرحبا\u200f 👩‍🚀") {
				t.Errorf("in pieces of %d letters are lost: %q", size, got)
			}
			if asJSON {
				var back string
				if err := json.Unmarshal(out.Bytes(), &back); err != nil || !strings.Contains(back, hostileText) {
					t.Errorf("in pieces of %d the JSON reads back as %q, %v", size, back, err)
				}
			}
		}
	}
}

func TestTheLogSteersNoTerminal(t *testing.T) {
	for _, form := range []string{"text", "json"} {
		var out bytes.Buffer
		handler := slog.Handler(slog.NewTextHandler(&clean{to: &out}, nil))
		if form == "json" {
			handler = slog.NewJSONHandler(&clean{to: &out, json: true}, nil)
		}
		slog.New(handler).Warn("a message "+hostileText, "subject", hostileText, hostileText, 1, "error",
			fmt.Errorf("about %s", hostileText))
		if i := strings.IndexFunc(strings.TrimSuffix(out.String(), "\n"), steers); i >= 0 {
			t.Errorf("the log as %s has %q", form, out.String()[i:])
		}
		if strings.Count(out.String(), "\n") != 1 {
			t.Errorf("the log as %s has more than one line: %q", form, out.String())
		}
	}
}

// Every command that shows something of a message shows it so that no terminal is steered.
func TestNoCommandPassesOnWhatSteersATerminal(t *testing.T) {
	o := openOffice(t, theLast)
	header := "From: \"" + "=?utf-8?q?" + encodedWord("Oda "+hostileText) + "?=" + "\" <oda@tidewatch.example>\r\nTo: " +
		"gauges@brackwater.example\r\nSubject: =?utf-8?q?" + encodedWord("Levels "+hostileText) +
		"?=\r\nMessage-ID: <hostile@tidewatch.example>\r\n"
	message := header + "MIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: " +
		"text/plain; charset=utf-8\r\n\r\nhello " + hostileText +
		"\r\n--b\r\nContent-Type: text/csv\r\nContent-Disposition: attachment; filename*=utf-8''" +
		percent("levels "+hostileText+".csv") + "\r\n\r\na;b\r\n--b--\r\n"
	file := write(t, "hostile.eml", message)
	must(t, "mailboxes", "add", "hostile", "--kind", "files")
	must(t, "messages", "take-in", file, "--mailbox", "hostile")
	o.settled()
	var number string
	until(t, "the message is known", func() bool {
		for _, m := range value[[]client.Message](t, "messages", "list", "--most", "200") {
			if strings.Contains(m.Subject, "Levels") && strings.Contains(m.Subject, "txt.exe") {
				number = fmt.Sprint(m.ID)
			}
		}
		return number != ""
	})
	tried := 0
	for _, args := range [][]string{{"messages", "list"}, {"messages", "why", number}, {"messages", "read", number},
		{"tray", "list"}, {"register", "list"}, {"register", "list", "--per", "message"}, {"passes", "list"},
		{"messages", "look", "hostile"}, {"rules", "draft", number}, {"rules", "rehearse", "Crew lists", "--message", number},
		{"mailboxes", "folders", "hostile"}} {
		for _, form := range []string{"table", "json"} {
			out, errs, code := run(t, "", append(args, "--output", form)...)
			if code == exitUsage {
				continue
			}
			tried++
			if i := strings.IndexFunc(out+errs, steers); i >= 0 {
				t.Errorf("inktray %s as %s: %q", strings.Join(args, " "), form, (out + errs)[i:min(len(out+errs), i+40)])
			}
		}
	}
	if tried < 10 {
		t.Errorf("only %d commands were understood", tried)
	}
}

func encodedWord(s string) string {
	var b strings.Builder
	for _, c := range []byte(s) {
		fmt.Fprintf(&b, "=%02X", c)
	}
	return b.String()
}

func percent(s string) string { return strings.ReplaceAll(encodedWord(s), "=", "%") }
