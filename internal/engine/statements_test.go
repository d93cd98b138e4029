package engine

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"inktray.example/inktray/internal/store"
)

// statementsOf files old mail and returns how many SQL statements each message took.
func statementsOf(t *testing.T, message func(n int) []byte) float64 {
	t.Helper()
	const messages = 100
	box := &memory{}
	for n := range messages {
		box.add(message(n))
	}
	h := newHouse(t, box.dial)
	h.beat = time.Hour // nothing else runs meanwhile
	h.restart()
	h.watched()
	id := h.rule(gaugesRule)
	h.watched()
	before := h.store.Statements()
	pass, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id}, tester)
	if err != nil {
		t.Fatal(err)
	}
	var p store.Pass
	asked := int64(0)
	h.until("the pass is done", func() bool {
		asked++
		p, _ = h.store.Passes.ByID(t.Context(), store.System, pass.ID)
		return p.State == store.Done
	})
	if p.Looked != messages {
		t.Fatalf("the pass looked at %d messages, want %d", p.Looked, messages)
	}
	return float64(h.store.Statements()-before-asked) / messages
}

// The bounds hold what was measured, so that a statement more is noticed. docs/architecture.md has the numbers.
func TestStatementsOfAMessageAndOfAFiledItemStayFew(t *testing.T) {
	other := statementsOf(t, func(n int) []byte {
		return []byte(strings.ReplaceAll(string(raw(fmt.Sprint("note ", n), "a.csv", fmt.Sprint(n))), "tidewatch.example",
			"elsewhere.example"))
	})
	one := statementsOf(t,
		func(n int) []byte { return raw(fmt.Sprint("reading ", n), fmt.Sprintf("%d.csv", n), fmt.Sprint(n)) })
	t.Logf("a message that no rule takes: %.2f statements; one with one filed item: %.2f more", other, one-other)
	if other > 4 {
		t.Errorf("a message takes %.2f statements, want 4 at most", other)
	}
	if one-other > 13 { // where none of them share a commit
		t.Errorf("a filed item takes %.2f statements, want 13 at most", one-other)
	}
}

// smallTables hold what an office has few of: looking through all of their rows costs little.
var smallTables = []string{"addressees", "alarms", "cabinets", "mailboxes", "rules", "settings", "topics", "outages",
	"start_marks", "folders", "correspondents", "notices"}

// open are the indexes of the few rows that are open: going through all of these is what is meant.
var open = regexp.MustCompile(
	"USING (COVERING )?INDEX (journal_planned|journal_staged|journal_tray|follow_ups_open|post_open)")

// TestNoStatementOfAMessageOrAnItemGrowsWithHistory looks at how SQLite carries out every statement that a message and
// an item take, live and from old mail: none goes through a whole table or through all entries of a rule.
func TestNoStatementOfAMessageOrAnItemGrowsWithHistory(t *testing.T) {
	box := &memory{}
	for n := range 3 {
		box.add(raw(fmt.Sprint("old ", n), fmt.Sprintf("%d.csv", n), fmt.Sprint(n)))
	}
	h := newHouse(t, box.dial)
	// What goes through the records at the start, and once an hour, is none of this.
	if err := h.store.Settings.SetLimits(t.Context(), store.Limits{}, 0, "test"); err != nil {
		t.Fatal(err)
	}
	h.restart()
	h.watched()
	h.until("the start is over", func() bool {
		running := h.engine.Running()
		return running["reading the register"] == 0 && running["examining the records"] == 0
	})
	var mutex sync.Mutex
	seen := map[string]bool{}
	h.store.OnStatement(func(sql string) {
		mutex.Lock()
		defer mutex.Unlock()
		seen[sql] = true
	})
	id := h.rule(gaugesRule + "    name: <register> <file.stem>\n")
	box.add(raw("new", "new.csv", "new"))
	h.filed(1)
	pass, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id}, tester)
	if err != nil {
		t.Fatal(err)
	}
	h.until("the pass is done", func() bool {
		p, err := h.store.Passes.ByID(t.Context(), store.System, pass.ID)
		return err == nil && p.State == store.Done
	})
	if _, err := h.store.Settings.LastSeen(t.Context()); err != nil { // as each check of the clock
		t.Fatal(err)
	}
	h.store.OnStatement(nil)
	mutex.Lock()
	defer mutex.Unlock()
	explained := 0
	for sql := range seen {
		verb, _, _ := strings.Cut(strings.TrimSpace(sql), " ")
		if !slices.Contains([]string{"SELECT", "UPDATE", "DELETE", "INSERT"}, strings.ToUpper(verb)) {
			continue
		}
		steps, err := h.store.Explain(sql)
		if err != nil {
			t.Errorf("explaining %s: %v", sql, err)
			continue
		}
		explained++
		if lower := strings.ToLower(sql); strings.HasPrefix(lower, "select count(*)") &&
			(strings.Contains(lower, "`journal`") || strings.Contains(lower, "`register`") ||
				strings.Contains(lower, "`messages`")) {
			t.Errorf("it counts all that fits, to know whether there is any:\n%s", sql)
		}
		for _, step := range steps {
			table := strings.Fields(strings.TrimPrefix(step, "SCAN "))[0]
			switch {
			case strings.HasPrefix(step, "SCAN ") && table != "CONSTANT" && !strings.HasSuffix(table, "-ROW") &&
				!slices.Contains(smallTables, table) && !open.MatchString(step):
				t.Errorf("%s goes through all of %s:\n%s", step, table, sql)
			case strings.Contains(step, "journal") && strings.HasSuffix(step, "(rule_id=?)"):
				t.Errorf("%s goes through all entries of a rule:\n%s", step, sql)
			}
		}
	}
	if explained < 40 {
		t.Errorf("only %d statements were explained", explained)
	}
}
