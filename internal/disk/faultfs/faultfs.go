// Package faultfs is a file system in memory that forgets what was not flushed,
// for proving that nothing is lost when the power goes. File contents last once
// the file was synced, names once their directory was.
package faultfs

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"sync"
	"syscall"
	"time"

	"inktray.example/inktray/internal/disk"
)

// ErrCut is what every operation returns once the power is off.
var ErrCut = errors.New("the power is off")

// FS is the file system. Its zero value is not usable; see New.
type FS struct {
	mutex sync.Mutex
	dirs  map[string]*dir // now
	off   bool
	steps int             // operations so far
	cutAt int             // the operation at which the power goes; 0 for never
	Skip  map[string]bool // flushes that are left out on purpose: "file", "dir"
	fault func(op, name string) error
	tick  int64
}

type dir struct {
	now, lasting map[string]*node
	changed      time.Time
}

type node struct {
	dir           *dir
	data, lasting []byte
	links         int
	changed       time.Time
}

// New makes an empty file system.
func New() *FS {
	return &FS{dirs: map[string]*dir{".": newDir()}, Skip: map[string]bool{}}
}

func newDir() *dir { return &dir{now: map[string]*node{}, lasting: map[string]*node{}} }

// Steps counts the operations so far.
func (f *FS) Steps() int { f.mutex.Lock(); defer f.mutex.Unlock(); return f.steps }

// CutAt lets the power go at the n-th operation from now on.
func (f *FS) CutAt(n int) { f.mutex.Lock(); defer f.mutex.Unlock(); f.cutAt = f.steps + n }

// Fail makes operations fail: fault is asked for each.
func (f *FS) Fail(fault func(op, name string) error) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	f.fault = fault
}

// PowerUp forgets what was not flushed and lets operations work again.
func (f *FS) PowerUp() {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	f.off, f.cutAt = false, 0
	dirs := map[string]*dir{}
	var keep func(name string, d *dir)
	keep = func(name string, d *dir) {
		fresh := newDir()
		dirs[name] = fresh
		for entry, n := range d.lasting {
			fresh.now[entry], fresh.lasting[entry] = n, n
			if n.dir != nil {
				keep(path.Join(name, entry), n.dir)
				n.dir = dirs[path.Join(name, entry)]
			} else {
				n.data = append([]byte(nil), n.lasting...)
			}
		}
	}
	keep(".", f.dirs["."])
	links := map[*node]int{}
	for _, d := range dirs {
		for _, n := range d.now {
			links[n]++
		}
	}
	for n, count := range links {
		n.links = count
	}
	f.dirs = dirs
}

// Files lists every file with its contents as it is now.
func (f *FS) Files() map[string]string {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	files := map[string]string{}
	for name, d := range f.dirs {
		for entry, n := range d.now {
			if n.dir == nil {
				files[path.Join(name, entry)] = string(n.data)
			}
		}
	}
	return files
}

// begin counts an operation. The caller holds the mutex.
func (f *FS) begin(op, name string) error {
	if f.off {
		return ErrCut
	}
	f.steps++
	if f.cutAt > 0 && f.steps >= f.cutAt {
		f.off = true
		return ErrCut
	}
	if f.fault != nil {
		if err := f.fault(op, name); err != nil {
			return &fs.PathError{Op: op, Path: name, Err: err}
		}
	}
	return nil
}

func (f *FS) find(op, name string) (*node, *dir, error) {
	d := f.dirs[path.Dir(name)]
	if d == nil {
		return nil, nil, &fs.PathError{Op: op, Path: name, Err: fs.ErrNotExist}
	}
	return d.now[path.Base(name)], d, nil
}

// touch gives a directory a time of its own for every change.
func (f *FS) touch(d *dir) { f.tick++; d.changed = time.Unix(0, f.tick) }

// Mkdir makes a directory; its name lasts once the parent was synced.
func (f *FS) Mkdir(name string) error {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if err := f.begin("mkdir", name); err != nil {
		return err
	}
	n, d, err := f.find("mkdir", name)
	if err != nil {
		return err
	}
	if n != nil {
		return &fs.PathError{Op: "mkdir", Path: name, Err: fs.ErrExist}
	}
	made := newDir()
	d.now[path.Base(name)] = &node{dir: made, links: 1}
	f.dirs[name] = made
	f.touch(d)
	return nil
}

// Create makes a file that was not there.
func (f *FS) Create(name string) (disk.File, error) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if err := f.begin("create", name); err != nil {
		return nil, err
	}
	n, d, err := f.find("create", name)
	if err != nil {
		return nil, err
	}
	if n != nil {
		return nil, &fs.PathError{Op: "create", Path: name, Err: fs.ErrExist}
	}
	n = &node{links: 1}
	d.now[path.Base(name)] = n
	f.touch(d)
	return &file{f, n, name}, nil
}

type file struct {
	fs   *FS
	node *node
	name string
}

func (w *file) Write(p []byte) (int, error) {
	w.fs.mutex.Lock()
	defer w.fs.mutex.Unlock()
	if err := w.fs.begin("write", w.name); err != nil {
		return 0, err
	}
	w.node.data = append(w.node.data, p...)
	return len(p), nil
}

