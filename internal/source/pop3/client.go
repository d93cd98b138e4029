package pop3

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/emersion/go-sasl"

	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/source"
)

// maxAnswer bounds a line of the server's, in octets (RFC 1939 section 3 has 512).
const maxAnswer = 64 << 10

// refusal is an answer that begins with -ERR. Its code is the one of RFC 2449
// section 8, "" where there is none.
type refusal struct{ code, text string }

func (r *refusal) Error() string { return r.text }

// conn is one session of the protocol (RFC 1939).
type conn struct {
	net     net.Conn
	in      *bufio.Reader
	timeout time.Duration
	caps    map[string][]string
	uidl    map[string]int // unique-ids of the messages, and their numbers in this session
	order   []string       // unique-ids, in the server's order
	sizes   map[int]int64
}

func (c *conn) use(n net.Conn) { c.net, c.in = n, bufio.NewReaderSize(n, 32<<10) }

// line reads one line without its end.
func (c *conn) line() (string, error) {
	if err := c.net.SetReadDeadline(time.Now().Add(c.timeout)); err != nil {
		return "", err
	}
	var all []byte
	for {
		some, err := c.in.ReadSlice('\n')
		all = append(all, some...)
		switch {
		case errors.Is(err, bufio.ErrBufferFull) && len(all) < maxAnswer:
		case err == io.EOF:
			return "", io.ErrUnexpectedEOF
		case err != nil:
			return "", err
		default:
			return strings.TrimRight(string(all), "\r\n"), nil
		}
	}
}

// reply reads a status line. more says that the server asks for more (RFC 5034).
func (c *conn) reply() (text string, more bool, err error) {
	line, err := c.line()
	if err != nil {
		return "", false, err
	}
	word, text, _ := strings.Cut(line, " ")
	text = strings.TrimSpace(text)
	switch word {
	case "+OK":
		return text, false, nil
	case "+":
		return text, true, nil
	case "-ERR":
		r := &refusal{text: text}
		if code, rest, coded := strings.Cut(strings.TrimPrefix(text, "["), "]"); coded && strings.HasPrefix(text, "[") {
			r.code, r.text = strings.ToUpper(code), strings.TrimSpace(rest)
		}
		return "", false, r
	}
	return "", false, fmt.Errorf("it says %.60q, which is not an answer of POP3", line)
}

func (c *conn) say(format string, args ...any) error {
	if err := c.net.SetWriteDeadline(time.Now().Add(c.timeout)); err != nil {
		return err
	}
	_, err := fmt.Fprintf(c.net, format+"\r\n", args...)
	return err
}

func (c *conn) do(format string, args ...any) (string, error) {
	if err := c.say(format, args...); err != nil {
		return "", err
	}
	text, _, err := c.reply()
	return text, err
}

// list does a command whose answer has several lines.
func (c *conn) list(command string, each func(line string)) error {
	if _, err := c.do("%s", command); err != nil {
		return err
	}
	for {
		line, err := c.line()
		if err != nil {
			return err
		}
		if line == "." {
			return nil
		}
		each(strings.TrimPrefix(line, "."))
	}
}

// capabilities asks what the server can (RFC 2449). One that does not know the
// question can what RFC 1939 says.
func (c *conn) capabilities() error {
	c.caps = map[string][]string{}
	err := c.list("CAPA", func(line string) {
		if words := strings.Fields(strings.ToUpper(line)); len(words) > 0 {
			c.caps[words[0]] = words[1:]
		}
	})
	var no *refusal
	if errors.As(err, &no) {
		c.caps["USER"], c.caps["UIDL"] = []string{}, []string{}
		return nil
	}
	return err
}

func (c *conn) has(mechanism string) bool { return slices.Contains(c.caps["SASL"], mechanism) }

