package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"
)

// Limits are what the service keeps to. A cap of 0 is none.
type Limits struct {
	HistoryDays   int `json:"history_days"`   // passes, and facts of messages from which nothing was filed
	RegisterDays  int `json:"register_days"`  // senders, subjects and notes in the register; 0 keeps them
	KeptDays      int `json:"kept_days"`      // files that were replaced or taken back
	AuditDays     int `json:"audit_days"`     // what people did; 0 keeps it, else 30 at least
	SpoolMB       int `json:"spool_mb"`       // of contents that wait for a cabinet that is down
	RuleFiles     int `json:"rule_files"`     // an hour
	RuleMB        int `json:"rule_mb"`        // an hour
	RuleFolders   int `json:"rule_folders"`   // new ones an hour
	SenderFiles   int `json:"sender_files"`   // an hour
	SenderMB      int `json:"sender_mb"`      // an hour
	SenderFolders int `json:"sender_folders"` // new ones an hour

	AccountConnections int `json:"account_connections"` // to a mail server at once, by one account
	HostConnections    int `json:"host_connections"`    // to one mail server at once
}

// LeastConnections is the smallest limit of connections: one over which new mail is seen, and one for everything else.
const LeastConnections = 2

// UsualLimits hold until somebody sets others.
var UsualLimits = Limits{HistoryDays: 400, KeptDays: 90, AuditDays: 800, SpoolMB: 2000, RuleFiles: 2000,
	RuleMB: 20_000, RuleFolders: 500, SenderFiles: 1000, SenderMB: 10_000, SenderFolders: 200, AccountConnections: 8}

// Limits reads what the service keeps to.
func (s *Settings) Limits(ctx context.Context) (Limits, error) {
	l := UsualLimits
	text, err := s.Get(ctx, LimitsSetting)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &l)
	}
	return l, err
}

// Settings that people change.
const (
	LimitsSetting       = "limits"
	OutgoingSetting     = "outgoing"
	VerificationSetting = "verification"
	TrustSetting        = "trust"
	ScansSetting        = "scans"
)

// SetLimits replaces the limits. revision is the revision that the change is based on, 0 for any; the other settings
// work in the same way.
func (s *Settings) SetLimits(ctx context.Context, l Limits, revision int, actor string) error {
	return s.setJSON(ctx, LimitsSetting, l, revision, actor)
}

func (s *Settings) setJSON(ctx context.Context, key string, v any, revision int, actor string) error {
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return s.Change(ctx, key, string(text), revision, "settings", actor)
}

// Outgoing is how the service sends mail. The zero Outgoing sends none.
type Outgoing struct {
	Host       string `json:"host"`
	Port       int    `json:"port"`
	Encryption string `json:"encryption"`
	Username   string `json:"username"`
	Sealed     []byte `json:"sealed"`
	Mailbox    string `json:"mailbox,omitempty"` // id of a mailbox whose server sends, instead of a host
	From       string `json:"from"`              // address
	Name       string `json:"name"`
	Console    string `json:"console"` // where colleagues open the console, for links
}

// Sends says whether it is set up how mail is sent.
func (o *Outgoing) Sends() bool { return o.Host != "" || o.Mailbox != "" }

// Outgoing reads how mail is sent, and its password.
func (s *Settings) Outgoing(ctx context.Context) (o Outgoing, password string, err error) {
	text, err := s.Get(ctx, OutgoingSetting)
	if err != nil || text == "" {
		return o, "", err
	}
	if err = json.Unmarshal([]byte(text), &o); err == nil && len(o.Sealed) > 0 {
		password, err = s.unsealFor(o.Sealed, "outgoing", o.route())
	}
	return o, password, err
}

// SetOutgoing keeps how mail is sent. Without a password the kept one stays; where it was given for another way to
// the server this is ErrRoute.
func (s *Settings) SetOutgoing(ctx context.Context, o Outgoing, password *string, revision int, actor string) error {
	old, _, err := s.Outgoing(ctx)
	if err != nil && !errors.Is(err, ErrRoute) {
		return err
	}
	o.Sealed = nil
	switch {
	case password != nil && *password != "":
		if o.Sealed, err = s.sealFor(*password, "outgoing", o.route()); err != nil {
			return err
		}
	case password == nil && len(old.Sealed) > 0 && o.Host != "":
		if _, err := s.unsealFor(old.Sealed, "outgoing", o.route()); err != nil {
			return err
		}
		o.Sealed = old.Sealed
	}
	return s.setJSON(ctx, OutgoingSetting, o, revision, actor)
}

