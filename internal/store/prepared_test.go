package store

import (
	"fmt"
	"testing"

	"gorm.io/gorm"
)

func TestAStatementIsPreparedOnceAlsoInTransactions(t *testing.T) {
	s := opened(t)
	work := func(n int) {
		t.Helper()
		if err := s.Settings.Set(t.Context(), "office", fmt.Sprint(n)); err != nil {
			t.Fatal(err)
		}
		if kept, err := s.Settings.Get(t.Context(), "office"); err != nil || kept != fmt.Sprint(n) {
			t.Fatalf("it kept %q, %v", kept, err)
		}
	}
	work(0)
	before := preparations.Load()
	for n := range 100 {
		work(n)
	}
	if n := preparations.Load() - before; n > 20 { // a few on each of the connections that read
		t.Errorf("100 changes and questions were prepared %d times", n)
	}
	// the same statement twice at once, one of them half read
	err := s.change(t.Context(), func(tx *gorm.DB) error {
		rows, err := tx.Raw("SELECT value FROM settings ORDER BY value").Rows()
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var all []string
			if err := tx.Raw("SELECT value FROM settings ORDER BY value").Scan(&all).Error; err != nil || len(all) == 0 {
				return fmt.Errorf("within itself it read %q, %w", all, err)
			}
		}
		return rows.Err()
	})
	if err != nil {
		t.Error(err)
	}
}

func TestAConnectionKeepsAFewHundredStatements(t *testing.T) {
	s := opened(t)
	for n := range 3 * mostPrepared {
		if err := s.change(t.Context(), func(tx *gorm.DB) error {
			return tx.Exec(fmt.Sprintf("UPDATE settings SET value = value WHERE key = '%d'", n)).Error
		}); err != nil {
			t.Fatal(err)
		}
	}
	pool, err := s.write.DB()
	if err != nil {
		t.Fatal(err)
	}
	conn, err := pool.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if err := conn.Raw(func(c any) error {
		kept, total := c.(*keepingConn), 0
		for _, free := range kept.free {
			total += len(free)
		}
		if total != kept.kept || total > mostPrepared || total < mostPrepared/2 {
			t.Errorf("%d statements are kept, and it counts %d", total, kept.kept)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
}
