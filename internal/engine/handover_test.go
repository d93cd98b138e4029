package engine

import (
	"errors"
	"os"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/store"
)

// A mailbox is handed over only once nothing of it is under way or waits, and only
// where its mail lies elsewhere.
func TestOnlyWhatIsSettledIsHandedOver(t *testing.T) {
	h, box := filedHouse(t, 2)
	refused := func(says string) {
		t.Helper()
		_, err := h.engine.HandOver(t.Context(), store.System, "box", false)
		var not *HandOverError
		if !errors.As(err, &not) || !strings.Contains(not.Problem, says) {
			t.Fatalf("%v, want ...%s...", err, says)
		}
		h.watched()
	}
	box.deliver("INBOX", raw("disguised", "plan.pdf", "MZ\x90\x00 a program"))
	h.until("it waits", func() bool { n, _ := h.store.Tray.Entries(t.Context(), store.System, 0, 10); return len(n) == 1 })
	refused("something of this mailbox waits in the tray (1)")
	waiting, err := h.store.Tray.Entries(t.Context(), store.System, 0, 10)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := h.engine.Desk.SetAside(t.Context(), store.System, store.Matters{Items: []int64{waiting[0].ID}},
		""); err != nil {
		t.Fatal(err)
	}
	pass := store.Pass{Kind: "old mail", RuleID: "tide-gauges", MadeBy: "test", State: store.Running,
		StartedAt: time.Now()}
	if err := h.store.Passes.Add(t.Context(), &pass); err != nil {
		t.Fatal(err)
	}
	refused("goes over this mailbox")
	pass.State = store.Stopped
	if err := h.store.Passes.Save(t.Context(), &pass); err != nil {
		t.Fatal(err)
	}
	file, err := h.engine.HandOver(t.Context(), store.System, "box", false)
	if err != nil || !strings.HasSuffix(file, ".mailbox") {
		t.Fatalf("%s, %v", file, err)
	}
	if r, err := h.store.Rules.ByID(t.Context(), "tide-gauges"); err != nil || r.Running {
		t.Errorf("the rule that looked into no other mailbox runs: %v, %v", r.Running, err)
	}
	if h.count("") != 2 {
		t.Error("what was filed is no longer in the register")
	}
}

// The topics for which a mailbox's rules ask go along with what they learned and what
// people said of its messages; one of that name at the other place stays as it is.
func TestTopicsGoAlongWithTheMailbox(t *testing.T) {
	box := &memory{}
	from := newHouse(t, box.dial)
	from.watched()
	id := from.taught("Berth requests", berths, bills)
	from.taught("Dues", bills, berths) // nobody asks for it
	box.add(enclosed(oda, "Holz", "Guten Tag.", "one.pdf", "%PDF one"))
	var known []store.Message
	from.until("it is known", func() bool {
		known, _ = from.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 10})
		return len(known) == 1
	})
	if _, err := from.engine.Desk.Mark(t.Context(), store.System, id, []int64{known[0].ID}, true, "mail"); err != nil {
		t.Fatal(err)
	}
	from.rule(topicRule)
	file, err := from.engine.HandOver(t.Context(), store.System, "box", false)
	if err != nil {
		t.Fatal(err)
	}
	taken := func(to *house) {
		t.Helper()
		f, err := os.Open(file)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		m, err := to.store.Mailboxes.TakeOver(to.t.Context(), f, time.Now(), "test", false)
		if err != nil {
			t.Fatal(err)
		}
		if err := to.engine.TakenOver(t.Context(), &m); err != nil {
			t.Fatal(err)
		}
	}
	to := newHouse(t, box.dial)
	if err := to.store.Mailboxes.Remove(t.Context(), "box", "test"); err != nil {
		t.Fatal(err)
	}
	taken(to)
	topics, err := to.store.Topics.All(t.Context())
	if err != nil || len(topics) != 1 || topics[0].Name != "Berth requests" {
		t.Fatalf("topics that came along: %+v, %v", topics, err)
	}
	if learned := to.engine.Office.Topics.Learned("Berth requests"); learned.Yes != 7 || learned.No != 6 ||
		!learned.Ready() {
		t.Errorf("it knows %d and %d", learned.Yes, learned.No)
	}
	clerk := store.Viewer{ID: "x", Name: "x", Role: store.Clerk, Only: []string{"box"}, AllCabinets: true}
	if seen, err := to.store.Topics.Examples(t.Context(), clerk, topics[0].ID); err != nil || len(seen) != 1 ||
		seen[0].Subject != "Holz" {
		t.Errorf("who may see the mailbox sees %+v, %v", seen, err)
	}
	here, err := to.store.Messages.Find(t.Context(), store.System, store.MessageQuery{Most: 10})
	if err != nil || len(here) != 1 {
		t.Fatalf("%+v, %v", here, err)
	}
	verdicts, err := to.engine.Desk.JudgeMessage(t.Context(), store.System, here[0].ID)
	if err != nil || len(verdicts) != 1 || verdicts[0].Said == nil || !*verdicts[0].Said {
		t.Errorf("what a person said of its message: %+v, %v", verdicts, err)
	}

	other := newHouse(t, box.dial)
	if err := other.store.Mailboxes.Remove(t.Context(), "box", "test"); err != nil {
		t.Fatal(err)
	}
	other.taught("berth Requests", berths[:5], bills[:5])
	taken(other)
	if learned := other.engine.Office.Topics.Learned("berth Requests"); learned.Yes != 5 || learned.No != 5 {
		t.Errorf("the topic that was there knows %d and %d now", learned.Yes, learned.No)
	}
}
