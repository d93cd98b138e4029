package child

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"net"
	"os"
	"runtime"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// orders is the way on which a process is told what to do. Each order brings the file that is to be read, opened:
// the process that reads opens nothing by name.
type orders struct {
	conn *net.UnixConn
	near *os.File // the child's end, until it was started
}

func newOrders() (*orders, error) {
	pair, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	far := os.NewFile(uintptr(pair[0]), "orders")
	near := os.NewFile(uintptr(pair[1]), "orders")
	conn, err := net.FileConn(far)
	if err = errors.Join(err, far.Close()); err != nil {
		return nil, errors.Join(err, near.Close())
	}
	return &orders{conn: conn.(*net.UnixConn), near: near}, nil
}

func (o *orders) input() *os.File { return o.near }

// started lets go of the child's end, which only the child has now.
func (o *orders) started() { o.near.Close() }

func (o *orders) close() { o.conn.Close() }

// send tells an order.
func (o *orders) send(what *order, file *os.File) error {
	data, err := json.Marshal(what)
	if err != nil {
		return err
	}
	if len(data) > mostOrder {
		return errOrder
	}
	var head [4]byte
	binary.BigEndian.PutUint32(head[:], uint32(len(data)))
	if err := o.conn.SetWriteDeadline(time.Now().Add(10 * time.Second)); err != nil {
		return err
	}
	if _, _, err := o.conn.WriteMsgUnix(head[:], syscall.UnixRights(int(file.Fd())), nil); err != nil {
		return err
	}
	runtime.KeepAlive(file)
	_, err = o.conn.Write(data)
	return err
}

// receive waits for an order; io.EOF says that there is none any more.
func receive() (o order, file *os.File, err error) {
	head, rights := make([]byte, 4), make([]byte, syscall.CmsgSpace(4))
	n, some, _, _, err := unix.Recvmsg(0, head, rights, unix.MSG_CMSG_CLOEXEC|unix.MSG_WAITALL)
	for errors.Is(err, unix.EINTR) {
		n, some, _, _, err = unix.Recvmsg(0, head, rights, unix.MSG_CMSG_CLOEXEC|unix.MSG_WAITALL)
	}
	if err == nil && n == 0 {
		err = io.EOF
	}
	if err != nil {
		return o, nil, err
	}
	messages, err := syscall.ParseSocketControlMessage(rights[:some])
	if err != nil || len(messages) != 1 || n != len(head) {
		return o, nil, errors.Join(errOrder, err)
	}
	fds, err := syscall.ParseUnixRights(&messages[0])
	if err != nil || len(fds) != 1 {
		return o, nil, errors.Join(errOrder, err)
	}
	file = os.NewFile(uintptr(fds[0]), "item")
	size := binary.BigEndian.Uint32(head)
	if size > mostOrder {
		return o, file, errOrder
	}
	data := make([]byte, size)
	for at := 0; at < len(data); {
		n, err := unix.Read(0, data[at:])
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil || n == 0 {
			return o, file, errors.Join(io.ErrUnexpectedEOF, err)
		}
		at += n
	}
	err = json.Unmarshal(data, &o)
	return o, file, err
}
