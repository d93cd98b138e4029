package engine

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/plan"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/safename"
	"inktray.example/inktray/internal/store"
)

const (
	rehearseLast    = 50   // messages of a rehearsal
	rehearseMatches = 10   // more of those that match, when the last ones hold few
	rehearseReach   = 1000 // how far back these are looked for
)

// Rehearsal is what a rule would do with messages that are there. Nothing is
// written and nothing is fetched.
type Rehearsal struct {
	Messages []Rehearsed
	Looked   int
	Matching int
	Files    int
	Bytes    int64 // estimated before contents are read
	Clashes  int
}

// Rehearsed is one message of a rehearsal.
type Rehearsed struct {
	Message store.Message
	Match   rule.Reason
	Items   []RehearsedItem
}

// RehearsedItem is one attachment of a rehearsal.
type RehearsedItem struct {
	plan.Item
	Clash string // what happens to the name, "" where it is free
}

// Rehearse plans the last messages under a rule as it stands in the editor,
// with the same code that files.
func (e *Engine) Rehearse(ctx context.Context, v store.Viewer, document *rule.Rule, last int) (*Rehearsal, error) {
	c, err := rule.Compile(document, 0, e.Zone)
	if err != nil {
		return nil, err
	}
	mailboxes, err := e.Store.Mailboxes(v)
	if err != nil {
		return nil, err
	}
	names := map[string]string{}
	ids := []string{}
	for _, m := range mailboxes {
		if document.Look.Looks(m.Name) {
			ids = append(ids, m.ID)
			names[m.ID] = m.Name
		}
	}
	if last <= 0 {
		last = rehearseLast
	}
	rows, err := e.Store.Messages(v, store.MessageQuery{Mailboxes: ids, Most: max(last, rehearseReach)})
	if err != nil {
		return nil, err
	}
	rows = slices.DeleteFunc(rows, func(m store.Message) bool { return !inFolders(&document.Look, m.Folder) })
	r := &Rehearsal{}
	filed, err := e.Store.FiledBy(document.ID)
	if err != nil {
		return nil, err
	}
	wanted := map[string]bool{} // paths that this rehearsal gave already
	g := e.gateOf(document.Cabinet)
	extra := 0
	for i := range rows {
		row := &rows[i]
		if i >= last && extra >= rehearseMatches {
			break
		}
		facts, err := row.Facts()
		if err != nil {
			return nil, err
		}
		p := plan.Make([]*rule.Compiled{c}, facts.Message(row.Folder), e.explaining(names[row.MailboxID]))
		match := p.Rules[0].Match
		if i >= last {
			if match.Answer != rule.Yes {
				continue
			}
			extra++
		}
		one := Rehearsed{Message: *row, Match: match}
		if match.Answer == rule.Yes {
			r.Matching++
		}
		for _, item := range p.Rules[0].Items {
			ri := RehearsedItem{Item: item}
			if item.Verdict == plan.Filed {
				if path, ok := filed[store.ItemOf{MessageID: row.ID, Item: item.Item.ID}]; ok {
					ri.Verdict, ri.Reason = plan.There, "filed already, as "+path
				} else {
					e.foresee(ctx, g, &ri, wanted)
				}
				if ri.Verdict == plan.Filed {
					r.Files++
					r.Bytes += ri.Item.Item.Size
				}
				if ri.Clash != "" {
					r.Clashes++
				}
			}
			one.Items = append(one.Items, ri)
		}
		r.Messages = append(r.Messages, one)
	}
	r.Looked = len(r.Messages)
	return r, nil
}

// inFolders says whether a rule's folders hold a message's, by path; a role
// other than the inbox is taken to be the folder of that name.
func inFolders(l *rule.Look, folder string) bool {
	return slices.ContainsFunc(l.In(), func(name string) bool {
		return safename.Fold(name) == safename.Fold(folder)
	})
}

func (e *Engine) gateOf(cabinetName string) *gate {
	row, err := e.Store.CabinetNamed(cabinetName)
	if err != nil {
		return nil
	}
	g, err := e.gate(row.ID)
	if err != nil {
		return nil
	}
	return g
}

// foresee says whether an item's name is taken.
func (e *Engine) foresee(ctx context.Context, g *gate, item *RehearsedItem, wanted map[string]bool) {
	if len(item.Unknown) > 0 {
		return // the name is not settled before a number is drawn
	}
	key := safename.Fold(item.Path())
	if wanted[key] {
		item.Clash = "another attachment in this list gets the same name; one of them would become “" + safename.Numbered(item.Stem, item.Ext, 2) + "”"
	}
	wanted[key] = true
	if g == nil || item.Clash != "" {
		return
	}
	spot, err := g.cabinet.Resolve(ctx, item.Segments, item.Stem+item.Ext)
	if err != nil {
		return // the cabinet is out of reach; the tray says so
	}
	if spot.Taken {
		switch item.IfExists {
		case "keep":
			item.Clash = fmt.Sprintf("“%s” is there already and would be kept", path.Base(spot.By))
		default:
			item.Clash = fmt.Sprintf("“%s” is there already; with another content it would become “%s”", path.Base(spot.By), safename.Numbered(item.Stem, item.Ext, 2))
		}
	}
}

// Explanation is one rule's verdict on a message.
type Explanation struct {
	Rule  *rule.Compiled
	Looks bool // whether the rule looks into the message's mailbox and folder
	Match rule.Reason
	Items []plan.Item
}

// Explain says for each running rule what it makes of a message and why. It is
// computed anew from what is known of the message.
func (e *Engine) Explain(v store.Viewer, messageID int64) (store.Message, *mail.Message, []Explanation, error) {
	row, err := e.Store.MessageByID(v, messageID)
	if err != nil {
		return row, nil, nil, err
	}
	box, err := e.Store.MailboxByID(v, row.MailboxID)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return row, nil, nil, err
	}
	facts, err := row.Facts()
	if err != nil {
		return row, nil, nil, err
	}
	m := facts.Message(row.Folder)
	var all []Explanation
	var looking []*rule.Compiled
	for _, r := range e.running() {
		if r.Rule.Look.Looks(box.Name) && inFolders(&r.Rule.Look, row.Folder) {
			looking = append(looking, r)
		} else {
			all = append(all, Explanation{Rule: r})
		}
	}
	p := plan.Make(looking, m, e.explaining(box.Name))
	for _, pr := range p.Rules {
		all = append(all, Explanation{Rule: pr.Rule, Looks: true, Match: pr.Match, Items: pr.Items})
	}
	return row, m, all, nil
}

// explaining is what plans are made with whose reasons are shown.
func (e *Engine) explaining(mailbox string) plan.Setting {
	s := e.setting(mailbox, e.now())
	s.Explain = true
	return s
}
