package api

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"mime"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/oapi-codegen/runtime/types"

	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/engine"
	"inktray.example/inktray/internal/registry"
	"inktray.example/inktray/internal/store"
)

// asked reads what a search of the register asks.
func (s *registerHandlers) asked(ctx context.Context, search, rule, mailbox, cabinet, folder *string, from,
	to *types.Date) (register.Query, error) {
	q := register.Query{RuleID: text(rule), MailboxID: text(mailbox), Cabinet: text(cabinet), Folder: text(folder)}
	values, err := registry.ValueNames(ctx, s.Engine.Registry, viewerOf(ctx))
	if err == nil && register.MayNameValue(text(search), values) {
		values, err = s.valueNames(ctx)
	}
	if err != nil {
		return q, err
	}
	if q.Search, err = register.ParseSearch(text(search), s.Engine.Zone, values...); err != nil {
		return q, &problem{status: 422, kind: "invalid", text: err.Error(),
			fields: []FieldProblem{{Place: "text", Text: err.Error()}}}
	}
	later := func(a, b time.Time) time.Time { // both hold
		if a.After(b) {
			return a
		}
		return b
	}
	if from != nil {
		y, m, d := from.Date()
		q.Since = later(q.Since, time.Date(y, m, d, 0, 0, 0, 0, s.Engine.Zone))
	}
	if to != nil {
		y, m, d := to.Date()
		if end := time.Date(y, m, d+1, 0, 0, 0, 0, s.Engine.Zone); q.Before.IsZero() || end.Before(q.Before) {
			q.Before = end
		}
	}
	return q, nil
}

// searched is what a search in a request's body asks.
func (s *registerHandlers) searched(ctx context.Context, r *RegisterSearch) (register.Query, error) {
	if r == nil {
		r = &RegisterSearch{}
	}
	return s.asked(ctx, r.Text, r.Rule, r.Mailbox, r.Cabinet, r.Folder, r.From, r.To)
}

// paged puts order and cursor into a query.
func (s *registerHandlers) paged(ctx context.Context, q register.Query, sort, direction string, after *string,
	most *int) (register.Query, error) {
	if err := s.ordered(ctx, &q, sort, direction); err != nil {
		return q, err
	}
	q.Most = number(most, 50)
	if after != nil {
		f, err := s.filingOf(ctx, *after)
		if err != nil {
			return q, err
		}
		q.After = f.Entry()
	}
	return q, nil
}

// filings shows lines of the register with their notes and places.
func (s *registerHandlers) filings(ctx context.Context, rows []store.Filing) ([]Filing, error) {
	lines, err := s.Engine.Registry.Lines(ctx, rows, true)
	if err != nil {
		return nil, err
	}
	out := make([]Filing, len(rows))
	for i := range rows {
		f, l := &rows[i], &lines[i]
		one := Filing{Entry: f.Entry().String(), ReceivedAt: f.ReceivedAt, Mailbox: f.Mailbox, Rule: f.Rule,
			Cabinet: f.Cabinet, SenderName: f.SenderName, SenderAddress: f.SenderAddress,
			Subject: f.Subject, Folder: f.Folder, File: f.File, Kind: f.Kind, Size: f.Size, Sha256: hex.EncodeToString(f.SHA256),
			Message: f.MessageID, ReplacedBy: optional(f.ReplacedBy), Item: &f.JournalID, UndoneAt: f.UndoneAt,
			UndoneBy: optional(f.UndoneBy),
			Revision: &f.Revision, CheckedAt: f.CheckedAt, ErasedAt: f.ErasedAt, Remark: optional(l.Remark),
			Notes: optional(l.Notes), Place: optional(l.Place.Shown), PlaceURL: optional(l.Place.URL),
			MessageURL: optional(l.Message), Values: shownValues(f.Values)}
		state := FilingState(l.State.String())
		one.State = &state
		if f.FiledAt != nil {
			one.FiledAt = *f.FiledAt
		}
		out[i] = one
	}
	return out, nil
}

