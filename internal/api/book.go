package api

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/gofiber/fiber/v3"
	openapi_types "github.com/oapi-codegen/runtime/types"

	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/office"
	"inktray.example/inktray/internal/rehearsal"
	"inktray.example/inktray/internal/store"
)

func correspondent(c *store.Correspondent) Correspondent {
	return Correspondent{ID: c.ID, Name: c.Name, Addresses: list(c.Addresses), Domains: list(c.Domains),
		Groups: list(c.Groups), Passwords: c.PasswordCount, Revision: c.Revision}
}

func list(l []string) []string { return append([]string{}, l...) }

func listed(l *[]string) []string {
	if l == nil {
		return nil
	}
	return *l
}

// ListCorrespondents lists the book.
func (s *bookHandlers) ListCorrespondents(ctx context.Context,
	_ ListCorrespondentsRequestObject) (ListCorrespondentsResponseObject, error) {
	rows, err := s.Store.Book.All(ctx)
	out := ListCorrespondents200JSONResponse{}
	for i := range rows {
		out = append(out, correspondent(&rows[i]))
	}
	return inOrder(out, func(one *Correspondent) string { return one.Name }), err
}

func (s *bookHandlers) saveCorrespondent(ctx context.Context, id string, set *CorrespondentSettings,
	revision int) (Correspondent, error) {
	row := store.Correspondent{ID: id, Name: set.Name, Addresses: listed(set.Addresses), Domains: listed(set.Domains),
		Groups: listed(set.Groups)}
	var passwords []string
	if set.Passwords != nil {
		passwords = list(*set.Passwords)
	}
	err := s.Engine.Office.SaveCorrespondent(ctx, &row, passwords, revision, viewerOf(ctx).Name)
	return correspondent(&row), err
}

// AddCorrespondent enters somebody in the book.
func (s *bookHandlers) AddCorrespondent(ctx context.Context,
	r AddCorrespondentRequestObject) (AddCorrespondentResponseObject, error) {
	out, err := s.saveCorrespondent(ctx, "", r.Body, 0)
	return AddCorrespondent201JSONResponse(out), err
}

// ChangeCorrespondent changes an entry of the book.
func (s *bookHandlers) ChangeCorrespondent(ctx context.Context,
	r ChangeCorrespondentRequestObject) (ChangeCorrespondentResponseObject, error) {
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	out, err := s.saveCorrespondent(ctx, r.ID, r.Body, revision)
	return ChangeCorrespondent200JSONResponse(out), err
}

// RemoveCorrespondent takes somebody out of the book.
func (s *bookHandlers) RemoveCorrespondent(ctx context.Context,
	r RemoveCorrespondentRequestObject) (RemoveCorrespondentResponseObject, error) {
	return RemoveCorrespondent204Response{}, s.Engine.Office.RemoveCorrespondent(ctx, r.ID, viewerOf(ctx).Name)
}

// ListProposals lists who writes and is in no book.
func (s *bookHandlers) ListProposals(ctx context.Context, _ ListProposalsRequestObject) (ListProposalsResponseObject,
	error) {
	all, err := s.Engine.Office.Proposals(ctx, viewerOf(ctx))
	out := ListProposals200JSONResponse{}
	for _, p := range all {
		out = append(out, Proposal{Name: p.Name, Domain: p.Domain, Count: p.Count, Known: list(p.Known)})
	}
	return out, err
}

func lookupTable(t *store.LookupTable) LookupTable {
	out := LookupTable{ID: t.ID, Name: t.Name, Rows: []LookupRow{}, Revision: t.Revision}
	for _, row := range t.Rows {
		out.Rows = append(out.Rows, LookupRow{Key: row[0], Value: row[1]})
	}
	return out
}

