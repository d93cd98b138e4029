package replica

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"path"
	"regexp"
	"strconv"
	"sync"
	"time"

	"filippo.io/age"
	"github.com/benbjohnson/litestream"
	"github.com/superfly/ltx"
)

// pages keeps the pages of the records at a place: files of the LTX format (github.com/superfly/ltx), each sealed with
// age. The name of a file says which transactions are in it, when the last one was, and how long it is unsealed:
//
//	history/LEVEL/0000000000000001-000000000000000a-018c…-4096.age
type pages struct {
	place     Place
	history   string
	identity  *age.X25519Identity
	permitted func() error                               // nil, or whether this machine may still write here
	apply     func(io.ReadCloser) (io.ReadCloser, error) // what is done with each file that is opened; nil for nothing

	mutex sync.Mutex
	names map[span]string // by what they hold
}

// span is what a file of pages holds.
type span struct {
	level    int
	min, max ltx.TXID
}

var _ litestream.ReplicaClient = (*pages)(nil)

func newPages(p Place, history string, id *age.X25519Identity) *pages {
	return &pages{place: p, history: history, identity: id, names: map[span]string{}}
}

// Type names the kind for the library's log.
func (*pages) Type() string { return "inktray" }

// Init has nothing to do: the place is met at first use.
func (*pages) Init(context.Context) error { return nil }

// SetLogger has nothing to do: errors are returned.
func (*pages) SetLogger(*slog.Logger) {}

var pagesFile = regexp.MustCompile(`^([0-9a-f]{16})-([0-9a-f]{16})-([0-9a-f]{12})-([0-9]{1,18})\.age$`)

func (p *pages) folder(level int) string { return path.Join(p.history, strconv.Itoa(level)) }

func nameOf(info *ltx.FileInfo) string {
	return fmt.Sprintf("%016x-%016x-%012x-%d.age", uint64(info.MinTXID), uint64(info.MaxTXID), info.CreatedAt.UnixMilli(),
		info.Size)
}

// infoOf reads what a name says; ok is false for names of other files.
func infoOf(level int, name string) (info *ltx.FileInfo, ok bool) {
	m := pagesFile.FindStringSubmatch(name)
	if m == nil {
		return nil, false
	}
	hex := func(s string) uint64 { n, _ := strconv.ParseUint(s, 16, 64); return n } // the expression allows no other
	size, _ := strconv.ParseInt(m[4], 10, 64)
	return &ltx.FileInfo{Level: level, MinTXID: ltx.TXID(hex(m[1])), MaxTXID: ltx.TXID(hex(m[2])),
		CreatedAt: time.UnixMilli(int64(hex(m[3]))).UTC(), Size: size}, true
}

// list lists the files of a level, and remembers their names.
func (p *pages) list(ctx context.Context, level int) ([]*ltx.FileInfo, error) {
	entries, err := p.place.List(ctx, p.folder(level))
	if err != nil {
		return nil, err
	}
	var all []*ltx.FileInfo
	p.mutex.Lock()
	defer p.mutex.Unlock()
	for _, e := range entries {
		if info, ok := infoOf(level, e.Name); ok && !e.Folder {
			all = append(all, info)
			p.names[span{level, info.MinTXID, info.MaxTXID}] = e.Name
		}
	}
	return all, nil
}

// LTXFiles lists the files of a level, from a transaction on.
func (p *pages) LTXFiles(ctx context.Context, level int, seek ltx.TXID, _ bool) (ltx.FileIterator, error) {
	all, err := p.list(ctx, level)
	if err != nil {
		return nil, err
	}
	var wanted []*ltx.FileInfo
	for _, info := range all {
		if info.MinTXID >= seek {
			wanted = append(wanted, info)
		}
	}
	return ltx.NewFileInfoSliceIterator(wanted), nil
}

// OpenLTXFile opens a file from an offset on, for size octets, or to its end where size is 0. fs.ErrNotExist where
// there is none.
func (p *pages) OpenLTXFile(ctx context.Context, level int, min, max ltx.TXID, offset, size int64) (io.ReadCloser,
	error) {
	name, err := p.name(ctx, span{level, min, max})
	if err != nil {
		return nil, err
	}
	sealed, err := p.place.Open(ctx, path.Join(p.folder(level), name))
	if err != nil {
		return nil, err
	}
	opened, err := age.Decrypt(sealed, p.identity)
	if err == nil && offset > 0 {
		_, err = io.CopyN(io.Discard, opened, offset)
	}
	if err != nil {
		_ = sealed.Close()
		return nil, fmt.Errorf("unsealing %s: %w", name, err)
	}
	if size > 0 {
		opened = io.LimitReader(opened, size)
	}
	file := io.ReadCloser(struct {
		io.Reader
		io.Closer
	}{opened, sealed})
	if p.apply != nil {
		return p.apply(file)
	}
	return file, nil
}

