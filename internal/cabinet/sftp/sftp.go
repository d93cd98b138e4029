// Package sftp keeps files on an SFTP server (SSH File Transfer Protocol, version 3).
package sftp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/reach"
)

// Config says which server, and where on it.
type Config struct {
	Server   reach.Server
	Path     string // of the cabinet's place on the server; "/~/x" is within the account's own folder
	Username string
	Secret   string // a password, or a private key in PEM form
	HostKey  string // fingerprint of the server's key as ssh-keygen -l prints it: SHA256:...
}

const (
	silence   = time.Minute      // how long the server may say nothing while it is asked
	idle      = 20 * time.Second // after that it is asked whether it is still there
	handshake = 30 * time.Second
)

// Tree is a folder of an SFTP server. One connection serves all calls.
type Tree struct {
	config Config
	base   string

	mutex sync.Mutex
	link  *link
}

// New gives a tree. The server is met at first use.
func New(c Config) *Tree {
	base := strings.TrimSuffix(c.Path, "/")
	switch {
	case c.Path == "" || c.Path == "/~":
		base = "."
	case strings.HasPrefix(c.Path, "/~/"):
		base = strings.TrimPrefix(base, "/~/")
	case base == "":
		base = "/"
	}
	return &Tree{config: c, base: base}
}

// Place is the address.
func (t *Tree) Place() string {
	return "the folder sftp://" + t.config.Server.Address() + "/" + strings.TrimPrefix(t.config.Path, "/")
}

// Replaces says how.
func (t *Tree) Replaces() string { return "by posix-rename@openssh.com" }

// link is a connection, and when something went over it last.
type link struct {
	net.Conn
	ssh   *ssh.Client
	sftp  *sftp.Client
	moved atomic.Int64 // Unix nanoseconds
	calls atomic.Int64 // under way
	ended chan struct{}
	close sync.Once
}

func (l *link) Read(p []byte) (int, error) {
	n, err := l.Conn.Read(p)
	l.moved.Store(time.Now().UnixNano())
	return n, err
}

func (l *link) Write(p []byte) (int, error) {
	n, err := l.Conn.Write(p)
	l.moved.Store(time.Now().UnixNano())
	return n, err
}

// end ends the connection, and with it whatever waits for it: the protocol's library
// knows no deadlines.
func (l *link) end() {
	l.close.Do(func() {
		close(l.ended)
		l.Conn.Close()
	})
}

// watch ends a connection over which nothing comes while it is asked.
func (l *link) watch() {
	tick := time.NewTicker(silence / 12)
	defer tick.Stop()
	for {
		select {
		case <-l.ended:
			return
		case <-tick.C:
			if l.calls.Load() > 0 && time.Since(time.Unix(0, l.moved.Load())) > silence {
				l.end()
				return
			}
		}
	}
}

// Close ends the connection.
func (t *Tree) Close() error {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if t.link != nil {
		t.link.end()
		t.link = nil
	}
	return nil
}

// reached gives the connection, making it where there is none that works.
func (t *Tree) reached(ctx context.Context) (*link, error) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if l := t.link; l != nil {
		if l.calls.Load() > 0 || time.Since(time.Unix(0, l.moved.Load())) < idle {
			return l, nil
		}
		l.calls.Add(1)
		l.moved.Store(time.Now().UnixNano())
		_, err := l.sftp.RealPath(".")
		l.calls.Add(-1)
		if err == nil {
			return l, nil
		}
		l.end()
		t.link = nil
	}
	l, err := t.dial(ctx)
	if err != nil {
		return nil, err
	}
	t.link = l
	return l, nil
}

