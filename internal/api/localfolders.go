package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
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
		return nil, field("folder", "this is not an address of a folder")
	}
	made := strings.TrimSpace(text(b.Make))
	if made == "." || made == ".." || strings.ContainsFunc(made, func(r rune) bool {
		return r == '/' || r == '\\' || unicode.IsControl(r)
	}) {
		return nil, field("make", fmt.Sprintf("“%s” is not the name of a folder", made))
	}
	at.RawPath = ""
	here, _ := around(string(b.Kind), at.Path)
	at.Path = here
	c := store.Cabinet{ID: store.NewID(), Kind: string(b.Kind), Folder: at.String()}
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
	if err := s.Store.Note(ctx, viewerOf(ctx).Name, "look at folders", withoutUser(c.Folder)); err != nil {
		return nil, err
	}
	folders, err := s.Engine.Cabinets.Folders(ctx, &c, made)
	if err != nil {
		return nil, err
	}
	inOrder(folders, itself)
	out := LocalFolder{Folders: folders[:min(len(folders), mostLocalFolders)], More: len(folders) > mostLocalFolders}
	here, above := around(c.Kind, here+"/"+made)
	at.Path = here
	out.Path = at.String()
	if above != nil {
		at.Path = *above
		out.Above = optional(at.String())
	}
	return ListServerFolders200JSONResponse(out), nil
}

// around gives the path of a folder on a server in its plain form, and that of the folder above it: nil for the topmost
// folder of a server, of an account's own folder (SFTP), and of a bucket (S3).
func around(kind, at string) (here string, above *string) {
	inside := path.Clean("/" + at)
	within, top := "", "" // what stands before inside, and what the topmost folder is called
	switch {
	case kind == "sftp" && strings.Trim(at, "/") == "": // an address without a path is the account's own folder
		return "/~", nil
	case kind == "sftp" && (inside == "/~" || strings.HasPrefix(inside, "/~/")):
		within, top, inside = "/~", "/~", path.Clean("/"+strings.TrimPrefix(inside, "/~"))
	case kind == "sftp":
		top = "/."
	case kind == "s3":
		bucket, rest, _ := strings.Cut(strings.TrimPrefix(inside, "/"), "/")
		within, top, inside = "/"+bucket, "/"+bucket, path.Clean("/"+rest)
	}
	if inside == "/" {
		return top, nil
	}
	if up := path.Dir(inside); up != "/" {
		top = within + up
	}
	return within + inside, &top
}

// credentials are name and password within an address.
var credentials = regexp.MustCompile(`//[^/]*@`)

// withoutUser is an address without name and password, which do not belong there.
func withoutUser(place string) string { return credentials.ReplaceAllString(place, "//…@") }

// itself is what a list of names is sorted by.
func itself(name *string) string { return *name }

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
	return inOrder(folders, itself), more, nil
}

// isFolder says whether an entry is a folder, or leads to one.
func isFolder(path string, e fs.DirEntry) bool {
	if e.Type()&fs.ModeSymlink == 0 {
		return e.IsDir()
	}
	info, err := os.Stat(filepath.Join(path, e.Name()))
	return err == nil && info.IsDir()
}
