package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"inktray.example/inktray/client"
	"inktray.example/inktray/internal/store"
)

type mailboxEntry struct {
	Name       string        `json:"name" doc:"what rules call it"`
	Kind       string        `json:"kind,omitempty" doc:"imap where nothing is said, pop3, jmap, drop, maildir, files"`
	Host       string        `json:"host,omitempty" doc:"the mail server"`
	Port       int           `json:"port,omitempty" doc:"the usual one where nothing is said"`
	Encryption string        `json:"encryption,omitempty" doc:"tls where nothing is said, starttls, none"`
	User       string        `json:"user,omitempty" doc:"name to sign in with"`
	Secret     reference     `json:"secret,omitzero" doc:"where the secret is"`
	Consent    *consentEntry `json:"consent,omitempty" doc:"sign-in by consent instead of a secret"`
	Interval   int           `json:"interval,omitempty" doc:"seconds between looks, 60 where nothing is said"`
	Authority  string        `json:"authority,omitempty" doc:"a file with certificates of authorities that are trusted for this server, PEM"`
	Pinned     string        `json:"pinned,omitempty" doc:"SHA-256 fingerprint of the server's certificate"`
	Proxy      string        `json:"proxy,omitempty" doc:"socks5://host:port or http://host:port"`
	LeaveDays  *int          `json:"leave_days,omitempty" doc:"days after which messages are removed; 0 keeps them"`
	Path       string        `json:"path,omitempty" doc:"of a maildir: whole path"`
	Word       string        `json:"word,omitempty" doc:"of a drop address that is added: the word with which it begins"`
	Senders    []string      `json:"senders,omitempty" doc:"of a drop address: who may send to it"`
}

type consentEntry struct {
	Issuer       string    `json:"issuer,omitempty" doc:"who issues it"`
	Client       string    `json:"client" doc:"what the issuer calls this program"`
	ClientSecret reference `json:"client_secret,omitzero" doc:"where the program's secret is, if the issuer gave one"`
	Authorize    string    `json:"authorize,omitempty" doc:"address, if the issuer does not publish it"`
	Token        string    `json:"token,omitempty" doc:"likewise"`
	Device       string    `json:"device,omitempty" doc:"likewise"`
	Scopes       []string  `json:"scopes,omitempty" doc:"what consent is asked for"`
}

// difference puts what a file says into settings, and says what differs, in words.
type difference struct{ said []string }

func (d *difference) add(format string, args ...any) {
	d.said = append(d.said, fmt.Sprintf(format, args...))
}

func (d *difference) text(name string, to *string, wanted string) {
	if wanted != "" && wanted != *to {
		d.add("%s: %s, then %s", name, cmp.Or(*to, "none"), wanted)
		*to = wanted
	}
}

func (d *difference) optional(name string, to **string, wanted string) {
	is := deref(*to)
	if d.text(name, &is, wanted); is != deref(*to) {
		*to = &is
	}
}

func (d *difference) number(name string, to **int, wanted int) {
	if *to == nil || **to != wanted {
		d.add("%s: %d, then %d", name, deref(*to), wanted)
		*to = &wanted
	}
}

func (d *difference) list(name string, to **[]string, wanted []string) {
	is := deref(*to)
	if wanted != nil && !slices.Equal(is, wanted) {
		d.add("%s: %s, then %s", name, cmp.Or(strings.Join(is, ", "), "none"),
			cmp.Or(strings.Join(wanted, ", "), "none"))
		*to = &wanted
	}
}

// into puts what the file says of a mailbox into settings; what it does not say stays.
// It gives what differs, in words.
func (m *mailboxEntry) into(s *client.MailboxSettings, base string) ([]string, error) {
	var d difference
	if account(m.Kind) {
		if err := m.intoAccount(&d, s, base); err != nil {
			return nil, err
		}
	}
	if m.Interval == 0 && s.IntervalSeconds == nil {
		m.Interval = 60 // of a new one
	}
	if m.Interval != 0 {
		d.number("interval", &s.IntervalSeconds, m.Interval)
	}
	if m.LeaveDays != nil {
		d.number("leave_days", &s.LeaveDays, *m.LeaveDays)
	}
	d.optional("path", &s.Path, m.Path)
	d.list("senders", &s.Senders, m.Senders)
	if k := m.Consent; k != nil {
		if s.Consent == nil {
			s.Consent = &client.Consent{}
		}
		c := s.Consent
		d.optional("issuer", &c.Issuer, k.Issuer)
		d.text("client", &c.ClientID, k.Client)
		d.optional("authorize", &c.Authorize, k.Authorize)
		d.optional("token", &c.Token, k.Token)
		d.optional("device", &c.Device, k.Device)
		d.list("scopes", &c.Scopes, k.Scopes)
		if len(d.said) > 0 && k.ClientSecret != (reference{}) {
			secret, err := k.ClientSecret.read(base)
			if err != nil {
				return nil, fmt.Errorf("the program's secret of the mailbox “%s”: %w", m.Name, err)
			}
			c.ClientSecret = &secret
		}
	}
	return d.said, nil
}