// PassQuery narrows passes. Zero values narrow nothing.
type PassQuery struct {
	Kind     string
	Rule     string // its id; also live passes in which it filed
	Mailbox  string // its id
	Filed    bool   // only those in which something was decided
	Before   int64
	From, To time.Time
	Most     int
}

// Find lists passes, the newest first.
func (s *Passes) Find(ctx context.Context, v Viewer, q PassQuery) ([]Pass, error) {
	db := v.sees(s.reading(ctx), "mailbox_id")
	if q.Kind != "" {
		db = db.Where("kind = ?", q.Kind)
	}
	if q.Mailbox != "" {
		db = db.Where("(mailbox_id = ? OR EXISTS (SELECT 1 FROM journal j WHERE j.pass_id = passes.id AND j.mailbox_id = ?))",
			q.Mailbox, q.Mailbox)
	}
	if q.Rule != "" {
		db = db.Where("(rule_id = ? OR EXISTS (SELECT 1 FROM journal j WHERE j.pass_id = passes.id AND j.rule_id = ?))",
			q.Rule, q.Rule)
	}
	if q.Filed {
		db = db.Where("(kind <> 'live' OR matched > 0)")
	}
	if q.Before > 0 {
		db = db.Where("id < ?", q.Before)
	}
	if !q.From.IsZero() {
		db = db.Where("started_at >= ?", q.From.UTC())
	}
	if !q.To.IsZero() {
		db = db.Where("started_at < ?", q.To.UTC())
	}
	return list[Pass](db.Order("id DESC").Limit(q.Most))
}

// MessagesIn lists the messages that a pass looked at, those with a match first
// where matched is asked for alone.
func (s *Passes) MessagesIn(ctx context.Context, v Viewer, passID int64, matched bool, after int64,
	most int) ([]Message, error) {
	db := v.sees(s.reading(ctx), "messages.mailbox_id").Model(&Message{}).Joins(
		"JOIN pass_messages p ON p.message_id = "+
			"messages.id AND p.pass_id = ?",
		passID,
	)
	if matched {
		db = db.Where("p.matched")
	}
	if after > 0 {
		db = db.Where("messages.id > ?", after)
	}
	return list[Message](db.Order("messages.id").Limit(most).Select("messages.*"))
}

// EntriesIn lists what a pass decided of messages.
func (s *Passes) EntriesIn(ctx context.Context, v Viewer, passID int64, messages []int64) ([]Entry, error) {
	return list[Entry](
		v.seesFiled(s.reading(ctx)).Where("(pass_id = ? OR undo_pass = ?) AND message_id IN ?", passID,
			passID, messages).Order("id"),
	)
}

// FollowUpsIn lists what is done with messages.
func (s *Passes) FollowUpsIn(ctx context.Context, v Viewer, messages []int64) ([]FollowUp, error) {
	return list[FollowUp](v.sees(s.reading(ctx), "mailbox_id").Where("message_id IN ?", messages).Order("id"))
}

// Undoable lists what a pass, or one line of the journal, filed and was not taken back.
func (s *Undoing) Undoable(ctx context.Context, v Viewer, passID, entryID int64) ([]Entry, error) {
	db := v.seesFiled(s.reading(ctx)).Where("state IN ('filed', 'already there') AND undo = ''")
	if entryID > 0 {
		db = db.Where("id = ?", entryID)
	} else {
		db = db.Where("pass_id = ?", passID)
	}
	return list[Entry](db.Order("id"))
}

// SharedWith lists other filings whose file is the same one and is still wanted.
func (s *Undoing) SharedWith(ctx context.Context, e *Entry) ([]Entry, error) {
	return list[Entry](
		s.reading(ctx).Where("cabinet_id = ? AND path = ? AND sha256 = ? AND state IN ('filed', 'already there') "+
			"AND undo <> 'done' AND id <> ?", e.CabinetID, e.Path, e.SHA256, e.ID).Limit(50),
	)
}