func (t *Tree) dial(ctx context.Context) (*link, error) {
	conn, _, err := t.config.Server.Connect(ctx, func(reach.Step, string, ...any) {})
	if err != nil {
		var step *reach.Error
		if errors.As(err, &step) {
			return nil, &cabinet.Error{Problem: string(step.Step) + ": " + step.Problem, Advice: step.Advice, Err: err}
		}
		return nil, err
	}
	if err := conn.SetDeadline(time.Now().Add(handshake)); err != nil {
		conn.Close()
		return nil, err
	}
	l := &link{Conn: conn, ended: make(chan struct{})}
	auth, err := t.auth()
	if err != nil {
		conn.Close()
		return nil, err
	}
	var other error
	known := false // the server has shown its key, so what comes next is to sign in
	opened, channels, requests, err := ssh.NewClientConn(l, t.config.Server.Address(), &ssh.ClientConfig{
		User: t.config.Username, Auth: auth, Timeout: handshake,
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			other = t.known(key)
			known = other == nil
			return other
		},
	})
	if err != nil {
		conn.Close()
		if other != nil {
			return nil, other
		}
		var network net.Error
		if known && !errors.As(err, &network) && !errors.Is(err, io.EOF) {
			return nil, &cabinet.Error{Problem: "the server refuses the name, or the password or key", Advice: "Correct them.",
				Err: err}
		}
		return nil, &cabinet.Error{
			Problem: fmt.Sprintf("the server at %s does not come to terms (%v)", t.config.Server.Address(), reach.Cause(err)),
			Advice:  "Check host and port: SFTP mostly has port 22.", Err: err}
	}
	l.ssh = ssh.NewClient(opened, channels, requests)
	l.sftp, err = sftp.NewClient(l.ssh, sftp.UseConcurrentWrites(true))
	if err == nil {
		err = conn.SetDeadline(time.Time{})
	}
	if err != nil {
		l.end()
		return nil, &cabinet.Error{Problem: fmt.Sprintf("the server lets this account in, but not to files (%v)", err),
			Advice: "Let the account use SFTP, on the server.", Err: err}
	}
	l.moved.Store(time.Now().UnixNano())
	go l.watch()
	return l, nil
}

func (t *Tree) auth() ([]ssh.AuthMethod, error) {
	if !strings.HasPrefix(strings.TrimSpace(t.config.Secret), "-----BEGIN") {
		answer := func(_, _ string, questions []string, _ []bool) ([]string, error) {
			answers := make([]string, len(questions))
			for i := range answers {
				answers[i] = t.config.Secret
			}
			return answers, nil
		}
		return []ssh.AuthMethod{ssh.Password(t.config.Secret), ssh.KeyboardInteractive(answer)}, nil
	}
	key, err := ssh.ParsePrivateKey([]byte(t.config.Secret))
	var locked *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &locked):
		return nil, &cabinet.Error{Problem: "the private key is locked by a passphrase",
			Advice: "Give a key without one; it is kept sealed here.", Lasting: true}
	case err != nil:
		return nil, &cabinet.Error{Problem: fmt.Sprintf("the private key cannot be read (%v)", err),
			Advice: "Give it as ssh-keygen writes it.", Lasting: true}
	}
	return []ssh.AuthMethod{ssh.PublicKeys(key)}, nil
}

// known says whether the server's key is the one that was given. No key is trusted
// unseen.
func (t *Tree) known(key ssh.PublicKey) error {
	met := ssh.FingerprintSHA256(key)
	switch strings.TrimSpace(t.config.HostKey) {
	case met:
		return nil
	case "":
		return &cabinet.Error{Problem: "the server's host key is not confirmed yet: it is " + met,
			Advice: "Ask the administrator of the server for the fingerprint (ssh-keygen -lf). If it is the same, give it " +
				"as the host key."}
	}
	return &cabinet.Error{Problem: "the server's host key is another one: " + met, Advice: "If the server was set up " +
		"again, ask its administrator for the new key and give that. If not, another server may answer in its place."}
}

// call does something over the connection and says what its failure means.
func (t *Tree) call(ctx context.Context, f func(c *sftp.Client) error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	l, err := t.reached(ctx)
	if err != nil {
		return err
	}
	l.calls.Add(1)
	l.moved.Store(time.Now().UnixNano())
	err = f(l.sftp)
	l.calls.Add(-1)
	return t.explain(l, err)
}

// lost says whether an error is the connection's.
func lost(err error) bool {
	return errors.Is(err, sftp.ErrSSHFxConnectionLost) || errors.Is(err, sftp.ErrSSHFxNoConnection) ||
		errors.Is(err, net.ErrClosed) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
}

