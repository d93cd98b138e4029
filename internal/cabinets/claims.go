package cabinets

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/store"
)

// Two installations that watch the same mailbox and file into the same cabinet would file everything twice. So each
// writes claims into the cabinet, with a checksum of each mailbox that it files from, and compares them with those of
// the others. Addresses themselves do not belong into a shared folder.

const (
	claimEvery = time.Minute         // how often claims are looked at
	claimFor   = 30 * 24 * time.Hour // how long a claim counts that nobody renews
	claimFresh = 24 * time.Hour      // how old a claim gets before it is renewed
)

// claimNote is what an installation says of its mailboxes in a cabinet.
type claimNote struct {
	Host      string    `json:"host"`
	Mailboxes []string  `json:"mailboxes"` // by identityOf
	At        time.Time `json:"at"`
}

// claims is what a gate knows of them.
type claims struct {
	mutex  sync.Mutex
	looked time.Time       // by the monotonic clock
	asked  int64           // Engine.asked when they were
	told   map[string]bool // by notice: told since the start, so that what a person settles stays settled
}

// identityOf is a mailbox as another installation knows it too; "" where it is on this
// machine alone.
func identityOf(m *store.Mailbox) string {
	if !m.OnServer() || m.Host == "" {
		return ""
	}
	sum := sha256.Sum256([]byte(strings.ToLower(strings.TrimSuffix(m.Host, ".")) + "\x00" + strings.ToLower(m.Username)))
	return hex.EncodeToString(sum[:8])
}

// filesFrom lists the mailboxes from which running rules file in a cabinet.
func (cs *Cabinets) filesFrom(ctx context.Context, g *Gate) (map[string]store.Mailbox, error) {
	mailboxes, err := cs.Store.Mailboxes.All(ctx, store.System)
	if err != nil {
		return nil, err
	}
	from := map[string]store.Mailbox{}
	for _, r := range cs.Office.Settings().Rules {
		named := func(name string) bool { return strings.EqualFold(name, g.Row.Name) }
		if !slices.ContainsFunc(r.Rule.Cabinets(), named) {
			continue
		}
		for i := range mailboxes {
			if id := identityOf(&mailboxes[i]); id != "" && r.Rule.Look.Looks(mailboxes[i].Name) {
				from[id] = mailboxes[i]
			}
		}
	}
	return from, nil
}

// Recheck lets the claims be looked at again, because other mailboxes may be filed from now.
func (cs *Cabinets) Recheck() { cs.asked.Add(1) }

// ClaimsAreCurrent says whether a cabinet's claims were looked at since recheck.
func (cs *Cabinets) ClaimsAreCurrent(ctx context.Context, cabinetID string) bool {
	g, err := cs.Gate(ctx, cabinetID)
	if err != nil {
		return false
	}
	g.claims.mutex.Lock()
	defer g.claims.mutex.Unlock()
	return g.claims.asked == cs.asked.Load()+cs.Office.Settings().Version
}

// claimMailboxes says which mailboxes this installation files from, and tells of those
// that another files from too.
func (g *Gate) claimMailboxes(ctx context.Context) error {
	book := g.notebook()
	c, e := &g.claims, g.owner
	c.mutex.Lock()
	defer c.mutex.Unlock()
	asked := e.asked.Load() + e.Office.Settings().Version
	if book == nil || asked == c.asked && !c.looked.IsZero() && time.Since(c.looked) < claimEvery {
		return nil
	}
	c.looked, c.asked = time.Now(), asked
	from, err := e.filesFrom(ctx, g)
	if err != nil {
		return err
	}
	notes, err := book.Notes(ctx, "claim-")
	if err != nil {
		return err
	}
	if err := e.renewClaim(ctx, book, from, notes); err != nil {
		return err
	}
	doubled := map[string]string{} // hosts, by mailbox
	for name, text := range notes {
		var other claimNote
		if name == e.claimName() || json.Unmarshal(text, &other) != nil || e.Clock().Sub(other.At) > claimFor {
			continue
		}
		for _, id := range other.Mailboxes {
			if m, mine := from[id]; mine {
				doubled[m.ID] = other.Host
			}
		}
	}
	return g.tellDoubled(ctx, doubled)
}

func (cs *Cabinets) claimName() string { return "claim-" + cs.Installation + ".json" }

// renewClaim writes this installation's claim where it changed or has become old.
func (cs *Cabinets) renewClaim(ctx context.Context, book cabinet.Notebook, from map[string]store.Mailbox,
	notes map[string][]byte) error {
	claim := claimNote{At: cs.Clock().UTC()}
	for id := range from {
		claim.Mailboxes = append(claim.Mailboxes, id)
	}
	slices.Sort(claim.Mailboxes)
	claim.Mailboxes = claim.Mailboxes[:min(len(claim.Mailboxes), cabinet.MaxNote/32)]
	var before claimNote
	text, there := notes[cs.claimName()]
	switch {
	case len(claim.Mailboxes) == 0 && there:
		return book.RemoveNote(ctx, cs.claimName())
	case len(claim.Mailboxes) == 0:
		return nil
	case there && json.Unmarshal(text, &before) == nil && slices.Equal(before.Mailboxes, claim.Mailboxes) &&
		claim.At.Sub(before.At).Abs() < claimFresh:
		return nil
	}
	var err error
	if claim.Host, err = os.Hostname(); err != nil {
		claim.Host = "a machine without a name"
	}
	data, err := json.Marshal(&claim)
	if err != nil {
		return err
	}
	return book.WriteNote(ctx, cs.claimName(), data)
}

// tellDoubled tells of mailboxes that another installation files from too, and takes
// what was told out of the tray once it is no longer so.
func (g *Gate) tellDoubled(ctx context.Context, doubled map[string]string) error {
	e, c := g.owner, &g.claims
	if c.told == nil {
		c.told = map[string]bool{}
	}
	mailboxes, err := e.Store.Mailboxes.All(ctx, store.System)
	if err != nil {
		return err
	}
	for i := range mailboxes {
		m := &mailboxes[i]
		object := g.Row.ID + "/" + m.ID
		host, twice := doubled[m.ID]
		if !twice {
			if _, err := e.Store.Tray.Settle(ctx, "watched twice", object); err != nil {
				return err
			}
			delete(c.told, object)
			continue
		}
		if c.told[object] {
			continue
		}
		err := e.Store.Tray.Tell(
			ctx,
			&store.Notice{Kind: "watched twice", Object: object, MailboxID: m.ID, MadeAt: e.Clock(),
				Text: fmt.Sprintf("Another Ink Tray on %s watches the mailbox “%s” too and files in the same cabinet “%s”. If "+
					"rules of both match a message, it is filed twice.", host, m.Name, g.Row.Name),
				Advice: "Let one of the two watch this mailbox: remove it on the other, or hand it over. If the rules of the two " +
					"take different messages, you can settle this notice."},
		)
		if err != nil {
			return err
		}
		c.told[object] = true
		e.Events.Send(events.Event{Kind: "tray"})
	}
	return nil
}