// ListRegister lists the register.
func (s *registerHandlers) ListRegister(ctx context.Context, r ListRegisterRequestObject) (ListRegisterResponseObject,
	error) {
	v, p := viewerOf(ctx), r.Params
	q, err := s.asked(ctx, p.Text, p.Rule, p.Mailbox, p.Cabinet, p.Folder, p.From, p.To)
	if err != nil {
		return nil, err
	}
	if s.wide(ctx, p.Everywhere) {
		if err := s.ordered(ctx, &q, word(p.Sort), word(p.Direction)); err != nil {
			return nil, err
		}
		return s.registerEverywhere(ctx, p, &q)
	}
	if s.elsewhere(&q) {
		return ListRegister200JSONResponse{Filings: []Filing{}}, nil
	}
	if q, err = s.paged(ctx, q, word(p.Sort), word(p.Direction), p.After, p.Most); err != nil {
		return nil, err
	}
	found, err := s.Store.Register.Find(ctx, v, q)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Register.Numbered(ctx, v, found.Numbers)
	if err != nil {
		return nil, err
	}
	out := ListRegister200JSONResponse{Total: found.Total, Size: found.Size}
	if out.Filings, err = s.filings(ctx, rows); err == nil {
		err = (*valueHandlers)(s).snippets(ctx, q.Inside, found.Numbers, out.Filings)
	}
	if err != nil {
		return nil, err
	}
	if found.More {
		out.Next = optional(found.Numbers[len(found.Numbers)-1].String())
	}
	return out, nil
}

// word is the text of an enumeration that may be left out.
func word[T ~string](p *T) string {
	if p == nil {
		return ""
	}
	return string(*p)
}

// ListRegisterMessages lists the register by message.
func (s *registerHandlers) ListRegisterMessages(ctx context.Context,
	r ListRegisterMessagesRequestObject) (ListRegisterMessagesResponseObject, error) {
	if p := r.Params; s.wide(ctx, p.Everywhere) {
		q, err := s.asked(ctx, p.Text, p.Rule, p.Mailbox, p.Cabinet, p.Folder, p.From, p.To)
		if err != nil {
			return nil, err
		}
		if err := s.ordered(ctx, &q, word(p.Sort), word(p.Direction)); err != nil {
			return nil, err
		}
		return s.messagesEverywhere(ctx, p, &q)
	}
	out, _, err := s.messagesHere(ctx, r.Params)
	return out, err
}

// messagesHere lists the register of these records by message. first is the line by which each stands where it does.
func (s *registerHandlers) messagesHere(ctx context.Context,
	p ListRegisterMessagesParams) (out ListRegisterMessages200JSONResponse, first []string, err error) {
	v := viewerOf(ctx)
	out.Messages = []RegisterMessage{}
	q, err := s.asked(ctx, p.Text, p.Rule, p.Mailbox, p.Cabinet, p.Folder, p.From, p.To)
	if err != nil || s.elsewhere(&q) {
		return out, nil, err
	}
	if q, err = s.paged(ctx, q, word(p.Sort), word(p.Direction), p.After, p.Most); err != nil {
		return out, nil, err
	}
	letters, found, err := s.Store.Register.FindMessages(ctx, v, q)
	if err != nil {
		return out, nil, err
	}
	var numbers []register.Number
	for _, l := range letters {
		numbers = append(numbers, l.Numbers...)
	}
	rows, err := s.Store.Register.Numbered(ctx, v, numbers)
	if err != nil {
		return out, nil, err
	}
	shown, err := s.filings(ctx, rows)
	if err != nil {
		return out, nil, err
	}
	of := map[int64][]Filing{}
	for _, f := range shown {
		of[f.Message] = append(of[f.Message], f)
	}
	out.Total, out.Size = found.Total, found.Size
	for _, l := range letters {
		if files := of[l.Message]; len(files) > 0 {
			f := &files[0]
			out.Messages = append(out.Messages,
				RegisterMessage{Message: l.Message, Subject: f.Subject, SenderName: f.SenderName, SenderAddress: f.SenderAddress,
					ReceivedAt: f.ReceivedAt, Mailbox: f.Mailbox, Filings: files})
			first = append(first, l.First.String())
		}
	}
	if found.More {
		out.Next = optional(letters[len(letters)-1].First.String())
	}
	return out, first, nil
}

func parseEntry(s string) (register.Number, error) {
	n, ok := register.ParseNumber(s)
	if !ok {
		return n, &problem{status: 422, kind: "invalid", text: fmt.Sprintf("%q is not a number of the register, such as "+
			"2026-5731", s)}
	}
	return n, nil
}

