package demo

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
	"golang.org/x/net/webdav"
)

// PlacesName is who signs in to the places; the password is Password.
const PlacesName = "harbour"

// Places are small servers for files, one of each kind, on loopback: for trying
// cabinets without a server of one's own.
type Places struct {
	WebDAV  string // address of the folder
	SFTP    string
	HostKey string // fingerprint of the SFTP server's key
	Objects string // address of the bucket
	closers []func() error
}

// StartPlaces starts them over a folder of their own.
func StartPlaces(folder string) (*Places, error) {
	p := &Places{}
	var err error
	for _, start := range []func(string) error{p.startWebDAV, p.startSFTP, p.startObjects} {
		if err = start(folder); err != nil {
			return nil, errors.Join(err, p.Close())
		}
	}
	return p, nil
}

// Close ends them.
func (p *Places) Close() error {
	var err error
	for _, c := range p.closers {
		err = errors.Join(err, c())
	}
	return err
}

// serve answers HTTP on loopback to anyone who may.
func (p *Places) serve(h http.Handler) (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	s := &http.Server{Handler: h}
	p.closers = append(p.closers, s.Close)
	go s.Serve(l)
	return "http://" + l.Addr().String(), nil
}

func mayEnter(name, password string) bool {
	return subtle.ConstantTimeCompare([]byte(name+"\x00"+password), []byte(PlacesName+"\x00"+Password)) == 1
}

// whole lets what is put show only once it is whole.
type whole struct {
	webdav.Dir
	incoming string
}

func (w whole) at(name string) string {
	return filepath.Join(string(w.Dir), filepath.FromSlash(path.Clean("/"+name)))
}

// Rename refuses a name that is taken, be it by a link that leads nowhere.
func (w whole) Rename(ctx context.Context, from, to string) error {
	if _, err := os.Lstat(w.at(to)); err == nil {
		if _, err := os.Stat(w.at(to)); err != nil {
			return os.ErrPermission
		}
	}
	return w.Dir.Rename(ctx, from, to)
}

func (w whole) OpenFile(ctx context.Context, name string, flag int, mode os.FileMode) (webdav.File, error) {
	if flag&os.O_TRUNC == 0 {
		// Opening a pipe would wait for somebody who writes into it.
		if info, err := os.Stat(w.at(name)); err == nil && !info.Mode().IsRegular() && !info.IsDir() {
			return nil, os.ErrPermission
		}
		return w.Dir.OpenFile(ctx, name, flag, mode)
	}
	to := w.at(name)
	if info, err := os.Stat(filepath.Dir(to)); err != nil || !info.IsDir() {
		return nil, os.ErrNotExist
	}
	f, err := os.CreateTemp(w.incoming, "put-")
	if err != nil {
		return nil, err
	}
	return &incoming{File: f, to: to}, nil
}

type incoming struct {
	*os.File
	to     string
	broken bool
}

func (i *incoming) ReadFrom(r io.Reader) (int64, error) {
	n, err := i.File.ReadFrom(r)
	i.broken = err != nil
	return n, err
}

func (i *incoming) Close() error {
	err := i.File.Close()
	if err == nil && !i.broken {
		return os.Rename(i.Name(), i.to)
	}
	return errors.Join(err, os.Remove(i.Name()))
}

func (p *Places) startWebDAV(folder string) error {
	dir, incoming := filepath.Join(folder, "webdav"), filepath.Join(folder, "incoming")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if err := os.MkdirAll(incoming, 0o700); err != nil {
		return err
	}
	dav := &webdav.Handler{Prefix: "/office", FileSystem: whole{webdav.Dir(dir), incoming}, LockSystem: webdav.NewMemLS()}
	address, err := p.serve(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if name, password, ok := r.BasicAuth(); !ok || !mayEnter(name, password) {
			w.Header().Set("WWW-Authenticate", `Basic realm="office"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		dav.ServeHTTP(w, r)
	}))
	p.WebDAV = address + "/office"
	return err
}

func (p *Places) startSFTP(folder string) error {
	dir := filepath.Join(folder, "sftp")
	if err := os.MkdirAll(filepath.Join(dir, "surveys"), 0o755); err != nil {
		return err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return err
	}
	config := &ssh.ServerConfig{PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
		if !mayEnter(c.User(), string(password)) {
			return nil, errors.New("not this one")
		}
		return nil, nil
	}}
	config.AddHostKey(signer)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	p.closers = append(p.closers, l.Close, root.Close)
	p.SFTP, p.HostKey = "sftp://"+l.Addr().String()+"/surveys", ssh.FingerprintSHA256(signer.PublicKey())
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go session(conn, config, rooted{root})
		}
	}()
	return nil
}

// session serves one SSH connection, which may ask for files only.
func session(conn net.Conn, config *ssh.ServerConfig, files rooted) {
	defer conn.Close()
	_, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for offered := range channels {
		if offered.ChannelType() != "session" {
			offered.Reject(ssh.UnknownChannelType, "files only")
			continue
		}
		channel, asked, err := offered.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range asked {
				ok := r.Type == "subsystem" && len(r.Payload) > 4 && string(r.Payload[4:]) == "sftp"
				if r.WantReply {
					r.Reply(ok, nil)
				}
				if ok {
					s := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: files, FilePut: files, FileCmd: files, FileList: files})
					go func() { s.Serve(); s.Close(); channel.Close() }()
				}
			}
		}()
	}
}

// rooted serves the files of a folder that no path leaves.
type rooted struct{ root *os.Root }

func inside(name string) string {
	if name = strings.TrimPrefix(path.Clean("/"+name), "/"); name == "" {
		return "."
	}
	return name
}

func (f rooted) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	return f.root.Open(inside(r.Filepath))
}

func (f rooted) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	flags, how := r.Pflags(), os.O_WRONLY
	if flags.Creat {
		how |= os.O_CREATE
	}
	if flags.Excl {
		how |= os.O_EXCL
	}
	if flags.Trunc {
		how |= os.O_TRUNC
	}
	return f.root.OpenFile(inside(r.Filepath), how, 0o644)
}

func (f rooted) Filecmd(r *sftp.Request) error {
	name := inside(r.Filepath)
	switch r.Method {
	case "Mkdir":
		return f.root.Mkdir(name, 0o755)
	case "Remove", "Rmdir":
		return f.root.Remove(name)
	case "Rename": // never over another: a link refuses a name that is taken
		if err := f.root.Link(name, inside(r.Target)); err != nil {
			return err
		}
		return f.root.Remove(name)
	case "Setstat":
		if a := r.Attributes(); r.AttrFlags().Acmodtime {
			return f.root.Chtimes(name, a.AccessTime(), a.ModTime())
		}
		return nil
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename renames over what is there.
func (f rooted) PosixRename(r *sftp.Request) error {
	return f.root.Rename(inside(r.Filepath), inside(r.Target))
}

// listed is a list of files as the library wants it.
type listed []os.FileInfo

func (l listed) ListAt(to []os.FileInfo, at int64) (int, error) {
	if at >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(to, l[at:])
	if n < len(to) {
		return n, io.EOF
	}
	return n, nil
}

func (f rooted) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method != "List" {
		info, err := f.root.Stat(inside(r.Filepath))
		return listed{info}, err
	}
	d, err := f.root.Open(inside(r.Filepath))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	all, err := d.Readdir(-1)
	return listed(all), err
}

// Lstat looks at a name itself.
func (f rooted) Lstat(r *sftp.Request) (sftp.ListerAt, error) {
	info, err := f.root.Lstat(inside(r.Filepath))
	return listed{info}, err
}
