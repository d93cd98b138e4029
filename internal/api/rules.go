package api

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"time"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/pattern"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/engine"
	"inktray.example/inktray/internal/rehearsal"
	"inktray.example/inktray/internal/store"
)

// ruleFacts are facts about all rules that are read once for a list.
type ruleFacts struct {
	filed map[string]register.Tally
	days  map[string][]register.Tally
}

const ruleDays = 30

func (s *ruleHandlers) ruleFacts(ctx context.Context, v store.Viewer) (f ruleFacts, err error) {
	tallies, _, err := s.Store.Register.Tallies(ctx, v, register.Query{Search: register.Search{States: ever}},
		register.PerRule, s.Engine.Zone, 0)
	if err != nil {
		return f, err
	}
	f.filed = map[string]register.Tally{}
	for _, t := range tallies {
		f.filed[t.ID] = t
	}
	f.days, err = s.Store.Register.Days(ctx, v, register.PerRule, s.Engine.Today().AddDate(0, 0, 1-ruleDays), ruleDays,
		true)
	return f, err
}

// ever are the states of what a rule filed, whatever became of it.
var ever = append([]register.State{register.TakenBack}, register.There...)

// dayIndex counts calendar days from the first one on.
func dayIndex(first, at time.Time, zone *time.Location) int {
	y, m, d := at.In(zone).Date()
	fy, fm, fd := first.In(zone).Date()
	return int(time.Date(y, m, d, 0, 0, 0, 0, time.UTC).Sub(time.Date(fy, fm, fd, 0, 0, 0, 0, time.UTC)).Hours() / 24)
}

func (s *ruleHandlers) rule(r *store.Rule, f *ruleFacts) Rule {
	out := Rule{ID: r.ID, Name: r.Name, Place: r.Place, Running: r.Running, Revision: r.Revision,
		Document: RuleDocument(r.Document)}
	document, err := r.Parsed()
	if err == nil {
		var c *rule.Compiled
		if c, err = rule.Compile(document, r.Revision, s.Engine.Zone); err == nil {
			summary, example := c.Summary(), c.Example()
			out.Sentence, out.Summary, out.Example = c.Sentence(), &summary, &example
		}
		if notes := s.Engine.Office.RuleNotes(document); len(notes) > 0 {
			out.Notes = &notes
		}
	}
	var problems rule.Problems
	if errors.As(err, &problems) {
		fields := fieldProblems(problems)
		out.Problems, out.Sentence = &fields, "This rule cannot run: "+problems[0].String()
	}
	if f != nil {
		out.Filed = f.filed[r.ID].Count
		if out.Filed > 0 {
			last := time.Unix(f.filed[r.ID].Last, 0).UTC()
			out.LastFiledAt = &last
		}
		days := make([]int, ruleDays)
		for i, day := range f.days[r.ID] {
			days[i] = day.Count
		}
		out.Days = &days
	}
	return out
}

func (s *ruleHandlers) rules(ctx context.Context) ([]Rule, error) {
	rows, err := s.Store.Rules.Seen(ctx, viewerOf(ctx))
	if err != nil {
		return nil, err
	}
	f, err := s.ruleFacts(ctx, viewerOf(ctx))
	out := []Rule{}
	for i := range rows {
		out = append(out, s.rule(&rows[i], &f))
	}
	return out, err
}

func (s *ruleHandlers) oneRule(ctx context.Context, id string) (Rule, error) {
	row, err := s.Store.Rules.SeenByID(ctx, viewerOf(ctx), id)
	if err != nil || row.Removed {
		return Rule{}, errors.Join(err, store.ErrNotFound)
	}
	f, err := s.ruleFacts(ctx, viewerOf(ctx))
	return s.rule(&row, &f), err
}

// ListRules lists the rules in their order.
func (s *ruleHandlers) ListRules(ctx context.Context, _ ListRulesRequestObject) (ListRulesResponseObject, error) {
	out, err := s.rules(ctx)
	return ListRules200JSONResponse(out), err
}

// AddRule keeps a new rule.
func (s *ruleHandlers) AddRule(ctx context.Context, r AddRuleRequestObject) (AddRuleResponseObject, error) {
	document, err := rule.ParseRule(*r.Body)
	if err != nil {
		return nil, err
	}
	if _, err := s.Engine.Office.CheckRule(ctx, viewerOf(ctx), document); err != nil {
		return nil, err
	}
	row, err := s.Engine.Office.SaveRule(ctx, document, 0, viewerOf(ctx).Name)
	if err != nil {
		return nil, err
	}
	out, err := s.oneRule(ctx, row.ID)
	return AddRule201JSONResponse(out), err
}

