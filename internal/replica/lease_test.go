package replica

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/superfly/ltx"

	"inktray.example/inktray/internal/cabinet"
)

// dial is a clock that tests set.
type dial struct {
	mutex sync.Mutex
	at    time.Duration
	speed float64 // of this machine's clock, where it differs
}

func (d *dial) now() time.Duration {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	return d.at
}

// pass lets real time go by, as the clock shows it.
func (d *dial) pass(t time.Duration) {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	if d.speed == 0 {
		d.speed = 1
	}
	d.at += time.Duration(float64(t) * d.speed)
}

const term = 6 * time.Second

func take(t *testing.T, p Place, seen Held, machine string, clock *dial) *Lease {
	t.Helper()
	l, err := takeBy(t.Context(), p, seen, Held{Machine: machine, Folder: machine, For: term}, clock.now)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func TestOfManyWhoTakeALeaseAtOnceOneGetsIt(t *testing.T) {
	p := Folder(t.TempDir())
	var won, lost int
	var mutex sync.Mutex
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			_, err := Take(context.Background(), p, Held{}, Held{Machine: "quay", For: term})
			mutex.Lock()
			defer mutex.Unlock()
			switch {
			case err == nil:
				won++
			case errors.Is(err, ErrHeld):
				lost++
			default:
				t.Error(err)
			}
		})
	}
	all.Wait()
	if won != 1 || lost != 19 {
		t.Errorf("%d got it and %d did not", won, lost)
	}
}

// A machine that was stopped and goes on, or whose clock is slow or fast, or that reaches the place late, stops working
// before another one may begin.
func TestTheHolderOfALeaseStopsBeforeAnotherMayBegin(t *testing.T) {
	for name, c := range map[string]struct{ holder, watcher float64 }{
		"clocks alike":                           {1, 1},
		"the holder's clock is slow by a tenth":  {0.9, 1},
		"the watcher's clock is fast by a tenth": {1, 1.1},
		"both":                                   {0.93, 1.07},
	} {
		t.Run(name, func(t *testing.T) {
			p := Folder(t.TempDir())
			mine, its := &dial{speed: c.holder}, &dial{at: 1000 * time.Hour, speed: c.watcher}
			l := take(t, p, Held{}, "quay", mine)
			w := &Watch{place: p, clock: its.now}
			stopped, free := time.Duration(0), time.Duration(0)
			for at := time.Duration(0); free == 0; at += 50 * time.Millisecond {
				_, may, err := w.Look(t.Context(), "tower")
				if err != nil {
					t.Fatal(err)
				}
				if may {
					free = at
				}
				if !l.Valid() && stopped == 0 {
					stopped = at
				}
				mine.pass(50 * time.Millisecond)
				its.pass(50 * time.Millisecond)
			}
			if stopped == 0 || stopped >= free {
				t.Errorf("the holder stops after %v, and another may begin after %v", stopped, free)
			}
		})
	}
}

// laggard is a place whose disk is slow: a write takes so long, before it is done and after it.
type laggard struct {
	Place
	clocks        []*dial
	before, after time.Duration
}

func (l *laggard) Write(ctx context.Context, r io.Reader, name func() string) error {
	for _, c := range l.clocks {
		c.pass(l.before)
	}
	err := l.Place.Write(ctx, r, name)
	for _, c := range l.clocks {
		c.pass(l.after)
	}
	return err
}

// However slow the disk of the place is, the holder counts from before its request and others from after they saw it.
func TestOnASlowDiskTheHolderStopsBeforeAnotherMayBegin(t *testing.T) {
	for _, c := range []struct{ before, after time.Duration }{{0, 4 * time.Second}, {4 * time.Second, 0},
		{3 * time.Second, 3 * time.Second}, {20 * time.Second, 0}} {
		mine, its := &dial{}, &dial{}
		p := &laggard{Place: Folder(t.TempDir())}
		l := take(t, p, Held{}, "quay", mine)
		w := &Watch{place: p.Place, clock: its.now}
		if _, _, err := w.Look(t.Context(), "tower"); err != nil {
			t.Fatal(err)
		}
		p.clocks, p.before, p.after = []*dial{mine, its}, c.before, c.after
		if err := l.renew(t.Context()); err != nil {
			t.Fatal(err)
		}
		for range 200 {
			_, free, err := w.Look(t.Context(), "tower")
			if err != nil {
				t.Fatal(err)
			}
			if free {
				break
			}
			mine.pass(100 * time.Millisecond)
			its.pass(100 * time.Millisecond)
		}
		if l.Valid() {
			t.Errorf("writing takes %v and %v: both may work", c.before, c.after)
		}
	}
}