// OfEntry finds the line of the register that an entry of the journal has.
func (s *Register) OfEntry(ctx context.Context, entryID int64) (Filing, error) {
	return first[Filing](s.reading(ctx).Where("journal_id = ?", entryID))
}

// Replaced finds the filing whose file an entry took the place of.
func (s *Undoing) Replaced(ctx context.Context, e *Entry) (Filing, error) {
	if e.Displaced == "" {
		return Filing{}, ErrNotFound
	}
	return first[Filing](s.reading(ctx).Where("cabinet_id = ? AND kept_as = ?", e.CabinetID, e.Displaced))
}

// Ask records what is to be taken back, all at once, as a pass of its own.
func (s *Undoing) Ask(ctx context.Context, v Viewer, ids []int64, p *Pass) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(p).Error; err != nil {
			return err
		}
		for i := range ids {
			if err := tx.Exec("UPDATE journal SET undo = 'asked', undo_pass = ? WHERE id = ? AND undo = ''", p.ID,
				ids[i]).Error; err != nil {
				return err
			}
		}
		if err := tx.Exec("INSERT INTO pass_messages (pass_id, message_id, matched) SELECT DISTINCT ?, message_id, 1 FROM "+
			"journal WHERE undo_pass = ? ON CONFLICT DO NOTHING", p.ID, p.ID).Error; err != nil {
			return err
		}
		return note(tx, v.Name, "undo", strconv.Itoa(len(ids))+" filings")
	})
}

// Asked lists what is to be taken back, the newest filing first.
func (s *Undoing) Asked(ctx context.Context) ([]Entry, error) {
	return list[Entry](s.reading(ctx).Where("undo = 'asked'").Order("id DESC"))
}

// End records how the undoing of a filing ended. kept is the name under which
// the cabinet keeps the file, "" where nothing was moved; back is the filing
// whose file has its place again, if any.
func (s *Undoing) End(ctx context.Context, e *Entry, kept, by string, back *Filing, now time.Time) error {
	at := now.UTC()
	return s.change(ctx, func(tx *gorm.DB) error {
		if err := tx.Model(e).Select("undo", "reason").Updates(e).Error; err != nil {
			return err
		}
		if back != nil {
			// All lines that had the file: other messages may have brought the same one.
			if err := tx.Exec("UPDATE register SET replaced_by = '', kept_as = '', kept_at = NULL WHERE cabinet_id = ? AND "+
				"kept_as = ?", back.CabinetID, back.KeptAs).Error; err != nil {
				return err
			}
		}
		if e.Undo != Undone {
			return nil
		}
		if kept == "" {
			return tx.Exec("UPDATE register SET undone_at = ?, undone_by = ? WHERE journal_id = ?", at, by, e.ID).Error
		}
		return tx.Exec("UPDATE register SET undone_at = ?, undone_by = ?, kept_as = ?, kept_at = ? WHERE journal_id = ?", at,
			by, kept, at, e.ID).Error
	})
}

// placeOfReturn sets the return of a moved message apart from a rule's own follow-ups.
const placeOfReturn = 1_000_000

// Return lets messages that were moved go back, once everything that was filed
// of them is taken back. The returns are follow-ups of their own.
func (s *Undoing) Return(ctx context.Context, passID int64, now time.Time) (int, error) {
	n := 0
	err := s.change(ctx, func(tx *gorm.DB) error {
		moves, err := list[FollowUp](
			tx.Where(
				`kind = 'move' AND state = 'done' AND from_folder <> '' AND message_id IN (SELECT message_id FROM journal WHERE undo_pass = ?)
			AND NOT EXISTS (SELECT 1 FROM journal j WHERE j.message_id = follow_ups.message_id AND j.rule_id = follow_ups.rule_id AND j.state IN ('filed', 'already there') AND j.undo <> 'done')`,
				passID,
			),
		)
		if err != nil {
			return err
		}
		for _, m := range moves {
			f := FollowUp{MessageID: m.MessageID, MailboxID: m.MailboxID, RuleID: m.RuleID, RuleRevision: m.RuleRevision,
				Round: m.Round, Place: placeOfReturn + m.Place, PassID: passID,
				Kind: "return", What: m.FromFolder, State: Waiting, MadeAt: now.UTC()}
			one := []FollowUp{f}
			if err := addFollowUps(tx, one); err != nil {
				return err
			}
			if one[0].ID > 0 {
				n++
			}
		}
		return nil
	})
	return n, err
}

