package jmap

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"inktray.example/inktray/internal/source"
)

var _ source.Submitter = (*Session)(nil)

// Submits says whether the server takes mail to send from this account (RFC 8621 section 1.3.2).
func (s *Session) Submits() bool {
	return s.client.session.Accounts[s.primary()].Capabilities[submitting] != nil
}

// Submit has a message sent (RFC 8621 section 7). The server keeps it among the sent messages, if there is a folder for
// them.
func (s *Session) Submit(ctx context.Context, l source.Letter) error {
	const doing = "sending a message"
	if !s.Submits() {
		return &source.Error{Step: source.SignIn, Problem: "the mail server takes no mail to send over JMAP",
			Advice: "Set up an outgoing mail server (SMTP) in Settings.", Lasting: true}
	}
	account := s.accounts[s.primary()]
	identity, err := s.client.identity(ctx, account.id, l.Sender)
	if err != nil {
		return s.client.explain(source.SignIn, doing, err)
	}
	drafts, sent, err := letterFolders(ctx, s)
	if err != nil {
		return err
	}
	id, err := s.client.deposit(ctx, account.id, drafts, l.Content)
	if err != nil {
		return s.client.explain(source.Folders, doing, err)
	}
	err = s.client.send(ctx, account.id, id, identity, sent, l)
	var refused *setError
	if errors.As(err, &refused) && refused.Type == "forbiddenMailFrom" && l.Bounces == "" {
		l.Bounces = l.Sender // many servers want a sender to whom failures are told
		err = s.client.send(ctx, account.id, id, identity, sent, l)
	}
	if err == nil {
		return nil
	}
	if !certain(err) {
		return errors.Join(source.ErrUnsure, err)
	}
	_ = s.client.calls(ctx, call{"Email/set", map[string]any{"accountId": account.id, "destroy": []string{id}}, nil})
	if errors.As(err, &refused) {
		return explainSend(refused, l)
	}
	return s.client.explain(source.SignIn, doing, err)
}

// identity finds who may write as an address (RFC 8621 section 6).
func (cl *client) identity(ctx context.Context, account, address string) (id string, err error) {
	var got struct {
		List []struct{ ID, Email string }
	}
	err = cl.calls(ctx, call{"Identity/get", map[string]any{"accountId": account, "ids": nil}, &got})
	if err != nil {
		return "", err
	}
	_, domain, _ := strings.Cut(address, "@")
	var there []string
	for _, one := range got.List {
		if strings.EqualFold(one.Email, address) || strings.EqualFold(one.Email, "*@"+domain) {
			return one.ID, nil
		}
		if there = append(there, one.Email); one.Email == "" {
			id = cmp.Or(id, one.ID) // the server says by itself whether the address is allowed
		}
	}
	if id != "" {
		return id, nil
	}
	advice := "Allow this address for the account on the mail server."
	if len(there) > 0 {
		advice = "The account may write as " + strings.Join(there, ", ") + "."
	}
	return "", &source.Error{Step: source.SignIn, Problem: fmt.Sprintf("the account of %q may not send mail as “%s”",
		cl.config.Username, address), Advice: advice, Lasting: true}
}

// letterFolders finds where a message is kept before and after it is sent; sent is "" where the mailbox has no such
// folder.
func letterFolders(ctx context.Context, s *Session) (drafts, sent string, err error) {
	listing, err := s.Folders(ctx)
	if err != nil {
		return "", "", err
	}
	byRole := map[string]string{}
	for _, f := range listing {
		if p, ok := s.places[f.Path]; ok && !f.Shared {
			byRole[f.Role] = p.id
		}
	}
	if drafts = cmp.Or(byRole["drafts"], byRole["sent"], byRole["inbox"]); drafts == "" {
		return "", "", noFolder("Drafts")
	}
	return drafts, byRole["sent"], nil
}

// deposit keeps a message as a draft.
func (cl *client) deposit(ctx context.Context, account, folder string, content []byte) (id string, err error) {
	blob, err := cl.upload(ctx, account, content)
	if err != nil {
		return "", err
	}
	var got struct {
		Created    map[string]struct{ ID string }
		NotCreated map[string]*setError
	}
	err = cl.calls(ctx, call{"Email/import", map[string]any{"accountId": account, "emails": map[string]any{
		"new": map[string]any{"blobId": blob, "mailboxIds": map[string]bool{folder: true},
			"keywords": map[string]bool{"$draft": true, "$seen": true}}}}, &got})
	if err != nil {
		return "", err
	}
	if no := got.NotCreated["new"]; no != nil && no.ExistingID == "" {
		return "", &methodError{Type: no.Type, Description: no.Description, method: "Email/import"}
	} else if no != nil {
		return no.ExistingID, nil // from a try before
	}
	if got.Created["new"].ID == "" {
		return "", &unreadable{errors.New("a new message without a name")}
	}
	return got.Created["new"].ID, nil
}

// send hands a draft over. What is left of it becomes a sent message, or goes.
func (cl *client) send(ctx context.Context, account, id, identity, sent string, l source.Letter) error {
	var to []any
	for _, a := range l.To {
		to = append(to, map[string]any{"email": a})
	}
	args := map[string]any{"accountId": account, "create": map[string]any{"new": map[string]any{"identityId": identity,
		"emailId": id, "envelope": map[string]any{"mailFrom": map[string]any{"email": l.Bounces}, "rcptTo": to}}}}
	if sent != "" {
		args["onSuccessUpdateEmail"] = map[string]any{"#new": map[string]any{"mailboxIds": map[string]bool{sent: true},
			"keywords/$draft": nil}}
	} else {
		args["onSuccessDestroyEmail"] = []string{"#new"}
	}
	var got struct {
		Created    map[string]struct{ ID string }
		NotCreated map[string]*setError
	}
	if err := cl.calls(ctx, call{"EmailSubmission/set", args, &got}); err != nil {
		return err
	}
	if no := got.NotCreated["new"]; no != nil {
		return no
	}
	if _, ok := got.Created["new"]; !ok {
		return &unreadable{errors.New("a submission that was neither made nor refused")}
	}
	return nil
}

// certain says whether an error means that nothing was sent.
func certain(err error) bool {
	var no *setError
	var method *methodError
	var refused *refusal
	switch {
	case errors.As(err, &no):
		return true
	case errors.As(err, &method):
		return method.Type != "serverPartialFail" && method.Type != "serverFail"
	case errors.As(err, &refused):
		return refused.status < 500 || refused.status == 503
	}
	return false
}

// explainSend says why a message was not sent, and what to do.
func explainSend(no *setError, l source.Letter) error {
	e := &source.Error{Step: source.SignIn, Lasting: true, Err: no}
	said := fmt.Sprintf(" (%v)", no)
	switch no.Type {
	case "forbiddenFrom", "forbiddenMailFrom":
		e.Problem, e.Advice = "the mail server does not let this account write as “"+l.Sender+"”"+said,
			"Allow this address for the account on the mail server."
	case "forbiddenToSend":
		e.Problem, e.Advice = "the mail server does not let this account send mail"+said,
			"Ask the administrator of the mail server to allow sending, or set up an outgoing mail server (SMTP) in Settings."
	case "invalidRecipients", "noRecipients", "tooManyRecipients":
		e.Problem, e.Advice = "the mail server refuses the recipient “"+strings.Join(l.To, ", ")+"”"+said,
			"Check the address."
	case "rateLimit", "overQuota":
		e.Problem, e.Advice, e.Lasting = "the mail server takes no more mail for now"+said, waits, false
	default:
		e.Problem, e.Advice = "the mail server refuses the mail"+said, "Look at what it says."
	}
	return e
}