// ListRegisterFolders lists the folders that lie in one.
func (s *registerHandlers) ListRegisterFolders(ctx context.Context,
	r ListRegisterFoldersRequestObject) (ListRegisterFoldersResponseObject, error) {
	p := r.Params
	q, err := s.asked(ctx, p.Text, p.Rule, p.Mailbox, nil, nil, p.From, p.To)
	if err != nil {
		return nil, err
	}
	if s.wide(ctx, p.Everywhere) {
		return s.foldersEverywhere(ctx, p, &q)
	}
	if s.elsewhere(&q) {
		return ListRegisterFolders200JSONResponse{}, nil
	}
	rows, err := s.Store.Register.Branches(ctx, viewerOf(ctx), q, text(p.Cabinet), text(p.Folder))
	out := ListRegisterFolders200JSONResponse{}
	for _, b := range rows {
		out = append(out,
			FolderCount{Cabinet: b.Cabinet, Folder: b.Folder, Name: b.Name, Count: b.Count, Size: b.Size, More: b.More})
	}
	return out, err
}

// GetActivity counts what was filed.
func (s *registerHandlers) GetActivity(ctx context.Context, r GetActivityRequestObject) (GetActivityResponseObject,
	error) {
	v, p := viewerOf(ctx), r.Params
	q, err := s.asked(ctx, p.Text, p.Rule, p.Mailbox, p.Cabinet, p.Folder, p.From, p.To)
	if err != nil {
		return nil, err
	}
	if s.wide(ctx, p.Everywhere) {
		return s.activityEverywhere(ctx, p, &q)
	}
	if s.elsewhere(&q) {
		return GetActivity200JSONResponse{By: string(p.By), Tallies: []Tally{}}, nil
	}
	tallies, found, err := s.Store.Register.Tallies(ctx, v, q, register.By(p.By), s.Engine.Zone, number(p.Most, 20))
	out := GetActivity200JSONResponse{By: string(p.By), Tallies: []Tally{}, Total: found.Total, Size: found.Size}
	for _, t := range tallies {
		out.Tallies = append(out.Tallies, Tally{ID: t.ID, Name: t.Name, Count: t.Count, Size: t.Size})
	}
	if err != nil {
		return nil, err
	}
	sums, err := s.Store.Register.Sums(ctx, v, q)
	out.Sums = shownSums(sums)
	return out, err
}

// columnsKey is under what a person's columns are kept.
const columnsKey = "register columns"

// columnsOf are the columns that a person chose, else the usual ones.
func (s *registerHandlers) columnsOf(ctx context.Context, v store.Viewer) ([]string, error) {
	var names []string
	kept, err := s.Store.Settings.Preference(ctx, v.ID, columnsKey)
	if err == nil && kept != "" {
		err = json.Unmarshal([]byte(kept), &names)
	}
	if err != nil {
		return nil, err
	}
	values, err := s.valueNames(ctx)
	if err != nil {
		return nil, err
	}
	columns, err := register.ColumnsNamed(names, values...)
	if err != nil { // one that is no longer there
		columns, err = register.ColumnsNamed(nil)
	}
	names = nil
	for _, c := range columns {
		names = append(names, c.Name)
	}
	return names, err
}

// GetRegisterLanguage says what a search may say and which columns there are.
func (s *registerHandlers) GetRegisterLanguage(ctx context.Context,
	_ GetRegisterLanguageRequestObject) (GetRegisterLanguageResponseObject, error) {
	chosen, err := s.columnsOf(ctx, viewerOf(ctx))
	if err != nil {
		return nil, err
	}
	values, err := s.valueNames(ctx)
	out := GetRegisterLanguage200JSONResponse{Chosen: chosen, Kinds: register.Kinds(),
		States: append(append([]string{}, register.States[1:]...), "all")}
	for _, f := range register.Filters {
		out.Filters = append(out.Filters, RegisterFilter{Name: f.Name, Means: f.Means, Example: f.Example})
	}
	columns := slices.Clone(register.Columns)
	for _, name := range values {
		columns = append(columns, register.ValueColumn(name))
		out.Filters = append(out.Filters, RegisterFilter{Name: name, Means: "a value that rules read; also with <, <=, > " +
			"or >= before it, and with * for any text", Example: name + ":*"})
	}
	for _, c := range columns {
		out.Columns = append(out.Columns, RegisterColumn{Name: c.Name, Title: c.Title, Means: c.Means, Usual: c.Usual})
	}
	for _, sort := range register.Sorts {
		out.Sorts = append(out.Sorts, string(sort))
	}
	out.Sorts = append(out.Sorts, values...)
	return out, err
}

