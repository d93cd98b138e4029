package api

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	barcodes "inktray.example/inktray/internal/core/codes"
	"inktray.example/inktray/internal/core/invoice"
	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/proposal"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/core/unpack"
	"inktray.example/inktray/internal/core/value"
	"inktray.example/inktray/internal/engine"
	"inktray.example/inktray/internal/registry"
	"inktray.example/inktray/internal/store"
)

// valueNames are the names of values that rules read, here and at the other machines.
func (s *Server) valueNames(ctx context.Context) ([]string, error) {
	names, err := registry.ValueNames(ctx, s.Engine.Registry, viewerOf(ctx))
	for _, m := range s.others() {
		_, _ = s.ask(ctx, m, func(ctx context.Context, of *Server) error { // one that cannot be read is told elsewhere
			there, err := of.Store.Register.ValueNames(ctx, viewerOf(ctx))
			names = append(names, there...)
			return err
		})
	}
	slices.Sort(names)
	return slices.Compact(names), err
}

// ordered puts the order that somebody asks for into a query.
func (s *Server) ordered(ctx context.Context, q *register.Query, sort, direction string) error {
	q.Sort, q.Ascending = register.Sort(sort), direction == "up"
	if sort == "" || slices.Contains(register.Sorts, q.Sort) {
		return nil
	}
	values, err := s.valueNames(ctx)
	if err == nil && !slices.Contains(values, sort) {
		err = field("sort", fmt.Sprintf("there is no order “%s”; the orders are number, received, filed, sender, subject, "+
			"file, folder, size, kind, rule and mailbox, and the names of values", sort))
	}
	return err
}

func shownValues(all []value.Value) *[]FiledValue {
	if len(all) == 0 {
		return nil
	}
	out := make([]FiledValue, len(all))
	for i, v := range all {
		out[i] = FiledValue{Name: v.Name, Type: string(v.Type), Text: v.Text, Problem: optional(v.Problem),
			Sure: unlessZero(v.Sure), As: optional(v.As)}
	}
	return &out
}

func shownSums(all []register.Sum) *[]ValueSum {
	out := make([]ValueSum, len(all))
	for i := range all {
		s := &all[i]
		out[i] = ValueSum{Name: s.Name, Currency: s.Currency, Count: s.Count, Total: s.Total.String()}
	}
	return unlessNone(out)
}

// joined adds up the sums of several machines.
func joined(all, more *[]ValueSum) *[]ValueSum {
	var out []ValueSum
	if all != nil {
		out = *all
	}
	if more == nil {
		return all
	}
	for _, m := range *more {
		i := slices.IndexFunc(out, func(s ValueSum) bool { return s.Name == m.Name && s.Currency == m.Currency })
		if i < 0 {
			out = append(out, m)
			continue
		}
		var t value.Total
		t.Add(out[i].Total, 1)
		t.Add(m.Total, 1)
		out[i].Count, out[i].Total = out[i].Count+m.Count, t.String()
	}
	return &out
}

