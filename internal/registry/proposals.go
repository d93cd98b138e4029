package registry

import (
	"context"
	"time"

	"inktray.example/inktray/internal/core/proposal"
	"inktray.example/inktray/internal/core/register"
	"inktray.example/inktray/internal/store"
)

const (
	papersRead = 50               // in which a proposal is tried
	papersTime = 15 * time.Second // for reading them; what was read by then counts
)

// Selection is a text that a person selected in a filing's file, or in the subject of its message.
type Selection struct {
	Text       string
	Occurrence int  // which of several equal texts, from 0
	Subject    bool // it was selected in the subject
}

// Proposed are the patterns that are proposed for a selection, and what they find in other papers of the same rule.
type Proposed struct {
	Proposals []proposal.Proposal
	Papers    []store.Filing // whose texts were read, in the order of the findings
	Unread    int            // papers whose text could not be read
	More      bool           // time ran out before all were read
}

// Propose proposes patterns for a value that a person selected in a filing, and tries them in the last fifty papers
// that the same rule filed and the viewer may see. The error is of package proposal, or as of Inside.
func Propose(ctx context.Context, rg *Registry, v store.Viewer, f *store.Filing, s Selection) (out Proposed,
	err error) {
	field, text := "subject.full", func(_ context.Context, f *store.Filing) (string, error) { return f.Subject, nil }
	if !s.Subject {
		field, text = "file.text", func(ctx context.Context, f *store.Filing) (string, error) {
			read, err := Inside(ctx, rg, f)
			if err != nil {
				return "", err
			}
			return read.Text, nil
		}
	}
	own, err := text(ctx, f)
	if err != nil {
		return out, err
	}
	lines, err := rg.Store.Register.List(ctx, v, register.Query{RuleID: f.RuleID, Most: papersRead,
		Search: register.Search{States: []register.State{register.Filed}}})
	if err != nil {
		return out, err
	}
	within, cancel := context.WithTimeout(ctx, papersTime) // one scan alone may take longer
	defer cancel()
	var texts []string
	for i := range lines {
		said, err := text(within, &lines[i])
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		if out.More = within.Err() != nil; out.More {
			break
		}
		switch {
		case err != nil || said == "":
			out.Unread++
		default:
			texts, out.Papers = append(texts, said), append(out.Papers, lines[i])
		}
	}
	out.Proposals, err = proposal.Make(field, own, s.Text, s.Occurrence, texts)
	return out, err
}
