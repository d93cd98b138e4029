package child

import (
	"context"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

// Probe is what a child tries that it should not be able to do.
type Probe struct {
	Read    string `json:"read"`    // a file, such as the service's key
	Write   string `json:"write"`   // a folder in which to make a file
	Connect string `json:"connect"` // an address that listens, host:port
	Run     string `json:"run"`     // another program
	Folder  string `json:"folder"`  // where it may read, as the reader of PDFs does; "" for nowhere
}

// could lists in words what a probe can do.
func (p *Probe) could() (all []string) {
	if f, err := os.Open(p.Read); err == nil {
		all = append(all, "read other files")
		f.Close()
	}
	name := filepath.Join(p.Write, "inktray-probe")
	if f, err := os.OpenFile(name, os.O_CREATE|os.O_WRONLY, 0o600); err == nil {
		all = append(all, "write files")
		f.Close()
		_ = os.Remove(name)
	}
	if c, err := net.DialTimeout("tcp", p.Connect, time.Second); err == nil {
		all = append(all, "open connections")
		c.Close()
	} else if s, err := net.ListenPacket("udp", "127.0.0.1:0"); err == nil {
		all = append(all, "open sockets, but not to other machines")
		s.Close()
	}
	cmd := exec.Command(p.Run)
	cmd.Env = []string{}
	if err := cmd.Start(); err == nil {
		all = append(all, "start programs")
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	}
	return all
}

// Try lets a child try what it should not be able to do, and lists in words what it could: nothing where the system
// confines it fully.
func (p Probe) Try(ctx context.Context) (could []string, err error) {
	nothing, err := os.Open(os.DevNull)
	if err != nil {
		return nil, err
	}
	defer nothing.Close()
	last, err := run(ctx, nothing, order{Probe: &p}, func(*frames) error { return nil })
	return last.Could, err
}

// Confined tries out on this machine what processes that read attachments could do beyond that, and lists it in
// words: nothing where the system confines them fully. folder is where the reader of PDFs is, room one to work in.
func Confined(ctx context.Context, folder, room string) (could []string, err error) {
	dir, err := os.MkdirTemp(room, "probe-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	other := filepath.Join(dir, "other")
	if err := os.WriteFile(other, []byte("x"), 0o600); err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	defer l.Close()
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	if folder, err = filepath.Abs(folder); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	return Probe{Read: filepath.Join(dir, "other"), Write: dir, Connect: l.Addr().String(), Run: self,
		Folder: folder}.Try(ctx)
}