// MadeFolders lists the folders, by cabinet and the deepest first, in which a pass took something
// back, and which were made for filings that are taken back.
func (s *Undoing) MadeFolders(ctx context.Context, passID int64) (map[string][]string, error) {
	rows, err := list[Entry](
		s.reading(ctx).Select("DISTINCT cabinet_id, path").Where("undo_pass = ? AND undo = 'done'", passID),
	)
	if err != nil {
		return nil, err
	}
	above := map[string]map[string]bool{} // by cabinet: the folders of the files, and those above them
	for i := range rows {
		id := rows[i].CabinetID
		if above[id] == nil {
			above[id] = map[string]bool{}
		}
		for folder := path.Dir(rows[i].Path); folder != "." && folder != "/" &&
			!above[id][folder]; folder = path.Dir(folder) {
			above[id][folder] = true
		}
	}
	out := map[string][]string{}
	for id, folders := range above {
		made := map[string]bool{}
		for some := range slices.Chunk(slices.Collect(maps.Keys(folders)), 500) {
			var found []string
			if err := s.reading(ctx).Model(&Entry{}).Where("cabinet_id = ? AND made <> '' AND made IN ? AND undo = 'done'", id,
				some).Distinct().Pluck("made", &found).Error; err != nil {
				return nil, err
			}
			for _, f := range found {
				made[f] = true
			}
		}
		for folder := range folders { // one that was made, or is inside one
			for at := folder; at != "."; at = path.Dir(at) {
				if made[at] {
					out[id] = append(out[id], folder)
					break
				}
			}
		}
		slices.SortFunc(out[id], func(a, b string) int {
			return cmp.Or(strings.Count(b, "/")-strings.Count(a, "/"), strings.Compare(a, b))
		})
	}
	return out, nil
}

// FilePassAgain lets everything be filed again that was taken back of a pass, or by one, as one
// pass. It gives how many attachments of how many messages are.
func (s *Undoing) FilePassAgain(ctx context.Context, v Viewer, passID int64,
	now time.Time) (items, messages int, err error) {
	return s.fileAgain(ctx, v, "(undo_pass = ? OR pass_id = ?)", []any{passID, passID},
		"pass "+strconv.FormatInt(passID, 10), now)
}

// FileAgain lets what was taken back of a message be filed again, because a
// person says so: the next round of the same items.
func (s *Undoing) FileAgain(ctx context.Context, v Viewer, messageID int64, now time.Time) (int, error) {
	n, _, err := s.fileAgain(ctx, v, "message_id = ?", []any{messageID}, strconv.FormatInt(messageID, 10), now)
	return n, err
}

// unfiledAgain are the items that were taken back, are not filed again, and have a message that
// brings them: a file that was only found in a cabinet has none.
const unfiledAgain = "undo = 'done' AND mailbox_id <> '' AND NOT EXISTS (SELECT 1 FROM journal j WHERE j.rule_id = " +
	"journal.rule_id AND j.message_id = journal.message_id AND j.item = journal.item AND j.round > journal.round)"

func (s *Undoing) fileAgain(ctx context.Context, v Viewer, which string, of []any, what string,
	now time.Time) (items, messages int,
	err error) {
	err = s.change(ctx, func(tx *gorm.DB) error {
		entries, err := list[Entry](v.seesFiled(tx).Where(unfiledAgain).Where(which, of...).Order("message_id, id"))
		if err != nil || len(entries) == 0 {
			return err
		}
		at := now.UTC()
		p := Pass{Kind: "again", MailboxID: entries[0].MailboxID, MadeBy: v.Name, State: Done, StartedAt: at, EndedAt: &at}
		for i := range entries {
			if i == 0 || entries[i].MessageID != entries[i-1].MessageID {
				messages++
			}
			if entries[i].MailboxID != p.MailboxID { // of several
				p.MailboxID = ""
			}
		}
		p.Total, p.Looked, p.Matched = messages, messages, messages
		if err := tx.Create(&p).Error; err != nil {
			return err
		}
		for i, e := range entries {
			if i == 0 || e.MessageID != entries[i-1].MessageID {
				if err := tx.Exec("INSERT INTO pass_messages (pass_id, message_id, matched) VALUES (?, ?, 1)", p.ID,
					e.MessageID).Error; err != nil {
					return err
				}
			}
			again := Entry{
				RuleID:       e.RuleID,
				RuleRevision: e.RuleRevision,
				MessageID:    e.MessageID,
				Item:         e.Item,
				Round: e.Round +
					1,
				PassID:    p.ID,
				MailboxID: e.MailboxID,
				CabinetID: e.CabinetID,
				State:     Planned,
				Name:      e.Name,
				Kind:      e.Kind,
				Size:      e.Size,
				PlannedAt: at,
				Given:     "again",
			}
			if e.RuleID == ByHand {
				again.Wanted, again.Given = e.Wanted, "elsewhere"
			}
			if err := tx.Create(&again).Error; err != nil {
				return err
			}
		}
		items = len(entries)
		return note(tx, v.Name, "file again", what)
	})
	return items, messages, err
}