// ChooseColumns keeps which columns somebody wants to see.
func (s *registerHandlers) ChooseColumns(ctx context.Context,
	r ChooseColumnsRequestObject) (ChooseColumnsResponseObject, error) {
	v := viewerOf(ctx)
	values, err := s.valueNames(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := register.ColumnsNamed(r.Body.Columns, values...); err != nil {
		return nil, &problem{status: 422, kind: "invalid", text: err.Error(),
			fields: []FieldProblem{{Place: "columns", Text: err.Error()}}}
	}
	kept, err := json.Marshal(r.Body.Columns)
	if err != nil {
		return nil, err
	}
	if err := s.Store.Settings.Prefer(ctx, v.ID, columnsKey, string(kept)); err != nil {
		return nil, err
	}
	chosen, err := s.columnsOf(ctx, v)
	return ChooseColumns200JSONResponse{Columns: chosen}, err
}

func (s *registerHandlers) filingOf(ctx context.Context, entry string) (store.Filing, error) {
	n, err := parseEntry(entry)
	if err != nil {
		return store.Filing{}, err
	}
	return s.Store.Register.ByNumber(ctx, viewerOf(ctx), n.Year, n.Number)
}

// fileResponse streams a file of a cabinet.
type fileResponse struct {
	body    io.ReadCloser
	name    string
	size    int64 // -1 where it is not known before it was sent
	changed bool  // it is not as it was filed
}

// changedHeader says that a file is not as it was filed: somebody changed it in the cabinet.
const changedHeader = "Inktray-Changed-Since-Filed"

// VisitGetFileResponse writes the file so that no browser runs what is in it.
func (f fileResponse) VisitGetFileResponse(c fiber.Ctx) error {
	c.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": f.name}))
	c.Set("Content-Type", "application/octet-stream")
	c.Set("Content-Security-Policy", "sandbox")
	if f.changed {
		c.Set(changedHeader, "true")
	}
	return c.SendStream(f.body, int(f.size))
}

// shared gives a share back when it was sent.
type shared struct {
	io.ReadCloser
	give func()
}

func (s *shared) Close() error {
	defer s.give()
	return s.ReadCloser.Close()
}

// GetFile gives the filed file.
func (s *registerHandlers) GetFile(ctx context.Context, r GetFileRequestObject) (GetFileResponseObject, error) {
	f, err := s.filingOf(ctx, r.Entry)
	if err != nil {
		return nil, err
	}
	if f.FiledAt == nil {
		return nil, engine.ErrMissing
	}
	c, err := s.Engine.Cabinets.Cabinet(ctx, f.CabinetID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &problem{status: 404, kind: "cabinet-gone",
			text: fmt.Sprintf("the cabinet “%s” was removed from Ink Tray", f.Cabinet), advice: "The file may still be " +
				"where it was."}
	}
	if err != nil {
		return nil, err
	}
	give, ok := s.files.Take(viewerOf(ctx).ID)
	if !ok {
		return nil, errTooMuchAtOnce
	}
	body, err := c.Open(context.WithoutCancel(ctx), path.Join(f.Folder, f.File)) // it is sent after this request's handler
	if err != nil {
		give()
		return nil, err
	}
	// The register has the size of the file when it was filed, which may have changed.
	out := fileResponse{body: body, name: f.File, size: -1, changed: f.State() == register.Changed}
	if there, ok := body.(interface{ Stat() (fs.FileInfo, error) }); ok {
		if info, err := there.Stat(); err == nil {
			out.size, out.changed = info.Size(), out.changed || info.Size() != f.Size
		}
	}
	out.body = &shared{body, give}
	if first := r.Params.First; first != nil && (out.size < 0 || *first < out.size) {
		out.body, out.size = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(out.body, *first), out.body}, -1
	}
	return out, nil
}

// GetFiling tells a filing's whole story.
func (s *registerHandlers) GetFiling(ctx context.Context, r GetFilingRequestObject) (GetFilingResponseObject, error) {
	out, err := s.story(ctx, r.Entry)
	return GetFiling200JSONResponse(out), err
}