// StartReadingValues reads what a search finds again, for its values.
func (s *valueHandlers) StartReadingValues(ctx context.Context,
	r StartReadingValuesRequestObject) (StartReadingValuesResponseObject, error) {
	v := viewerOf(ctx)
	q, err := (*registerHandlers)(s).searched(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	p, err := registry.ReadValues(ctx, s.Engine.Registry, v, q)
	if err != nil {
		return nil, tooMuch(err)
	}
	out, err := (*registerHandlers)(s).onePass(ctx, v, p.ID)
	return StartReadingValues201JSONResponse(out), err
}

// CorrectValue corrects what was read of a filed file.
func (s *valueHandlers) CorrectValue(ctx context.Context, r CorrectValueRequestObject) (CorrectValueResponseObject,
	error) {
	n, err := parseEntry(r.Entry)
	if err != nil {
		return nil, err
	}
	err = s.Store.Register.CorrectValue(ctx, viewerOf(ctx), n, r.Name, s.Clock(), func(t value.Type) (string, error) {
		text := strings.TrimSpace(r.Body.Text)
		if text == "" {
			return "", nil
		}
		kept, err := value.Read(t, text, value.Format{})
		if err != nil { // such as 1.234, which is read as it is kept
			if kept, again := value.Read(t, text, value.Format{Decimal: value.Point}); again == nil {
				return kept, nil
			}
			return "", field("text", err.Error())
		}
		return kept, nil
	})
	if errors.Is(err, store.ErrNoValue) {
		return nil, &problem{status: 404, kind: "not-found", text: fmt.Sprintf("nothing called “%s” was read of %s", r.Name,
			r.Entry)}
	}
	if err != nil {
		return nil, err
	}
	out, err := (*registerHandlers)(s).story(ctx, r.Entry)
	return CorrectValue200JSONResponse(out), err
}

// GetPlaces says where the values of a filing stand in its file.
func (s *valueHandlers) GetPlaces(ctx context.Context, r GetPlacesRequestObject) (GetPlacesResponseObject, error) {
	out := GetPlaces200JSONResponse{}
	err := s.lookInto(ctx, r.Entry, func(f *store.Filing) error {
		places, err := registry.Places(ctx, s.Engine.Registry, f)
		for _, p := range places {
			out = append(out, ValuePlace{Value: p.Value, Page: p.Page + 1, Left: share(p.Left), Top: share(p.Top),
				Width: share(p.Width), Height: share(p.Height)})
		}
		return err
	})
	return out, err
}

// ProposeValue proposes patterns for a value that a person selected in the text of a filing.
func (s *valueHandlers) ProposeValue(ctx context.Context, r ProposeValueRequestObject) (ProposeValueResponseObject,
	error) {
	out := ValueProposals{Proposals: []ValueProposal{}}
	p := r.Params
	err := s.lookInto(ctx, r.Entry, func(f *store.Filing) error {
		of := registry.Selection{Text: p.Selected, Occurrence: number(p.Occurrence, 0),
			Subject: p.In != nil && string(*p.In) == "subject"}
		found, err := registry.Propose(ctx, s.Engine.Registry, viewerOf(ctx), f, of)
		if errors.Is(err, proposal.ErrNotThere) || errors.Is(err, proposal.ErrNoPattern) {
			return atField("selected", err.Error())
		}
		out.Papers, out.Unread, out.More = len(found.Papers), found.Unread, found.More
		for i := range found.Proposals {
			out.Proposals = append(out.Proposals, shownProposal(&found.Proposals[i], found.Papers))
		}
		return err
	})
	return ProposeValue200JSONResponse(out), err
}

func shownProposal(p *proposal.Proposal, papers []store.Filing) ValueProposal {
	out := ValueProposal{From: p.From, Type: string(p.Type), Decimal: optional(p.Format.Decimal),
		Order: optional(p.Format.Order), How: p.How, Value: p.Own, Found: p.Found}
	for i, f := range p.Findings {
		out.Findings = append(out.Findings, struct {
			Entry   string  `json:"entry"`
			File    string  `json:"file"`
			Problem *string `json:"problem,omitempty"`
			Value   *string `json:"value,omitempty"`
		}{papers[i].Entry().String(), papers[i].File, optional(f.Problem), optional(f.Text)})
	}
	return out
}

// share is a share of a page, as finely as it matters.
func share(of float64) float32 { return float32(math.Round(of*1e4) / 1e4) }

// lookInto looks into the file of a filing, and says what is wrong with it.
func (s *valueHandlers) lookInto(ctx context.Context, entry string, look func(f *store.Filing) error) error {
	f, err := (*registerHandlers)(s).filingOf(ctx, entry)
	if err != nil {
		return err
	}
	if f.FiledAt == nil || f.State() == register.TakenBack {
		return engine.ErrMissing
	}
	give, ok := s.files.Take(viewerOf(ctx).ID)
	if !ok {
		return errTooMuchAtOnce
	}
	defer give()
	err = look(&f)
	var known *unpack.Error
	if errors.As(err, &known) {
		return &problem{status: 422, kind: "unreadable", text: "the file cannot be read: " + known.Problem}
	}
	if registry.CannotBeLookedInto(err) {
		return &problem{status: 409, kind: "changed", text: "the file cannot be looked into: " + err.Error()}
	}
	return err
}

// mostShown is how much of a text is shown, in octets.
const mostShown = 64 << 10

// GetInside gives what is read inside a filed file.
func (s *valueHandlers) GetInside(ctx context.Context, r GetInsideRequestObject) (GetInsideResponseObject, error) {
	var out Inside
	err := s.lookInto(ctx, r.Entry, func(f *store.Filing) (err error) {
		var read *mail.Read
		var found []barcodes.Code
		missing := &mail.Codes{}
		if r.Params.Codes != nil && *r.Params.Codes {
			read, found, missing, err = registry.InsideAndCodes(ctx, s.Engine.Registry, f)
		} else {
			read, err = registry.Inside(ctx, s.Engine.Registry, f)
		}
		if err != nil {
			return err
		}
		out = Inside{Text: read.Text, Problem: optional(read.Missing()), Sure: unlessZero(read.Sure)}
		if out.Cut = len(out.Text) > mostShown; out.Cut {
			out.Text = strings.ToValidUTF8(out.Text[:mostShown], "")
		}
		if in := read.Invoice; in != nil {
			out.Invoice = shownInvoice(in)
		}
		shownCodes(&out, found, missing.Missing())
		return nil
	})
	return GetInside200JSONResponse(out), err
}

func shownCodes(out *Inside, all []barcodes.Code, problem string) {
	var listed []struct {
		Kind string `json:"kind"`
		Page int    `json:"page"`
		Text string `json:"text"`
	}
	for _, c := range all {
		listed = append(listed, struct {
			Kind string `json:"kind"`
			Page int    `json:"page"`
			Text string `json:"text"`
		}{c.Kind, c.Page + 1, c.Text})
	}
	out.Codes, out.CodesProblem = unlessNone(listed), optional(problem)
}

func shownInvoice(in *invoice.Invoice) *ElectronicInvoice {
	out := &ElectronicInvoice{Syntax: in.Syntax, CreditNote: in.CreditNote(), Number: optional(in.Number),
		Issued: optional(in.Issued), Due: optional(in.Due), Seller: optional(in.Seller), SellerVat: optional(in.SellerVAT),
		Buyer: optional(in.Buyer), Order: optional(in.Order), Reference: optional(in.Reference),
		Currency: optional(in.Currency), Net: optional(string(in.Net)), Tax: optional(string(in.Tax)),
		Total: optional(string(in.Total)), Payable: optional(string(in.Payable))}
	out.Faults = []struct {
		Rule string `json:"rule"`
		Text string `json:"text"`
	}{}
	for _, f := range in.Faults {
		out.Faults = append(out.Faults, struct {
			Rule string `json:"rule"`
			Text string `json:"text"`
		}{f.Rule, f.Text})
	}
	return out
}

// snippets puts into filings where the phrases stand in their files.
func (s *valueHandlers) snippets(ctx context.Context, phrases []string, numbers []register.Number,
	filings []Filing) error {
	if len(phrases) == 0 {
		return nil
	}
	found, err := s.Store.Words.Snippets(ctx, phrases, numbers)
	if err != nil {
		return err
	}
	of := map[string][]store.Part{}
	for n, parts := range found {
		of[n.String()] = parts
	}
	for i := range filings {
		var parts []struct {
			Hit  bool   `json:"hit"`
			Text string `json:"text"`
		}
		for _, p := range of[filings[i].Entry] {
			parts = append(parts, struct {
				Hit  bool   `json:"hit"`
				Text string `json:"text"`
			}{p.Hit, p.Text})
		}
		filings[i].Inside = unlessNone(parts)
	}
	return nil
}

// GetWords says how far the words inside of files are known. Only one who sees everything is told of all files.
func (s *valueHandlers) GetWords(ctx context.Context, _ GetWordsRequestObject) (GetWordsResponseObject, error) {
	out := GetWords200JSONResponse{Rules: []string{}}
	v := viewerOf(ctx)
	rules, err := s.Store.Rules.Seen(ctx, v)
	if err != nil {
		return nil, err
	}
	for i := range rules {
		if document, err := rules[i].Parsed(); err == nil && document.FullText && !rules[i].Removed {
			out.Rules = append(out.Rules, document.Name)
		}
	}
	out.Problems = []struct {
		Files   int    `json:"files"`
		Problem string `json:"problem"`
	}{}
	if !v.All || !v.AllCabinets {
		return out, nil
	}
	stats, err := s.Store.Words.Stats(ctx)
	out.Files, out.Waiting, out.Unread, out.Size = &stats.Files, &stats.Waiting, &stats.Unread, &stats.Octets
	for _, p := range stats.Problems {
		out.Problems = append(out.Problems, struct {
			Files   int    `json:"files"`
			Problem string `json:"problem"`
		}{p.Files, p.Problem})
	}
	return out, err
}
