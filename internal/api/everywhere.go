package api

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"

	"inktray.example/inktray/internal/base"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/engine"
	"inktray.example/inktray/internal/machines"
	"inktray.example/inktray/internal/outbox"
	"inktray.example/inktray/internal/registry"
	"inktray.example/inktray/internal/store"
)

// What is asked of the whole office is asked of this machine's records, and of the copies of the others' records, with
// the rights that the same person has there. The answers are merged. Nobody outside is asked for it.

// wideHandlers serve what the whole office is asked.
type wideHandlers struct{ *Server }

// fromMachine is what one machine answers.
type fromMachine[T any] struct {
	machine string
	answer  T
}

// copies are the interfaces over the copies of other machines' records. They only read.
type copies struct {
	mutex sync.Mutex
	of    map[*machines.Machine]*Server
}

// copyOf is the interface over a copy of a machine's records.
func (s *Server) copyOf(m *machines.Machine) *Server {
	s.copies.mutex.Lock()
	defer s.copies.mutex.Unlock()
	if c := s.copies.of[m]; c != nil {
		return c
	}
	for old := range s.copies.of { // those that are known no more
		if !slices.Contains(s.Machines.All(), old) {
			delete(s.copies.of, old)
		}
	}
	b := base.New(base.Base{Store: m.Records.Store, Clock: s.Clock, Zone: s.Engine.Zone, Language: s.Engine.Language,
		Log: s.Log})
	c, err := build(Config{Store: m.Records.Store, Clock: s.Clock, Log: s.Log, Version: s.Version, Machine: m.Name,
		Engine: engine.New(engine.Config{Base: b, Spool: filepath.Join(s.Engine.Spool, "nothing")})})
	if err != nil {
		panic(err) // openapi.yaml was read before
	}
	c.isCopy = true
	if s.copies.of == nil {
		s.copies.of = map[*machines.Machine]*Server{}
	}
	s.copies.of[m] = c
	return c
}

// others are the other machines that there are.
func (s *Server) others() []*machines.Machine {
	if s.Machines == nil {
		return nil
	}
	return s.Machines.All()
}

// ask asks a copy for the person of ctx. ok is false where she is not known there.
func (s *Server) ask(ctx context.Context, m *machines.Machine, f func(ctx context.Context, of *Server) error) (ok bool,
	err error) {
	err = m.Read(ctx, func(records *store.Store) error {
		v, err := records.People.ViewerNamed(ctx, viewerOf(ctx).Name)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		ok = true
		return f(context.WithValue(ctx, decisionKey{}, &decision{viewer: v}), s.copyOf(m))
	})
	return ok, err
}

// everywhere asks this machine, and the copies of all others that fit, at once. This machine's answer is the first.
// Those whose copy cannot be read are missing.
func everywhere[T any](ctx context.Context, s *Server, fits func(machine string) bool,
	f func(ctx context.Context, of *Server, machine string) (T, error)) (all []fromMachine[T], missing []MissingMachine,
	err error) {
	all = make([]fromMachine[T], 1, 8)
	others := slices.DeleteFunc(s.others(), func(m *machines.Machine) bool { return !fits(m.Name) })
	answers := make([]fromMachine[T], len(others))
	faults, there := make([]error, len(others)), make([]bool, len(others))
	var asking sync.WaitGroup
	for i, m := range others {
		asking.Go(func() {
			answers[i].machine = m.Name
			there[i], faults[i] = s.ask(ctx, m, func(ctx context.Context, of *Server) (err error) {
				answers[i].answer, err = f(ctx, of, m.Name)
				return err
			})
		})
	}
	all[0].machine = s.Machine
	if fits(s.Machine) {
		all[0].answer, err = f(ctx, s, s.Machine)
	} else {
		all = all[:0]
	}
	asking.Wait()
	if err != nil {
		return nil, nil, err
	}
	for i, m := range others {
		var told *problem
		switch {
		case errors.As(faults[i], &told) && told.status < 500: // what was asked is wrong
			return nil, nil, faults[i]
		case faults[i] != nil:
			missing = append(missing, MissingMachine{Machine: m.Name, Problem: cmp.Or(m.Status().Behind, faults[i].Error())})
		case there[i]:
			all = append(all, answers[i])
		}
	}
	return all, missing, nil
}

// anyMachine fits every machine.
func anyMachine(string) bool { return true }

// cursor is how far each machine was shown.
type cursor map[string]string

