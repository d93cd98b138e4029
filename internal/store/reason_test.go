package store

import (
	"slices"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/reason"
)

// Earlier versions kept a reason as a sentence, with what to do about it beside it.
func TestReasonsOfEarlierVersionsStayReadable(t *testing.T) {
	folder := t.TempDir()
	entry := func(item, state, why, advice string) string {
		return `INSERT INTO journal (rule_id, rule_revision, message_id, item, round, pass_id, mailbox_id, cabinet_id, state, name, kind, wanted, path, reason, advice, attempts, size, register_year, register_number, planned_at)
			VALUES ('r', 1, 1, '` + item + `', 0, 0, 'box', 'c', '` + state + `', 'a.csv', 'text', '', '', '` + why + `', '` + advice + `', 0, 1, 0, 0, '2026-01-01')`
	}
	recordsOf(t, folder, 1, firstRecords(t, folder)...)
	recordsOf(t, folder, 12, entry("1", "held", "it says \"{berth}\"", "Look at it."), entry("3", "filed", "", ""),
		`INSERT INTO retries (mailbox_id, folder, uid_validity, uid, state, reason, advice, made_at)
			VALUES ('box', 'INBOX', 1, 1, 'failed', 'it cannot be read', 'Try again.', '2026-01-01')`)
	s, err := Open(folder)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	entries, err := s.Journal.OfMessage(t.Context(), System, 1)
	if err != nil || len(entries) != 3 {
		t.Fatal(entries, err)
	}
	entries = slices.DeleteFunc(entries, func(e Entry) bool { return e.Item == "2" }) // of the first version
	if r := entries[0].Reason; r.String() != `it says "{berth}"` || r.Advice() != "Look at it." {
		t.Errorf("the reason is %q, %q", r, r.Advice())
	}
	if !entries[1].Reason.IsZero() {
		t.Errorf("what had no reason has %q", entries[1].Reason)
	}
	unread, err := list[Retry](s.read)
	if err != nil || len(unread) != 1 || unread[0].Reason.String() != "it cannot be read" ||
		unread[0].Reason.Advice() != "Try again." {
		t.Errorf("%+v, %v", unread, err)
	}
	// what a person sets aside or takes up again changes its reason
	if n, err := s.Tray.SetAside(t.Context(), System, Matters{Messages: []int64{unread[0].ID}}, "no matter",
		time.Now()); err != nil ||
		n != 1 {
		t.Fatal(n, err)
	}
	unread, err = list[Retry](s.read)
	if err != nil || unread[0].Reason.String() != "no matter" || unread[0].State != RetrySetAside {
		t.Errorf("%+v, %v", unread, err)
	}
	entries[0].State, entries[0].Reason = Held, reason.Topic("berth requests", "it is in doubt")
	if err := s.Journal.Finish(t.Context(), &entries[0], time.Now()); err != nil {
		t.Fatal(err)
	}
	kept, err := s.Journal.ByID(t.Context(), System, entries[0].ID)
	if err != nil || kept.Cause != CauseTopic || kept.Reason.Code != "topic in doubt" ||
		kept.Reason.With[0] != "berth requests" {
		t.Errorf("%+v, %v", kept, err)
	}
}