// intoAccount puts in what an account on a mail server has.
func (m *mailboxEntry) intoAccount(d *difference, s *client.MailboxSettings, base string) error {
	d.text("host", &s.Host, m.Host)
	encryption := string(s.Encryption)
	wanted := m.Encryption
	if encryption == "" {
		wanted = cmp.Or(wanted, "tls") // of a new one
	}
	was := encryption
	d.text("encryption", &encryption, wanted)
	s.Encryption = client.MailboxSettingsEncryption(encryption)
	if m.Port != 0 {
		d.number("port", &s.Port, m.Port)
	} else if encryption != was && (s.Port == nil || *s.Port == usualPort(m.Kind, was)) {
		s.Port = &m.Port // the usual one of the other way
	}
	d.text("user", &s.Username, m.User)
	d.optional("pinned", &s.Pinned, m.Pinned)
	d.optional("proxy", &s.Proxy, m.Proxy)
	if m.Authority != "" {
		data, err := os.ReadFile(beside(base, m.Authority))
		if err != nil {
			return fmt.Errorf("the authorities' certificates of the mailbox “%s”: %w", m.Name, err)
		}
		if string(data) != deref(s.Authority) {
			pem := string(data)
			d.add("authority: other certificates")
			s.Authority = &pem
		}
	}
	return nil
}

// usualPort is the port of a mail server where nothing is said.
func usualPort(kind, encryption string) int {
	switch {
	case kind == "jmap" && encryption == "tls":
		return 443
	case kind == "jmap":
		return 80
	case kind == "pop3" && encryption == "tls":
		return 995
	case kind == "pop3":
		return 110
	case encryption == "tls":
		return 993
	}
	return 143
}

// account says whether a kind of mailbox is on a mail server.
func account(kind string) bool {
	return kind == "" || kind == "imap" || kind == "pop3" || kind == "jmap"
}

// beside is a path as a file in the folder base says it.
func beside(base, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(base, path)
}

// compareMailboxes lists what has to change of the mailboxes.
func (c applyCommands) compareMailboxes(ctx context.Context, api *client.Client, entries []mailboxEntry,
	base string) ([]change, error) {
	mailboxes, err := call[[]client.Mailbox](api.ListMailboxes(ctx))
	if err != nil {
		return nil, err
	}
	var changes []change
	for i := range entries {
		m := &entries[i]
		at := slices.IndexFunc(mailboxes, func(b client.Mailbox) bool { return strings.EqualFold(b.Name, m.Name) })
		wanted := client.MailboxSettings{Name: m.Name}
		if at >= 0 {
			wanted = settingsOf(&mailboxes[at])
			is := mailboxes[at].Kind
			if old := (store.Mailbox{Kind: is}); m.Kind != "" && !old.MayBecome(m.Kind) || m.Kind == "" && !account(is) {
				return nil, &exitError{exitInvalid,
					fmt.Sprintf("the mailbox “%s” is of the kind %s and cannot become %s: take another name", m.Name, is,
						cmp.Or(m.Kind, "imap"))}
			}
			if m.Kind != "" {
				kind := client.MailboxSettingsKind(m.Kind)
				wanted.Kind = &kind
			}
		} else if m.Kind != "" {
			kind := client.MailboxSettingsKind(m.Kind)
			wanted.Kind = &kind
		}
		detail, err := m.into(&wanted, base)
		if err != nil {
			return nil, err
		}
		if !account(m.Kind) {
			wanted.Encryption = "tls" // of no account, but the interface asks for one
		}
		if at >= 0 && len(detail) == 0 {
			continue
		}
		if needsSecret(&wanted) && (at < 0 || otherRoute(&wanted, &mailboxes[at])) {
			secret, err := m.Secret.read(base)
			if err != nil {
				return nil, fmt.Errorf("the secret of the mailbox “%s”: %w", m.Name, err)
			}
			wanted.Secret = &secret
		}
		if at >= 0 {
			id, revision := mailboxes[at].ID, fmt.Sprint(mailboxes[at].Revision)
			changes = append(changes,
				change{"change", "mailbox " + mailboxes[at].Name, strings.Join(detail, "\n"), func(ctx context.Context) error {
					_, err := call[client.Mailbox](api.ChangeMailbox(ctx, id, &client.ChangeMailboxParams{IfMatch: &revision}, wanted))
					return err
				}})
			continue
		}
		if m.Word != "" {
			wanted.Word = &m.Word
		}
		changes = append(changes, change{"add", "mailbox " + m.Name, m.said(), func(ctx context.Context) error {
			_, err := call[client.Mailbox](api.AddMailbox(ctx, wanted))
			return err
		}})
	}
	return changes, nil
}

// said is a mailbox that is added, in words.
func (m *mailboxEntry) said() string {
	switch {
	case m.Kind == "drop":
		return "an address at which mail is received; `inktray mailboxes list` shows it then"
	case m.Kind == "maildir":
		return "the mail in " + m.Path
	case m.Kind == "files":
		return "mail that is taken in from files"
	case m.Consent != nil:
		return fmt.Sprintf("%s at %s (%s)\nby consent: somebody signs in then, with `inktray mailboxes sign-in %s`", m.User,
			m.Host, cmp.Or(m.Encryption, "tls"), inShell(m.Name))
	}
	return fmt.Sprintf("%s at %s (%s)", m.User, m.Host, cmp.Or(m.Encryption, "tls"))
}