func parseCursor(text string) (cursor, error) {
	c := cursor{}
	if text == "" {
		return c, nil
	}
	data, err := base64.RawURLEncoding.DecodeString(text)
	if err == nil {
		err = json.Unmarshal(data, &c)
	}
	if err != nil {
		return nil, atField("after", "this is not where a page of the whole office ended")
	}
	return c, nil
}

func (c cursor) String() string {
	data, err := json.Marshal(c)
	if err != nil {
		panic(err) // it holds texts only
	}
	return base64.RawURLEncoding.EncodeToString(data)
}

// of is the cursor of one machine; nil where nothing of it was shown.
func (c cursor) of(machine string) *string {
	if at, ok := c[machine]; ok {
		return &at
	}
	return nil
}

// page is what a machine has for the next page, in order.
type page[T any] struct {
	machine string
	rows    []T
	more    bool // than these
}

// merge takes the first rows of several pages, in their order, and says how far each machine was shown. next is nil
// where there is no more.
func merge[T any](pages []page[T], most int, before cursor, compare func(a, b *T) int,
	key func(*T) string) (rows []T, next cursor) {
	next, more := cursor{}, false
	for machine, at := range before {
		next[machine] = at
	}
	rows = []T{}
	at := make([]int, len(pages))
	for len(rows) < most {
		best := -1
		for i := range pages {
			if at[i] < len(pages[i].rows) &&
				(best < 0 || compare(&pages[i].rows[at[i]], &pages[best].rows[at[best]]) < 0) {
				best = i
			}
		}
		if best < 0 {
			break
		}
		row := &pages[best].rows[at[best]]
		rows = append(rows, *row)
		next[pages[best].machine] = key(row)
		at[best]++
	}
	for i := range pages {
		more = more || pages[i].more || at[i] < len(pages[i].rows)
	}
	if !more {
		return rows, nil
	}
	return rows, next
}

// compareFilings orders lines of several registers as one register orders its own.
func compareFilings(sort register.Sort, ascending bool) func(a, b *Filing) int {
	compare := register.CompareLines(sort, ascending)
	line := func(f *Filing) *register.Line {
		n, _ := register.ParseNumber(f.Entry)
		return &register.Line{Number: n, Filed: f.FiledAt, Received: f.ReceivedAt, SenderName: f.SenderName,
			SenderAddress: f.SenderAddress, Subject: f.Subject, File: f.File, Folder: f.Folder, Cabinet: f.Cabinet,
			Mailbox: f.Mailbox, Rule: f.Rule, Kind: f.Kind, Size: f.Size}
	}
	return func(a, b *Filing) int { return compare(line(a), line(b)) }
}

// among says which machines a search wants: all, where it names none.
func among(q *register.Search) func(machine string) bool {
	return func(machine string) bool {
		return !slices.ContainsFunc(q.Machine,
			func(wanted string) bool { return !strings.Contains(register.Fold(machine), register.Fold(wanted)) })
	}
}

// elsewhere says whether a search wants other machines only.
func (s *Server) elsewhere(q *register.Query) bool {
	return s.Machine != "" && !among(&q.Search)(s.Machine)
}

// wide says whether the whole office is asked. Who looks through another machine asks this one alone.
func (s *Server) wide(ctx context.Context, p *bool) bool {
	return p != nil && *p && s.Machines != nil && !decisionOf(ctx).acting
}

// registerEverywhere lists the register of the whole office.
func (s *wideHandlers) registerEverywhere(ctx context.Context, p ListRegisterParams,
	q *register.Query) (ListRegisterResponseObject, error) {
	before, err := parseCursor(text(p.After))
	if err != nil {
		return nil, err
	}
	all, missing, err := everywhere(ctx, s.Server, among(&q.Search),
		func(ctx context.Context, of *Server, machine string) (ListRegister200JSONResponse, error) {
			one := p
			one.Everywhere, one.After = nil, before.of(machine)
			answer, err := of.ListRegister(ctx, ListRegisterRequestObject{Params: one})
			if err != nil {
				return ListRegister200JSONResponse{}, err
			}
			return answer.(ListRegister200JSONResponse), nil
		})
	if err != nil {
		return nil, err
	}
	out := ListRegister200JSONResponse{Missing: unlessNone(missing)}
	var pages []page[Filing]
	for i := range all {
		one := &all[i]
		for k := range one.answer.Filings {
			one.answer.Filings[k].Machine = &one.machine
		}
		out.Total, out.Size = out.Total+one.answer.Total, out.Size+one.answer.Size
		pages = append(pages, page[Filing]{one.machine, one.answer.Filings, one.answer.Next != nil})
	}
	var next cursor
	out.Filings, next = merge(pages, number(p.Most, 50), before,
		compareFilings(q.Sort, q.Ascending), func(f *Filing) string { return f.Entry })
	if next != nil {
		out.Next = optional(next.String())
	}
	return out, nil
}

