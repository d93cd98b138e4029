package engine

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/store"
)

// A message on which the program itself ends again and again would stop all
// others. So what is being read is written down beside the records first; what
// stands there at a start is what the program ended on.

// mostDeaths is how often the program may end on a message that it reads alone
// before the message is set aside.
const mostDeaths = 3

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

// facts reads messages of the open folder like their session, those on which the
// program ended before one by one.
func (v *visit) facts(ctx context.Context, uids []uint32) ([]source.Facts, error) {
	alone, rest, err := v.suspects(uids)
	if err != nil {
		return nil, err
	}
	groups := [][]uint32{rest}
	for _, uid := range alone {
		groups = append(groups, []uint32{uid})
	}
	var all []source.Facts
	for i, group := range groups {
		if len(group) == 0 {
			continue
		}
		if err := v.take(group); err != nil {
			return nil, err
		}
		some, err := v.session.Facts(ctx, group)
		v.letGo()
		if err != nil {
			return nil, err
		}
		all = append(all, some...)
		if i > 0 {
			if err := v.engine.Store.Survived(v.mailbox.ID, v.open, v.state.UIDValidity, group[0]); err != nil {
				return nil, err
			}
		}
	}
	slices.SortFunc(all, func(a, b source.Facts) int { return cmp.Compare(a.UID, b.UID) })
	return all, nil
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

// countDeaths reads what was in hand when the program ended.
func (e *Engine) countDeaths() error {
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
		if text, err := os.ReadFile(name); err == nil && json.Unmarshal(text, &h) == nil {
			var list []store.Death
			for _, uid := range h.UIDs {
				list = append(list, store.Death{MailboxID: h.Mailbox, Folder: h.Folder, UIDValidity: h.UIDValidity, UID: uid})
			}
			if err := e.Store.Died(list); err != nil {
				return err
			}
			e.Log.Warn("the program ended while it read messages", "mailbox", h.Mailbox, "folder", h.Folder, "messages", len(h.UIDs))
		}
		if err := os.Remove(name); err != nil {
			return err
		}
	}
	return nil
}

// suspects parts messages on which the program ended before from the others.
// Those that had it happen too often are told and left out.
func (v *visit) suspects(uids []uint32) (alone, rest []uint32, err error) {
	e := v.engine
	deaths, err := e.Store.Deaths(v.mailbox.ID, v.open, v.state.UIDValidity)
	if err != nil || len(deaths) == 0 {
		return nil, uids, err
	}
	for _, uid := range uids {
		switch n, suspect := deaths[uid]; {
		case !suspect:
			rest = append(rest, uid)
		case n < mostDeaths:
			alone = append(alone, uid)
		default:
			e.Log.Error("a message is set aside", "mailbox", v.mailbox.Name, "folder", v.open, "uid", uid, "deaths", n)
			err := e.Store.Tell(&store.Notice{Kind: "message", Object: fmt.Sprintf("%s/%s/%d", v.mailbox.ID, v.open, uid), MailboxID: v.mailbox.ID, MadeAt: e.Clock(),
				Text:   fmt.Sprintf("Ink Tray ended %d times while it read the message with the number %d in “%s”, %s. It is passed over, and nothing of it was filed.", n, uid, v.mailbox.Name, v.open),
				Advice: "File it by hand."})
			if err != nil {
				return nil, nil, err
			}
			e.hub.send(Event{Kind: "tray"})
		}
	}
	return alone, rest, nil
}