// ListTables lists the tables.
func (s *bookHandlers) ListTables(ctx context.Context, _ ListTablesRequestObject) (ListTablesResponseObject, error) {
	rows, err := s.Store.Book.Tables(ctx)
	out := ListTables200JSONResponse{}
	for i := range rows {
		out = append(out, lookupTable(&rows[i]))
	}
	return inOrder(out, func(one *LookupTable) string { return one.Name }), err
}

func (s *bookHandlers) saveTable(ctx context.Context, id string, set *LookupTableSettings, revision int) (LookupTable,
	error) {
	row := store.LookupTable{ID: id, Name: set.Name}
	for _, r := range set.Rows {
		row.Rows = append(row.Rows, [2]string{r.Key, r.Value})
	}
	err := s.Engine.Office.SaveLookupTable(ctx, &row, revision, viewerOf(ctx).Name)
	return lookupTable(&row), err
}

// AddTable makes a table.
func (s *bookHandlers) AddTable(ctx context.Context, r AddTableRequestObject) (AddTableResponseObject, error) {
	out, err := s.saveTable(ctx, "", r.Body, 0)
	return AddTable201JSONResponse(out), err
}

// ChangeTable changes a table.
func (s *bookHandlers) ChangeTable(ctx context.Context, r ChangeTableRequestObject) (ChangeTableResponseObject, error) {
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	out, err := s.saveTable(ctx, r.ID, r.Body, revision)
	return ChangeTable200JSONResponse(out), err
}

// RemoveTable removes a table.
func (s *bookHandlers) RemoveTable(ctx context.Context, r RemoveTableRequestObject) (RemoveTableResponseObject, error) {
	return RemoveTable204Response{}, s.Engine.Office.RemoveLookupTable(ctx, r.ID, viewerOf(ctx).Name)
}