// Forget removes the history before a moment, and the facts of messages of
// which nothing was ever decided and that no pass kept names.
func (s *Passes) Forget(ctx context.Context, before time.Time) (int, error) {
	n := 0
	err := s.change(ctx, func(tx *gorm.DB) error {
		at := before.UTC()
		done := tx.Exec("DELETE FROM passes WHERE started_at < ? AND state NOT IN ('running', 'paused')", at)
		if done.Error != nil {
			return done.Error
		}
		n = int(done.RowsAffected)
		return exec(
			tx,
			statement{"DELETE FROM pass_messages WHERE pass_id NOT IN (SELECT id FROM passes)", nil},
			statement{"DELETE FROM retries WHERE state = 'set aside' AND done_at < ?", []any{at}},
			statement{
				`DELETE FROM messages WHERE seen_at < ? AND received_at < ? AND NOT EXISTS (SELECT 1 FROM journal j WHERE j.message_id = messages.id)
				AND NOT EXISTS (SELECT 1 FROM follow_ups f WHERE f.message_id = messages.id) AND NOT EXISTS (SELECT 1 FROM pass_messages p WHERE p.message_id = messages.id)
				AND NOT EXISTS (SELECT 1 FROM retries r WHERE r.message_id = messages.id AND r.message_id > 0)`,
				[]any{at, at},
			},
			statement{"DELETE FROM post WHERE made_at < ? AND state IN ('done', 'set aside')", []any{at}},
		)
	})
	return n, err
}

// KeptBefore lists files that were replaced or taken back before a moment and
// are still kept.
func (s *Register) KeptBefore(ctx context.Context, before time.Time, most int) ([]Filing, error) {
	return list[Filing](s.reading(ctx).Where("kept_as <> '' AND kept_at < ?", before.UTC()).Order("kept_at").Limit(most))
}

// LetGo records that a file is no longer kept.
func (s *Register) LetGo(ctx context.Context, f *Filing) error {
	return s.change(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE register SET kept_as = '', kept_at = NULL WHERE year = ? AND number = ?", f.Year,
			f.Number).Error
	})
}

// Tally is what was filed by a rule or from a sender since a moment.
type Tally struct {
	Files int
	Bytes int64
}

// FiledSince tallies live filings since a moment, by rule and by sender.
func (s *Journal) FiledSince(ctx context.Context, since time.Time) (byRule, bySender map[string]Tally, err error) {
	byRule, bySender = map[string]Tally{}, map[string]Tally{}
	for column, into := range map[string]map[string]Tally{"rule_id": byRule, "sender_address": bySender} {
		var rows []struct {
			Key   string
			Files int
			Bytes int64
		}
		db := s.reading(ctx).Table("register r").Joins(
			"JOIN journal j ON j.id = r.journal_id JOIN passes p ON p.id = j.pass_id").Where("r.filed_at > ? AND p.kind = "+
			"'live' AND j.given = ''", since.UTC())
		if err := db.Select("r." + column + " AS key, count(*) AS files, sum(r.size) AS bytes").Group("r." +
			column).Scan(&rows).Error; err != nil {
			return nil, nil, err
		}
		for _, r := range rows {
			into[r.Key] = Tally{r.Files, r.Bytes}
		}
	}
	return byRule, bySender, nil
}

