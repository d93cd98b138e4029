package connections

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"inktray.example/inktray/internal/reach"
)

func counter(account, host int) *Counter {
	return &Counter{Clock: time.Now, Turn: 5 * time.Millisecond,
		Limits: func(context.Context) (Limits, error) { return Limits{account, host}, nil }}
}

func take(t *testing.T, c *Counter, host, account string, use Use) *Held {
	t.Helper()
	h, err := c.Take(t.Context(), host, account, use)
	if err != nil {
		t.Fatal(err)
	}
	return h
}

func TestNeverMoreConnectionsThanTheLimitsAllow(t *testing.T) {
	c := counter(3, 5)
	var mutex sync.Mutex
	open, most := map[string]int{}, map[string]int{}
	count := func(key string, n int) {
		mutex.Lock()
		defer mutex.Unlock()
		open[key] += n
		most[key] = max(most[key], open[key])
	}
	var all sync.WaitGroup
	for i := range 200 {
		account := fmt.Sprint("account ", i%4)
		host := []string{"Mail.Brackwater.example", "mail.brackwater.EXAMPLE."}[i%2] // one host, however it is spelled
		all.Go(func() {
			h, err := c.Take(t.Context(), host, account, Work)
			if err != nil {
				t.Error(err)
				return
			}
			count(account, 1)
			count("host", 1)
			time.Sleep(time.Millisecond)
			count(account, -1)
			count("host", -1)
			h.Close()
		})
	}
	all.Wait()
	if most["host"] > 4 || most["host"] < 3 { // the fifth is kept for watching
		t.Errorf("%d connections to the host at once, 5 allowed", most["host"])
	}
	for i := range 4 {
		if n := most[fmt.Sprint("account ", i)]; n > 2 || n == 0 {
			t.Errorf("account %d had %d connections at once, 3 allowed", i, n)
		}
	}
	if n := c.InUse("mail.brackwater.example", ""); n != 0 {
		t.Errorf("%d connections are counted that nobody has", n)
	}
	if len(c.waiting) != 0 {
		t.Errorf("%d still wait", len(c.waiting))
	}
}

func TestTheLastConnectionIsKeptForWatching(t *testing.T) {
	c := counter(2, 0)
	work := take(t, c, "mail.brackwater.example", "gauges", Work)
	ctx, cancel := context.WithTimeout(t.Context(), 30*time.Millisecond)
	defer cancel()
	if _, err := c.Take(ctx, "mail.brackwater.example", "gauges", Work); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a second connection for work: %v", err)
	}
	watch := take(t, c, "mail.brackwater.example", "gauges", Watch)
	var busy *reach.Error
	_, err := c.Take(t.Context(), "mail.brackwater.example", "gauges", Spare)
	if !errors.As(err, &busy) || !strings.Contains(err.Error(), `the account "gauges" may have are in use (2)`) {
		t.Errorf("a spare connection: %v", err)
	}
	take(t, c, "mail.brackwater.example", "safety", Spare).Close() // another account has its own
	work.Close()
	watch.Close()
}

// Ten mailboxes of a host that allows three connections: each is looked into again and again.
func TestMailboxesTakeTurns(t *testing.T) {
	c := counter(0, 3)
	var looks [10]atomic.Int32
	ctx, cancel := context.WithCancel(t.Context())
	var all sync.WaitGroup
	for i := range looks {
		all.Go(func() {
			for ctx.Err() == nil {
				h, err := c.Take(ctx, "mail.brackwater.example", fmt.Sprint("box ", i), Watch)
				if err != nil {
					return
				}
				looks[i].Add(1)
				select {
				case <-h.Rest():
				case <-ctx.Done():
				}
				h.Busy()
				h.Close()
			}
		})
	}
	deadline := time.Now().Add(10 * time.Second)
	for i := 0; i < len(looks) && time.Now().Before(deadline); time.Sleep(time.Millisecond) {
		for i < len(looks) && looks[i].Load() >= 5 {
			i++
		}
	}
	cancel()
	all.Wait()
	least, most := looks[0].Load(), looks[0].Load()
	for i := range looks {
		least, most = min(least, looks[i].Load()), max(most, looks[i].Load())
	}
	if least < 5 || most > 2*least {
		t.Errorf("one mailbox had %d turns, another %d", least, most)
	}
}

func TestSomebodyAtTheScreenNeedNotWaitForATurnToEnd(t *testing.T) {
	c := counter(0, 2)
	c.Turn = time.Hour
	one := take(t, c, "mail.brackwater.example", "berths", Watch)
	two := take(t, c, "mail.brackwater.example", "gauges", Watch)
	wanted := one.Rest()
	got := make(chan *Held)
	go func() {
		h, err := c.Take(t.Context(), "mail.brackwater.example", "safety", Work)
		if err != nil {
			t.Error(err)
		}
		got <- h
	}()
	select {
	case <-wanted:
	case <-time.After(5 * time.Second):
		t.Fatal("the mailbox in which nothing happens is not asked for its connection")
	}
	if !one.Asked() || two.Asked() {
		t.Errorf("asked: the one that rests %v, the one that works %v", one.Asked(), two.Asked())
	}
	one.Close()
	(<-got).Close()
	two.Close()
}

func TestNobodyIsAskedToGiveUpWhatIsNotWanted(t *testing.T) {
	c := counter(0, 2)
	one := take(t, c, "mail.brackwater.example", "berths", Watch)
	one.Rest()
	two := take(t, c, "mail.brackwater.example", "gauges", Watch)
	two.Rest()
	take(t, c, "other.example", "safety", Work).Close()
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan struct{})
	go func() {
		defer close(done)
		if _, err := c.Take(ctx, "mail.brackwater.example", "safety", Watch); err == nil {
			t.Error("a third connection was opened")
		}
	}()
	for !one.Asked() && !two.Asked() {
		time.Sleep(time.Millisecond)
	}
	time.Sleep(30 * time.Millisecond)
	if one.Asked() && two.Asked() {
		t.Error("two were asked for one connection")
	}
	cancel()
	<-done
}

func TestAServerThatAsksToDoLessIsLeftAlone(t *testing.T) {
	c := counter(0, 0)
	now := time.Date(2026, 12, 1, 14, 0, 0, 0, time.UTC)
	c.Clock = func() time.Time { return now }
	c.Slow("Mail.Brackwater.example", "gauges", 5*time.Minute)
	var slow *reach.Error
	_, err := c.Take(t.Context(), "mail.brackwater.example", "gauges", Work)
	if !errors.As(err, &slow) || !slow.Slow || slow.After != 5*time.Minute || !strings.Contains(slow.Problem, "14:05") {
		t.Errorf("work for the account: %+v", err)
	}
	take(t, c, "mail.brackwater.example", "berths", Work).Close() // only that account
	take(t, c, "mail.brackwater.example", "gauges", Watch).Close()
	now = now.Add(5 * time.Minute)
	take(t, c, "mail.brackwater.example", "gauges", Work).Close()
}