// CopyRule makes a rule like another.
func (s *bookHandlers) CopyRule(ctx context.Context, r CopyRuleRequestObject) (CopyRuleResponseObject, error) {
	row, err := s.Engine.Office.CopyRule(ctx, r.ID, viewerOf(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.oneRule(ctx, row.ID)
	return CopyRule201JSONResponse(out), err
}

// GetRemains says what remains when a rule is removed.
func (s *bookHandlers) GetRemains(ctx context.Context, r GetRemainsRequestObject) (GetRemainsResponseObject, error) {
	out, err := s.Engine.Office.RemainsOf(ctx, viewerOf(ctx), r.ID)
	return GetRemains200JSONResponse{Filed: out.Filed, Waiting: out.Waiting, Underway: out.Underway, Dropped: out.Dropped,
		Revisions: out.Revisions, SeesMore: list(out.NamedBy)}, err
}

func diff(lines []rule.Line) []DiffLine {
	out := []DiffLine{}
	for _, l := range lines {
		out = append(out, DiffLine{In: DiffLineIn(l.In), Text: l.Text})
	}
	return out
}

// ListRevisions lists the states that a rule had.
func (s *bookHandlers) ListRevisions(ctx context.Context, r ListRevisionsRequestObject) (ListRevisionsResponseObject,
	error) {
	row, err := s.Store.Rules.SeenByID(ctx, viewerOf(ctx), r.ID)
	if err != nil || row.Removed {
		return nil, errors.Join(err, store.ErrNotFound)
	}
	revisions, err := s.Store.Rules.Revisions(ctx, r.ID)
	out := ListRevisions200JSONResponse{}
	parsed := make([]*rule.Rule, len(revisions))
	for i := range revisions {
		if parsed[i], _ = rule.ParseRule([]byte(revisions[i].Document)); parsed[i] == nil {
			parsed[i] = &rule.Rule{}
		}
	}
	for i := range revisions {
		one := Revision{Number: revisions[i].Revision, MadeBy: revisions[i].MadeBy, MadeAt: revisions[i].MadeAt,
			Present: revisions[i].Revision == row.Revision, Lines: []DiffLine{}, Sentence: s.sentence(parsed[i])}
		if i+1 < len(revisions) {
			one.Lines = diff(rule.Compare(parsed[i+1], parsed[i]))
		}
		out = append(out, one)
	}
	return out, err
}

func (s *bookHandlers) sentence(r *rule.Rule) string {
	c, err := rule.Compile(r, 0, s.Engine.Zone)
	if err != nil {
		return ""
	}
	return c.Sentence()
}

// BringBack makes an earlier state the present one.
func (s *bookHandlers) BringBack(ctx context.Context, r BringBackRequestObject) (BringBackResponseObject, error) {
	if _, err := s.Engine.Office.BringBack(ctx, r.ID, int(r.Number), viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.oneRule(ctx, r.ID)
	return BringBack200JSONResponse(out), err
}

// ExportRules gives rules as a file.
func (s *bookHandlers) ExportRules(ctx context.Context, r ExportRulesRequestObject) (ExportRulesResponseObject, error) {
	rows, err := s.Store.Rules.Seen(ctx, viewerOf(ctx))
	if err != nil {
		return nil, err
	}
	wanted := map[string]bool{}
	for _, id := range listed(r.Params.ID) {
		wanted[id] = true
	}
	document := rule.Document{Format: rule.Format, Rules: []rule.Rule{}}
	for i := range rows {
		if len(wanted) > 0 && !wanted[rows[i].ID] {
			continue
		}
		one, err := rows[i].Parsed()
		if err != nil {
			return nil, err
		}
		one.Revision = rows[i].Revision
		document.Rules = append(document.Rules, *one)
	}
	text, err := rule.YAML(document)
	as := `attachment; filename="rules.yaml"`
	return ExportRules200ApplicationYamlResponse{Body: bytes.NewReader(text), ContentLength: int64(len(text)),
		Headers: ExportRules200ResponseHeaders{ContentDisposition: &as}}, err
}

func (s *bookHandlers) changes(all []office.RuleChange) []RuleChange {
	out := []RuleChange{}
	for _, c := range all {
		one := RuleChange{Kind: RuleChangeKind(c.Kind), Name: c.Rule.Name, Sentence: s.sentence(c.Rule), Lines: diff(c.Lines),
			Problems: append([]FieldProblem{}, fieldProblems(c.Problems)...)}
		if c.Was != nil {
			one.Was, one.ID = &c.Was.Name, &c.Was.ID
		}
		if c.Renamed != nil {
			one.Renamed = &RenamedFrom{ID: c.Renamed.ID, Name: c.Renamed.Name}
		}
		out = append(out, one)
	}
	return out
}

func importRequest(r *ImportRequest) ([]rule.Rule, map[string]string, error) {
	document, err := rule.Parse([]byte(r.Document))
	if err != nil {
		return nil, nil, err
	}
	renames := map[string]string{}
	if r.Renames != nil {
		renames = *r.Renames
	}
	return document.Rules, renames, nil
}

// CompareRules says what an import would change.
func (s *bookHandlers) CompareRules(ctx context.Context, r CompareRulesRequestObject) (CompareRulesResponseObject,
	error) {
	rules, renames, err := importRequest(r.Body)
	if err != nil {
		return nil, err
	}
	all, err := s.Engine.Office.CompareRules(ctx, rules, renames)
	return CompareRules200JSONResponse(s.changes(all)), err
}

// ImportRules keeps the rules of a file.
func (s *bookHandlers) ImportRules(ctx context.Context, r ImportRulesRequestObject) (ImportRulesResponseObject, error) {
	rules, renames, err := importRequest(r.Body)
	if err != nil {
		return nil, err
	}
	all, err := s.Engine.Office.ImportRules(ctx, rules, renames, viewerOf(ctx).Name)
	return ImportRules200JSONResponse(s.changes(all)), err
}

// DraftRule drafts a rule from a message.
func (s *bookHandlers) DraftRule(ctx context.Context, r DraftRuleRequestObject) (DraftRuleResponseObject, error) {
	draft, err := s.Engine.Office.RuleFrom(ctx, viewerOf(ctx), r.Number)
	if err != nil {
		return nil, err
	}
	data, err := json.Marshal(draft)
	return rawDocument(data), err
}

// rawDocument is a rule as it is: the generated answer would encode it again.
type rawDocument []byte

// VisitDraftRuleResponse writes the document.
func (d rawDocument) VisitDraftRuleResponse(c fiber.Ctx) error {
	c.Set("Content-Type", "application/json")
	return c.Send(d)
}

// day is the beginning of a day in the service's zone, so many days later; the
// zero time where none is given.
func (s *bookHandlers) day(d *openapi_types.Date, later int) time.Time {
	if d == nil {
		return time.Time{}
	}
	y, m, day := d.Date()
	return time.Date(y, m, day+later, 0, 0, 0, 0, s.Engine.Zone)
}

// RehearseAll says what all running rules would do.
func (s *bookHandlers) RehearseAll(ctx context.Context, r RehearseAllRequestObject) (RehearseAllResponseObject, error) {
	p := &r.Params
	of := rehearsal.RehearsalOf{Last: number(p.Last, 0), Thorough: p.Thorough != nil && *p.Thorough,
		Show: number(p.Show, 0)}
	if p.Message != nil {
		of.Message = *p.Message
	}
	of.Since, of.Until = s.day(p.Since, 0), s.day(p.Until, 1)
	out, err := s.rehearsal(ctx, of, "All rules that are on, in their order.")
	return RehearseAll200JSONResponse(out), err
}

func (s *bookHandlers) rehearsal(ctx context.Context, of rehearsal.RehearsalOf, sentence string) (Rehearsal, error) {
	v := viewerOf(ctx)
	ctx, cancel := context.WithTimeout(ctx, 5*time.Minute)
	defer cancel()
	result, err := s.Engine.Rehearser.Rehearse(ctx, v, of)
	if err != nil {
		return Rehearsal{}, err
	}
	names, err := s.names(ctx, v)
	if err != nil {
		return Rehearsal{}, err
	}
	out := Rehearsal{Messages: []Rehearsed{}, NotShown: result.NotShown, FilesNotShown: result.Hidden,
		Looked: result.Looked, Matching: result.Matching, Unsettled: result.Unsettled, Files: result.Files,
		Bytes: result.Bytes, Clashes: result.Clashes, Sentence: sentence,
		Tree: []FolderSum{}, Warnings: []Warning{}}
	for i := range result.Messages {
		m := &result.Messages[i]
		one := Rehearsed{Message: names.message(&m.Message), Matches: m.Match.Answer == rule.Yes,
			Answer: RehearsedAnswer(m.Match.Answer.String()), Reason: m.Match.Text, Items: []Item{}, Steps: []Step{}}
		for k := range m.Items {
			one.Items = append(one.Items, rehearsedItem(&m.Items[k]))
		}
		for k := range m.Steps {
			one.Steps = append(one.Steps, plannedStep(&m.Steps[k].Step, m.Steps[k].Rule))
		}
		out.Messages = append(out.Messages, one)
	}
	for _, t := range result.Tree {
		out.Tree = append(out.Tree, FolderSum{Cabinet: t.Cabinet, Folder: t.Folder, Files: t.Files, Bytes: t.Bytes})
	}
	for _, w := range result.Warnings {
		out.Warnings = append(out.Warnings, Warning{Kind: w.Kind, Place: w.Place, Text: w.Text})
	}
	return out, nil
}

// plannedStep shows a follow-up that would be done.
func plannedStep(p *plan.Step, ruleName string) Step {
	out := Step{Kind: StepKind(p.Kind), What: p.What, State: "to do", Reason: p.Reason.String(),
		ReasonCodes: codes(p.Reason), Rule: optional(ruleName)}
	if !p.Do {
		out.State = "left out"
	}
	return out
}
