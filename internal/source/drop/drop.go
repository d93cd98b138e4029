// Package drop receives mail for drop addresses, over SMTP (RFC 5321) and LMTP
// (RFC 2033). A message is acknowledged only once it lasts.
package drop

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/emersion/go-smtp"

	"inktray.example/inktray/internal/core/mail"
	"inktray.example/inktray/internal/inbound"
)

const (
	maxConnections = 200
	maxRecipients  = 50
	maxPerHost     = 10              // connections of one host, so that it does not keep all others out
	inMemory       = 1 << 20         // octets of a message that are held in memory while it comes
	idle           = 5 * time.Minute // RFC 5321 section 4.5.3.2
	maxCommands    = 256 << 10       // octets of commands that come before they are answered
	unsureEnd      = 2 * time.Second // how long a sender may be silent after what looks like the end of a message
)

// Address is a drop address that takes mail.
type Address struct {
	Mailbox string   // its identity
	Address string   // as it is written
	Senders []string // addresses and domains that may send to it, and must be verified; none for anyone
}

// Config is what a receiver is given.
type Config struct {
	Domain   string // of the drop addresses
	TLS      *tls.Config
	MaxBytes int64  // of a message
	Spool    string // folder for what comes and is too large to be held in memory
	// Find finds an address by what is before the "@", in lower case.
	Find func(local string) (Address, bool, error)
	// Deliver keeps a message for an address. When it returns, the message lasts.
	Deliver func(a Address, received time.Time, message io.Reader) error
	// Resolver answers for signatures and sender policies; nil for the system's.
	Resolver *net.Resolver
	// Trusted is the name under which the mail server in front, which hands over by
	// LMTP, writes its Authentication-Results (RFC 8601); "" trusts none.
	Trusted string
	// Rejected is told of messages for addresses that are there which were refused for
	// good; nil tells nobody.
	Rejected func(a Address, from, reason string)
	Clock    func() time.Time
	Log      *slog.Logger
}

// Receiver answers on any number of addresses.
type Receiver struct {
	config  Config
	guesses throttle
	mutex   sync.Mutex
	servers []*smtp.Server
	doors   []net.Listener
	tasks   sync.WaitGroup
}

// New makes a receiver that does not listen yet.
func New(c Config) *Receiver {
	if c.MaxBytes <= 0 {
		c.MaxBytes = 64 << 20
	}
	if c.Resolver == nil {
		c.Resolver = net.DefaultResolver
	}
	c.Domain = strings.ToLower(c.Domain)
	return &Receiver{config: c, guesses: throttle{clock: c.Clock}}
}

// Serve answers what connects to a listener: SMTP, or LMTP.
func (r *Receiver) Serve(l net.Listener, lmtp bool) {
	s := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) {
		return &session{receiver: r, conn: c, lmtp: lmtp}, nil
	}))
	s.Domain, s.LMTP, s.TLSConfig = r.config.Domain, lmtp, r.config.TLS
	s.MaxMessageBytes, s.MaxRecipients = r.config.MaxBytes, maxRecipients
	s.MaxLineLength = int(r.config.MaxBytes) + 1000 // a line may be as long as a message; commands are bounded apart
	s.ErrorLog, s.EnableSMTPUTF8 = quiet{r.config.Log}, true
	r.mutex.Lock()
	r.servers, r.doors = append(r.servers, s), append(r.doors, l)
	r.mutex.Unlock()
	// A mail server in front is one host for all; anybody else has a share.
	limits := inbound.Limits{Total: maxConnections, PerHost: maxPerHost, Refusal: "421 4.7.0 too many connections from " +
		"your address; try again later\r\n"}
	if lmtp {
		limits.PerHost = maxConnections
	}
	r.tasks.Go(func() { _ = s.Serve(patient{inbound.Limit(l, limits)}) })
}

// Shutdown lets what is being taken in come to its end, until ctx ends.
func (r *Receiver) Shutdown(ctx context.Context) error {
	r.mutex.Lock()
	servers, doors := r.servers, r.doors
	r.mutex.Unlock()
	var errs []error
	for _, s := range servers {
		if err := s.Shutdown(ctx); err != nil {
			errs = append(errs, s.Close())
		}
	}
	for _, l := range doors {
		_ = l.Close() // a server that did not begin yet knows of none that it could close
	}
	r.tasks.Wait()
	return errors.Join(errs...)
}

// quiet logs what the library has to say.
type quiet struct{ log *slog.Logger }

func (q quiet) Printf(format string, v ...any) {
	q.log.Debug("receiving", "said", fmt.Sprintf(format, v...))
}
func (q quiet) Println(v ...any) { q.log.Debug("receiving", "said", fmt.Sprint(v...)) }

// patient gives each reading and writing a time of its own: the library has one
// for a whole message.
type patient struct{ net.Listener }

func (p patient) Accept() (net.Conn, error) {
	c, err := p.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return &patientConn{Conn: c}, nil
}

