//go:build !linux

package child

import (
	"encoding/binary"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
)

// orders is the way on which a process is told what to do. Each order names the file that is to be read.
type orders struct{ near, far *os.File }

func newOrders() (*orders, error) {
	near, far, err := os.Pipe()
	return &orders{near, far}, err
}

func (o *orders) input() *os.File { return o.near }

func (o *orders) started() { o.near.Close() }

func (o *orders) close() { o.far.Close() }

type named struct {
	Order order  `json:"order"`
	File  string `json:"file"`
}

// send tells an order.
func (o *orders) send(what *order, file *os.File) error {
	path, err := filepath.Abs(file.Name())
	if err != nil {
		return err
	}
	data, err := json.Marshal(named{*what, path})
	if err != nil {
		return err
	}
	if len(data) > mostOrder {
		return errOrder
	}
	_, err = o.far.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(data))), data...))
	return err
}

// receive waits for an order; io.EOF says that there is none any more.
func receive() (o order, file *os.File, err error) {
	var head [4]byte
	if _, err := io.ReadFull(os.Stdin, head[:]); err != nil {
		return o, nil, err
	}
	size := binary.BigEndian.Uint32(head[:])
	if size > mostOrder {
		return o, nil, errOrder
	}
	data := make([]byte, size)
	if _, err := io.ReadFull(os.Stdin, data); err != nil {
		return o, nil, err
	}
	var told named
	if err := json.Unmarshal(data, &told); err != nil {
		return o, nil, err
	}
	file, err = os.Open(told.File)
	return told.Order, file, err
}