func (t *Tree) explain(l *link, err error) error {
	var told *cabinet.Error
	switch {
	case err == nil || errors.As(err, &told) || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrExist):
		return err
	case lost(err):
		t.mutex.Lock()
		if t.link == l {
			t.link = nil
		}
		t.mutex.Unlock()
		l.end()
		return &cabinet.Error{Problem: "the server broke off", Advice: "Ink Tray tries again. If it happens often, ask " +
			"the administrator of the server.", Err: err}
	case errors.Is(err, fs.ErrPermission):
		return &cabinet.Error{Problem: "the server does not permit it", Advice: "Give this account the right to write " +
			"there, on the server.", Err: err}
	}
	return &cabinet.Error{Problem: fmt.Sprintf("the server says: %v", err), Advice: "Check on the server what blocks " +
		"it.", Err: err}
}

func (t *Tree) at(name string) string { return path.Join(t.base, name) }

// Create writes a new file and flushes it where the server can (fsync@openssh.com).
func (t *Tree) Create(ctx context.Context, name string, modified time.Time, r io.Reader) error {
	return t.call(ctx, func(c *sftp.Client) error {
		full := t.at(name)
		f, err := c.OpenFile(full, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			if _, there := c.Lstat(full); there == nil {
				if err := c.Remove(full); err != nil {
					return err
				}
				f, err = c.OpenFile(full, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
			}
		}
		if err != nil {
			return err
		}
		_, err = f.ReadFromWithConcurrency(r, 0)
		if err == nil {
			if err = f.Sync(); unsupported(err) {
				err = nil
			}
		}
		if closeErr := f.Close(); err == nil {
			err = closeErr
		}
		if err == nil && !modified.IsZero() {
			err = c.Chtimes(full, modified, modified)
		}
		if failure(err) && t.full(c) {
			return &cabinet.Error{Problem: "there is no room left on the server", Advice: "Free some space. Ink Tray then " +
				"files what waits.", Err: err}
		}
		return err
	})
}

// failure says whether the server said no more than that it failed.
func failure(err error) bool {
	var s *sftp.StatusError
	return errors.As(err, &s) && s.FxCode() == sftp.ErrSSHFxFailure
}

func unsupported(err error) bool {
	var s *sftp.StatusError
	return errors.As(err, &s) && s.FxCode() == sftp.ErrSSHFxOpUnsupported
}

func (t *Tree) full(c *sftp.Client) bool {
	room, err := c.StatVFS(t.base)
	return err == nil && room.Bavail == 0
}

// file is an open file whose connection is watched while it is read.
type file struct {
	*sftp.File
	tree *Tree
	link *link
}

func (f *file) Read(p []byte) (int, error) {
	n, err := f.File.Read(p)
	if err != nil && err != io.EOF {
		err = f.tree.explain(f.link, err)
	}
	return n, err
}

func (f *file) Close() error {
	err := f.File.Close()
	f.link.calls.Add(-1)
	return f.tree.explain(f.link, err)
}

// Open opens a file.
func (t *Tree) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	l, err := t.reached(ctx)
	if err != nil {
		return nil, err
	}
	l.calls.Add(1)
	l.moved.Store(time.Now().UnixNano())
	// What is no file is not opened: a pipe would keep the server waiting, and all others with it.
	info, err := l.sftp.Lstat(t.at(name))
	if err == nil && info.Mode()&fs.ModeSymlink != 0 {
		info, err = t.behind(l.sftp, name)
	}
	if err == nil && !info.Mode().IsRegular() {
		err = fs.ErrNotExist
	}
	var f *sftp.File
	if err == nil {
		f, err = l.sftp.Open(t.at(name))
	}
	if err != nil {
		l.calls.Add(-1)
		return nil, t.explain(l, err)
	}
	return &file{f, t, l}, nil
}

// behind looks at what a link leads to: fs.ErrNotExist where that is nothing, or is outside of the cabinet.
func (t *Tree) behind(c *sftp.Client, name string) (fs.FileInfo, error) {
	top, err := c.RealPath(t.at(""))
	if err != nil {
		return nil, err
	}
	real, err := c.RealPath(t.at(name))
	if err != nil || real != top && !strings.HasPrefix(real, strings.TrimSuffix(top, "/")+"/") {
		return nil, fs.ErrNotExist
	}
	info, err := c.Lstat(real)
	if err != nil || info.Mode()&fs.ModeSymlink != 0 {
		return nil, fs.ErrNotExist
	}
	return info, nil
}

func entry(info fs.FileInfo) cabinet.Entry {
	e := cabinet.Entry{Name: info.Name(), Folder: info.IsDir(), Other: !info.IsDir() && !info.Mode().IsRegular(),
		Modified: info.ModTime()}
	if !e.Folder {
		e.Size = info.Size()
	}
	return e
}