func (s *registerHandlers) story(ctx context.Context, entry string) (out Story, err error) {
	v := viewerOf(ctx)
	f, err := s.filingOf(ctx, entry)
	if err != nil {
		return out, err
	}
	t, err := s.Engine.Registry.StoryOf(ctx, v, f)
	if err != nil {
		return out, err
	}
	n, err := s.names(ctx, v)
	if err != nil {
		return out, err
	}
	shown, err := s.filings(ctx, append([]store.Filing{f}, t.Others...))
	if err != nil {
		return out, err
	}
	out = Story{Filing: shown[0], Others: shown[1:], Verdict: t.Verdict, MessageID: optional(t.MessageID),
		MailboxURL: optional(t.MailboxURL), FolderPlace: optional(t.FolderPlace.Shown),
		FolderURL: optional(t.FolderPlace.URL),
		Preview:   StoryPreview(t.Preview), Notes: []FilingNote{}, Events: []Happening{}, Steps: n.steps(t.FollowUps, t.Post)}
	out.ReceivedFrom = receivedFrom(t.Message.ReceivedFrom)
	if !t.Sent.IsZero() {
		out.SentAt = &t.Sent
	}
	if len(t.Recipients) > 0 {
		out.Recipients = &t.Recipients
	}
	if f.FiledAt == nil || f.State() == register.TakenBack || f.State() == register.Missing ||
		f.State() == register.Replaced {
		out.Preview = StoryPreview(register.PreviewNone)
	}
	for _, one := range t.Notes {
		out.Notes = append(out.Notes, FilingNote{ID: one.ID, Text: one.Text, MadeBy: one.MadeBy, MadeAt: one.MadeAt})
	}
	for _, h := range t.Happenings {
		out.Events = append(out.Events, Happening{At: h.At, Text: h.Text, By: optional(h.By)})
	}
	return out, nil
}

// AddNote writes a note on a filing.
func (s *registerHandlers) AddNote(ctx context.Context, r AddNoteRequestObject) (AddNoteResponseObject, error) {
	v := viewerOf(ctx)
	n, err := parseEntry(r.Entry)
	if err != nil {
		return nil, err
	}
	words := strings.TrimSpace(r.Body.Text)
	if words == "" {
		return nil, &problem{status: 422, kind: "invalid", text: "a note needs words",
			fields: []FieldProblem{{Place: "text", Text: "a note needs words"}}}
	}
	if err := s.Store.Register.AddNote(ctx, v,
		&store.Note{Year: n.Year, Number: n.Number, Text: words, MadeBy: v.Name, MadeAt: s.Clock().UTC()}); err != nil {
		return nil, err
	}
	out, err := s.story(ctx, r.Entry)
	return AddNote201JSONResponse(out), err
}

// RemoveNote takes a note away.
func (s *registerHandlers) RemoveNote(ctx context.Context, r RemoveNoteRequestObject) (RemoveNoteResponseObject,
	error) {
	n, err := parseEntry(r.Entry)
	if err != nil {
		return nil, err
	}
	err = s.Store.Register.RemoveNote(ctx, viewerOf(ctx), n, r.Number)
	if errors.Is(err, store.ErrNotYours) {
		return nil, &problem{status: 403, kind: "not-allowed", text: err.Error()}
	}
	return RemoveNote204Response{}, err
}

// VerifyFiling verifies one filing now.
func (s *registerHandlers) VerifyFiling(ctx context.Context, r VerifyFilingRequestObject) (VerifyFilingResponseObject,
	error) {
	f, err := s.filingOf(ctx, r.Entry)
	if err != nil {
		return nil, err
	}
	switch f.State() {
	case register.Filed, register.Changed, register.Missing:
	default:
		return nil, &problem{status: 409, kind: "nothing-to-verify", text: fmt.Sprintf("%s is %s, so there is no file to "+
			"verify", f.Entry(), f.State())}
	}
	if err := s.Engine.Registry.VerifyFiling(ctx, &f); err != nil {
		return nil, err
	}
	out, err := s.story(ctx, r.Entry)
	return VerifyFiling200JSONResponse(out), err
}

// tooMuch explains what is refused because enough is underway.
func tooMuch(err error) error {
	switch {
	case errors.Is(err, registry.ErrTooMany):
		return &problem{status: 409, kind: "busy", text: err.Error()}
	case errors.Is(err, registry.ErrVerifying):
		return &problem{status: 409, kind: "busy", text: err.Error(), advice: "Wait until that pass has ended, or stop it " +
			"in the history."}
	case errors.Is(err, registry.ErrNotReady):
		return &problem{status: 409, kind: "not-ready", text: err.Error()}
	case errors.Is(err, registry.ErrErasing):
		return &problem{status: 409, kind: "underway", text: err.Error()}
	}
	return err
}

func (s *registerHandlers) export(x *registry.Export) Export {
	out := Export{ID: x.ID, Format: ExportFormat(x.Format), Name: x.Name, State: ExportState(x.State), Rows: x.Rows,
		Done: x.Done, Size: x.Size, Problem: optional(x.Error), MadeAt: x.MadeAt}
	if x.State == store.Running && x.Done > 0 {
		left := int(s.Clock().Sub(x.MadeAt).Seconds() * float64(x.Rows-x.Done) / float64(x.Done))
		out.SecondsLeft = &left
	}
	return out
}

