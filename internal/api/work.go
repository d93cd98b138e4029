package api

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/engine"
	"inktray.example/inktray/internal/events"
	"inktray.example/inktray/internal/rehearsal"
	"inktray.example/inktray/internal/store"
)

// names turns identities into what people call things.
type names struct {
	mailboxes, rules map[string]string
	reported         func(*store.Message) *mail.Proof
}

func (s *workHandlers) names(ctx context.Context, v store.Viewer) (*names, error) {
	n := &names{mailboxes: map[string]string{}, rules: map[string]string{}, reported: s.Engine.Office.Reported}
	boxes, err := s.Store.Mailboxes.All(ctx, v)
	if err != nil {
		return nil, err
	}
	for _, m := range boxes {
		n.mailboxes[m.ID] = m.Name
	}
	rules, err := s.Store.Rules.Seen(ctx, v)
	n.rules[store.ByHand] = "by hand"
	for _, r := range rules {
		n.rules[r.ID] = r.Name
	}
	return n, err
}

func (n *names) message(m *store.Message) Message {
	out := Message{ID: m.ID, Mailbox: n.mailboxes[m.MailboxID], Folder: m.Folder, ReceivedAt: m.ReceivedAt,
		Subject: m.Subject, SenderName: m.SenderName,
		SenderAddress: m.SenderAddress, Size: m.Size, Attachments: m.Attachments, Flags: append([]string{}, m.Flags...)}
	out.ReceivedFrom = receivedFrom(m.ReceivedFrom)
	if p := n.reported(m); p != nil {
		sender := MessageSenderNotVerified
		if p.Proven {
			sender = MessageSenderVerified
		}
		out.Sender = &sender
	}
	return out
}

// receivedFrom says from where the time of receipt is known, nil where the mail server recorded it.
func receivedFrom(o mail.Origin) *ReceivedFrom {
	if o == "" || o == mail.ByServer {
		return nil
	}
	from := ReceivedFrom(o)
	return &from
}

func entryNumber(year, number int) string { return fmt.Sprintf("%d-%d", year, number) }

func (n *names) item(e *store.Entry) Item {
	out := Item{ID: &e.ID, Item: e.Item, Name: e.Name, Kind: e.Kind, Size: e.Size, Verdict: string(e.State),
		Reason: e.Reason.String(), ReasonCodes: codes(e.Reason), Path: e.Path,
		Advice: optional(e.Reason.Advice()), Rule: optional(n.rules[e.RuleID])}
	if e.State == store.Planned || e.State == store.Staged {
		out.Verdict = "waiting"
	}
	if out.Path == "" {
		out.Path = e.Wanted
	}
	if e.Undo != "" {
		undo := ItemUndo(e.Undo)
		out.Undo = &undo
		if e.Undo == store.Undone {
			out.Verdict = "taken back"
		}
	}
	if e.State == store.Filed {
		out.Register = optional(entryNumber(e.RegisterYear, e.RegisterNumber))
	}
	return out
}

// ListMessages lists messages that are known.
func (s *workHandlers) ListMessages(ctx context.Context, r ListMessagesRequestObject) (ListMessagesResponseObject,
	error) {
	v := viewerOf(ctx)
	n, err := s.names(ctx, v)
	if err != nil {
		return nil, err
	}
	q := store.MessageQuery{Most: number(r.Params.Most, 50)}
	if id := text(r.Params.Mailbox); id != "" {
		q.Mailboxes = []string{id}
	}
	q.Text, q.Unfiled = text(r.Params.Text), r.Params.Unfiled != nil && *r.Params.Unfiled
	if r.Params.After != nil {
		last, err := s.Store.Messages.ByID(ctx, v, *r.Params.After)
		if err != nil {
			return nil, err
		}
		q.Before, q.BeforeID = last.ReceivedAt, last.ID
	}
	rows, err := s.Store.Messages.Find(ctx, v, q)
	out := ListMessages200JSONResponse{}
	for i := range rows {
		out = append(out, n.message(&rows[i]))
	}
	return out, err
}

