package api

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"net/url"
	"slices"
	"strings"

	"github.com/gofiber/fiber/v3"

	"inktray.example/inktray/internal/connections"
	"inktray.example/inktray/internal/core/rule"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/outbox"
	"inktray.example/inktray/internal/store"
	"inktray.example/inktray/internal/texts"
)

func (s *mailboxHandlers) mailbox(v store.Viewer, m *store.Mailbox) Mailbox {
	status := s.Engine.Status(m.ID)
	p := &m.Particulars
	out := Mailbox{ID: m.ID, Name: m.Name, Kind: m.Kind, Host: m.Host, Port: m.Port, Encryption: m.Encryption,
		Username: m.Username, IntervalSeconds: m.IntervalSeconds,
		Path: optional(m.Path), Authority: optional(p.Authority), Pinned: optional(p.Pinned), Proxy: optional(p.Proxy),
		Address: optional(s.Engine.Mailboxes.DropAddress(m)), Word: optional(p.Word),
		Revision: m.Revision, State: MailboxState(status.State), Since: status.Since, Problem: status.Problem,
		Advice: status.Advice}
	if n := s.Engine.Mailboxes.InUse(m); n > 0 {
		out.Connections = &n
	}
	if !v.Role.May(store.Administrator) { // anyone who knows a drop address can send to it
		out.Address, out.Word, out.Proxy = nil, nil, nil // a proxy's password may stand in its address
	}
	if m.Kind == "drop" {
		senders := append([]string{}, p.Senders...)
		out.Senders = &senders
	}
	if m.Kind == "pop3" || mailboxes.OwnMail(m) {
		out.LeaveDays = &p.LeaveDays
	}
	if c := p.Consent; c != nil {
		out.Consent = &Consent{ClientID: c.ClientID, Issuer: optional(c.Issuer), Authorize: optional(c.Authorize),
			Token: optional(c.Token), Device: optional(c.Device)}
		if len(c.Scopes) > 0 {
			out.Consent.Scopes = &c.Scopes
		}
		wanted := status.SignIn
		out.SignIn = &wanted
	}
	if !status.Looked.IsZero() {
		out.LookedAt = &status.Looked
	}
	return out
}

func field(place, text string) error {
	return atField(place, text)
}

// anew says that the kept secret was given for another way to the server.
func anew(differs []string) error {
	p := atField("secret", outbox.Anew("secret", differs))
	p.advice = "Ink Tray sends a kept secret only to the server for which you entered it."
	return p
}