// StartExport writes what a search finds as a table.
func (s *registerHandlers) StartExport(ctx context.Context, r StartExportRequestObject) (StartExportResponseObject,
	error) {
	v := viewerOf(ctx)
	q, err := s.searched(ctx, r.Body.Search)
	if err != nil {
		return nil, err
	}
	if err := s.ordered(ctx, &q, word(r.Body.Sort), word(r.Body.Direction)); err != nil {
		return nil, err
	}
	var names []string
	if r.Body.Columns != nil {
		names = *r.Body.Columns
	}
	if len(names) == 0 {
		if names, err = s.columnsOf(ctx, v); err != nil {
			return nil, err
		}
	}
	values, err := s.valueNames(ctx)
	if err != nil {
		return nil, err
	}
	columns, err := register.ColumnsNamed(names, values...)
	if err != nil {
		return nil, &problem{status: 422, kind: "invalid", text: err.Error(),
			fields: []FieldProblem{{Place: "columns", Text: err.Error()}}}
	}
	of := registry.ExportOf{Format: string(r.Body.Format), Letters: word(r.Body.Per) == "message", Columns: columns,
		Query: q}
	if s.wide(ctx, r.Body.Everywhere) {
		s.exportEverywhere(ctx, &of)
	} else if s.elsewhere(&q) {
		return nil, atField("search", "it asks for other machines only; say that they are to be asked, too")
	}
	x, err := s.Engine.Registry.Exports.Start(ctx, v, of)
	return StartExport201JSONResponse(s.export(&x)), tooMuch(err)
}

// GetExport says how far an export has come.
func (s *registerHandlers) GetExport(ctx context.Context, r GetExportRequestObject) (GetExportResponseObject, error) {
	x, err := s.Engine.Registry.Exports.ByID(viewerOf(ctx), r.ID)
	return GetExport200JSONResponse(s.export(&x)), err
}

// StopExport stops an export.
func (s *registerHandlers) StopExport(ctx context.Context, r StopExportRequestObject) (StopExportResponseObject,
	error) {
	return StopExport204Response{}, s.Engine.Registry.Exports.Stop(viewerOf(ctx), r.ID)
}

// VisitGetExportFileResponse writes the table.
func (f fileResponse) VisitGetExportFileResponse(c fiber.Ctx) error { return f.VisitGetFileResponse(c) }

// GetExportFile gives an export's table.
func (s *registerHandlers) GetExportFile(ctx context.Context,
	r GetExportFileRequestObject) (GetExportFileResponseObject, error) {
	f, x, err := s.Engine.Registry.Exports.Open(viewerOf(ctx), r.ID)
	if err != nil {
		return nil, tooMuch(err)
	}
	return fileResponse{body: f, name: x.Name, size: x.Size}, nil
}