// GetRule shows one rule.
func (s *ruleHandlers) GetRule(ctx context.Context, r GetRuleRequestObject) (GetRuleResponseObject, error) {
	out, err := s.oneRule(ctx, r.ID)
	return GetRule200JSONResponse{Body: out, Headers: GetRule200ResponseHeaders{ETag: etag(out.Revision)}}, err
}

// ChangeRule keeps a new revision of a rule.
func (s *ruleHandlers) ChangeRule(ctx context.Context, r ChangeRuleRequestObject) (ChangeRuleResponseObject, error) {
	document, err := rule.ParseRule(*r.Body)
	if err != nil {
		return nil, err
	}
	if _, err := s.oneRule(ctx, r.ID); err != nil {
		return nil, err
	}
	if document.ID != "" && document.ID != r.ID {
		return nil, rule.Problems{{Place: "id", Text: "the document has the identity of another rule"}}
	}
	document.ID = r.ID
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	if _, err := s.Engine.Office.CheckRule(ctx, viewerOf(ctx), document); err != nil {
		return nil, err
	}
	if _, err := s.Engine.Office.SaveRule(ctx, document, revision, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.oneRule(ctx, r.ID)
	return ChangeRule200JSONResponse{Body: out, Headers: ChangeRule200ResponseHeaders{ETag: etag(out.Revision)}}, err
}

// RemoveRule removes a rule.
func (s *ruleHandlers) RemoveRule(ctx context.Context, r RemoveRuleRequestObject) (RemoveRuleResponseObject, error) {
	if _, err := s.oneRule(ctx, r.ID); err != nil {
		return nil, err
	}
	return RemoveRule204Response{}, s.Engine.Office.RemoveRule(ctx, r.ID, viewerOf(ctx).Name)
}

// OrderRules puts the rules into an order.
func (s *ruleHandlers) OrderRules(ctx context.Context, r OrderRulesRequestObject) (OrderRulesResponseObject, error) {
	var was []string
	if r.Body.Was != nil {
		was = *r.Body.Was
	}
	if err := s.Store.Rules.Order(ctx, r.Body.Ids, was, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	if err := s.Engine.Office.LoadRules(ctx); err != nil {
		return nil, err
	}
	out, err := s.rules(ctx)
	return OrderRules200JSONResponse(out), err
}

// SwitchRuleOn lets a rule run from now on.
func (s *ruleHandlers) SwitchRuleOn(ctx context.Context, r SwitchRuleOnRequestObject) (SwitchRuleOnResponseObject,
	error) {
	var old *engine.OldMailOf
	if r.Body != nil && r.Body.OldMail != nil {
		of := s.oldMail(r.ID, r.Body.OldMail)
		if err := of.Check(); err != nil { // before the rule is on
			return nil, err
		}
		old = &of
	}
	if err := s.Engine.Office.SwitchRule(ctx, r.ID, true, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	if old != nil {
		if _, err := s.Engine.FileOldMail(ctx, *old, viewerOf(ctx)); err != nil {
			return nil, err
		}
	}
	out, err := s.oneRule(ctx, r.ID)
	return SwitchRuleOn200JSONResponse(out), err
}

// SwitchRuleOff stops a rule.
func (s *ruleHandlers) SwitchRuleOff(ctx context.Context, r SwitchRuleOffRequestObject) (SwitchRuleOffResponseObject,
	error) {
	if err := s.Engine.Office.SwitchRule(ctx, r.ID, false, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	out, err := s.oneRule(ctx, r.ID)
	return SwitchRuleOff200JSONResponse(out), err
}

// RehearseRule says what a rule would do.
func (s *ruleHandlers) RehearseRule(ctx context.Context, r RehearseRuleRequestObject) (RehearseRuleResponseObject,
	error) {
	document, err := rule.ParseRule(*r.Body)
	if err != nil {
		return nil, err
	}
	c, err := s.Engine.Office.CheckRule(ctx, viewerOf(ctx), document)
	if err != nil {
		return nil, err
	}
	p := &r.Params
	of := rehearsal.RehearsalOf{Rule: document, Last: number(p.Last, 0), Since: s.day(p.Since, 0),
		Until: s.day(p.Until, 1), Thorough: p.Thorough != nil && *p.Thorough, Show: number(p.Show, 0)}
	if p.Message != nil {
		of.Message = *p.Message
	}
	out, err := s.rehearsal(ctx, of, c.Sentence())
	return RehearseRule200JSONResponse(out), err
}

func rehearsedItem(i *rehearsal.RehearsedItem) Item {
	out := Item{Item: i.Item.Item.ID, Name: i.Item.Item.Name, Kind: string(i.Item.Item.Kind), Size: i.Item.Item.Size,
		Verdict: string(i.Verdict), Reason: i.Reason.String(), ReasonCodes: codes(i.Reason),
		Path: cmp.Or(i.As, i.Path()), Clash: optional(i.Clash), Rule: optional(i.Rule)}
	if i.Settled() && i.Verdict != plan.LeftOut {
		out.Values = shownValues(i.Values)
	}
	if len(i.Unknown) > 0 {
		out.Unknown = &i.Unknown
	}
	if i.Verdict == plan.LeftOut && slices.Contains(i.Unknown, "contents") { // what is in it decides
		out.Verdict = "not yet"
	}
	return out
}

// GetRuleSchema gives the schema of the rule document.
func (s *ruleHandlers) GetRuleSchema(context.Context,
	GetRuleSchemaRequestObject) (GetRuleSchemaResponseObject, error) {
	return GetRuleSchema200ApplicationSchemaPlusJSONResponse(rule.Schema()), nil
}

// GetLanguage gives the fields and words of patterns, and the kinds.
func (s *ruleHandlers) GetLanguage(ctx context.Context,
	_ GetLanguageRequestObject) (GetLanguageResponseObject, error) {
	out := GetLanguage200JSONResponse{}
	for _, f := range pattern.Fields {
		words := f.InWords()
		out.Fields = append(out.Fields, Pattern{Name: f.Name, Type: string(f.Type), Doc: f.Doc, Example: "<" + f.Name + ">",
			Words: &words})
	}
	for _, w := range pattern.Words {
		kind := "text"
		if w.Dates {
			kind = "date"
		}
		out.Words = append(out.Words, Pattern{Name: w.Name, Type: kind, Doc: w.Doc, Example: "<" + w.Example + ">"})
	}
	out.Kinds = []Kind{{Name: string(rule.EInvoice), Plural: "electronic invoices", Extensions: []string{"xml", "pdf"}}}
	for _, k := range mail.Kinds {
		out.Kinds = append(out.Kinds,
			Kind{Name: string(k.Kind), Plural: k.Plural, Extensions: append([]string{}, k.Extensions...)})
	}
	tables, err := s.Store.Book.Tables(ctx)
	out.Tables = []string{}
	for _, t := range tables {
		out.Tables = append(out.Tables, t.Name)
	}
	return out, err
}

// GetChoices gives what occurs in the mailboxes.
func (s *ruleHandlers) GetChoices(ctx context.Context, r GetChoicesRequestObject) (GetChoicesResponseObject, error) {
	v := viewerOf(ctx)
	rows, err := s.Store.Mailboxes.All(ctx, v)
	if err != nil {
		return nil, err
	}
	var ids []string
	if r.Params.Mailbox != nil {
		ids = []string{}
		look := rule.Look{Mailboxes: *r.Params.Mailbox}
		for _, m := range rows {
			if look.Looks(m.Name) {
				ids = append(ids, m.ID)
			}
		}
	}
	found, err := s.Engine.Office.ChoicesIn(ctx, v, ids)
	if err != nil {
		return nil, err
	}
	choices := func(seen []store.Seen) []Choice {
		out := []Choice{}
		for _, one := range seen {
			out = append(out, Choice{Value: one.Value, Count: one.Count})
		}
		return out
	}
	names, groups := s.Engine.Office.Settings().Book.Names()
	return GetChoices200JSONResponse{Domains: choices(found.Domains), Addresses: choices(found.Addresses),
		Words: choices(found.Words), Kinds: choices(found.Kinds), Folders: choices(found.Folders),
		Labels: choices(found.Labels), Recipients: choices(found.Recipients), Correspondents: list(names),
		Groups: list(groups), Topics: s.Engine.Office.Topics.Names()}, nil
}

// FileOldMail begins a pass over old mail.
func (s *ruleHandlers) FileOldMail(ctx context.Context,
	r FileOldMailRequestObject) (FileOldMailResponseObject, error) {
	p, err := s.Engine.FileOldMail(ctx, s.oldMail(r.ID, r.Body), viewerOf(ctx))
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, err
	case errors.Is(err, engine.ErrUnderWay):
		return nil, &problem{status: 409, kind: "under-way", text: err.Error()}
	case err != nil:
		return nil, err
	}
	out, err := s.passes(ctx, viewerOf(ctx), []store.Pass{*p})
	if err != nil {
		return nil, err
	}
	return FileOldMail201JSONResponse(out[0]), nil
}

func (s *ruleHandlers) oldMail(ruleID string, r *OldMailRequest) engine.OldMailOf {
	return engine.OldMailOf{RuleID: ruleID, Since: s.day(r.Since, 0), Most: number(r.Most, 0),
		PerMinute: number(r.PerMinute, 0), From: text(r.From), To: text(r.To)}
}
