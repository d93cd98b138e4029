package cabinets

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/store"
)

// Folders of the system: nothing is filed into those of within, nor into those of themselves, but into folders in the
// latter.
var (
	systemWithin = []string{"/bin", "/boot", "/dev", "/etc", "/lib", "/lib32", "/lib64", "/proc", "/run",
		"/sbin", "/sys", "/usr", "/System", "/Library", "/private/etc", "/Applications"}
	systemThemselves = []string{"/", "/home", "/media", "/mnt", "/opt", "/root", "/srv", "/tmp", "/var",
		"/var/lib", "/var/log", "/Users", "/Volumes", "/private", "/private/var"}
	mounted = []string{"/run/media", "/run/user"} // shares that a desktop mounts
)

// mayBeCabinet says why a place cannot become a cabinet, nil where it may.
func (cs *Cabinets) mayBeCabinet(ctx context.Context, c *store.Cabinet) error {
	refuse := func(format string, args ...any) error {
		return &cabinet.Error{Problem: fmt.Sprintf(format, args...), Advice: "Choose a folder of its own.", Lasting: true}
	}
	others, err := cs.Store.Cabinets.All(ctx)
	if err != nil {
		return err
	}
	others = slices.DeleteFunc(others, func(o store.Cabinet) bool { return o.Kind != c.Kind })
	if c.Kind != "local" {
		here, err := url.Parse(c.Folder)
		if err != nil {
			return nil // it is refused elsewhere
		}
		for i := range others {
			there, err := url.Parse(others[i].Folder)
			if err != nil || !strings.EqualFold(here.Host, there.Host) || here.Scheme != there.Scheme {
				continue
			}
			switch a, b := slashed(here.Path), slashed(there.Path); {
			case a != b && strings.HasPrefix(a, b):
				return refuse("this place is inside the cabinet “%s”", others[i].Name)
			case a != b && strings.HasPrefix(b, a):
				return refuse("this place contains the cabinet “%s”", others[i].Name)
			}
		}
		return nil
	}
	here, err := realPath(c.Folder)
	if err != nil {
		return nil // it is refused elsewhere, with its reason
	}
	if system(here) {
		return refuse("%s is a folder of the system", here)
	}
	if data, err := realPath(cs.Data); err == nil && (liesIn(here, data) || liesIn(data, here)) {
		return refuse("%s is, contains or is inside Ink Tray's own data folder", here)
	}
	for i := range others {
		there, err := realPath(others[i].Folder)
		switch {
		case err != nil || here == there: // the same place is told of elsewhere
		case liesIn(here, there):
			return refuse("%s is inside the cabinet “%s”", here, others[i].Name)
		case liesIn(there, here):
			return refuse("%s contains the cabinet “%s”", here, others[i].Name)
		}
	}
	for at := filepath.Dir(here); ; at = filepath.Dir(at) { // of another Ink Tray
		if info, err := os.Stat(filepath.Join(at, filepath.FromSlash(cabinet.IdentityFile))); err == nil &&
			info.Mode().IsRegular() {
			return refuse("%s is inside another cabinet, %s", here, at)
		}
		if at == filepath.Dir(at) {
			return nil
		}
	}
}

func slashed(path string) string { return strings.TrimRight(path, "/") + "/" }

// liesIn says whether a path is inside another or the same.
func liesIn(path, other string) bool {
	r, err := filepath.Rel(other, path)
	return err == nil && r != ".." && !strings.HasPrefix(r, ".."+string(filepath.Separator))
}