// Stat looks at one name.
func (t *Tree) Stat(ctx context.Context, name string) (e cabinet.Entry, err error) {
	err = t.call(ctx, func(c *sftp.Client) error {
		look := c.Lstat
		if name == "" {
			look = c.Stat // the place itself may be reached by a link
		}
		info, err := look(t.at(name))
		if err == nil {
			e = entry(info)
		}
		return err
	})
	return e, err
}

// List looks into a folder. What is no plain name is passed over: nothing from a
// server leads out of the folder.
func (t *Tree) List(ctx context.Context, folder string) (all []cabinet.Entry, err error) {
	err = t.call(ctx, func(c *sftp.Client) error {
		infos, err := c.ReadDirContext(ctx, t.at(folder))
		if err != nil {
			if info, statErr := c.Stat(t.at(folder)); statErr == nil && !info.IsDir() {
				return fs.ErrNotExist
			}
			return err
		}
		for _, info := range infos {
			if n := info.Name(); n != "" && n != "." && n != ".." && !strings.ContainsAny(n, "/\x00") {
				e := entry(info)
				if info.Mode()&fs.ModeSymlink != 0 {
					if behind, err := t.behind(c, path.Join(folder, n)); err == nil {
						e = entry(behind)
						e.Name = n
					}
				}
				all = append(all, e)
			}
		}
		return nil
	})
	return all, err
}

// Mkdir makes a folder.
func (t *Tree) Mkdir(ctx context.Context, folder string) error {
	return t.call(ctx, func(c *sftp.Client) error {
		err := c.Mkdir(t.at(folder))
		if failure(err) || errors.Is(err, fs.ErrPermission) {
			if _, there := c.Lstat(t.at(folder)); there == nil {
				return fs.ErrExist
			}
		}
		return err
	})
}

// Move renames. By the protocol's first version of rename a name that is taken is
// refused; OpenSSH links and unlinks, so that it holds with two at once as well.
func (t *Tree) Move(ctx context.Context, from, to string) error {
	return t.call(ctx, func(c *sftp.Client) error {
		err := c.Rename(t.at(from), t.at(to))
		if err == nil || lost(err) {
			return err
		}
		if _, there := c.Lstat(t.at(from)); errors.Is(there, fs.ErrNotExist) {
			return fs.ErrNotExist
		}
		if _, there := c.Lstat(t.at(to)); there == nil {
			return fs.ErrExist
		}
		return err
	})
}

// Replace renames over what is there.
func (t *Tree) Replace(ctx context.Context, from, to string) error {
	return t.call(ctx, func(c *sftp.Client) error {
		if _, has := c.HasExtension("posix-rename@openssh.com"); !has {
			return &cabinet.Error{Problem: "the server cannot put a file in the place of another in one step (it has no " +
				"posix-rename@openssh.com)", Advice: "Keep registers in another cabinet; filing is not touched by it.",
				Lasting: true}
		}
		return c.PosixRename(t.at(from), t.at(to))
	})
}

// Remove removes a file.
func (t *Tree) Remove(ctx context.Context, name string) error {
	return t.call(ctx, func(c *sftp.Client) error { return c.Remove(t.at(name)) })
}

// RemoveFolder removes a folder by SSH_FXP_RMDIR (draft-ietf-secsh-filexfer-02 section 6.6),
// which servers refuse where something is in it.
func (t *Tree) RemoveFolder(ctx context.Context, folder string) error {
	err := t.call(ctx, func(c *sftp.Client) error { return c.RemoveDirectory(t.at(folder)) })
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if entries, listErr := t.List(ctx, folder); listErr == nil && len(entries) > 0 {
		return cabinet.ErrNotEmpty
	}
	return err
}

// Room asks by statvfs@openssh.com.
func (t *Tree) Room(ctx context.Context) (room int64, err error) {
	room = -1
	err = t.call(ctx, func(c *sftp.Client) error {
		if _, has := c.HasExtension("statvfs@openssh.com"); !has {
			return nil
		}
		found, err := c.StatVFS(t.base)
		if unsupported(err) { // some announce it all the same
			return nil
		}
		if err == nil {
			room = int64(found.Bavail * found.Frsize)
		}
		return err
	})
	return room, err
}
