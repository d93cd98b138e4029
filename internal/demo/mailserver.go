// Package demo holds the Brackwater harbour office: an invented scenario, its
// messages, and a mail server in the process, so that everything can be tried
// without a real mailbox.
package demo

import (
	"bytes"
	"errors"
	"io"
	"log"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-imap/v2"
	"github.com/emersion/go-imap/v2/imapserver"
	"github.com/emersion/go-imap/v2/imapserver/imapmemserver"
	"github.com/emersion/go-sasl"
)

// Password is that of every mailbox of the demo.
const Password = "slack-water"

// MailServer is an IMAP server in the process, on loopback, without encryption.
type MailServer struct {
	listener net.Listener
	server   *imapserver.Server
	users    map[string]*imapmemserver.User

	mutex       sync.Mutex
	connections map[net.Conn]bool
}

// StartMailServer listens on an address and makes the scenario's mailboxes, empty.
// owner tells whose a token is; nil where no tokens are taken.
func StartMailServer(address string, owner func(token string) string) (*MailServer, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	memory := imapmemserver.New()
	m := &MailServer{listener: listener, users: map[string]*imapmemserver.User{}, connections: map[net.Conn]bool{}}
	for _, name := range append(slices.Clone(Mailboxes), ByConsent) {
		user := imapmemserver.NewUser(name+"@brackwater.example", Password)
		for _, folder := range []string{"INBOX", "Archive", "To file"} {
			if err := user.Create(folder, nil); err != nil {
				listener.Close()
				return nil, err
			}
		}
		memory.AddUser(user)
		m.users[name] = user
	}
	m.server = imapserver.New(&imapserver.Options{
		NewSession: func(*imapserver.Conn) (imapserver.Session, *imapserver.GreetingData, error) {
			s := memory.NewSession()
			if owner == nil {
				return s, nil, nil
			}
			return &bearing{s.(imapserver.SessionIMAP4rev2), owner}, nil, nil
		},
		Caps: imap.CapSet{imap.CapIMAP4rev1: {}, imap.CapIMAP4rev2: {}}, InsecureAuth: true,
		Logger: log.New(io.Discard, "", 0),
	})
	go m.server.Serve(counting{listener, m})
	return m, nil
}

// bearing is a session that also takes tokens (RFC 7628): anyone who comes with a good
// one is signed in.
type bearing struct {
	imapserver.SessionIMAP4rev2
	owner func(token string) string
}

// AuthenticateMechanisms lists the mechanisms.
func (b *bearing) AuthenticateMechanisms() []string { return []string{sasl.OAuthBearer} }

// Authenticate begins to sign in.
func (b *bearing) Authenticate(mechanism string) (sasl.Server, error) {
	if mechanism != sasl.OAuthBearer {
		return nil, errors.New("this mechanism is not known")
	}
	return refusing{sasl.NewOAuthBearerServer(func(o sasl.OAuthBearerOptions) *sasl.OAuthBearerError {
		if user := b.owner(o.Token); user == "" || !strings.EqualFold(user, o.Username) || b.Login(user, Password) != nil {
			return &sasl.OAuthBearerError{Status: "invalid_token", Schemes: "bearer"}
		}
		return nil
	})}, nil
}

// refusing says no as mail servers do.
type refusing struct{ sasl.Server }

func (r refusing) Next(response []byte) ([]byte, bool, error) {
	challenge, done, err := r.Server.Next(response)
	if err != nil {
		err = &imap.Error{Type: imap.StatusResponseTypeNo, Code: imap.ResponseCodeAuthenticationFailed,
			Text: "this token is not good"}
	}
	return challenge, done, err
}

// Port is where the server listens.
func (m *MailServer) Port() int { return m.listener.Addr().(*net.TCPAddr).Port }

// Deliver puts a message into a mailbox's inbox.
func (m *MailServer) Deliver(mailbox string, raw []byte, received time.Time, flags ...imap.Flag) error {
	_, err := m.users[mailbox].Append("INBOX", literal{bytes.NewReader(raw)},
		&imap.AppendOptions{Time: received, Flags: flags})
	return err
}

// Close ends the server and its connections.
func (m *MailServer) Close() error { return m.server.Close() }

type literal struct{ *bytes.Reader }

// Size is the literal's length in octets.
func (l literal) Size() int64 { return int64(l.Len()) }

// counting knows the connections that are open.
type counting struct {
	net.Listener
	server *MailServer
}

func (l counting) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	l.server.mutex.Lock()
	defer l.server.mutex.Unlock()
	l.server.connections[c] = true
	return counted{c, l.server}, nil
}

type counted struct {
	net.Conn
	server *MailServer
}

func (c counted) Close() error {
	c.server.mutex.Lock()
	delete(c.server.connections, c.Conn)
	c.server.mutex.Unlock()
	return c.Conn.Close()
}

// Cut ends every connection, as a server does that is started again.
func (m *MailServer) Cut() {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	for c := range m.connections {
		c.Close()
	}
}