// unlessNone is a list that is left out where it is empty.
func unlessNone[T any](all []T) *[]T {
	if len(all) == 0 {
		return nil
	}
	return &all
}

// messagesEverywhere lists the register of the whole office by message.
func (s *wideHandlers) messagesEverywhere(ctx context.Context, p ListRegisterMessagesParams,
	q *register.Query) (ListRegisterMessagesResponseObject, error) {
	before, err := parseCursor(text(p.After))
	if err != nil {
		return nil, err
	}
	type answer struct {
		page  ListRegisterMessages200JSONResponse
		first []string
	}
	all, missing, err := everywhere(ctx, s.Server, among(&q.Search),
		func(ctx context.Context, of *Server, machine string) (a answer, err error) {
			one := p
			one.Everywhere, one.After = nil, before.of(machine)
			a.page, a.first, err = of.messagesHere(ctx, one)
			return a, err
		})
	if err != nil {
		return nil, err
	}
	type row struct {
		message RegisterMessage
		first   string
		by      *Filing // the line by which it stands where it does
	}
	out := ListRegisterMessages200JSONResponse{Missing: unlessNone(missing), Messages: []RegisterMessage{}}
	var pages []page[row]
	for i := range all {
		one := &all[i]
		out.Total, out.Size = out.Total+one.answer.page.Total, out.Size+one.answer.page.Size
		var rows []row
		for k := range one.answer.page.Messages {
			m := &one.answer.page.Messages[k]
			m.Machine = &one.machine
			by := &m.Filings[0]
			for j := range m.Filings {
				if m.Filings[j].Machine = &one.machine; m.Filings[j].Entry == one.answer.first[k] {
					by = &m.Filings[j]
				}
			}
			rows = append(rows, row{*m, one.answer.first[k], by})
		}
		pages = append(pages, page[row]{one.machine, rows, one.answer.page.Next != nil})
	}
	compare := compareFilings(q.Sort, q.Ascending)
	rows, next := merge(pages, number(p.Most, 50), before,
		func(a, b *row) int { return compare(a.by, b.by) }, func(r *row) string { return r.first })
	for i := range rows {
		out.Messages = append(out.Messages, rows[i].message)
	}
	if next != nil {
		out.Next = optional(next.String())
	}
	return out, nil
}

// foldersEverywhere lists the folders of the whole office: those of the same name in cabinets of the same name are one.
func (s *wideHandlers) foldersEverywhere(ctx context.Context, p ListRegisterFoldersParams,
	q *register.Query) (ListRegisterFoldersResponseObject, error) {
	all, _, err := everywhere(ctx, s.Server, among(&q.Search),
		func(ctx context.Context, of *Server, _ string) (ListRegisterFolders200JSONResponse, error) {
			one := p
			one.Everywhere = nil
			answer, err := of.ListRegisterFolders(ctx, ListRegisterFoldersRequestObject{Params: one})
			if err != nil {
				return nil, err
			}
			return answer.(ListRegisterFolders200JSONResponse), nil
		})
	out := ListRegisterFolders200JSONResponse{}
	for i := range all {
		for _, f := range all[i].answer {
			at := slices.IndexFunc(out, func(o FolderCount) bool { return o.Cabinet == f.Cabinet && o.Folder == f.Folder })
			if at < 0 {
				out = append(out, f)
				continue
			}
			out[at].Count, out[at].Size, out[at].More = out[at].Count+f.Count, out[at].Size+f.Size, out[at].More || f.More
		}
	}
	slices.SortStableFunc(out, func(a, b FolderCount) int {
		return strings.Compare(register.Fold(a.Name), register.Fold(b.Name))
	})
	return out, err
}

