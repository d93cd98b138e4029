package store

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/source"
)

// copied makes n copies of the first row of a table, with other values in some columns. They may use n, the number of
// the copy, from 2 on.
func copied(t testing.TB, s *Store, table string, n int, other map[string]string) {
	t.Helper()
	var columns []string
	if err := s.write.Raw("SELECT name FROM pragma_table_info(?)", table).Scan(&columns).Error; err != nil {
		t.Fatal(err)
	}
	values := make([]string, len(columns))
	for i, c := range columns {
		values[i] = table + "." + c
		if v, ok := other[c]; ok {
			values[i] = v
		}
	}
	if err := s.write.Exec(fmt.Sprintf(`WITH RECURSIVE copy(n) AS (VALUES (2) UNION ALL SELECT n + 1 FROM copy WHERE n <= %d)
		INSERT INTO %s (%s) SELECT %s FROM copy CROSS JOIN %s WHERE %s.id = 1`, n, table, strings.Join(columns, ", "),
		strings.Join(values, ", "), table, table)).Error; err != nil {
		t.Fatal(err)
	}
}

// oldRule opens records in which a rule filed so many attachments before, and gives what enters a message with one
// attachment, from its plan to its line in the register.
func oldRule(b *testing.B, before int) (one func() error) {
	s, err := Open(b.TempDir())
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { _ = s.Close() })
	raw := mail.Parse([]byte("From: oda@tidewatch.example\r\nSubject: reading\r\n\r\nx"))
	uid := uint32(0)
	one = func() error {
		uid++
		m, _, err := NewMessage("box", "INBOX", 1,
			&source.Facts{UID: uid, Received: day, Header: raw.Message.Header, Structure: raw.Structure()}, day)
		if err != nil {
			return err
		}
		m.Fingerprint = fmt.Appendf(nil, "%032d", uid)
		look := Look{Messages: []*Message{m}, Entries: map[*Message][]Entry{
			m: {{RuleID: "r", Item: "1", State: Planned, Name: "a.csv", Wanted: "A/a.csv", CabinetID: "c", PlannedAt: day}}}}
		if err := s.Messages.Commit(b.Context(), look); err != nil {
			return err
		}
		e := look.Entries[m][0]
		e.Path, e.Size, e.SHA256 = fmt.Sprintf("A/a (%d).csv", uid), 1, make([]byte, 32)
		if _, found, err := s.Journal.FiledBefore(b.Context(), &e, m, e.SHA256); found || err != nil {
			return errors.Join(fmt.Errorf("it was filed before: %t", found), err)
		}
		return errors.Join(s.Journal.Stage(b.Context(), &e, nil, day), s.Journal.File(b.Context(), &e, day))
	}
	if err := one(); err != nil {
		b.Fatal(err)
	}
	if before > 0 {
		copied(b, s, "messages", before, map[string]string{"id": "n", "uid": "n", "fingerprint": "randomblob(32)"})
		copied(b, s, "journal", before, map[string]string{"id": "n", "message_id": "n", "sha256": "randomblob(32)",
			"register_number": "n", "path": "'A/b' || n || '.csv'"})
		uid = uint32(before) + 1
	}
	if err := s.write.Exec("PRAGMA wal_checkpoint(TRUNCATE)").Error; err != nil {
		b.Fatal(err)
	}
	return one
}

// BenchmarkAnOldRule measures what the records cost a message with one attachment where its rule filed nothing before,
// and where it filed a million attachments. Limit: 1.5 times as long.
func BenchmarkAnOldRule(b *testing.B) {
	rules := []func() error{oldRule(b, 0), oldRule(b, 1_000_000)}
	each := make([][]time.Duration, len(rules))
	for b.Loop() {
		for range 100 {
			for i, one := range rules { // in turn, since the machine is not the same at every moment
				for range 20 {
					began := time.Now()
					if err := one(); err != nil {
						b.Fatal(err)
					}
					each[i] = append(each[i], time.Since(began))
				}
			}
		}
	}
	for i := range each {
		slices.Sort(each[i])
	}
	fresh, old := each[0][len(each[0])/2], each[1][len(each[1])/2]
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(float64(fresh.Microseconds()), "µs/message-of-a-new-rule")
	b.ReportMetric(float64(old.Microseconds()), "µs/message-of-an-old-rule")
	if old.Seconds()/fresh.Seconds() > 1.5 {
		b.Errorf("a message costs %v where the rule filed a million before, and %v where it filed none", old, fresh)
	}
}