// FolderUsed says whether anything but an entry was ever filed in a folder.
func (s *Journal) FolderUsed(ctx context.Context, e *Entry, folder string) (bool, error) {
	return there(
		s.reading(ctx).Model(&Filing{}).Where("cabinet_id = ? AND folder = ? AND filed_at IS NOT NULL AND "+
			"journal_id <> ?", e.CabinetID, folder, e.ID),
	)
}

// Spooled lists what waits here for its cabinet.
func (s *Journal) Spooled(ctx context.Context) ([]Entry, error) {
	// "+id" makes SQLite read the few that are planned and sort them, and not go through all in their order.
	return list[Entry](s.reading(ctx).Where("spooled <> '' AND state = 'planned'").Order("+id"))
}

// Spool records that the content of an entry is kept here, flushed, until its
// cabinet is back.
func (s *Journal) Spool(ctx context.Context, e *Entry) error {
	return s.change(ctx,
		func(tx *gorm.DB) error { return tx.Model(e).Select("spooled", "size", "sha256").Updates(e).Error })
}

// FiledHere says whether the file of an entry that was found filed is one of ours.
func (s *Undoing) FiledHere(ctx context.Context, e *Entry) (bool, error) {
	return there(
		s.reading(ctx).Model(&Entry{}).Where("cabinet_id = ? AND path = ? AND state = 'filed'", e.CabinetID, e.Path),
	)
}

// Open lists undoings that have not ended.
func (s *Undoing) Open(ctx context.Context) ([]Pass, error) {
	return list[Pass](s.reading(ctx).Where("kind = 'undo' AND state = 'running'").Order("id"))
}

// StateCounts counts the items of the journal by their state.
func (s *Journal) StateCounts(ctx context.Context, v Viewer) (map[State]int, error) {
	var rows []struct {
		State State
		N     int
	}
	err := v.seesFiled(s.reading(ctx).Model(&Entry{})).Select("state, count(*) AS n").Group("state").Scan(
		&rows,
	).Error
	counts := map[State]int{}
	for _, r := range rows {
		counts[r.State] = r.N
	}
	return counts, err
}

// Undos is how far what a pass filed was taken back, and what a pass took back.
type Undos struct {
	Undoable, TakenBack, Kept int
	Again                     int // that was taken back of it, or by it, and is not filed again
}

// Of counts it for passes.
func (s *Undoing) Of(ctx context.Context, ids ...int64) (map[int64]Undos, error) {
	counts := map[int64]Undos{}
	var can, did []struct {
		Pass int64
		Undo Undo
		N    int
	}
	if err := s.reading(ctx).Model(&Entry{}).Where("pass_id IN ? AND undo = '' AND state IN ('filed', 'already there')",
		ids).Select("pass_id AS pass, count(*) AS n").Group("pass_id").Scan(&can).Error; err != nil {
		return nil, err
	}
	if err := s.reading(ctx).Model(&Entry{}).Where("undo_pass IN ? AND undo_pass > 0",
		ids).Select("undo_pass AS pass, undo, " +
		"count(*) AS n").Group("undo_pass, undo").Scan(&did).Error; err != nil {
		return nil, err
	}
	var hand []struct {
		Pass int64
		N    int
	}
	if err := handChanges(s.reading(ctx),
		ids...).Select("pass_id AS pass, count(*) AS n").Group("pass_id").Scan(&hand).Error; err != nil {
		return nil, err
	}
	for _, r := range hand {
		u := counts[r.Pass]
		u.Undoable = r.N
		counts[r.Pass] = u
	}
	for _, r := range can {
		u := counts[r.Pass]
		u.Undoable += r.N
		counts[r.Pass] = u
	}
	for _, column := range []string{"pass_id", "undo_pass"} {
		var again []struct {
			Pass int64
			N    int
		}
		err := s.reading(ctx).Model(&Entry{}).Where(column+" IN ? AND "+column+" > 0", ids).Where(unfiledAgain).
			Select(column + " AS pass, count(*) AS n").Group(column).Scan(&again).Error
		if err != nil {
			return nil, err
		}
		for _, r := range again {
			u := counts[r.Pass]
			u.Again += r.N
			counts[r.Pass] = u
		}
	}
	for _, r := range did {
		u := counts[r.Pass]
		switch r.Undo {
		case Undone:
			u.TakenBack = r.N
		case UndoKept:
			u.Kept = r.N
		}
		counts[r.Pass] = u
	}
	return counts, nil
}