// activityEverywhere counts what the whole office filed. What has the same name at several machines counts together.
func (s *wideHandlers) activityEverywhere(ctx context.Context, p GetActivityParams,
	q *register.Query) (GetActivityResponseObject, error) {
	all, missing, err := everywhere(ctx, s.Server, among(&q.Search),
		func(ctx context.Context, of *Server, _ string) (GetActivity200JSONResponse, error) {
			one, most := p, 5000
			one.Everywhere, one.Most = nil, &most
			answer, err := of.GetActivity(ctx, GetActivityRequestObject{Params: one})
			if err != nil {
				return GetActivity200JSONResponse{}, err
			}
			return answer.(GetActivity200JSONResponse), nil
		})
	if err != nil {
		return nil, err
	}
	out := GetActivity200JSONResponse{By: string(p.By), Tallies: []Tally{}, Missing: unlessNone(missing)}
	at := map[string]int{}
	for i := range all {
		out.Total, out.Size = out.Total+all[i].answer.Total, out.Size+all[i].answer.Size
		out.Sums = joined(out.Sums, all[i].answer.Sums)
		for _, t := range all[i].answer.Tallies {
			name := t.Name
			if k, ok := at[name]; ok {
				out.Tallies[k].Count, out.Tallies[k].Size = out.Tallies[k].Count+t.Count, out.Tallies[k].Size+t.Size
				continue
			}
			at[name] = len(out.Tallies)
			out.Tallies = append(out.Tallies, t)
		}
	}
	if by := register.By(p.By); by == register.PerDay || by == register.PerMonth {
		slices.SortStableFunc(out.Tallies, func(a, b Tally) int { return strings.Compare(a.ID, b.ID) })
		return out, nil
	}
	slices.SortStableFunc(out.Tallies, func(a, b Tally) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), strings.Compare(a.Name, b.Name))
	})
	out.Tallies = out.Tallies[:min(len(out.Tallies), number(p.Most, 20))]
	return out, nil
}

// trayEverywhere lists what waits for a person in the whole office.
func (s *wideHandlers) trayEverywhere(ctx context.Context) (ListTrayResponseObject, error) {
	all, missing, err := everywhere(ctx, s.Server, anyMachine,
		func(ctx context.Context, of *Server, _ string) (ListTray200JSONResponse, error) {
			answer, err := of.ListTray(ctx, ListTrayRequestObject{})
			if err != nil {
				return ListTray200JSONResponse{}, err
			}
			return answer.(ListTray200JSONResponse), nil
		})
	if err != nil {
		return nil, err
	}
	out := ListTray200JSONResponse{Groups: []TrayGroup{}, Notices: []Notice{}, Missing: unlessNone(missing)}
	for i := range all {
		one := &all[i]
		out.Count += one.answer.Count
		for _, n := range one.answer.Notices {
			n.Machine = &one.machine
			out.Notices = append(out.Notices, n)
		}
		for _, g := range one.answer.Groups {
			g.Machine = &one.machine
			for k := range g.Matters {
				g.Matters[k].Machine = &one.machine
			}
			out.Groups = append(out.Groups, g)
		}
	}
	order := map[string]int{}
	for i, c := range outbox.Causes {
		order[string(c.Cause)] = i
	}
	slices.SortStableFunc(out.Groups, func(a, b TrayGroup) int { return cmp.Compare(order[a.Cause], order[b.Cause]) })
	slices.SortStableFunc(out.Notices, func(a, b Notice) int { return b.MadeAt.Compare(a.MadeAt) })
	return out, nil
}

// passesEverywhere lists the passes of the whole office, the newest first.
func (s *wideHandlers) passesEverywhere(ctx context.Context, p ListPassesParams) (ListPassesResponseObject, error) {
	before, err := parseCursor(text(p.Cursor))
	if err != nil {
		return nil, err
	}
	most := number(p.Most, 50)
	all, missing, err := everywhere(ctx, s.Server, anyMachine,
		func(ctx context.Context, of *Server, machine string) ([]Pass, error) {
			one, more := p, most+1
			one.Everywhere, one.Cursor, one.After, one.Most = nil, nil, nil, &more
			if at := before.of(machine); at != nil {
				n, err := parseDecimal(*at)
				if err != nil {
					return nil, err
				}
				one.After = &n
			}
			answer, err := of.ListPasses(ctx, ListPassesRequestObject{Params: one})
			if err != nil {
				return nil, err
			}
			return answer.(ListPasses200JSONResponse).Body, nil
		})
	if err != nil {
		return nil, err
	}
	if len(missing) > 0 {
		s.Log.Warn("the history of the whole office is asked, and copies cannot be read", "machines", missing)
	}
	var pages []page[Pass]
	for i := range all {
		rows := all[i].answer
		for k := range rows {
			rows[k].Machine = &all[i].machine
		}
		pages = append(pages, page[Pass]{all[i].machine, rows, false})
	}
	rows, next := merge(pages, most, before, func(a, b *Pass) int { return b.StartedAt.Compare(a.StartedAt) },
		func(p *Pass) string { return strconv.FormatInt(p.ID, 10) })
	out := ListPasses200JSONResponse{Body: rows}
	if next != nil {
		out.Headers.InktrayNext = optional(next.String())
	}
	return out, nil
}

