package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"gorm.io/gorm"
)

// A secret is sealed for its owner and for the whole route on which it is sent: where to, as whom, and what
// protects it on the way. For another route it does not open.

// ErrRoute says that a secret was given for another route, and is not sent on this one.
var ErrRoute = errors.New("the secret was given for another way to the server")

// hop is one property of a route, with the word people know it by.
type hop struct{ name, value string }

func host(s string) string { return strings.TrimSuffix(strings.ToLower(strings.TrimSpace(s)), ".") }

func (m *Mailbox) route() []hop {
	p := &m.Particulars
	all := []hop{{"kind", m.Kind}, {"host", host(m.Host)}, {"port", fmt.Sprint(m.Port)}, {"encryption",
		m.Encryption}, {"user name", m.Username},
		{"proxy", p.Proxy}, {"pinned certificate", strings.ToLower(p.Pinned)}, {"trusted authority", p.Authority}}
	if c := p.Consent; c != nil {
		all = append(all, hop{"issuer of consent", c.Issuer}, hop{"name of the program", c.ClientID},
			hop{"address of consent", c.Authorize}, hop{"address of tokens", c.Token}, hop{"address for devices", c.Device})
	}
	return all
}

func (c *Cabinet) route() []hop {
	p := &c.Particulars
	return []hop{{"kind", c.Kind}, {"place", c.Folder}, {"user name", c.Username}, {"proxy", p.Proxy},
		{"pinned certificate", strings.ToLower(p.Pinned)},
		{"trusted authority", p.Authority}, {"host key", p.HostKey}, {"region", p.Region}}
}

func (o *Outgoing) route() []hop {
	route := []hop{{"host", host(o.Host)}, {"port", fmt.Sprint(o.Port)}, {"encryption", o.Encryption}, {"user name",
		o.Username}}
	if o.Mailbox != "" {
		route = append(route, hop{"mailbox", o.Mailbox})
	}
	return route
}

func (a *Addressee) route() []hop { return []hop{{"kind", a.Kind}, {"address", a.URL}} }

// differ lists in words what two routes differ in.
func differ(a, b []hop) (names []string) {
	values := map[string]string{}
	for _, h := range a {
		values[h.name] = h.value
	}
	for _, h := range b {
		if values[h.name] != h.value {
			names = append(names, h.name)
		}
		delete(values, h.name)
	}
	for _, h := range a {
		if v, left := values[h.name]; left && v != "" {
			names = append(names, h.name)
		}
	}
	return names
}

// OtherRoute lists in words in what the ways to two mailboxes differ; none where a secret of one is good for the other.
func (m *Mailbox) OtherRoute(than *Mailbox) []string { return differ(than.route(), m.route()) }

// OnServer says whether a mailbox is an account on a mail server.
func (m *Mailbox) OnServer() bool { return m.Kind == "imap" || m.Kind == "pop3" || m.Kind == "jmap" }

// MayBecome says whether a mailbox may be read in another way without being another mailbox: IMAP and JMAP show the
// same folders and messages.
func (m *Mailbox) MayBecome(kind string) bool {
	return m.Kind == kind || m.Kind == "imap" && kind == "jmap" || m.Kind == "jmap" && kind == "imap"
}

// OtherRoute lists in words in what the ways to two cabinets differ.
func (c *Cabinet) OtherRoute(than *Cabinet) []string { return differ(than.route(), c.route()) }

// OtherRoute lists in words in what two ways of sending mail differ.
func (o *Outgoing) OtherRoute(than *Outgoing) []string { return differ(than.route(), o.route()) }

// OtherRoute lists in words in what the ways to two addressees differ.
func (a *Addressee) OtherRoute(than *Addressee) []string { return differ(than.route(), a.route()) }

// bound is what a secret is sealed for.
func bound(owner string, route []hop) string {
	var b strings.Builder
	b.WriteString(owner)
	for _, h := range route {
		fmt.Fprintf(&b, "\n%s=%q", h.name, h.value)
	}
	return b.String()
}

func (s *Store) sealFor(secret, owner string, route []hop) ([]byte, error) {
	return s.seal(secret, bound(owner, route))
}

func (s *Store) unsealFor(sealed []byte, owner string, route []hop) (string, error) {
	secret, err := s.unseal(sealed, bound(owner, route))
	if err != nil {
		return "", ErrRoute // that the key is the right one was proved at the start
	}
	return secret, nil
}

// bindSecrets binds the secrets of records from before secrets had routes to those they have now.
func (s *Store) bindSecrets(db *gorm.DB) error {
	again := func(sealed []byte, owner string, route []hop, keep func([]byte) error) error {
		if len(sealed) == 0 {
			return nil
		}
		if _, err := s.unsealFor(sealed, owner, route); err == nil {
			return nil
		}
		secret, err := s.unseal(sealed, owner)
		if err != nil {
			return nil // bound to another route: it stays shut
		}
		if sealed, err = s.sealFor(secret, owner, route); err != nil {
			return err
		}
		return keep(sealed)
	}
	return db.Transaction(func(tx *gorm.DB) error {
		boxes, err1 := list[Mailbox](tx)
		cabinets, err2 := list[Cabinet](tx)
		people, err3 := list[Addressee](tx)
		var outgoing string
		err4 := tx.Raw("SELECT value FROM settings WHERE key = ?", OutgoingSetting).Scan(&outgoing).Error
		if err := errors.Join(err1, err2, err3, err4); err != nil {
			return err
		}
		into := func(table, id string) func([]byte) error {
			return func(sealed []byte) error { return tx.Table(table).Where("id = ?", id).Update("secret", sealed).Error }
		}
		var errs []error
		for i := range boxes {
			errs = append(errs, again(boxes[i].Secret, boxes[i].ID, boxes[i].route(), into("mailboxes", boxes[i].ID)))
		}
		for i := range cabinets {
			errs = append(errs, again(cabinets[i].Secret, cabinets[i].ID, cabinets[i].route(), into("cabinets", cabinets[i].ID)))
		}
		for i := range people {
			errs = append(errs, again(people[i].Secret, "addressee/"+people[i].ID, people[i].route(), into("addressees",
				people[i].ID)))
		}
		var o Outgoing
		if outgoing != "" && json.Unmarshal([]byte(outgoing), &o) == nil {
			if _, err := s.unsealFor(o.Sealed, "outgoing", o.route()); len(o.Sealed) > 0 && err != nil {
				if secret, err := s.unseal(o.Sealed, "outgoing/"+o.Host); err == nil {
					if o.Sealed, err = s.sealFor(secret, "outgoing", o.route()); err != nil {
						return err
					}
					data, err := json.Marshal(o)
					errs = append(errs, err, tx.Exec("UPDATE settings SET value = ? WHERE key = ?", string(data),
						OutgoingSetting).Error)
				}
			}
		}
		return errors.Join(errs...)
	})
}

// Note keeps in the audit table what somebody did that changed nothing here, such as a check of a server.
func (s *Store) Note(ctx context.Context, actor, action, object string) error {
	return s.change(ctx, func(tx *gorm.DB) error { return note(tx, actor, action, object) })
}

// AuditOf lists what the audit table holds of one action, the newest first.
func (s *People) AuditOf(ctx context.Context, action string) ([]Audit, error) {
	return list[Audit](s.reading(ctx).Where("action = ?", action).Order("id DESC"))
}