func (w *file) Sync() error {
	w.fs.mutex.Lock()
	defer w.fs.mutex.Unlock()
	if err := w.fs.begin("sync", w.name); err != nil {
		return err
	}
	if !w.fs.Skip["file"] {
		w.node.lasting = append([]byte(nil), w.node.data...)
	}
	return nil
}

func (w *file) Close() error { return nil }

// Open reads a file.
func (f *FS) Open(name string) (io.ReadCloser, error) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if err := f.begin("open", name); err != nil {
		return nil, err
	}
	n, _, err := f.find("open", name)
	if err != nil {
		return nil, err
	}
	if n == nil || n.dir != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return io.NopCloser(&reader{data: append([]byte(nil), n.data...)}), nil
}

type reader struct{ data []byte }

func (r *reader) Read(p []byte) (int, error) {
	if len(r.data) == 0 {
		return 0, io.EOF
	}
	n := copy(p, r.data)
	r.data = r.data[n:]
	return n, nil
}

// Replace moves a file in the place of another.
func (f *FS) Replace(from, to string) error {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if err := f.begin("replace", to); err != nil {
		return err
	}
	n, source, err := f.find("replace", from)
	if err != nil {
		return err
	}
	_, target, err := f.find("replace", to)
	if err != nil {
		return err
	}
	if n == nil {
		return &fs.PathError{Op: "replace", Path: from, Err: fs.ErrNotExist}
	}
	delete(source.now, path.Base(from))
	target.now[path.Base(to)] = n
	f.touch(source)
	f.touch(target)
	return nil
}

// Publish moves a file to a name that was not there.
func (f *FS) Publish(from, to string) error {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if err := f.begin("publish", to); err != nil {
		return err
	}
	n, source, err := f.find("publish", from)
	if err != nil {
		return err
	}
	there, target, err := f.find("publish", to)
	if err != nil {
		return err
	}
	if there != nil {
		return &fs.PathError{Op: "publish", Path: to, Err: fs.ErrExist}
	}
	if n == nil {
		return &fs.PathError{Op: "publish", Path: from, Err: fs.ErrNotExist}
	}
	delete(source.now, path.Base(from))
	target.now[path.Base(to)] = n
	f.touch(source)
	f.touch(target)
	return nil
}

// Remove takes a name away.
func (f *FS) Remove(name string) error {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if err := f.begin("remove", name); err != nil {
		return err
	}
	n, d, err := f.find("remove", name)
	if err != nil {
		return err
	}
	if n == nil {
		return &fs.PathError{Op: "remove", Path: name, Err: fs.ErrNotExist}
	}
	if n.dir != nil {
		if len(n.dir.now) > 0 {
			return &fs.PathError{Op: "remove", Path: name, Err: syscall.ENOTEMPTY}
		}
		delete(f.dirs, name)
	}
	delete(d.now, path.Base(name))
	n.links--
	f.touch(d)
	return nil
}

// Lstat describes a name.
func (f *FS) Lstat(name string) (fs.FileInfo, error) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if err := f.begin("lstat", name); err != nil {
		return nil, err
	}
	if d := f.dirs[name]; d != nil {
		return info{path.Base(name), &node{dir: d, changed: d.changed, links: 1}}, nil
	}
	n, _, err := f.find("lstat", name)
	if err != nil {
		return nil, err
	}
	if n == nil {
		return nil, &fs.PathError{Op: "lstat", Path: name, Err: fs.ErrNotExist}
	}
	return info{path.Base(name), n}, nil
}

// ReadDir lists a directory.
func (f *FS) ReadDir(name string) ([]fs.DirEntry, error) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if err := f.begin("readdir", name); err != nil {
		return nil, err
	}
	d := f.dirs[name]
	if d == nil {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: fs.ErrNotExist}
	}
	var entries []fs.DirEntry
	for entry, n := range d.now {
		entries = append(entries, fs.FileInfoToDirEntry(info{entry, n}))
	}
	return entries, nil
}

// SyncDir makes a directory's names last.
func (f *FS) SyncDir(name string) error {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if err := f.begin("syncdir", name); err != nil {
		return err
	}
	d := f.dirs[name]
	if d == nil {
		return &fs.PathError{Op: "syncdir", Path: name, Err: fs.ErrNotExist}
	}
	if !f.Skip["dir"] {
		d.lasting = maps.Clone(d.now)
	}
	return nil
}

// Chtimes sets a file's time.
func (f *FS) Chtimes(name string, at time.Time) error {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if err := f.begin("chtimes", name); err != nil {
		return err
	}
	n, _, err := f.find("chtimes", name)
	if err == nil && n == nil {
		err = fmt.Errorf("chtimes %s: %w", name, fs.ErrNotExist)
	}
	if err == nil {
		n.changed = at
	}
	return err
}

// Close does nothing.
func (f *FS) Close() error { return nil }

type info struct {
	name string
	node *node
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return int64(len(i.node.data)) }
func (i info) ModTime() time.Time { return i.node.changed }
func (i info) IsDir() bool        { return i.node.dir != nil }
func (i info) Sys() any           { return linkCount(i.node.links) }
func (i info) Mode() fs.FileMode {
	if i.node.dir != nil {
		return fs.ModeDir | 0o755
	}
	return 0o644
}

type linkCount int

// Links is how many names the file has.
func (l linkCount) Links() int { return int(l) }

// Grant does nothing: modes are not kept here.
func (f *FS) Grant(string, disk.Access) error { return nil }
