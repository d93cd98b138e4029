package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"inktray.example/inktray/internal/fault"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// A message on which the program itself ends again and again would stop all
// others. So what is being read is written down beside the records first. At a
// start these notes count only where the program left a crash report, that is,
// where it ended by its own fault: a kill from outside proves nothing about the
// message that happened to be read.

// mostCrashes is how often the program may end on a message that it reads alone
// before the message goes to the tray.
const mostCrashes = 3

// inHand is what is being read.
type inHand struct {
	Mailbox     string   `json:"mailbox"`
	Folder      string   `json:"folder"`
	UIDValidity uint32   `json:"uid_validity"`
	UIDs        []uint32 `json:"uids"`
}

func (e *Engine) handFolder() string { return filepath.Join(filepath.Dir(e.Spool), "in-hand") }

// take writes down what is read from here on. The page cache outlives the
// program, so there is no flush: this is about the program's end, not the machine's.
func (v *visit) take(uids []uint32) error {
	if v.hand == "" {
		if err := os.MkdirAll(v.engine.handFolder(), 0o700); err != nil {
			return fmt.Errorf("making the folder for what is in hand: %w", err)
		}
		f, err := os.CreateTemp(v.engine.handFolder(), "*.json")
		if err != nil {
			return fmt.Errorf("writing what is in hand: %w", err)
		}
		v.hand = f.Name()
		if err := f.Close(); err != nil {
			return err
		}
	}
	text, err := json.Marshal(inHand{v.mailbox.ID, v.open, v.state.UIDValidity, uids})
	if err != nil {
		return err
	}
	if err := os.WriteFile(v.hand, text, 0o600); err != nil {
		return fmt.Errorf("writing what is in hand: %w", err)
	}
	return nil
}

// letGo says that nothing is being read any more.
func (v *visit) letGo() {
	if v.hand != "" {
		_ = os.Truncate(v.hand, 0) // at worst a message is read alone once more
	}
}

// leave ends a visit.
func (v *visit) leave() {
	if v.hand != "" {
		_ = os.Remove(v.hand)
		v.hand = ""
	}
}

// ownFault says whether the Go runtime reports that the program ended by its own fault.
// It reports signals that somebody sent as well; they are none.
func ownFault(report string) (bool, error) {
	if report == "" {
		return false, nil
	}
	f, err := os.Open(report)
	if errors.Is(err, os.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	defer f.Close()
	start := make([]byte, 64)
	n, err := io.ReadFull(f, start)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
		return false, err
	}
	said := string(start[:n])
	return n > 0 && !strings.HasPrefix(said, "SIGQUIT") && !strings.HasPrefix(said, "SIGABRT"), nil
}

// countCrashes reads what was in hand when the program ended by its own fault.
func (e *Engine) countCrashes(ctx context.Context) error {
	crashed, err := ownFault(e.CrashReport)
	if err != nil {
		return err
	}
	files, err := os.ReadDir(e.handFolder())
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, f := range files {
		if !strings.HasSuffix(f.Name(), ".json") {
			continue
		}
		name := filepath.Join(e.handFolder(), f.Name())
		var h inHand
		if text, err := os.ReadFile(name); crashed && err == nil && json.Unmarshal(text, &h) == nil {
			var list []store.Retry
			for _, uid := range h.UIDs {
				list = append(list, store.Retry{MailboxID: h.Mailbox, Folder: h.Folder, UIDValidity: h.UIDValidity, UID: uid})
			}
			if err := e.Store.Retries.Suspect(ctx, list, e.Clock()); err != nil {
				return err
			}
			e.Log.Warn("the program ended by its own fault while it read messages", "mailbox", h.Mailbox, "folder", h.Folder,
				"messages", len(h.UIDs))
		}
		if err := os.Remove(name); err != nil {
			return err
		}
	}
	return nil
}

// pace is how many messages a mailbox is asked for at once. It outlives the
// connection: a server that cannot answer for many is asked for fewer next time.
type pace struct {
	size   int             // 0 for the most
	failed map[string]bool // messages that ended the connection when they were asked for alone
}

// most is how many messages are asked for at once now.
func (p *pace) most() int {
	if p.size == 0 {
		return batchSize
	}
	return p.size
}

// slower asks for fewer messages next time.
func (p *pace) slower() { p.size = max(1, p.most()/8) }

// faster asks for more messages next time.
func (p *pace) faster() { p.size = min(batchSize, 2*p.most()) }

// facts reads the facts of messages of the open folder, where nothing is decided
// yet. Messages on which the program ended before are read one by one. unread are
// those that the server does not give.
func (v *visit) facts(ctx context.Context, uids []uint32) (all []source.Facts, unread []uint32, err error) {
	retries, err := v.engine.Store.Retries.In(ctx, v.mailbox.ID, v.open, v.state.UIDValidity)
	if err != nil {
		return nil, nil, err
	}
	for len(uids) > 0 {
		n := v.together(uids, retries)
		some := uids[:n]
		key := fmt.Sprintf("%s/%d/%d", v.open, v.state.UIDValidity, some[0])
		if n == 1 && (v.pace.failed[key] || retries[some[0]].Crashes >= mostCrashes) {
			unread, uids = append(unread, some[0]), uids[1:]
			continue
		}
		if err := v.take(some); err != nil {
			return nil, nil, err
		}
		found, err := v.session.Facts(ctx, some)
		v.letGo()
		if err == nil {
			all, uids = append(all, found...), uids[n:]
			v.pace.faster()
			continue
		}
		how := fault.Of(ctx, err)
		if how == fault.Machine {
			return nil, nil, err
		}
		v.pace.slower()
		if n == 1 {
			if v.pace.failed == nil {
				v.pace.failed = map[string]bool{}
			}
			v.pace.failed[key] = true
		}
		if how == fault.Mailbox {
			return nil, nil, err
		}
	}
	slices.SortFunc(all, func(a, b source.Facts) int { return cmp.Compare(a.UID, b.UID) })
	return all, unread, nil
}

// together is how many of the messages, from the first on, are read at once. One
// that was in hand when the program ended is read alone.
func (v *visit) together(uids []uint32, retries map[uint32]store.Retry) int {
	n := min(v.pace.most(), len(uids))
	for i := range n {
		if _, suspect := retries[uids[i]]; suspect {
			return max(1, i)
		}
	}
	return n
}