// ExplainMessage says what was decided for a message and what each rule makes of it.
func (s *workHandlers) ExplainMessage(ctx context.Context,
	r ExplainMessageRequestObject) (ExplainMessageResponseObject,
	error) {
	v := viewerOf(ctx)
	row, explained, err := s.Engine.Rehearser.Explain(ctx, v, r.Number, r.Params.Thorough != nil && *r.Params.Thorough)
	if err != nil {
		return nil, err
	}
	n, err := s.names(ctx, v)
	if err != nil {
		return nil, err
	}
	entries, err := s.Store.Journal.OfMessage(ctx, v, row.ID)
	if err != nil {
		return nil, err
	}
	follow, err := s.Store.FollowUps.FollowUpsOf(ctx, v, row.ID)
	if err != nil {
		return nil, err
	}
	sent, err := s.Store.FollowUps.OfMessage(ctx, v, row.ID)
	out := ExplainMessage200JSONResponse{Message: n.message(&row), Decided: []Item{}, Rules: []RuleVerdict{},
		Steps: n.steps(follow, sent)}
	if facts, err := row.Facts(); err == nil {
		if cut := facts.Header.Cut(); len(cut) > 0 {
			out.Remark = optional("The message's header is too long; Ink Tray read only the beginning of: " +
				strings.Join(cut, ", ") + ".")
		}
	}
	for i := range entries {
		switch e := &entries[i]; {
		case e.Undo == store.Undone &&
			!slices.ContainsFunc(entries,
				func(o store.Entry) bool { return o.RuleID == e.RuleID && o.Item == e.Item && o.Round > e.Round }):
			out.Again++
		case e.Undo == "" && (e.State == store.Filed || e.State == store.There):
			out.Undoable++
		}
		out.Decided = append(out.Decided, n.item(&entries[i]))
	}
	for _, x := range explained {
		verdict := RuleVerdict{Rule: x.Rule, Off: x.Off, Looks: x.Looks, Note: x.Note, Answer: x.Match.Answer.String(),
			Reason: x.Match.Text, Items: []Item{}, Steps: []Step{}}
		for i := range x.Steps {
			verdict.Steps = append(verdict.Steps, plannedStep(&x.Steps[i], ""))
		}
		for i := range x.Items {
			verdict.Items = append(verdict.Items, rehearsedItem(&rehearsal.RehearsedItem{Item: x.Items[i]}))
		}
		out.Rules = append(out.Rules, verdict)
	}
	return out, err
}

func (s *workHandlers) passes(ctx context.Context, v store.Viewer, rows []store.Pass) ([]Pass, error) {
	n, err := s.names(ctx, v)
	if err != nil {
		return nil, err
	}
	var ids []int64
	for i := range rows {
		p := &rows[i]
		ids = append(ids, p.ID)
	}
	counts, err := s.Store.Passes.CountsOf(ctx, ids...)
	if err != nil {
		return nil, err
	}
	undos, err := s.Store.Undoing.Of(ctx, ids...)
	out := []Pass{}
	for i := range rows {
		p := &rows[i]
		c := counts[p.ID]
		one := Pass{ID: p.ID, Kind: PassKind(p.Kind), Rule: n.rules[p.RuleID], Mailbox: n.mailboxes[p.MailboxID],
			MadeBy: p.MadeBy, State: PassState(p.State), Total: p.Total, Looked: p.Looked,
			Matched: p.Matched, Gone: &p.Gone, Unread: &p.Unread, Filed: c.Filed, LeftOut: c.LeftOut, Held: c.Held,
			Failed: c.Failed, AlreadyThere: c.There, Waiting: c.Planned, Note: p.Note, PerMinute: &p.PerMinute,
			From: optional(p.FromTime), To: optional(p.ToTime), StartedAt: p.StartedAt, EndedAt: p.EndedAt}
		if p.Kind == "old mail" && !v.MaySeeAll(p.OnlyIn) {
			one.Note = "" // it names mailboxes
		}
		undo := undos[p.ID]
		one.Undoable, one.Again, one.Seconds = &undo.Undoable, &undo.Again, seconds(p, s.Clock())
		if p.Kind == "undo" {
			one.TakenBack, one.Kept, one.Undoes = &undo.TakenBack, &undo.Kept, &p.Undoes
		}
		if p.State == store.Running && p.Looked > 0 && p.Total > p.Looked {
			left := int(s.Clock().Sub(p.StartedAt).Seconds() * float64(p.Total-p.Looked) / float64(p.Looked))
			one.SecondsLeft = &left
		}
		out = append(out, one)
	}
	return out, err
}