func TestAStoppedHolderThatGoesOnKnowsThatItLostItsLease(t *testing.T) {
	p := Folder(t.TempDir())
	mine, its := &dial{}, &dial{}
	l := take(t, p, Held{}, "quay", mine)
	w := &Watch{place: p, clock: its.now}
	seen, _, err := w.Look(t.Context(), "tower")
	if err != nil {
		t.Fatal(err)
	}
	for range 20 { // the process of the holder is stopped; its clock goes on
		mine.pass(time.Second)
		its.pass(time.Second)
	}
	if _, free, err := w.Look(t.Context(), "tower"); err != nil || !free {
		t.Fatal(free, err)
	}
	other := take(t, p, seen, "tower", its)
	if l.Valid() || l.Turn() != 0 {
		t.Error("the holder that was stopped believes that it still works")
	}
	if err := l.renew(t.Context()); !errors.Is(err, ErrHeld) {
		t.Errorf("it renewed a lease of another: %v", err)
	}
	if !other.Valid() || other.Turn() <= 1 {
		t.Error("the other one does not work")
	}
}

// late is a place that writes, and then says that it could not, so many times.
type late struct {
	Place
	times int
}

func (l *late) Write(ctx context.Context, r io.Reader, name func() string) error {
	if err := l.Place.Write(ctx, r, name); err != nil || l.times == 0 {
		return err
	}
	l.times--
	return errors.New("the connection broke off")
}

// A renewal whose answer was lost counts from its own moment, not from when it was recognised: others count from then.
func TestARenewalWhoseAnswerWasLostDoesNotLastLonger(t *testing.T) {
	p := &late{Place: Folder(t.TempDir())}
	mine, its := &dial{}, &dial{}
	l := take(t, p, Held{}, "quay", mine)
	p.times = 1
	if err := l.renew(t.Context()); err == nil {
		t.Fatal("the answer was not lost")
	}
	w := &Watch{place: p, clock: its.now}
	if _, _, err := w.Look(t.Context(), "tower"); err != nil {
		t.Fatal(err)
	}
	for range 4 {
		mine.pass(time.Second)
		its.pass(time.Second)
	}
	if err := l.renew(t.Context()); err != nil { // it finds its own, and writes the next one
		t.Fatal(err)
	}
	if n := l.Held().Number; n != 3 {
		t.Errorf("the lease has number %d, want 3", n)
	}
	for range 5 {
		mine.pass(time.Second)
		its.pass(time.Second)
		if _, free, err := w.Look(t.Context(), "tower"); err != nil || free && l.Valid() {
			t.Fatalf("both may work: %v", err)
		}
	}
	if l.Valid() {
		t.Error("the lease lasts longer than it was written for")
	}
}

func TestALeaseThatIsGivenAwayIsTakenAtOnceByWhomItIsGivenTo(t *testing.T) {
	p := Folder(t.TempDir())
	clock := &dial{}
	l := take(t, p, Held{}, "quay", clock)
	l.To("tower")
	if err := l.Give(t.Context()); err != nil {
		t.Fatal(err)
	}
	if l.Valid() {
		t.Error("it is still held")
	}
	for folder, want := range map[string]bool{"tower": true, "pier": false} {
		w := &Watch{place: p, clock: clock.now}
		if _, free, err := w.Look(t.Context(), folder); err != nil || free != want {
			t.Errorf("%s may take it: %v, %v", folder, free, err)
		}
	}
	w := &Watch{place: p, clock: clock.now}
	if _, _, err := w.Look(t.Context(), "pier"); err != nil {
		t.Fatal(err)
	}
	clock.pass(term + term/Margin + time.Second)
	if _, free, err := w.Look(t.Context(), "pier"); err != nil || !free {
		t.Errorf("whoever it was given to did not take it, and another may not: %v", err)
	}
}