func (p *pages) name(ctx context.Context, s span) (string, error) {
	p.mutex.Lock()
	name, ok := p.names[s]
	p.mutex.Unlock()
	if ok {
		return name, nil
	}
	if _, err := p.list(ctx, s.level); err != nil {
		return "", err
	}
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if name, ok = p.names[s]; !ok {
		return "", fmt.Errorf("transactions %s to %s of level %d: %w", s.min, s.max, s.level, fs.ErrNotExist)
	}
	return name, nil
}

// WriteLTXFile writes a file. One that is there already under the same name was written before, by a request whose
// answer was lost: names are given once, and an object is whole or not there.
func (p *pages) WriteLTXFile(ctx context.Context, level int, min, max ltx.TXID, r io.Reader) (*ltx.FileInfo, error) {
	if p.permitted != nil {
		if err := p.permitted(); err != nil {
			return nil, err
		}
	}
	header, r, err := ltx.PeekHeader(r)
	if err != nil {
		return nil, fmt.Errorf("reading the header of new pages: %w", err)
	}
	info := &ltx.FileInfo{Level: level, MinTXID: min, MaxTXID: max, CreatedAt: time.UnixMilli(header.Timestamp).UTC()}
	counted := &counter{r: r}
	sealed, err := age.EncryptReader(counted, p.identity.Recipient())
	if err != nil {
		return nil, err
	}
	err = p.place.Write(ctx, sealed, func() string {
		info.Size = counted.n
		return path.Join(p.folder(level), nameOf(info))
	})
	if err != nil && !isTaken(err) {
		return nil, err
	}
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.names[span{level, min, max}] = nameOf(info)
	return info, nil
}

// DeleteLTXFiles removes files.
func (p *pages) DeleteLTXFiles(ctx context.Context, all []*ltx.FileInfo) error {
	for _, info := range all {
		if p.permitted != nil {
			if err := p.permitted(); err != nil {
				return err
			}
		}
		s := span{info.Level, info.MinTXID, info.MaxTXID}
		name, err := p.name(ctx, s)
		if isMissing(err) {
			continue
		}
		if err == nil {
			err = p.place.Remove(ctx, path.Join(p.folder(info.Level), name))
		}
		if err != nil {
			return err
		}
		p.mutex.Lock()
		delete(p.names, s)
		p.mutex.Unlock()
	}
	return nil
}

// levels are those that the library uses, the last one for all pages at a moment.
var levels = []int{0, 1, 2, 3, litestream.SnapshotLevel}

// DeleteAll removes all files.
func (p *pages) DeleteAll(ctx context.Context) error {
	for _, level := range levels {
		all, err := p.list(ctx, level)
		if err == nil {
			err = p.DeleteLTXFiles(ctx, all)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// last is the last transaction that is at the place in an unbroken row, and when it was made. Zero where there is none.
func (p *pages) last(ctx context.Context) (last ltx.FileInfo, err error) {
	last, _, err = p.reached(ctx, 0)
	return last, err
}

// reached is last, and when what a copy has that is at a transaction was made; zero where that is not known any more.
// What is written comes to level 0 first, and its oldest files go first: so the others, which grow with the time for
// which states are kept, are looked at only where there is nothing.
func (p *pages) reached(ctx context.Context, at ltx.TXID) (last ltx.FileInfo, made time.Time, err error) {
	for _, level := range levels {
		all, err := p.list(ctx, level)
		if err != nil {
			return last, made, err
		}
		has := ltx.TXID(0)
		for _, info := range all {
			if info.MaxTXID > last.MaxTXID {
				last = *info
			}
			if info.MaxTXID <= at && info.MaxTXID > has {
				has, made = info.MaxTXID, info.CreatedAt
			}
		}
		if last.MaxTXID > 0 {
			break
		}
	}
	return last, made, nil
}

// lately is how long a copy may lack what came to the place, and is fresh.
const lately = 10 * time.Second

// freshness is whether a copy has what was at the place lately. Where something is written all the time, it never has
// everything.
type freshness struct {
	target ltx.TXID // which the copy has to reach
	since  time.Time
	fresh  bool
}

// look says whether a copy that is at a transaction is fresh, where last is the last one at the place.
func (f *freshness) look(at, last ltx.TXID, now time.Time) bool {
	switch {
	case at == 0:
		*f = freshness{}
	case at >= last:
		*f = freshness{last, now, true}
	case f.target > 0 && at >= f.target:
		*f = freshness{last, now, true}
	case f.target == 0:
		*f = freshness{last, now, false}
	case now.Sub(f.since) > lately:
		f.fresh = false
	}
	return f.fresh
}

// counter counts what is read.
type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}