// open connects and signs in, telling each step that is done.
func open(ctx context.Context, config *Config, ok func(step source.Step, format string, args ...any)) (*conn, error) {
	plain, tlsConfig, err := config.Connect(ctx, ok)
	if err != nil {
		return nil, err
	}
	c := &conn{timeout: config.timeout()}
	c.use(plain)
	stop := context.AfterFunc(ctx, func() { plain.Close() })
	defer stop()
	fail := func(err error) (*conn, error) {
		plain.Close()
		return nil, err
	}
	if _, _, err := c.reply(); err != nil {
		return fail(&source.Error{Step: source.Connection,
			Problem: fmt.Sprintf("the server at %s does not speak POP3 (%v)", config.Address(), reach.Cause(err)),
			Advice:  "Check the port: " + config.Ports + ".", Err: err})
	}
	if err := c.capabilities(); err != nil {
		return fail(lost("asking what the server can", err))
	}
	if config.Encryption == reach.StartTLS {
		if _, err := c.do("STLS"); err != nil { // RFC 2595 section 4
			return fail(&source.Error{Step: source.Encryption,
				Problem: fmt.Sprintf("the server at %s begins no encryption (%v)", config.Address(), reach.Cause(err)),
				Advice:  "Choose tls, on port 995.", Lasting: true, Err: err})
		}
		if c.in.Buffered() > 0 { // said before anybody could know who says it
			return fail(&source.Error{Step: source.Encryption, Problem: "the server said more before the encryption began",
				Advice: "Choose tls, on port 995."})
		}
		secured := tls.Client(plain, tlsConfig)
		if err := secured.HandshakeContext(ctx); err != nil {
			return fail(config.Explain(err))
		}
		c.use(secured)
		if err := c.capabilities(); err != nil {
			return fail(lost("asking what the server can", err))
		}
	}
	ok(source.Encryption, "%s", config.Secured())
	if err := c.signIn(config); err != nil {
		return fail(err)
	}
	ok(source.SignIn, "signed in as %s", config.Username)
	return c, nil
}

// signIn signs in: by a token, by SASL PLAIN (RFC 5034), or by name and password.
func (c *conn) signIn(config *Config) error {
	var err error
	advice := "Check both; some providers want a password made for programs."
	switch {
	case config.Token != "":
		client := config.Bearer(config.Username, config.Token, c.has)
		if client == nil {
			return &source.Error{Step: source.SignIn,
				Problem: "the server takes no tokens: it announces neither OAUTHBEARER nor XOAUTH2",
				Advice:  "Sign in with a password instead.", Lasting: true}
		}
		advice = "Sign in again."
		err = c.authenticate(client)
	case c.has(sasl.Plain):
		err = c.authenticate(sasl.NewPlainClient("", config.Username, config.Password))
	default:
		if strings.ContainsAny(config.Username+config.Password, "\r\n") {
			return &source.Error{Step: source.SignIn, Problem: "name or password holds a line end", Advice: "Enter them " +
				"again.",
				Lasting: true}
		}
		if _, err = c.do("USER %s", config.Username); err == nil {
			_, err = c.do("PASS %s", config.Password)
		}
	}
	var no *refusal
	switch {
	case err == nil:
		return nil
	case !errors.As(err, &no):
		return &source.Error{Step: source.SignIn,
			Problem: fmt.Sprintf("the connection ended while signing in (%v)", reach.Cause(err)), Err: err}
	case no.code == "IN-USE":
		return &source.Error{Step: source.SignIn, Problem: "another program has the mailbox open now (" + no.text + ")",
			Advice: "A POP3 mailbox can be open once. Ink Tray tries again by itself.", Err: err}
	case no.code == "LOGIN-DELAY" || no.code == "SYS/TEMP":
		e := &source.Error{Step: source.SignIn, Problem: "the server asks to wait (" + no.text + ")",
			Advice: "Ink Tray tries again by itself; a longer interval may help.", Err: err}
		e.Slow, e.After = reach.SlowDown(no.text)
		return e
	}
	e := &source.Error{Step: source.SignIn,
		Problem: fmt.Sprintf("the server refuses the name %q or its password (%s)", config.Username, no.text), Advice: advice,
		Lasting: true, Err: err}
	if config.Token != "" {
		e.Problem = fmt.Sprintf("the server refuses the name %q or the consent that was given (%s)", config.Username, no.text)
		e.Err = errors.Join(reach.ErrToken, err)
	}
	return e
}