// Whoever slept so long that its next number was removed meanwhile does not get the lease by writing it again.
func TestANumberThatWasRemovedIsNotTakenAgain(t *testing.T) {
	p := Folder(t.TempDir())
	clock := &dial{}
	sleeper := take(t, p, Held{}, "quay", clock)
	other := take(t, p, sleeper.Held(), "tower", clock)
	for range 20 {
		if err := other.renew(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := p.Open(t.Context(), leaseName(2)); !errors.Is(err, fs.ErrNotExist) {
		t.Fatalf("old leases are not removed: %v", err)
	}
	if err := sleeper.renew(t.Context()); !errors.Is(err, ErrHeld) {
		t.Errorf("the sleeper renewed it: %v", err)
	}
	if err := other.renew(t.Context()); err != nil {
		t.Errorf("the holder is disturbed: %v", err)
	}
}

func TestTheLeaseOfAPlaceThatIsGoneIsLostInTime(t *testing.T) {
	p := &gone{Place: Folder(t.TempDir())}
	l, err := Take(t.Context(), p, Held{}, Held{Machine: "quay", For: 600 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	go l.Keep(t.Context(), slog.New(slog.DiscardHandler))
	<-time.After(900 * time.Millisecond)
	if !l.Valid() {
		t.Fatal("it was not renewed")
	}
	p.mutex.Lock()
	p.is = true
	p.mutex.Unlock()
	began := time.Now()
	<-l.Ended()
	if took := time.Since(began); took > 600*time.Millisecond {
		t.Errorf("it ended only %v after the place was gone", took)
	}
}

// gone is a place that can go away: nothing answers any more.
type gone struct {
	Place
	mutex sync.Mutex
	is    bool
}

func (g *gone) away(ctx context.Context) error {
	g.mutex.Lock()
	is := g.is
	g.mutex.Unlock()
	if is {
		<-ctx.Done()
		return ctx.Err()
	}
	return nil
}

func (g *gone) Write(ctx context.Context, r io.Reader, name func() string) error {
	if err := g.away(ctx); err != nil {
		return err
	}
	return g.Place.Write(ctx, r, name)
}

func (g *gone) List(ctx context.Context, folder string) ([]cabinet.Entry, error) {
	if err := g.away(ctx); err != nil {
		return nil, err
	}
	return g.Place.List(ctx, folder)
}

// What the holder writes to is in the lease once the place has it, and not before.
func TestAHistoryThatDidNotGetIntoTheLeaseIsNotHeld(t *testing.T) {
	p := &gone{Place: Folder(t.TempDir())}
	l := take(t, p, Held{}, "quay", &dial{})
	p.is = true
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if err := l.SetHistory(ctx, "new"); err == nil {
		t.Fatal("it was written where nothing can be")
	}
	if h := l.Held().History; h != "" {
		t.Errorf("the history is said to be %q", h)
	}
	p.is = false
	if err := l.SetHistory(t.Context(), "new"); err != nil {
		t.Fatal(err)
	}
	if got, err := readLease(t.Context(), p); err != nil || got.History != "new" || l.Held().History != "new" {
		t.Errorf("the lease says %q, %v", got.History, err)
	}
}

// A copy that does not get to where the place was ten seconds ago is not fresh.
func TestACopyIsFreshWhereItLacksOnlyWhatCameLately(t *testing.T) {
	var f freshness
	began := time.Now()
	for i, look := range []struct {
		after    time.Duration
		at, last ltx.TXID
		fresh    bool
	}{
		{0, 0, 7, false},                             // no copy yet
		{time.Second, 3, 7, false},                   // never had everything
		{20 * time.Second, 6, 9, false},              // as before
		{21 * time.Second, 8, 10, true},              // has what was there at second 1
		{22 * time.Second, 8, 12, true},              // lacks what came a second ago
		{31 * time.Second, 9, 30, true},              // 10 seconds ago 10 was there
		{31*time.Second + 1, 9, 31, false},           // that it should have
		{32 * time.Second, 10, 40, true},             // now it has
		{40 * time.Second, 40, 40, true},             // everything
		{90 * time.Second, 40, 40, true},             // nothing came
		{91 * time.Second, 40, 41, true},             // this came now
		{101*time.Second + 1, 40, 41, false},         // and is not there yet
		{101*time.Second + 2, 0, 41, false},          // the copy is made anew
		{101*time.Second + 3, 41, 41, true},          // and there
		{300 * time.Second, 50, 60, true},            // nobody looked for long
		{310*time.Second + 1, 50, 60, false},         // but now for long enough
		{310*time.Second + 2, 60, 60, true},          // again
		{310*time.Second + 3, 60, 1 << 40, true},     // much at once
		{330 * time.Second, 1 << 20, 1 << 41, false}, // takes its time
	} {
		if fresh := f.look(look.at, look.last, began.Add(look.after)); fresh != look.fresh {
			t.Errorf("look %d, at %d of %d: fresh %t", i, look.at, look.last, fresh)
		}
	}
}
