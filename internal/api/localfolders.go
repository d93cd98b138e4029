package api

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode"

	"inktray.example/inktray/internal/store"
)

// mostLocalFolders bounds how many folders are listed at once.
const mostLocalFolders = 1000

// ListLocalFolders lists the folders within one of this machine, so that an administrator can choose one.
func (s *cabinetHandlers) ListLocalFolders(_ context.Context,
	r ListLocalFoldersRequestObject) (ListLocalFoldersResponseObject, error) {
	path := ""
	if r.Params.Path != nil {
		path = strings.TrimSpace(*r.Params.Path)
	}
	if path == "" {
		top, err := filepath.Abs(string(filepath.Separator)) // on Windows with the drive
		if err != nil {
			return nil, err
		}
		path = top
	}
	if !filepath.IsAbs(path) {
		return nil, &problem{status: 422, kind: "invalid", text: fmt.Sprintf("“%s” is not a whole path", path),
			advice: "Give the whole path of the folder, from its beginning."}
	}
	path = filepath.Clean(path)
	folders, more, err := foldersIn(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, &problem{status: 404, kind: "not-found", text: fmt.Sprintf("there is no folder “%s” on this machine",
			path), advice: "Choose another folder."}
	case errors.Is(err, fs.ErrPermission):
		return nil, &problem{status: 422, kind: "unreadable", text: fmt.Sprintf("Ink Tray may not look into “%s”", path),
			advice: "Give the user that runs Ink Tray the right to read this folder, or choose another one."}
	case err != nil:
		return nil, &problem{status: 422, kind: "unreadable", text: fmt.Sprintf("the folder “%s” cannot be read", path),
			advice: "Choose another folder."}
	}
	out := LocalFolder{Path: path, Folders: folders, More: more}
	if above := filepath.Dir(path); above != path {
		out.Above = &above
	}
	return ListLocalFolders200JSONResponse(out), nil
}

// ListServerFolders lists the folders within one of a server, so that an administrator can choose one.
func (s *cabinetHandlers) ListServerFolders(ctx context.Context,
	r ListServerFoldersRequestObject) (ListServerFoldersResponseObject, error) {
	b := r.Body
	at, err := url.Parse(strings.TrimSpace(b.Folder))
	if err != nil {
		return nil, field("folder", fmt.Sprintf("“%s” is no address of a folder", b.Folder))
	}
	made := strings.TrimSpace(text(b.Make))
	if made == "." || made == ".." || strings.ContainsFunc(made, func(r rune) bool {
		return r == '/' || r == '\\' || unicode.IsControl(r)
	}) {
		return nil, field("make", fmt.Sprintf("“%s” is no name of a folder", made))
	}
	c := store.Cabinet{ID: store.NewID(), Kind: string(b.Kind), Folder: strings.TrimSpace(b.Folder)}
	if c.Kind == "local" {
		return nil, field("kind", "this lists folders of servers; GET /api/v1/local-folders lists those of this machine")
	}
	if err := settleCabinet(&c, map[string]*string{"username": b.Username, "secret": b.Secret, "authority": b.Authority,
		"pinned": b.Pinned, "proxy": b.Proxy, "host_key": b.HostKey, "region": b.Region}); err != nil {
		return nil, err
	}
	if b.Secret != nil {
		if err := s.Store.Cabinets.Seal(&c, *b.Secret); err != nil {
			return nil, err
		}
	}
	if err := s.Store.Note(ctx, viewerOf(ctx).Name, "look at folders", c.Folder); err != nil {
		return nil, err
	}
	folders, err := s.Engine.Cabinets.Folders(ctx, &c, made)
	if err != nil {
		return nil, err
	}
	out := LocalFolder{Folders: folders[:min(len(folders), mostLocalFolders)], More: len(folders) > mostLocalFolders}
	at.RawPath = ""
	at.Path = strings.TrimSuffix(at.Path, "/")
	if made != "" {
		at.Path += "/" + made
	}
	out.Path = at.String()
	// The top of a server, of a home and of a bucket has nothing above it.
	levels := strings.Split(strings.TrimPrefix(at.Path, "/"), "/")
	if top := b.Kind == "s3" || levels[0] == "~"; len(levels) > 1 || !top && levels[0] != "" {
		at.Path = strings.TrimSuffix(path.Dir(at.Path), "/")
		above := at.String()
		out.Above = &above
	}
	return ListServerFolders200JSONResponse(out), nil
}

// foldersIn lists folders within a folder, in their order. A folder of a million files is read a part at a time.
func foldersIn(path string) (folders []string, more bool, err error) {
	dir, err := os.Open(path)
	if err != nil {
		return nil, false, err
	}
	defer dir.Close()
	folders = []string{}
	for !more {
		entries, err := dir.ReadDir(mostLocalFolders)
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), ".") || !isFolder(path, e) {
				continue
			}
			if more = len(folders) == mostLocalFolders; more {
				break
			}
			folders = append(folders, e.Name())
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, false, err
		}
	}
	slices.SortFunc(folders, func(a, b string) int {
		return cmp.Or(strings.Compare(strings.ToLower(a), strings.ToLower(b)), strings.Compare(a, b))
	})
	return folders, more, nil
}

// isFolder says whether an entry is a folder, or leads to one.
func isFolder(path string, e fs.DirEntry) bool {
	if e.Type()&fs.ModeSymlink == 0 {
		return e.IsDir()
	}
	info, err := os.Stat(filepath.Join(path, e.Name()))
	return err == nil && info.IsDir()
}