// patientConn bounds what comes before it is answered, and ends a message whose end the
// library does not see.
type patientConn struct {
	net.Conn
	commands atomic.Int64 // octets since the last answer
	message  atomic.Bool  // a message is being taken in: it has a bound of its own
	ending   atomic.Bool  // what came last looks like the end of the message
	ended    atomic.Bool  // nothing more is read of the message
}

func (c *patientConn) Read(b []byte) (int, error) {
	if c.ended.Load() {
		return 0, io.EOF
	}
	wait := idle
	if c.ending.Load() {
		wait = unsureEnd
	}
	if err := c.Conn.SetReadDeadline(time.Now().Add(wait)); err != nil {
		return 0, err
	}
	n, err := c.Conn.Read(b)
	if c.commands.Add(int64(n)) > maxCommands && !c.message.Load() {
		return 0, errors.New("too much came before it was answered")
	}
	return n, err
}

func (c *patientConn) Write(b []byte) (int, error) {
	c.commands.Store(0)
	c.message.Store(false)
	if err := c.Conn.SetWriteDeadline(time.Now().Add(idle)); err != nil {
		return 0, err
	}
	return c.Conn.Write(b)
}

func (*patientConn) SetDeadline(time.Time) error      { return nil }
func (*patientConn) SetReadDeadline(time.Time) error  { return nil }
func (*patientConn) SetWriteDeadline(time.Time) error { return nil }

// patient is the connection below the encryption.
func (s *session) patient() *patientConn {
	c := s.conn.Conn()
	if secured, ok := c.(*tls.Conn); ok {
		c = secured.NetConn()
	}
	p, _ := c.(*patientConn)
	return p
}

// untilEnd reads a message to its end. A sender that ends lines with CR CR LF ends the
// message in a way that the library does not see, though CR LF "." CR LF is there
// (RFC 5321 section 4.1.1.4): then the sender falls silent, and waits for the answer.
type untilEnd struct {
	r    io.Reader
	conn *patientConn
	tail []byte // the last octets
}

var endAfterCR = []byte("\r\r\n.\r\n")

// Read returns at the end of each line: the library's reader would wait for more.
func (u *untilEnd) Read(p []byte) (n int, err error) {
	for n < len(p) && err == nil {
		var one int
		one, err = u.r.Read(p[n : n+1])
		if n += one; one == 1 && p[n-1] == '\n' {
			break
		}
	}
	u.tail = append(u.tail, p[:n]...)
	if over := len(u.tail) - len(endAfterCR); over > 0 {
		u.tail = u.tail[:copy(u.tail, u.tail[over:])]
	}
	atEnd := bytes.Equal(u.tail, endAfterCR)
	var late net.Error
	if err != nil && atEnd && errors.As(err, &late) && late.Timeout() {
		u.conn.ended.Store(true)
		return n, io.EOF
	}
	u.conn.ending.Store(atEnd)
	return n, err
}

// session is one sender's connection.
type session struct {
	receiver *Receiver
	conn     *smtp.Conn
	lmtp     bool
	from     string
	to       []Address
}

func refuse(code int, enhanced smtp.EnhancedCode, format string, args ...any) error {
	return &smtp.SMTPError{Code: code, EnhancedCode: enhanced, Message: fmt.Sprintf(format, args...)}
}

func (s *session) remote() net.IP {
	if a, ok := s.conn.Conn().RemoteAddr().(*net.TCPAddr); ok {
		return a.IP
	}
	return nil
}

// Reset forgets sender and recipients.
func (s *session) Reset() { s.from, s.to = "", nil }

// Logout ends the session.
func (s *session) Logout() error { return nil }

// Mail begins a message.
func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.from, s.to = from, nil
	return nil
}

// Rcpt names a recipient. Who guesses addresses is sent away.
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	r := s.receiver
	if !s.lmtp && r.guesses.barred(s.remote()) {
		return refuse(421, smtp.EnhancedCode{4, 7, 0}, "Too many unknown addresses from here; come back later")
	}
	at := strings.LastIndexByte(to, '@')
	if at < 0 || !strings.EqualFold(to[at+1:], r.config.Domain) {
		return refuse(550, smtp.EnhancedCode{5, 7, 1}, "This server takes mail for %s only", r.config.Domain)
	}
	a, found, err := r.config.Find(strings.ToLower(to[:at]))
	if err != nil {
		r.config.Log.Error("looking for a drop address", "error", err)
		return refuse(451, smtp.EnhancedCode{4, 3, 0}, "The addresses cannot be looked up now; try again later")
	}
	if !found {
		if !s.lmtp {
			r.guesses.wrong(s.remote())
		}
		return refuse(550, smtp.EnhancedCode{5, 1, 1}, "There is no such address here")
	}
	// Over SMTP there is one answer for all recipients, so an address whose senders
	// are verified takes a message of its own (RFC 5321 section 4.5.3.1.10).
	if !s.lmtp && len(s.to) > 0 && (len(a.Senders) > 0 || len(s.to[0].Senders) > 0) {
		return refuse(452, smtp.EnhancedCode{4, 5, 3}, "Too many recipients; send the message to this one by itself")
	}
	s.to = append(s.to, a)
	return nil
}