// settings takes over what was sent, as far as it belongs to the kind of mailbox.
func (s *mailboxHandlers) settings(b *MailboxSettings, into *store.Mailbox) error {
	name := strings.TrimSpace(b.Name)
	if name == "" || strings.EqualFold(name, "all") {
		return &problem{status: 422, kind: "invalid", text: fmt.Sprintf("name: %q cannot be a mailbox's name", b.Name),
			fields: []FieldProblem{{Place: "name", Text: "choose another name; “all” means all mailboxes"}}}
	}
	kind := "imap"
	if b.Kind != nil {
		kind = string(*b.Kind)
	}
	if into.Kind != "" && !into.MayBecome(kind) {
		return field("kind", "only IMAP and JMAP can take each other's place; add another mailbox instead")
	}
	into.Name, into.Kind, into.IntervalSeconds = name, kind, number(b.IntervalSeconds, 60)
	p := &into.Particulars
	if p.LeaveDays = number(b.LeaveDays, 0); p.LeaveDays > 0 && kind != "pop3" && !mailboxes.OwnMail(into) {
		return field("leave_days", "messages of this kind of mailbox are never removed")
	}
	switch kind {
	case "imap", "pop3", "jmap":
		into.Host, into.Port, into.Username = strings.TrimSpace(b.Host), number(b.Port, 0), strings.TrimSpace(b.Username)
		if into.Encryption = string(b.Encryption); into.Encryption == "" {
			into.Encryption = "tls"
		}
		if kind == "jmap" && into.Encryption == "starttls" {
			return field("encryption", "JMAP has no encryption that begins later: choose tls")
		}
		p.Authority, p.Pinned, p.Proxy = strings.TrimSpace(text(b.Authority)), text(b.Pinned),
			strings.TrimSpace(text(b.Proxy))
		if into.Host == "" {
			return field("host", "say which mail server, such as mail.brackwater.example")
		}
		if into.Username == "" {
			return field("username", "give the name to sign in with; mostly it is the whole address")
		}
		if err := mailboxes.CheckReach(p); err != nil {
			return err
		}
		p.Consent = nil
		if c := b.Consent; c != nil {
			p.Consent = &store.Consent{Issuer: strings.TrimSpace(text(c.Issuer)), ClientID: c.ClientID,
				Authorize: text(c.Authorize), Token: text(c.Token), Device: text(c.Device)}
			if c.Scopes != nil {
				p.Consent.Scopes = *c.Scopes
			}
			if p.Consent.Issuer == "" && p.Consent.Token == "" {
				return field("consent.issuer", "name the issuer of consent, or the addresses at which it is asked for")
			}
		}
	case "maildir":
		if into.Path = strings.TrimSpace(text(b.Path)); !strings.HasPrefix(into.Path, "/") {
			return field("path", "say which folder, by its whole path: the one that holds cur, new and tmp")
		}
	case "drop":
		var err error
		p.Senders = nil
		if b.Senders != nil {
			if p.Senders, err = mailboxes.CheckSenders(*b.Senders); err != nil {
				return err
			}
		}
		switch {
		case into.Revision == 0: // a new one
			err = s.Engine.Mailboxes.NewAddress(into, text(b.Word))
		case b.Word != nil && *b.Word != p.Word:
			err = field("word", "another word makes another address: renew the address with it")
		}
		if errors.Is(err, mailboxes.ErrNoReceiving) {
			return &problem{status: 409, kind: "no-receiving", text: err.Error(), advice: "Start it with --drop-domain and " +
				"--smtp or --lmtp."}
		}
		return err
	}
	return nil
}

// secretOf is what is kept sealed of the settings.
func secretOf(b *MailboxSettings) (string, error) {
	if b.Consent == nil {
		return text(b.Secret), nil
	}
	return mailboxes.SealedConsent(text(b.Consent.ClientSecret))
}

// ListMailboxes lists the mailboxes that the viewer may see.
func (s *mailboxHandlers) ListMailboxes(ctx context.Context, _ ListMailboxesRequestObject) (ListMailboxesResponseObject,
	error) {
	rows, err := s.Store.Mailboxes.All(ctx, viewerOf(ctx))
	out := ListMailboxes200JSONResponse{}
	for i := range rows {
		out = append(out, s.mailbox(viewerOf(ctx), &rows[i]))
	}
	return inOrder(out, func(one *Mailbox) string { return one.Name }), err
}

// AddMailbox keeps a mailbox and begins to watch it.
func (s *mailboxHandlers) AddMailbox(ctx context.Context, r AddMailboxRequestObject) (AddMailboxResponseObject, error) {
	m := store.Mailbox{ID: store.NewID(), MadeAt: s.Clock().UTC()}
	if err := s.settings(r.Body, &m); err != nil {
		return nil, err
	}
	if err := s.Engine.Mailboxes.PrepareMail(&m); err != nil {
		return nil, err
	}
	secret, err := secretOf(r.Body)
	if err != nil {
		return nil, err
	}
	err = s.Store.Mailboxes.Add(ctx, &m, secret, viewerOf(ctx).Name)
	if errors.Is(err, store.ErrTaken) {
		return nil, &problem{status: 409, kind: "taken", text: fmt.Sprintf("there is a mailbox called “%s” already", m.Name),
			advice: "Choose another name.", fields: []FieldProblem{{Place: "name", Text: "the name is taken"}}}
	}
	if err != nil {
		return nil, err
	}
	s.Engine.Watch(m.ID)
	return AddMailbox201JSONResponse(s.mailbox(viewerOf(ctx), &m)), nil
}

