package testbed

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
)

// IMAPProblem is a way in which an exchange with a mail server goes wrong.
type IMAPProblem string

// The problems.
const (
	CutBefore IMAPProblem = "the connection is cut before the answer"
	CutInside IMAPProblem = "the connection is cut inside the answer"
	CutAfter  IMAPProblem = "the connection is cut after the answer"
	SaysNo    IMAPProblem = "the server answers NO"
	SaysBye   IMAPProblem = "the server says BYE"
	Throttles IMAPProblem = "the server asks to wait (THROTTLED)"
	Stalls    IMAPProblem = "the server does not answer"
	SaysNil   IMAPProblem = "the server gives NIL"
	TooShort  IMAPProblem = "the server gives less than it announced"
	Renumbers IMAPProblem = "the folder is numbered anew (UIDVALIDITY)"
)

// IMAPProblems are all of them.
var IMAPProblems = []IMAPProblem{CutBefore, CutInside, CutAfter, SaysNo, SaysBye, Throttles, Stalls, SaysNil, TooShort,
	Renumbers}

// IMAPProxy is in front of an IMAP server, without encryption, and breaks exchanges.
type IMAPProxy struct {
	Host string
	Port int

	target string
	mutex  sync.Mutex
	broken *regexp.Regexp // of commands, without their tags; nil while all is well
	how    IMAPProblem
	left   int // how often it strikes yet
	struck int
	then   func() // what follows once it has struck for the last time; called under the lock
	shift  uint32 // by which every UIDVALIDITY is higher than the server's
	conns  map[net.Conn]bool
	down   bool
}

// StartIMAPProxy starts a proxy before the server at a port of this machine.
func StartIMAPProxy(t testing.TB, port int) *IMAPProxy {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	p := &IMAPProxy{Host: "127.0.0.1", Port: l.Addr().(*net.TCPAddr).Port, target: fmt.Sprintf("127.0.0.1:%d", port),
		conns: map[net.Conn]bool{}}
	var running sync.WaitGroup
	running.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			running.Go(func() { p.serve(conn) })
		}
	})
	t.Cleanup(func() {
		l.Close()
		p.Cut()
		running.Wait()
	})
	return p
}

// Break lets commands that match go wrong so many times.
func (p *IMAPProxy) Break(commands string, how IMAPProblem, times int) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.broken, p.how, p.left, p.struck, p.then = regexp.MustCompile(commands), how, times, 0, nil
}

// BreakNext cuts the connection inside the answer to a command that matches first,
// and then lets commands that match go wrong so many times: what is done after a
// cut goes wrong, too.
func (p *IMAPProxy) BreakNext(first, commands string, how IMAPProblem, times int) {
	p.Break(first, CutInside, 1)
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.then = func() {
		p.broken, p.how, p.left, p.struck, p.then = regexp.MustCompile(commands), how, times, 0, nil
	}
}

// Heal lets everything go well again and says how often a command went wrong.
func (p *IMAPProxy) Heal() int {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.broken = nil
	return p.struck
}

// Struck says how often a command went wrong since Break.
func (p *IMAPProxy) Struck() int {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	return p.struck
}

// Down takes the server away, or brings it back.
func (p *IMAPProxy) Down(down bool) {
	p.mutex.Lock()
	p.down = down
	p.mutex.Unlock()
	if down {
		p.Cut()
	}
}

// Cut ends every connection.
func (p *IMAPProxy) Cut() {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	for c := range p.conns {
		c.Close()
	}
}

// strikes says what goes wrong with a command, "" for nothing.
func (p *IMAPProxy) strikes(command string) IMAPProblem {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.broken == nil || p.left == 0 || !p.broken.MatchString(command) {
		return ""
	}
	p.left--
	p.struck++
	how := p.how
	if how == Renumbers {
		p.shift++
	}
	if p.left == 0 && p.then != nil {
		p.then()
	}
	return how
}

// imapExchange is a command that was passed on.
type imapExchange struct {
	tag string
	how IMAPProblem
}

// imapConn is one connection through the proxy.
type imapConn struct {
	proxy          *IMAPProxy
	client, server net.Conn
	mutex          sync.Mutex // of what is written to the client
	open           []imapExchange
}

func (p *IMAPProxy) serve(client net.Conn) {
	defer client.Close()
	p.mutex.Lock()
	p.conns[client] = true
	down := p.down
	p.mutex.Unlock()
	defer func() {
		p.mutex.Lock()
		delete(p.conns, client)
		p.mutex.Unlock()
	}()
	if down {
		return
	}
	server, err := net.Dial("tcp", p.target)
	if err != nil {
		return
	}
	c := &imapConn{proxy: p, client: client, server: server}
	done := make(chan struct{})
	go func() {
		defer close(done)
		c.answers()
		c.end()
	}()
	c.commands()
	c.end()
	<-done
}

