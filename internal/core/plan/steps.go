package plan

import (
	"path"
	"strings"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/core/pattern"
	"inktray.example/inktray/internal/core/reason"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/core/value"
)

// Step is one follow-up of a rule for a message.
type Step struct {
	Kind   rule.StepKind
	Place  int    // which of the rule's follow-ups, from 0
	What   string // the mark, the labels, the mail folder, or who is told
	Do     bool
	Reason reason.Reason // why not
	Moved  bool          // not, because an earlier rule moves the message
}

// steps plans what is done with a message that a rule is for. mover is the
// earlier rule that moves it.
func steps(r *rule.Compiled, one *Rule, m *mail.Message, s Setting, mover *string, needs *rule.Needs) []Step {
	if len(r.FollowUps()) == 0 {
		return nil
	}
	takes := !r.TakesAttachments()
	for i := range one.Items {
		takes = takes || one.Items[i].Verdict == Filed || len(one.Items[i].Unknown) > 0
	}
	v := &values{item: &Item{}, rule: r, message: m, setting: s}
	out := make([]Step, 0, len(r.FollowUps()))
	for i, f := range r.FollowUps() {
		step := Step{Kind: f.Kind, Place: i, What: strings.Join(f.Words, ", "), Do: true}
		if f.Kind == rule.DoMove {
			step.What = path.Join(f.Folder.Make(v).Segments...)
		}
		robot := ""
		if f.Kind == rule.DoReply || f.Kind == rule.DoDraft {
			step.What = m.ReplyTo().String()
			robot = m.NoReply()
		}
		switch {
		case !takes:
			step.Do, step.Reason = false, reason.NothingFiled()
		case robot != "":
			step.Do, step.Reason = false, reason.NoReply(robot)
		case f.Kind == rule.DoReply && s.VerifiedReplies && m.Proof == nil:
			needs.Proof = true
			step.Reason = reason.IfVerified()
		case f.Kind == rule.DoReply && s.VerifiedReplies && !m.Proof.Proven:
			step.Do, step.Reason = false, reason.NotVerified(m.Proof.Text)
		case f.Kind == rule.DoMove && *mover != "":
			step.Do, step.Moved, step.Reason = false, true, reason.MovedByEarlier(*mover)
		case f.Kind == rule.DoMove:
			*mover = r.Rule.Name
			if strings.EqualFold(step.What, m.Folder) {
				step.Do, step.Moved, step.Reason = false, true, reason.InThatFolder()
			}
		}
		out = append(out, step)
	}
	return out
}

// Letter writes the subject and the text of a reply, or of what somebody is
// told. filed are the paths of what was filed of the message, read what was read of these files.
func Letter(r *rule.Compiled, f *rule.FollowUp, m *mail.Message, s Setting, filed []string,
	read []value.Value) (subject, text string) {
	v := &values{item: &Item{Values: read}, rule: r, message: m, setting: s, filed: filed}
	line := func(p *pattern.Pattern) string { return strings.Join(strings.Fields(p.Text(v)), " ") }
	return line(f.Subject), f.Text.Text(v)
}