func (s *registerHandlers) verification(ctx context.Context, v store.Viewer) (out Verification, err error) {
	p, err := s.Store.Settings.VerificationPlan(ctx)
	if err != nil {
		return out, err
	}
	if out.Revision, err = s.Store.Settings.RevisionOf(ctx, store.VerificationSetting); err != nil {
		return out, err
	}
	out.Plan = VerificationPlan{EveryDays: p.EveryDays, FromTime: optional(p.FromTime), ToTime: optional(p.ToTime),
		MbPerSecond: &p.MBPerSecond}
	if p.EveryDays > 0 {
		if out.Due, err = s.Store.Verifications.CountDue(ctx, s.Clock().AddDate(0, 0, -p.EveryDays)); err != nil {
			return out, err
		}
	}
	if out.Verified, err = s.Store.Verifications.Count(ctx, v); err != nil {
		return out, err
	}
	for state, into := range map[register.State]*int{register.Missing: &out.Missing, register.Changed: &out.Changed} {
		if *into, err = s.Store.Register.Count(ctx, v,
			register.Query{Search: register.Search{States: []register.State{state}}}); err != nil {
			return out, err
		}
	}
	last, err := s.Store.Verifications.Last(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	shown, err := s.passes(ctx, v, []store.Pass{last})
	if err == nil {
		out.Last = &shown[0]
	}
	return out, err
}

// GetVerification says when files are verified.
func (s *registerHandlers) GetVerification(ctx context.Context,
	_ GetVerificationRequestObject) (GetVerificationResponseObject, error) {
	out, err := s.verification(ctx, viewerOf(ctx))
	return GetVerification200JSONResponse(out), err
}

// PlanVerification says how often files are verified.
func (s *registerHandlers) PlanVerification(ctx context.Context,
	r PlanVerificationRequestObject) (PlanVerificationResponseObject, error) {
	v := viewerOf(ctx)
	p := store.VerificationPlan{EveryDays: r.Body.EveryDays, FromTime: text(r.Body.FromTime), ToTime: text(r.Body.ToTime),
		MBPerSecond: number(r.Body.MbPerSecond, 0)}
	if err := registry.CheckVerificationPlan(p); err != nil {
		return nil, err
	}
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := s.Store.Settings.PlanVerification(ctx, p, revision, v.Name); err != nil {
		return nil, err
	}
	out, err := s.verification(ctx, v)
	return PlanVerification200JSONResponse(out), err
}

// StartVerification verifies what a search finds.
func (s *registerHandlers) StartVerification(ctx context.Context,
	r StartVerificationRequestObject) (StartVerificationResponseObject, error) {
	v := viewerOf(ctx)
	q, err := s.searched(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	p, err := s.Engine.Registry.Verify(ctx, v, q)
	if err != nil {
		return nil, tooMuch(err)
	}
	out, err := s.onePass(ctx, v, p.ID)
	return StartVerification201JSONResponse(out), err
}

func (s *registerHandlers) registerFile(ctx context.Context, f *store.RegisterFile) (RegisterFile, error) {
	out := RegisterFile{ID: f.ID, Name: f.Name, Folder: f.Folder, Format: RegisterFileFormat(f.Format),
		Per: RegisterFilePer(f.Per), Columns: []string{}, Revision: f.Revision, Problem: optional(f.Problem),
		Advice: optional(f.Advice), OfFolder: optional(f.OfFolder), Years: []RegisterFileYear{},
		Rights: registry.RightsOf(f)}
	out.Columns = append(out.Columns, f.Columns...)
	if c, err := s.Store.Cabinets.ByID(ctx, f.CabinetID); err == nil {
		out.Cabinet = c.Name
	}
	if f.RuleID != "" {
		if r, err := s.Store.Rules.ByID(ctx, f.RuleID); err == nil {
			out.Rule = optional(r.Name)
		}
	}
	years, err := s.Store.RegisterFiles.Years(ctx, f.ID)
	for _, y := range years {
		out.Years = append(out.Years, RegisterFileYear{Year: y.Year, Path: y.Path, Rows: y.Rows, WrittenAt: y.WrittenAt})
	}
	return out, err
}

// ListRegisterFiles lists the registers that are kept as files.
func (s *registerHandlers) ListRegisterFiles(ctx context.Context,
	_ ListRegisterFilesRequestObject) (ListRegisterFilesResponseObject, error) {
	rows, err := s.Store.RegisterFiles.Seen(ctx, viewerOf(ctx))
	out := ListRegisterFiles200JSONResponse{}
	for i := range rows {
		one, err := s.registerFile(ctx, &rows[i])
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return inOrder(out, func(one *RegisterFile) string { return one.Name }), err
}

func kept(r *RegisterFileRequest) registry.RegisterFileOf {
	of := registry.RegisterFileOf{Name: r.Name, Cabinet: r.Cabinet, Folder: text(r.Folder), Format: string(r.Format),
		Per: word(r.Per), Rule: text(r.Rule), OfFolder: text(r.OfFolder)}
	if r.Columns != nil {
		of.Columns = *r.Columns
	}
	return of
}

func (s *registerHandlers) saveRegisterFile(ctx context.Context, id string, revision int,
	r *RegisterFileRequest) (RegisterFile, error) {
	f, err := s.Engine.Registry.SaveRegisterFile(ctx, id, revision, kept(r), viewerOf(ctx).Name)
	if errors.Is(err, store.ErrTaken) {
		return RegisterFile{}, &problem{status: 409, kind: "taken", text: fmt.Sprintf("there is a register called “%s” "+
			"already", f.Name), fields: []FieldProblem{{Place: "name", Text: "the name is taken"}}}
	}
	if err != nil {
		return RegisterFile{}, err
	}
	return s.registerFile(ctx, &f)
}

// AddRegisterFile keeps a register as a file.
func (s *registerHandlers) AddRegisterFile(ctx context.Context,
	r AddRegisterFileRequestObject) (AddRegisterFileResponseObject, error) {
	out, err := s.saveRegisterFile(ctx, "", 0, r.Body)
	return AddRegisterFile201JSONResponse(out), err
}

// ChangeRegisterFile changes how a register is kept.
func (s *registerHandlers) ChangeRegisterFile(ctx context.Context,
	r ChangeRegisterFileRequestObject) (ChangeRegisterFileResponseObject, error) {
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	out, err := s.saveRegisterFile(ctx, r.ID, revision, r.Body)
	return ChangeRegisterFile200JSONResponse(out), err
}

// RemoveRegisterFile removes one.
func (s *registerHandlers) RemoveRegisterFile(ctx context.Context,
	r RemoveRegisterFileRequestObject) (RemoveRegisterFileResponseObject, error) {
	return RemoveRegisterFile204Response{}, s.Store.RegisterFiles.Remove(ctx, r.ID, viewerOf(ctx).Name)
}

// WriteRegisterFile writes one again.
func (s *registerHandlers) WriteRegisterFile(ctx context.Context,
	r WriteRegisterFileRequestObject) (WriteRegisterFileResponseObject, error) {
	f, err := s.Store.RegisterFiles.SeenByID(ctx, viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	f.LastChange = 0
	if err := s.Engine.Registry.WriteRegisterFile(ctx, &f); err != nil {
		return nil, err
	}
	out, err := s.registerFile(ctx, &f)
	return WriteRegisterFile200JSONResponse(out), err
}

func erasure(address string, t *store.Traces, stays []string) Erasure {
	return Erasure{Address: address, Filings: t.Filings, Messages: t.Messages, Files: t.Files, Removed: &t.Removed,
		Correspondents: t.Correspondents, Posts: t.Posts, Notes: t.Notes, Stays: &stays}
}

// PreviewErasure says what erasing a person's traces would erase.
func (s *registerHandlers) PreviewErasure(ctx context.Context,
	r PreviewErasureRequestObject) (PreviewErasureResponseObject, error) {
	t, stays, err := s.Engine.Registry.PreviewErasure(ctx, r.Body.Address)
	return PreviewErasure200JSONResponse(erasure(r.Body.Address, &t, stays)), err
}

// Erase erases a person's traces.
func (s *registerHandlers) Erase(ctx context.Context, r EraseRequestObject) (EraseResponseObject, error) {
	t, stays, err := s.Engine.Registry.Erase(ctx, viewerOf(ctx), r.Body.Address, r.Body.Files != nil &&
		*r.Body.Files == "remove")
	return Erase200JSONResponse(erasure(r.Body.Address, &t, stays)), tooMuch(err)
}

// ReadMessage says what a message says.
func (s *registerHandlers) ReadMessage(ctx context.Context, r ReadMessageRequestObject) (ReadMessageResponseObject,
	error) {
	m, err := s.Engine.Desk.Read(ctx, viewerOf(ctx), r.Number, rule.CopyText)
	if err != nil {
		return nil, err
	}
	e := &m.Message.Envelope
	out := ReadMessage200JSONResponse{Subject: e.Subject, To: []string{}, Text: m.Text}
	out.From = e.Sender().String()
	for _, a := range e.Recipients() {
		out.To = append(out.To, a.String())
	}
	if !e.Date.IsZero() {
		out.Date = &e.Date
	}
	var names []string
	for _, i := range m.Message.Items() {
		names = append(names, i.Name)
	}
	out.Attachments = &names
	return out, nil
}

// pageResponse is a message as a web page.
type pageResponse string

// VisitShowMessageResponse writes the page under a policy by which it runs no script and loads nothing.
func (p pageResponse) VisitShowMessageResponse(c fiber.Ctx) error {
	c.Set("Content-Type", "text/html; charset=utf-8")
	c.Set("X-Frame-Options", "SAMEORIGIN")
	c.Set("Content-Security-Policy",
		"sandbox; default-src 'none'; img-src data:; style-src 'unsafe-inline'; form-action 'none'; base-uri 'none'; "+
			"frame-ancestors 'self'")
	return c.SendString(string(p))
}

// ShowMessage shows a message as a web page.
func (s *registerHandlers) ShowMessage(ctx context.Context, r ShowMessageRequestObject) (ShowMessageResponseObject,
	error) {
	m, err := s.Engine.Desk.Read(ctx, viewerOf(ctx), r.Number, rule.CopyHTML)
	return pageResponse(m.Text), err
}

// FileMissingAgain files what is missing once more.
func (s *registerHandlers) FileMissingAgain(ctx context.Context,
	r FileMissingAgainRequestObject) (FileMissingAgainResponseObject, error) {
	v := viewerOf(ctx)
	m, err := s.chosen(ctx, v, r.Body.Matters, r.Body.Cause)
	if err != nil {
		return nil, err
	}
	n, err := s.Engine.Desk.FileMissingAgain(ctx, v, m)
	return FileMissingAgain200JSONResponse{Count: n}, err
}