// authenticate goes through a SASL exchange (RFC 5034 section 4). The first answer
// goes in a line of its own: a token is longer than a command may be.
func (c *conn) authenticate(client sasl.Client) error {
	mechanism, first, err := client.Start()
	if err != nil {
		return err
	}
	if err := c.say("AUTH %s", mechanism); err != nil {
		return err
	}
	for answer := first; ; {
		said, more, err := c.reply()
		if err != nil || !more {
			return err
		}
		if answer == nil {
			challenge, err := base64.StdEncoding.DecodeString(said)
			if err != nil {
				return err
			}
			if answer, err = client.Next(challenge); err != nil {
				answer = []byte{} // the server says why, once it has an answer
			}
		}
		if err := c.say("%s", base64.StdEncoding.EncodeToString(answer)); err != nil {
			return err
		}
		answer = nil
	}
}

// look lists the messages by their unique-ids and sizes.
func (c *conn) look() error {
	c.uidl, c.order, c.sizes = map[string]int{}, nil, map[int]int64{}
	err := c.list("UIDL", func(line string) {
		number, id, _ := strings.Cut(strings.TrimSpace(line), " ")
		n, err := strconv.Atoi(number)
		id = strings.TrimSpace(id)
		if _, twice := c.uidl[id]; err == nil && id != "" && !twice {
			c.uidl[id] = n
			c.order = append(c.order, id)
		}
	})
	var no *refusal
	if errors.As(err, &no) {
		return &source.Error{Step: source.Folders,
			Problem: "the server gives messages no lasting identities (UIDL), so that it cannot be told which were filed (" +
				no.text + ")", Advice: "Use IMAP for this mailbox.", Lasting: true, Err: err}
	}
	if err == nil {
		err = c.list("LIST", func(line string) {
			number, size, _ := strings.Cut(strings.TrimSpace(line), " ")
			n, numberErr := strconv.Atoi(number)
			octets, sizeErr := strconv.ParseInt(strings.Fields(size + " 0")[0], 10, 64)
			if numberErr == nil && sizeErr == nil {
				c.sizes[n] = octets
			}
		})
	}
	if err != nil {
		return lost("listing the messages", err)
	}
	return nil
}

// retrieve writes a message to a writer as it was sent. Most servers mark it as read then.
func (c *conn) retrieve(number int, w io.Writer) error {
	return c.content(w, "RETR %d", number)
}

// allLines is more lines than a message has.
const allLines = 99_999_999

// offersTop says whether the server knows TOP (RFC 2449 section 6.2).
func (c *conn) offersTop() bool { _, ok := c.caps["TOP"]; return ok }

// top writes a message as TOP gives it (RFC 1939 section 7), which does not mark it as read:
// all of it, if the server counts no further than it has lines.
func (c *conn) top(number int, w io.Writer) error {
	return c.content(w, "TOP %d %d", number, allLines)
}

// content writes what a command answers, without the dots of the protocol.
func (c *conn) content(w io.Writer, format string, args ...any) error {
	if _, err := c.do(format, args...); err != nil {
		return err
	}
	begin := true
	for {
		if err := c.net.SetReadDeadline(time.Now().Add(c.timeout)); err != nil {
			return err
		}
		some, err := c.in.ReadSlice('\n')
		if err == io.EOF {
			return io.ErrUnexpectedEOF
		}
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			return err
		}
		ends := err == nil
		if begin && len(some) > 0 && some[0] == '.' {
			if ends && strings.TrimRight(string(some), "\r\n") == "." {
				return nil
			}
			some = some[1:]
		}
		if _, err := w.Write(some); err != nil {
			return &writing{err}
		}
		begin = ends
	}
}

// writing is an error of the side that writes, not of the server.
type writing struct{ error }

func (w *writing) Unwrap() error { return w.error }

// quit lets the server delete what was marked, and ends the session.
func (c *conn) quit() error {
	_, err := c.do("QUIT")
	return errors.Join(err, c.net.Close())
}

// lost says what went wrong in an exchange.
func lost(doing string, err error) error {
	var no *refusal
	if errors.As(err, &no) {
		return &source.Error{Step: source.Folders, Problem: fmt.Sprintf("%s: the server refuses (%s)", doing, no.text),
			Err: err}
	}
	return &source.Error{Step: source.Connection,
		Problem: fmt.Sprintf("%s: the connection ended (%v)", doing, reach.Cause(err)), Err: err}
}
