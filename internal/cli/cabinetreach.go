package cli

import (
	"context"
	"errors"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/cabinet/local"
	"inktray.example/inktray/internal/cabinet/s3"
	"inktray.example/inktray/internal/cabinet/sftp"
	"inktray.example/inktray/internal/cabinet/tree"
	"inktray.example/inktray/internal/cabinet/webdav"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/reach"
	"inktray.example/inktray/internal/store"
)

// shelves opens cabinets of every kind.
type shelves struct {
	records  *store.Store
	staging  string // folder for what is staged here, because a store has no such place
	resolver *net.Resolver
}

func (s *shelves) open(c *store.Cabinet) (cabinet.Cabinet, error) {
	if c.Kind == "local" {
		access, err := local.ParseAccess(c.Mode, c.Owner)
		if err != nil {
			return nil, err
		}
		return local.New(c.Folder, c.Identity).With(access), nil
	}
	t, err := s.tree(c)
	if err != nil {
		return nil, err
	}
	return tree.New(t, c.Identity), nil
}

func (s *shelves) prepare(ctx context.Context, c *store.Cabinet, now time.Time) (string, error) {
	if c.Kind == "local" {
		if _, err := local.ParseAccess(c.Mode, c.Owner); err != nil {
			return "", err
		}
		return local.Prepare(c.Folder, now)
	}
	t, err := s.tree(c)
	if err != nil {
		return "", err
	}
	id, err := tree.Prepare(ctx, t, now)
	return id, errors.Join(err, t.Close())
}

func (s *shelves) browse(ctx context.Context, c *store.Cabinet, made string) ([]cabinet.Entry, error) {
	t, err := s.tree(c)
	if err != nil {
		return nil, err
	}
	found, err := tree.Browse(ctx, t, made)
	if c.Kind == "s3" && errors.Is(err, fs.ErrNotExist) { // there, a folder begins with its first file
		err = nil
	}
	return found, errors.Join(err, t.Close())
}

// tree gives the tree of a cabinet that is on a server.
func (s *shelves) tree(c *store.Cabinet) (tree.Tree, error) {
	wrong := func(err error) error {
		return &cabinet.Error{Problem: err.Error(), Advice: "Correct it.", Lasting: true}
	}
	schemes := []string{"https", "http"}
	if c.Kind == "sftp" {
		schemes = []string{"sftp"}
	}
	server, path, err := reach.ParseURL(c.Folder, schemes...)
	if err != nil {
		return nil, wrong(err)
	}
	p := &c.Particulars
	server.Authority, server.Pinned, server.Proxy, server.Resolver = p.Authority, p.Pinned, p.Proxy, s.resolver
	secret, err := s.records.Cabinets.Secret(c)
	if err != nil {
		return nil, err
	}
	switch c.Kind {
	case "webdav":
		return webdav.New(webdav.Config{Server: server, Path: path, Username: c.Username, Password: secret}), nil
	case "sftp":
		return sftp.New(sftp.Config{Server: server, Path: path, Username: c.Username, Secret: secret, HostKey: p.HostKey}),
			nil
	case "s3":
		folder := filepath.Join(s.staging, c.ID)
		return s3.New(s3.Config{Server: server, Path: path, Name: c.Username, Secret: secret, Region: p.Region,
			Spool: func() (disk.FS, error) {
				if err := os.MkdirAll(folder, 0o700); err != nil {
					return nil, err
				}
				above, err := disk.Root(s.staging)
				if err != nil {
					return nil, err
				}
				if err := errors.Join(above.SyncDir("."), above.Close()); err != nil { // the folder outlives a power cut, too
					return nil, err
				}
				return disk.Root(folder)
			}}), nil
	}
	return nil, wrong(errors.New("there is no kind of cabinet called " + c.Kind))
}