// ListPasses lists the passes.
func (s *workHandlers) ListPasses(ctx context.Context, r ListPassesRequestObject) (ListPassesResponseObject, error) {
	p := r.Params
	if s.wide(ctx, p.Everywhere) {
		return s.passesEverywhere(ctx, p)
	}
	var after int64
	if p.After != nil {
		after = *p.After
	}
	q := store.PassQuery{Rule: text(p.Rule), Mailbox: text(p.Mailbox), Filed: p.Matching != nil && *p.Matching,
		Before: after, Most: number(p.Most, 50)}
	if p.Kind != nil {
		q.Kind = string(*p.Kind)
	}
	if p.From != nil {
		y, m, d := p.From.Date()
		q.From = time.Date(y, m, d, 0, 0, 0, 0, s.Engine.Zone)
	}
	if p.To != nil {
		y, m, d := p.To.Date()
		q.To = time.Date(y, m, d+1, 0, 0, 0, 0, s.Engine.Zone)
	}
	rows, err := s.Store.Passes.Find(ctx, viewerOf(ctx), q)
	if err != nil {
		return nil, err
	}
	out, err := s.passes(ctx, viewerOf(ctx), rows)
	return ListPasses200JSONResponse{Body: out}, err
}

func (s *workHandlers) onePass(ctx context.Context, v store.Viewer, id int64) (Pass, error) {
	row, err := s.Store.Passes.ByID(ctx, v, id)
	if err != nil {
		return Pass{}, err
	}
	out, err := s.passes(ctx, v, []store.Pass{row})
	if err != nil {
		return Pass{}, err
	}
	return out[0], nil
}

// GetPass shows one pass.
func (s *workHandlers) GetPass(ctx context.Context, r GetPassRequestObject) (GetPassResponseObject, error) {
	out, err := s.onePass(ctx, viewerOf(ctx), r.Number)
	return GetPass200JSONResponse(out), err
}

// SteerPass pauses, stops or goes on with a pass.
func (s *workHandlers) SteerPass(ctx context.Context, r SteerPassRequestObject) (SteerPassResponseObject, error) {
	v := viewerOf(ctx)
	err := s.Engine.SteerPass(ctx, v, r.Number, store.PassState(r.Body.To))
	if errors.Is(err, engine.ErrEnded) {
		return nil, &problem{status: 409, kind: "ended", text: err.Error()}
	}
	if err != nil {
		return nil, err
	}
	out, err := s.onePass(ctx, v, r.Number)
	return SteerPass200JSONResponse(out), err
}

func (s *workHandlers) messagesOf(ctx context.Context, v store.Viewer,
	entries []store.Entry) (map[int64]*store.Message, error) {
	ids := make([]int64, len(entries))
	for i, e := range entries {
		ids[i] = e.MessageID
	}
	return s.Store.Messages.ByIDs(ctx, v, ids)
}

const (
	todayDays     = 14
	todayArrivals = 8
)

// GetToday sums up the day.
func (s *workHandlers) GetToday(ctx context.Context, r GetTodayRequestObject) (GetTodayResponseObject, error) {
	if s.wide(ctx, r.Params.Everywhere) {
		return s.todayEverywhere(ctx)
	}
	v := viewerOf(ctx)
	n, err := s.names(ctx, v)
	if err != nil {
		return nil, err
	}
	today := s.Engine.Today()
	first := today.AddDate(0, 0, 1-todayDays)
	month := time.Date(today.Year(), today.Month(), 1, 0, 0, 0, 0, today.Location())
	since := first
	if month.Before(first) {
		since = month
	}
	filed, err := s.Store.Register.Days(ctx, v, register.PerMailbox, since, dayIndex(since, today, s.Engine.Zone)+1,
		false)
	if err != nil {
		return nil, err
	}
	received, err := s.Store.Register.Days(ctx, v, register.PerMailbox, first, todayDays, true)
	if err != nil {
		return nil, err
	}
	out := GetToday200JSONResponse{Days: make([]int, todayDays), DaysReceived: make([]int, todayDays),
		Arrivals: []Arrival{}, Mailboxes: []MailboxToday{}}
	for _, days := range received {
		for i, day := range days {
			out.DaysReceived[i] += day.Count
		}
	}
	byMailbox := map[string]int{}
	for mailbox, days := range filed {
		for i, day := range days {
			at := since.AddDate(0, 0, i)
			if d := dayIndex(first, at, s.Engine.Zone); d >= 0 {
				out.Days[d] += day.Count
			}
			if !at.Before(month) {
				out.FiledMonth += day.Count
				out.BytesMonth += day.Size
			}
			if !at.Before(today) {
				out.FiledToday += day.Count
				byMailbox[mailbox] += day.Count
			}
		}
	}
	if out.Tray, err = s.Store.Tray.Count(ctx, v); err != nil {
		return nil, err
	}
	delays, err := s.Store.Journal.Delays(ctx, v, 100)
	if err != nil {
		return nil, err
	}
	if len(delays) > 0 {
		slices.Sort(delays)
		median := int(delays[len(delays)/2].Milliseconds())
		out.DelayMs = &median
	}
	entries, err := s.Store.Journal.Recent(ctx, v, 60)
	if err != nil {
		return nil, err
	}
	messages, err := s.messagesOf(ctx, v, entries)
	if err != nil {
		return nil, err
	}
	for i := range entries {
		e := &entries[i]
		m := messages[e.MessageID]
		if m == nil {
			continue
		}
		at := slices.IndexFunc(out.Arrivals, func(a Arrival) bool { return a.Message.ID == e.MessageID })
		if at < 0 {
			if len(out.Arrivals) == todayArrivals {
				break
			}
			out.Arrivals = append(out.Arrivals, Arrival{Message: n.message(m)})
			at = len(out.Arrivals) - 1
		}
		out.Arrivals[at].Items = append([]Item{n.item(e)}, out.Arrivals[at].Items...)
	}
	boxes, err := s.Store.Mailboxes.All(ctx, v)
	if err != nil {
		return nil, err
	}
	for _, m := range boxes {
		out.Mailboxes = append(out.Mailboxes,
			MailboxToday{ID: m.ID, Name: m.Name, State: s.Engine.Status(m.ID).State, Filed: byMailbox[m.ID]})
	}
	cabinets, err := s.Store.Cabinets.Seen(ctx, v)
	if err != nil {
		return nil, err
	}
	rules, err := s.Store.Rules.Seen(ctx, v)
	if err != nil {
		return nil, err
	}
	out.HasMailbox, out.HasCabinet, out.HasRule = len(boxes) > 0, len(cabinets) > 0, len(rules) > 0
	for i := range rules {
		if rules[i].Running || out.FirstRule == nil {
			out.FirstRule = &rules[i].ID
		}
		out.Running = out.Running || rules[i].Running
	}
	ever, err := s.Store.Register.Count(ctx, v, register.Query{})
	out.HasFiled = ever > 0
	return out, err
}