// Data takes a message in.
func (s *session) Data(in io.Reader) error {
	m, err := s.take(in)
	if err != nil {
		return err
	}
	defer m.close()
	for _, a := range s.to {
		if err := s.deliver(m, a); err != nil {
			return err
		}
	}
	return nil
}

// LMTPData takes a message in and answers for each recipient.
func (s *session) LMTPData(in io.Reader, status smtp.StatusCollector) error {
	m, err := s.take(in)
	if err != nil {
		return err
	}
	defer m.close()
	for _, a := range s.to {
		status.SetStatus(a.Address, s.deliver(m, a))
	}
	return nil
}

// deliver keeps a message for one recipient.
func (s *session) deliver(m *message, a Address) error {
	r := s.receiver
	if len(a.Senders) > 0 {
		if err := s.verify(m, a); err != nil {
			var answer *smtp.SMTPError
			if errors.As(err, &answer) && !answer.Temporary() && r.config.Rejected != nil {
				r.config.Rejected(a, s.from, answer.Message)
			}
			return err
		}
	}
	now := r.config.Clock()
	content, err := m.open()
	if err == nil {
		err = r.config.Deliver(a, now, io.MultiReader(strings.NewReader(s.trace(a, now)), content))
	}
	if err != nil {
		r.config.Log.Error("keeping a message that came", "address", a.Address, "error", err)
		return refuse(452, smtp.EnhancedCode{4, 3, 1}, "The message cannot be kept now; try again later")
	}
	r.config.Log.Info("a message came", "address", a.Address, "octets", m.size)
	return nil
}

// trace is what is put before a message that is delivered (RFC 5321 section 4.4).
func (s *session) trace(a Address, now time.Time) string {
	with := "ESMTP"
	if s.lmtp {
		with = "LMTP"
	}
	if _, secure := s.conn.TLSConnectionState(); secure {
		with += "S"
	}
	clean := func(text string) string {
		return strings.Map(func(r rune) rune {
			if r <= ' ' || r == 0x7f || strings.ContainsRune("<>()[]\\\";,", r) {
				return -1
			}
			return r
		}, text)
	}
	from := clean(s.conn.Hostname())
	if ip := s.remote(); ip != nil {
		from += " ([" + ip.String() + "])"
	}
	return fmt.Sprintf("Return-Path: <%s>\r\nDelivered-To: %s\r\nReceived: from %s\r\n\tby %s with %s\r\n\tfor <%s>; "+
		"%s\r\n",
		clean(s.from), a.Address, from, s.receiver.config.Domain, with, a.Address, now.Format(time.RFC1123Z))
}

// message is one that is being taken in.
type message struct {
	memory bytes.Buffer
	file   *os.File
	size   int64
	header mail.Header
	ended  bool // the mark of its end came along with it
}

// take reads a message to its end. One that is cut is nobody's. What is refused for good
// is told.
func (s *session) take(in io.Reader) (*message, error) {
	m, err := s.read(in)
	var answer *smtp.SMTPError
	if errors.As(err, &answer) && !answer.Temporary() && s.receiver.config.Rejected != nil {
		for _, a := range s.to {
			s.receiver.config.Rejected(a, s.from, answer.Message)
		}
	}
	return m, err
}

func (s *session) read(in io.Reader) (*message, error) {
	m := &message{}
	if p := s.patient(); p != nil {
		p.message.Store(true)
		in = &untilEnd{r: in, conn: p}
	}
	n, err := io.Copy(&m.memory, io.LimitReader(in, inMemory))
	m.size = n
	if err == nil && n == inMemory {
		if m.file, err = os.CreateTemp(s.receiver.config.Spool, "coming-"); err == nil {
			n, err = io.Copy(m.file, in)
			m.size += n
		}
	}
	if err != nil {
		m.close()
		var answer *smtp.SMTPError
		if errors.As(err, &answer) {
			return nil, err // such as: too large
		}
		s.receiver.config.Log.Warn("a message was not taken in", "error", err)
		return nil, refuse(451, smtp.EnhancedCode{4, 3, 0}, "The message did not come whole; try again later")
	}
	if m.ended = s.patient() != nil && s.patient().ended.Load(); m.ended {
		m.size -= int64(len(".\r\n"))
	}
	m.header = mail.HeaderOf(m.memory.Bytes())
	if len(m.header.All("Received")) > 100 { // RFC 5321 section 6.3
		m.close()
		return nil, refuse(554, smtp.EnhancedCode{5, 4, 6}, "The message goes round in circles")
	}
	return m, nil
}

// open reads the message from its beginning.
func (m *message) open() (io.Reader, error) {
	data := m.memory.Bytes()
	skip := mail.EmptyLines(data) // a field before them would end the header
	r := io.Reader(bytes.NewReader(data[skip:]))
	if m.file != nil {
		if _, err := m.file.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
		r = io.MultiReader(r, m.file)
	}
	if m.ended {
		r = io.LimitReader(r, m.size-int64(skip))
	}
	return r, nil
}

func (m *message) close() {
	if m.file != nil {
		m.file.Close()
		_ = os.Remove(m.file.Name())
		m.file = nil
	}
}