// GetMailbox shows one mailbox.
func (s *mailboxHandlers) GetMailbox(ctx context.Context, r GetMailboxRequestObject) (GetMailboxResponseObject, error) {
	m, err := s.Store.Mailboxes.ByID(ctx, viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	return GetMailbox200JSONResponse(s.mailbox(viewerOf(ctx), &m)), nil
}

// ChangeMailbox changes a mailbox's settings. Its name stays, since rules name it.
func (s *mailboxHandlers) ChangeMailbox(ctx context.Context, r ChangeMailboxRequestObject) (ChangeMailboxResponseObject,
	error) {
	m, err := s.Store.Mailboxes.ByID(ctx, viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	before := m
	revision, err := revisionOf(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	if revision == 0 {
		revision = m.Revision
	}
	if err := s.settings(r.Body, &m); err != nil {
		return nil, err
	}
	if m.Name != before.Name {
		return nil, &problem{status: 422, kind: "invalid", text: "name: a mailbox keeps its name, because rules name it so",
			advice: "Add a mailbox with the new name instead.",
			fields: []FieldProblem{{Place: "name", Text: "a mailbox keeps its name"}}}
	}
	given, err := secretOf(r.Body)
	if err != nil {
		return nil, err
	}
	var secret *string
	switch byConsent := m.Particulars.Consent != nil; {
	case given == "" && !byConsent && m.Kind != before.Kind:
		return nil, anew([]string{"protocol"})
	case given != "", byConsent && len(m.OtherRoute(&before)) > 0: // tokens are for one server, and of one issuer
		secret = &given
	case len(m.OtherRoute(&before)) > 0:
		return nil, anew(m.OtherRoute(&before))
	}
	if err := s.Store.Mailboxes.Change(ctx, &m, secret, revision, viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	s.Engine.Watch(m.ID)
	return ChangeMailbox200JSONResponse(s.mailbox(viewerOf(ctx), &m)), nil
}

// usersOf lists the rules that name a mailbox.
func (s *mailboxHandlers) usersOf(ctx context.Context, m *store.Mailbox) ([]string, error) {
	return s.Engine.Office.UsedBy(ctx, func(d *rule.Rule) bool {
		return slices.ContainsFunc(d.Look.Mailboxes, func(name string) bool { return strings.EqualFold(name, m.Name) })
	})
}

// RemoveMailbox forgets a mailbox unless a rule names it.
func (s *mailboxHandlers) RemoveMailbox(ctx context.Context, r RemoveMailboxRequestObject) (RemoveMailboxResponseObject,
	error) {
	m, err := s.Store.Mailboxes.ByID(ctx, viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	used, err := s.usersOf(ctx, &m)
	if err != nil {
		return nil, err
	}
	if len(used) > 0 {
		return nil, inUse("mailbox", m.Name, used)
	}
	return RemoveMailbox204Response{}, s.Engine.RemoveMailbox(ctx, m.ID, viewerOf(ctx).Name)
}

// GetMailboxRemains says what remains when a mailbox is removed.
func (s *mailboxHandlers) GetMailboxRemains(ctx context.Context,
	r GetMailboxRemainsRequestObject) (GetMailboxRemainsResponseObject, error) {
	v := viewerOf(ctx)
	m, err := s.Store.Mailboxes.ByID(ctx, v, r.ID)
	if err != nil {
		return nil, err
	}
	used, err := s.usersOf(ctx, &m)
	if err != nil {
		return nil, err
	}
	remains, err := s.Engine.Mailboxes.RemainsOf(ctx, v, &m)
	return GetMailboxRemains200JSONResponse{Filed: remains.Filed, Waiting: remains.Waiting,
		MessagesOnlyHere: remains.OnlyHere, UsedBy: append([]string{}, used...)}, err
}

// TryMailbox ends the pause after a failure.
func (s *mailboxHandlers) TryMailbox(ctx context.Context, r TryMailboxRequestObject) (TryMailboxResponseObject, error) {
	m, err := s.Store.Mailboxes.ByID(ctx, viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	s.Engine.TryNow(m.ID)
	return TryMailbox204Response{}, nil
}

// CheckMailbox goes through the steps of reaching a mailbox.
func (s *mailboxHandlers) CheckMailbox(ctx context.Context, r CheckMailboxRequestObject) (CheckMailboxResponseObject,
	error) {
	var m store.Mailbox
	secret := text(r.Body.Secret)
	if r.Body.Kind != nil && *r.Body.Kind == "drop" && text(r.Params.ID) == "" {
		return nil, field("kind", "a drop address is checked once it is there: send a message to it")
	}
	if id := text(r.Params.ID); id != "" {
		var err error
		if m, err = s.Store.Mailboxes.ByID(ctx, viewerOf(ctx), id); err != nil {
			return nil, err
		}
	}
	kept := m
	if err := s.settings(r.Body, &m); err != nil {
		return nil, err
	}
	switch other := m.OtherRoute(&kept); {
	case m.Particulars.Consent != nil && len(other) > 0: // its tokens go where they were given for, only
		return nil, field("consent", "sign-in by consent is checked once the mailbox is saved and somebody has signed in")
	case kept.ID != "" && secret == "" && m.Particulars.Consent == nil && m.Kind != kept.Kind:
		return nil, anew([]string{"protocol"})
	case kept.ID == "" || secret != "" || m.Particulars.Consent != nil:
	case len(other) > 0:
		return nil, anew(other)
	default:
		var err error
		if secret, err = s.Store.Mailboxes.Secret(&m); err != nil {
			return nil, err
		}
	}
	if err := s.Store.Note(ctx, viewerOf(ctx).Name, "check mailbox",
		fmt.Sprintf("%s: %s at %s:%d (%s) %s", m.Name, m.Username, m.Host, m.Port, m.Encryption,
			withoutUser(m.Particulars.Proxy))); err != nil {
		return nil, err
	}
	out := CheckMailbox200JSONResponse{}
	well := true
	for _, c := range s.Engine.Mailboxes.TryReach(ctx, &m, secret) {
		well = well && c.OK
		out = append(out, CheckStep{Step: string(c.Step), Ok: c.OK, Detail: c.Detail, Advice: optional(c.Advice)})
	}
	if id := text(r.Params.ID); id != "" && well { // the mailbox need not wait for the end of its pause
		s.Engine.TryNow(id)
	}
	return out, nil
}

// ListFolders asks the server for a mailbox's folders.
func (s *mailboxHandlers) ListFolders(ctx context.Context, r ListFoldersRequestObject) (ListFoldersResponseObject,
	error) {
	m, err := s.Store.Mailboxes.ByID(ctx, viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	session, err := s.Engine.Mailboxes.Reach(ctx, &m, connections.Work)
	if err != nil {
		return nil, err
	}
	defer session.Close()
	folders, err := session.Folders(ctx)
	out := ListFolders200JSONResponse{}
	for _, f := range folders {
		one := Folder{Path: f.Path, Role: f.Role, Selectable: f.Selectable}
		if f.Shared {
			one.Shared = &f.Shared
		}
		if f.Unreadable {
			one.Unreadable = &f.Unreadable
		}
		out = append(out, one)
	}
	return out, err
}

// FindServers looks up the servers of an address.
func (s *mailboxHandlers) FindServers(ctx context.Context, r FindServersRequestObject) (FindServersResponseObject,
	error) {
	found, err := s.Engine.Mailboxes.FindServers(ctx, r.Params.Address)
	out := FindServers200JSONResponse{}
	for _, f := range found {
		out = append(out,
			FoundServer{Kind: FoundServerKind(f.Protocol), Host: f.Host, Port: f.Port,
				Encryption: FoundServerEncryption(f.Encryption), Username: strings.TrimSpace(r.Params.Address)})
	}
	return out, err
}

// GetReceiving says whether mail is received.
func (s *mailboxHandlers) GetReceiving(context.Context, GetReceivingRequestObject) (GetReceivingResponseObject, error) {
	return GetReceiving200JSONResponse{Domain: s.Engine.DropDomain, SMTP: s.SMTP}, nil
}

// ChangeAddress renews a drop address or closes it.
func (s *mailboxHandlers) ChangeAddress(ctx context.Context, r ChangeAddressRequestObject) (ChangeAddressResponseObject,
	error) {
	m, err := s.Store.Mailboxes.ByID(ctx, viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	if m.Kind != "drop" {
		return nil, &problem{status: 409, kind: "no-drop-address",
			text: fmt.Sprintf("the mailbox “%s” is not a drop address", m.Name)}
	}
	if r.Body.What == "close" {
		m.Address = ""
	} else {
		word := text(r.Body.Word)
		if word == "" {
			word = m.Particulars.Word
		}
		if err := s.Engine.Mailboxes.NewAddress(&m, word); err != nil {
			return nil, err
		}
	}
	if err := s.Store.Mailboxes.Readdress(ctx, &m, string(r.Body.What), viewerOf(ctx).Name); err != nil {
		return nil, err
	}
	return ChangeAddress200JSONResponse(s.mailbox(viewerOf(ctx), &m)), nil
}

func asked(a *mailboxes.Asked) Asked {
	return Asked{Page: a.Page, Code: a.Code, Until: a.Until, Given: a.Given, Problem: a.Problem}
}

// AskConsent begins to ask for consent.
func (s *mailboxHandlers) AskConsent(ctx context.Context, r AskConsentRequestObject) (AskConsentResponseObject, error) {
	back := ""
	if console := text(r.Body.Console); console != "" {
		u, err := url.Parse(console)
		if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
			return nil, field("console", "give the console's address, such as https://inktray.brackwater.example")
		}
		back = (&url.URL{Scheme: u.Scheme, Host: u.Host, Path: "/api/v1/consent"}).String()
	}
	a, err := s.Engine.Mailboxes.AskConsent(ctx, viewerOf(ctx), r.ID, back)
	if errors.Is(err, mailboxes.ErrNoConsent) {
		return nil, &problem{status: 409, kind: "no-consent", text: err.Error(), advice: "Change its settings first."}
	}
	if err != nil {
		return nil, err
	}
	return AskConsent200JSONResponse(asked(&a)), nil
}

// GetAsked says how asking on another device does.
func (s *mailboxHandlers) GetAsked(ctx context.Context, r GetAskedRequestObject) (GetAskedResponseObject, error) {
	a, err := s.Engine.Mailboxes.ConsentAsked(ctx, viewerOf(ctx), r.ID)
	if err != nil {
		return nil, err
	}
	if a == nil {
		return nil, store.ErrNotFound
	}
	return GetAsked200JSONResponse(asked(a)), nil
}

var cameBack = template.Must(template.New("").Parse(`<!doctype html><html lang="{{.Language}}"><meta charset="utf-8">
<meta name="viewport" content="width=device-width"><title>{{.Title}} - Ink Tray</title>
<h1>{{.Title}}</h1><p>{{.Text}}</p><p><a href="/settings">{{.Back}}</a></p></html>`))

// cameBackPage is a page of its own: it loads nothing and runs nothing. Text has a gap for Mailbox, where there is one.
type cameBackPage struct{ Title, Text, Mailbox string }

// VisitTakeConsentResponse writes the page in the language of the person.
func (p cameBackPage) VisitTakeConsentResponse(c fiber.Ctx) error {
	c.Set("Content-Type", "text/html; charset=utf-8")
	c.Set("Content-Security-Policy", "default-src 'none'")
	c.Set("Cache-Control", "no-store")
	c.Set("Referrer-Policy", "no-referrer") // the address holds a code
	in := texts.For(c.Get("Accept-Language"))
	said := struct{ Language, Title, Text, Back string }{in.Language(), in.Say(p.Title), in.Say(p.Text),
		in.Say("Back to Ink Tray")}
	if p.Mailbox != "" {
		said.Text = fmt.Sprintf(in.Format(p.Text), p.Mailbox)
	}
	return cameBack.Execute(c, said)
}

// TakeConsent takes what a browser comes back with.
func (s *mailboxHandlers) TakeConsent(ctx context.Context, r TakeConsentRequestObject) (TakeConsentResponseObject,
	error) {
	name, err := s.Engine.Mailboxes.ConsentCame(ctx, text(r.Params.State), text(r.Params.Code), text(r.Params.Error))
	if err != nil {
		s.Log.Warn("a consent was not taken", "mailbox", name, "error", err)
		return cameBackPage{"Not signed in", strings.ToUpper(err.Error()[:1]) + err.Error()[1:] + ".", ""}, nil
	}
	return cameBackPage{"Signed in", "Ink Tray can read the mailbox “%s” now. You can close this page.", name}, nil
}
