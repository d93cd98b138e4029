package demo

import (
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"github.com/emersion/go-smtp"
)

// Desk takes what the harbour office sends: mail by SMTP and calls by HTTP, on
// loopback. Each is in a folder as a file, to be looked at.
type Desk struct {
	mail   net.Listener
	calls  net.Listener
	smtp   *smtp.Server
	http   *http.Server
	folder string
	count  atomic.Int64
}

// StartDesk listens on two free ports and writes what comes into a folder:
// mail as .eml, calls as .json.
func StartDesk(folder string) (*Desk, error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	d := &Desk{folder: folder}
	var err error
	if d.mail, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	if d.calls, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		d.mail.Close()
		return nil, err
	}
	d.smtp = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &taking{d}, nil }))
	d.smtp.Domain, d.smtp.MaxMessageBytes, d.smtp.ReadTimeout, d.smtp.ErrorLog = "localhost", 32<<20, time.Minute,
		log.New(io.Discard, "", 0)
	d.http = &http.Server{ReadTimeout: time.Minute,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if err := d.keep("call", ".json", io.LimitReader(r.Body, 1<<20)); err != nil {
				http.Error(w, "the call could not be kept", http.StatusInternalServerError)
				return
			}
			w.WriteHeader(http.StatusNoContent)
		})}
	go d.smtp.Serve(d.mail)
	go d.http.Serve(d.calls)
	return d, nil
}

// MailPort is where mail is taken.
func (d *Desk) MailPort() int { return d.mail.Addr().(*net.TCPAddr).Port }

// URL is where calls are taken.
func (d *Desk) URL() string { return "http://" + d.calls.Addr().String() + "/events" }

// Close ends both.
func (d *Desk) Close() error { return errors.Join(d.smtp.Close(), d.http.Close()) }

func (d *Desk) keep(kind, ext string, r io.Reader) error {
	name := fmt.Sprintf("%s %03d%s", kind, d.count.Add(1), ext)
	f, err := os.Create(filepath.Join(d.folder, name))
	if err != nil {
		return err
	}
	_, err = io.Copy(f, r)
	return errors.Join(err, f.Close())
}

// taking is one SMTP session; everybody may send.
type taking struct{ desk *Desk }

func (t *taking) Reset()                               {}
func (t *taking) Logout() error                        { return nil }
func (t *taking) Mail(string, *smtp.MailOptions) error { return nil }
func (t *taking) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (t *taking) Data(r io.Reader) error {
	if err := t.desk.keep("mail", ".eml", r); err != nil {
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "the mail could not be kept"}
	}
	return nil
}