func (c *imapConn) end() {
	c.client.Close()
	c.server.Close()
}

func (c *imapConn) say(format string, args ...any) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	fmt.Fprintf(c.client, format, args...)
}

var literalAtEnd = regexp.MustCompile(`\{(\d+)\+?\}\r\n$`)

// commands passes commands on, until one of them ends the connection.
func (c *imapConn) commands() {
	in := bufio.NewReader(c.client)
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		tag, command, _ := strings.Cut(strings.TrimRight(line, "\r\n"), " ")
		how := IMAPProblem("")
		if command != "" {
			how = c.proxy.strikes(strings.ToUpper(command))
		}
		switch how {
		case CutBefore, Renumbers:
			return
		case SaysBye:
			c.say("* BYE the server goes down\r\n")
			return
		case SaysNo:
			c.say("%s NO something went wrong\r\n", tag)
			continue
		case Throttles:
			c.say("%s NO [THROTTLED] slow down\r\n", tag)
			continue
		case Stalls:
			io.Copy(io.Discard, in) // until the client gives up
			return
		}
		if command != "" {
			c.mutex.Lock()
			c.open = append(c.open, imapExchange{tag, how})
			c.mutex.Unlock()
		}
		if _, err := io.WriteString(c.server, line); err != nil {
			return
		}
		for { // a literal of the client's
			size := literalAtEnd.FindStringSubmatch(line)
			if size == nil {
				break
			}
			n, _ := strconv.ParseInt(size[1], 10, 64)
			if _, err := io.CopyN(c.server, in, n); err != nil {
				return
			}
			if line, err = in.ReadString('\n'); err != nil {
				return
			}
			if _, err := io.WriteString(c.server, line); err != nil {
				return
			}
		}
	}
}

// unit is one response: lines with the literals between them.
type unit struct {
	texts    []string // n+1 texts around
	literals [][]byte // n literals
}

func readUnit(in *bufio.Reader) (unit, error) {
	var u unit
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return u, err
		}
		size := literalAtEnd.FindStringSubmatch(line)
		if size == nil {
			u.texts = append(u.texts, line)
			return u, nil
		}
		n, _ := strconv.Atoi(size[1])
		data := make([]byte, n)
		if _, err := io.ReadFull(in, data); err != nil {
			return u, err
		}
		u.texts = append(u.texts, strings.TrimSuffix(line, size[0]))
		u.literals = append(u.literals, data)
	}
}

// bytes writes a unit; change gives what a literal becomes.
func (u *unit) bytes(change func(data []byte) string) []byte {
	var b bytes.Buffer
	for i, text := range u.texts {
		b.WriteString(text)
		if i < len(u.literals) {
			b.WriteString(change(u.literals[i]))
		}
	}
	return b.Bytes()
}

func whole(data []byte) string { return fmt.Sprintf("{%d}\r\n%s", len(data), data) }

var validity = regexp.MustCompile(`UIDVALIDITY (\d+)`)

// answers passes answers on, changed as their commands have it.
func (c *imapConn) answers() {
	in := bufio.NewReader(c.server)
	for {
		u, err := readUnit(in)
		if err != nil {
			return
		}
		c.proxy.mutex.Lock()
		shift := c.proxy.shift
		c.proxy.mutex.Unlock()
		for i := range u.texts {
			u.texts[i] = validity.ReplaceAllStringFunc(u.texts[i], func(found string) string {
				n, _ := strconv.ParseUint(strings.TrimPrefix(found, "UIDVALIDITY "), 10, 32)
				return fmt.Sprintf("UIDVALIDITY %d", uint32(n)+shift)
			})
		}
		how, ended := c.belongs(u.texts[0])
		change := whole
		switch {
		case how == SaysNil && !ended:
			change = func([]byte) string { return "NIL" }
		case how == TooShort && !ended:
			change = func(data []byte) string { return whole(data[:len(data)*2/3]) }
		}
		data := u.bytes(change)
		if how == CutInside {
			data = data[:len(data)/2]
		}
		c.mutex.Lock()
		_, err = c.client.Write(data)
		c.mutex.Unlock()
		if err != nil || how == CutInside || how == CutAfter && ended {
			return
		}
	}
}

// belongs says to which problem a response belongs, and whether it ends its command.
func (c *imapConn) belongs(text string) (how IMAPProblem, ended bool) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	for i := range c.open {
		if strings.HasPrefix(text, c.open[i].tag+" ") {
			how = c.open[i].how
			c.open = append(c.open[:i], c.open[i+1:]...)
			return how, true
		}
	}
	for i := range c.open {
		if c.open[i].how != "" {
			return c.open[i].how, false
		}
	}
	return "", false
}
