package reach

import (
	"net"
	"syscall"

	"golang.org/x/sys/unix"
)

// prompt is a connection that acknowledges what comes at once.
type prompt struct {
	net.Conn
	raw syscall.RawConn
}

// promptly lets a connection acknowledge at once. A server that sends an answer in two pieces waits, by Nagle's
// algorithm (RFC 9293 section 3.7.4), for the acknowledgement of the first before it sends the second. The system
// delays that by 40 ms.
func promptly(c net.Conn) net.Conn {
	tcp, ok := c.(*net.TCPConn)
	if !ok {
		return c
	}
	raw, err := tcp.SyscallConn()
	if err != nil {
		return c
	}
	return &prompt{c, raw}
}

// Read asks for it each time, since the system goes back to delays by itself (tcp(7), TCP_QUICKACK).
func (p *prompt) Read(b []byte) (int, error) {
	_ = p.raw.Control(func(fd uintptr) { // where it fails, it is only slower
		_ = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_QUICKACK, 1)
	})
	return p.Conn.Read(b)
}
