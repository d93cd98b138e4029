package engine

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/local"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/store"
)

// The disk of the records fills in the midst of a pass, at every place: the pass waits and says
// why, the service is not ready, and once there is room everything is filed and counted.
func TestWhileTheDiskOfTheRecordsIsFullAPassLosesNothing(t *testing.T) {
	for _, filed := range []int{0, 1, 7, 23} {
		t.Run(fmt.Sprintf("after %d files", filed), func(t *testing.T) {
			box := newPostbox()
			h := newHouse(t, box.dial)
			gate := &atCommit{at: filed, reached: make(chan struct{}), goOn: make(chan struct{})}
			h.open = func(c *store.Cabinet) (cabinet.Cabinet, error) {
				return &slowCabinet{local.New(c.Folder, c.Identity), gate}, nil
			}
			h.restart()
			h.hurry()
			const n = 60
			want := map[string]string{}
			for i := range n {
				name := fmt.Sprintf("r%02d.csv", i)
				box.deliver("INBOX",
					raw(fmt.Sprint("reading ", i, strings.Repeat(" of the gauge at the quay", 20)), name, fmt.Sprint(i)))
				want["Gauges/"+name] = fmt.Sprint(i)
			}
			h.watched()
			h.ahead.Store(int64(2 * arrivalMargin))
			id := h.rule(strings.Replace(gaugesRule, "Gauges/<received year>/<received month>", "Gauges", 1))
			h.ahead.Store(0)
			pass, err := h.engine.FileOldMail(t.Context(), OldMailOf{RuleID: id}, tester)
			if err != nil {
				t.Fatal(err)
			}
			<-gate.reached
			if err := h.store.Fill(t.Context(), true); err != nil {
				t.Fatal(err)
			}
			close(gate.goOn)
			h.until("the records refuse a change", func() bool {
				trouble := h.store.Refusal()
				return trouble != nil && trouble.Full
			})
			p, err := h.store.Passes.ByID(t.Context(), store.System, pass.ID)
			if err != nil || p.State != store.Running && p.Looked != n { // all may be decided, and wait to be filed
				t.Errorf("while the disk is full the pass is %s after %d of %d, %v", p.State, p.Looked, n, err)
			}
			if err := h.store.Fill(t.Context(), false); err != nil {
				t.Fatal(err)
			}
			h.until("the pass is done",
				func() bool {
					p, _ = h.store.Passes.ByID(t.Context(), store.System, pass.ID)
					return p.State == store.Done
				})
			if p.Total != n || p.Looked != n || p.Unread != 0 || p.Gone != 0 {
				t.Errorf("it looked at %d of %d, %d not read, %d gone: %s", p.Looked, p.Total, p.Unread, p.Gone, p.Note)
			}
			h.expect(want)
			lines := 0
			h.until("each has its line",
				func() bool {
					lines, _ = h.store.Register.Count(t.Context(), store.System, register.Query{})
					return lines >= n
				})
			if lines != n {
				t.Errorf("%d lines in the register, want %d", lines, n)
			}
			h.until("the records are in order again", func() bool { return h.store.Refusal() == nil })
		})
	}
}

// atCommit stops everything that files when so many files have their names.
type atCommit struct {
	mutex         sync.Mutex
	n, at         int
	reached, goOn chan struct{}
}

type slowCabinet struct {
	*local.Cabinet
	gate *atCommit
}

func (c *slowCabinet) Commit(ctx context.Context, id, path string) error {
	c.gate.mutex.Lock()
	c.gate.n++
	n := c.gate.n - c.gate.at
	c.gate.mutex.Unlock()
	if n == 1 {
		close(c.gate.reached)
	}
	if n >= 1 {
		<-c.gate.goOn
	}
	return c.Cabinet.Commit(ctx, id, path)
}