func system(path string) bool {
	if runtime.GOOS == "windows" {
		root := os.Getenv("SystemRoot")
		return path == filepath.VolumeName(path)+`\` || root != "" && liesIn(path, root)
	}
	if slices.Contains(systemThemselves, path) {
		return true
	}
	return slices.ContainsFunc(systemWithin, func(s string) bool { return liesIn(path, s) }) &&
		!slices.ContainsFunc(mounted, func(m string) bool { return path != m && liesIn(path, m) })
}

// realPath is a path without links. What is not there yet is taken as it is written.
func realPath(path string) (string, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return "", err
	}
	rest := ""
	for at := path; ; at = filepath.Dir(at) {
		real, err := filepath.EvalSymlinks(at)
		if err == nil {
			return filepath.Join(real, rest), nil
		}
		if !errors.Is(err, os.ErrNotExist) || at == filepath.Dir(at) {
			return "", err
		}
		rest = filepath.Join(filepath.Base(at), rest)
	}
}

// AddCabinet makes a place into a cabinet, proves that it can be written to, and
// keeps it.
func (cs *Cabinets) AddCabinet(ctx context.Context, c *store.Cabinet, actor string) error {
	err := cs.mayBeCabinet(ctx, c)
	if err != nil {
		return err
	}
	if c.Identity, err = cs.Prepare(ctx, c, cs.Clock()); err != nil {
		return err
	}
	rows, err := cs.Store.Cabinets.All(ctx)
	if err != nil {
		return err
	}
	for _, other := range rows {
		if other.Identity == c.Identity {
			return &cabinet.Error{Problem: fmt.Sprintf("this place is the cabinet “%s” already", other.Name),
				Advice: "Choose another place.", Lasting: true}
		}
	}
	if err := cs.proved(ctx, c); err != nil {
		return err
	}
	return cs.Store.Cabinets.Add(ctx, c, actor)
}

// proved proves that a place keeps what cabinets promise, as it is reached now.
func (cs *Cabinets) proved(ctx context.Context, c *store.Cabinet) error {
	probe, err := cs.OpenCabinet(c)
	if err != nil {
		return err
	}
	_, err = cabinet.Prove(ctx, probe)
	return errors.Join(err, probe.Close())
}

// ChangeCabinet changes how a cabinet is reached, once it was proved that it can be
// reached so and is the same.
func (cs *Cabinets) ChangeCabinet(ctx context.Context, c *store.Cabinet, reached bool, revision int,
	actor string) error {
	if reached {
		if err := cs.proved(ctx, c); err != nil {
			return err
		}
	}
	if err := cs.Store.Cabinets.Change(ctx, c, revision, actor); err != nil {
		return err
	}
	if reached {
		cs.ForgetCabinet(c.ID)
		cs.WakeAll()
	}
	return nil
}

// Cabinet gives a cabinet for reading. It stays the engine's: nobody else closes it.
func (cs *Cabinets) Cabinet(ctx context.Context, id string) (cabinet.Cabinet, error) {
	g, err := cs.Gate(ctx, id)
	if err != nil {
		return nil, err
	}
	return g.Cabinet, nil
}

// Proof is what was found out about a cabinet.
type Proof struct {
	Holds []string // what it promises, in words
	Room  int64    // octets left, -1 where it is not known
}

// ProveCabinet looks at a cabinet now and tries out its promises.
func (cs *Cabinets) ProveCabinet(ctx context.Context, id string) (Proof, error) {
	out := Proof{Room: -1}
	if err := cs.CheckCabinet(ctx, id); err != nil {
		return out, err
	}
	g, err := cs.Gate(ctx, id)
	if err != nil {
		return out, err
	}
	if out.Holds, err = cabinet.Prove(ctx, g.Cabinet); err != nil {
		return out, err
	}
	if roomy, ok := g.plain().(cabinet.Roomy); ok {
		out.Room, err = roomy.Room(ctx)
	}
	return out, err
}

// CabinetFolders lists the folders within a folder of a cabinet.
func (cs *Cabinets) CabinetFolders(ctx context.Context, cabinetID, within string) ([]string, error) {
	g, err := cs.Gate(ctx, cabinetID)
	if err != nil {
		return nil, err
	}
	if err := g.Ready(ctx); err != nil {
		return nil, err
	}
	return cabinet.Folders(ctx, g.Cabinet, strings.Trim(within, "/"))
}

// patience is how long a server may take to list a folder for a person who waits.
const patience = 30 * time.Second

// Folders lists the folders within a place on a server that need not be a cabinet, in no order. It first makes one in
// it and lists that, where made names one.
func (cs *Cabinets) Folders(ctx context.Context, c *store.Cabinet, made string) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	found, err := cs.Browse(ctx, c, made)
	if err != nil {
		return nil, err
	}
	folders := []string{}
	for _, e := range found {
		if e.Folder && !strings.HasPrefix(e.Name, ".") {
			folders = append(folders, e.Name)
		}
	}
	return folders, nil
}