// parseDecimal reads the number of a row out of a cursor.
func parseDecimal(s string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil {
		return 0, atField("cursor", "this is not where a page of the whole office ended")
	}
	return n, nil
}

// todayEverywhere sums up the day of the whole office.
func (s *wideHandlers) todayEverywhere(ctx context.Context) (GetTodayResponseObject, error) {
	all, missing, err := everywhere(ctx, s.Server, anyMachine,
		func(ctx context.Context, of *Server, _ string) (GetToday200JSONResponse, error) {
			answer, err := of.GetToday(ctx, GetTodayRequestObject{})
			if err != nil {
				return GetToday200JSONResponse{}, err
			}
			return answer.(GetToday200JSONResponse), nil
		})
	if err != nil {
		return nil, err
	}
	out := all[0].answer
	out.Missing = unlessNone(missing)
	for i := range all {
		a, name := &all[i].answer, &all[i].machine
		for k := range a.Arrivals {
			a.Arrivals[k].Machine = name
		}
		for k := range a.Mailboxes {
			if a.Mailboxes[k].Machine = name; i > 0 {
				a.Mailboxes[k].State = "elsewhere"
			}
		}
		if i == 0 {
			continue
		}
		out.FiledToday, out.FiledMonth, out.BytesMonth = out.FiledToday+a.FiledToday, out.FiledMonth+a.FiledMonth,
			out.BytesMonth+a.BytesMonth
		out.Tray += a.Tray
		for d := range out.Days {
			out.Days[d] += a.Days[d]
			out.DaysReceived[d] += a.DaysReceived[d]
		}
		out.Arrivals, out.Mailboxes = append(out.Arrivals, a.Arrivals...), append(out.Mailboxes, a.Mailboxes...)
		out.HasMailbox, out.HasCabinet, out.HasRule = out.HasMailbox || a.HasMailbox, out.HasCabinet || a.HasCabinet,
			out.HasRule || a.HasRule
		out.Running, out.HasFiled = out.Running || a.Running, out.HasFiled || a.HasFiled
	}
	slices.SortStableFunc(out.Arrivals, func(a, b Arrival) int {
		return b.Message.ReceivedAt.Compare(a.Message.ReceivedAt)
	})
	out.Arrivals = out.Arrivals[:min(len(out.Arrivals), todayArrivals)]
	return out, nil
}

// errAway says that another machine does not answer.
func errAway(name, why string) *problem {
	return &problem{status: http.StatusBadGateway, kind: "machine-away", text: "the machine “" + name + "” does not " +
		"answer: " + why, advice: "Check whether it runs. Its filings stay in the lists, as of its last copy."}
}

// exportEverywhere lets an export have the lines of all machines that its search wants, in one order.
func (s *wideHandlers) exportEverywhere(ctx context.Context, of *registry.ExportOf) {
	fits := among(&of.Query.Search)
	if of.NotHere = !fits(s.Machine); len(s.others()) == 0 {
		return // there is one machine, which no line need name
	}
	of.Machine = s.Machine
	person := context.WithValue(context.Background(), decisionKey{}, decisionOf(ctx))
	for _, m := range s.others() {
		if !fits(m.Name) {
			continue
		}
		of.Others = append(of.Others, registry.Elsewhere{Machine: m.Name,
			Read: func(_ context.Context, f func(*registry.Registry, store.Viewer) error) error {
				_, err := s.ask(person, m, func(ctx context.Context, of *Server) error {
					return f(of.Engine.Registry, viewerOf(ctx))
				})
				return err
			}})
	}
	if slices.ContainsFunc(of.Columns, func(c register.Column) bool { return c.Name == "machine" }) {
		return
	}
	i := slices.IndexFunc(register.Columns, func(c register.Column) bool { return c.Name == "machine" })
	of.Columns = append([]register.Column{register.Columns[i]}, of.Columns...)
}