var errTooMuchAtOnce = &problem{status: 429, kind: "too-much-at-once", text: "too much is being sent to you at the " +
	"same moment", advice: "Wait until some of it is done, or close pages that you do not need."}

// heartbeat is how often a stream says that it is alive: only a write tells
// that the listener has gone.
const heartbeat = 15 * time.Second

// eventStream writes events until the listener goes or the service stops.
type eventStream struct {
	server *Server
	viewer store.Viewer
	secret string // of the session or token: the stream ends with it
	acting bool   // another machine of the office listens for the viewer
	give   func() // gives its share back
}

// still says whether who listens may do so yet, and takes over what he may see.
func (e *eventStream) still(ctx context.Context) bool {
	v, _, err := e.server.Store.People.ViewerOf(ctx, e.secret, e.server.Clock())
	if err == nil && e.acting {
		v, err = e.server.Store.People.ViewerNamed(ctx, e.viewer.Name)
	}
	if errors.Is(err, store.ErrNotFound) {
		return false
	}
	if err == nil {
		e.viewer = v
	}
	return true // the records are away for a moment
}

// VisitGetEventsResponse begins the stream.
func (e *eventStream) VisitGetEventsResponse(c fiber.Ctx) error {
	c.Set("Content-Type", "text/event-stream")
	news, stop := e.server.Engine.Events.Listen()
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer e.give()
		defer stop()
		tick := time.NewTicker(heartbeat)
		defer tick.Stop()
		fmt.Fprint(w, ": hello\n\n")
		for w.Flush() == nil {
			select {
			case <-e.server.stop.Done():
				return
			case <-tick.C:
				if !e.still(c.Context()) {
					return
				}
				fmt.Fprint(w, ": still here\n\n")
			case event, ok := <-news:
				if !ok {
					return
				}
				if event.Kind == events.Sessions {
					if !e.still(c.Context()) {
						return
					}
					continue
				}
				if event.Mailbox != "" && !e.viewer.All && !slices.Contains(e.viewer.Only, event.Mailbox) {
					continue
				}
				data, err := json.Marshal(event)
				if err != nil {
					return
				}
				fmt.Fprintf(w, "event: %s\ndata: %s\n\n", event.Kind, data)
			}
		}
	})
}

// GetEvents streams what happens.
func (s *workHandlers) GetEvents(ctx context.Context, _ GetEventsRequestObject) (GetEventsResponseObject, error) {
	v := viewerOf(ctx)
	give, ok := s.streams.Take(v.ID)
	if !ok {
		return nil, errTooMuchAtOnce
	}
	return &eventStream{server: s.Server, viewer: v, secret: decisionOf(ctx).secret,
		acting: decisionOf(ctx).acting, give: give}, nil
}
