package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"inktray.example/inktray/internal/inbound"
	"inktray.example/inktray/internal/mailboxes"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
	"inktray.example/inktray/internal/source/drop"
	"inktray.example/inktray/internal/source/imap"
	"inktray.example/inktray/internal/source/jmap"
	"inktray.example/inktray/internal/source/mailfile"
	"inktray.example/inktray/internal/source/pop3"
	"inktray.example/inktray/internal/store"
)

// reacher opens mailboxes of every kind.
type reacher struct {
	records  *store.Store
	mail     string // folder for mail that is kept here
	resolver *net.Resolver
	mutex    sync.Mutex
	shared   map[string]accountKnown // by mailbox
}

func (r *reacher) server(m *store.Mailbox) reach.Server {
	p := &m.Particulars
	return reach.Server{Host: m.Host, Port: m.Port, Encryption: reach.Encryption(m.Encryption), Authority: p.Authority,
		Pinned: p.Pinned, Proxy: p.Proxy, Resolver: r.resolver}
}

// secrets tells a password from a token.
func secrets(m *store.Mailbox, secret string) (password, token string) {
	if m.Particulars.Consent != nil {
		return "", secret
	}
	return secret, ""
}

func (r *reacher) imap(m *store.Mailbox, secret string) imap.Config {
	c := imap.Config{Server: r.server(m), Username: m.Username}
	c.Password, c.Token = secrets(m, secret)
	return c
}

func (r *reacher) pop3(m *store.Mailbox, secret string) pop3.Config {
	c := pop3.Config{Server: r.server(m), Username: m.Username, Spool: filepath.Join(r.mail, m.ID),
		Numbers: r.records.Mailboxes.NumbersOf(m.ID)}
	c.Password, c.Token = secrets(m, secret)
	return c
}

func (r *reacher) jmap(m *store.Mailbox, secret string) jmap.Config {
	c := jmap.Config{Server: r.server(m), Username: m.Username, Numbers: r.records.Mailboxes.NumbersOf(m.ID)}
	c.Password, c.Token = secrets(m, secret)
	return c
}

// known is what the sessions of a mailbox know together, as long as it is the same account.
func (r *reacher) known(m *store.Mailbox) *jmap.Shared {
	account := strings.Join([]string{m.Host, strconv.Itoa(m.Port), m.Encryption, m.Username}, "\n")
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.shared == nil {
		r.shared = map[string]accountKnown{}
	}
	if r.shared[m.ID].account != account {
		r.shared[m.ID] = accountKnown{account, &jmap.Shared{}}
	}
	return r.shared[m.ID].Shared
}

// accountKnown is what is known of an account of a mail server.
type accountKnown struct {
	account string
	*jmap.Shared
}

func (r *reacher) file(m *store.Mailbox) mailfile.Config {
	c := mailfile.Config{Folder: m.Path, Numbers: r.records.Mailboxes.NumbersOf(m.ID)}
	if mailboxes.OwnMail(m) {
		c.Folder, c.Own = filepath.Join(r.mail, m.ID), true
	}
	return c
}

func (r *reacher) dial(ctx context.Context, m *store.Mailbox, secret string) (source.Session, error) {
	switch m.Kind {
	case "imap":
		return opened(imap.Dial(ctx, r.imap(m, secret)))
	case "pop3":
		return opened(pop3.Dial(ctx, r.pop3(m, secret)))
	case "jmap":
		c := r.jmap(m, secret)
		c.Shared = r.known(m)
		return opened(jmap.Dial(ctx, c))
	}
	return opened(mailfile.Dial(ctx, r.file(m)))
}

// opened keeps a nil session from becoming an interface that is not nil.
func opened[S source.Session](s S, err error) (source.Session, error) {
	if err != nil {
		return nil, err
	}
	return s, nil
}

func (r *reacher) try(ctx context.Context, m *store.Mailbox, secret string) []source.Check {
	switch m.Kind {
	case "imap":
		return imap.Check(ctx, r.imap(m, secret))
	case "pop3":
		return pop3.Check(ctx, r.pop3(m, secret))
	case "jmap":
		return jmap.Check(ctx, r.jmap(m, secret))
	}
	return mailfile.Check(ctx, r.file(m))
}

// receiveOptions say how mail for drop addresses is taken in.
type receiveOptions struct {
	domain, smtp, lmtp, certificate, key, trusted string
	megabytes                                     int64
}

// receive begins to take mail in. Nothing is answered where no domain is given.
func (s *service) receive(o serviceOptions, resolver *net.Resolver) error {
	r := o.receive
	if r.domain == "" {
		if r.smtp != "" || r.lmtp != "" {
			return &exitError{exitUsage, "mail can only be received with --drop-domain, the domain of the drop addresses"}
		}
		return nil
	}
	config := drop.Config{Domain: r.domain, MaxBytes: r.megabytes << 20, Spool: filepath.Join(o.data, "spool"),
		Find: s.engine.Mailboxes.FindDrop, Deliver: s.engine.Mailboxes.Deliver, Rejected: s.engine.Mailboxes.Rejected,
		Resolver: resolver, Trusted: r.trusted, Clock: time.Now, Log: o.log}
	if r.certificate != "" || r.key != "" {
		certificate, err := inbound.ReadCertificate(r.certificate, r.key, o.notRenewed)
		if err != nil {
			return &exitError{exitUsage, fmt.Sprintf("the certificate for receiving mail cannot be used: %s", inWords(err))}
		}
		config.TLS = certificate.Config()
	}
	receiver := drop.New(config)
	for _, one := range []struct {
		address string
		lmtp    bool
	}{{r.smtp, false}, {r.lmtp, true}} {
		if one.address == "" {
			continue
		}
		l, err := listen(one.address)
		if err != nil {
			return errors.Join(err, receiver.Shutdown(context.Background()))
		}
		if !one.lmtp {
			s.api.SMTP = l.Addr().String()
		}
		receiver.Serve(l, one.lmtp)
	}
	s.receiver = receiver
	return nil
}

// receiveFlags are those of a service that also receives mail.
func receiveFlags(cmd *cobra.Command, o *serviceOptions) {
	f, r := cmd.Flags(), &o.receive
	f.StringVar(&r.domain, "drop-domain", "",
		"domain of the drop addresses, such as drop.brackwater.example; its mail must reach this service")
	f.StringVar(&r.smtp, "smtp", "", "address to receive mail on by SMTP, such as 0.0.0.0:25")
	f.StringVar(&r.lmtp, "lmtp", "",
		"address to receive mail on by LMTP from a mail server in front, such as 127.0.0.1:2424")
	f.StringVar(&r.certificate, "mail-certificate", "",
		"file with the certificate for STARTTLS, PEM; read again when it changes")
	f.StringVar(&r.key, "mail-key", "", "file with its key, PEM")
	f.StringVar(&r.trusted, "trusted-checker", "",
		"name under which the mail server in front, by LMTP, writes Authentication-Results (RFC 8601)")
	f.Int64Var(&r.megabytes, "largest-message", 64, "largest message that is received, in MB")
	f.StringVar(&o.resolver, "name-server", "", "name server to ask, host:port; the system's by default")
}
