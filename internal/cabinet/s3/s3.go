// Package s3 keeps files in a bucket of an S3-compatible object store. What is
// staged is on this machine's disk, flushed: an object gets its name and its
// content in one request, which the store refuses where the name is taken.
package s3

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/disk"
	"inktray.example/inktray/internal/reach"
)

// Config says which store, and where in it.
type Config struct {
	Server  reach.Server
	Path    string // bucket, and the prefix of the cabinet's keys if there is one: /harbour/files
	Name    string // access key
	Secret  string // secret key
	Region  string // "" where the store has none
	Spool   func() (disk.FS, error)
	Largest int64 // octets of one request; larger objects go in parts. 0 for 64 MB
}

const (
	part       = 32 << 20 // octets; at most 10,000 parts make an object
	maxKey     = 1024     // octets of a key
	maxObject  = 5 << 40  // octets of an object
	exchange   = time.Minute
	grace      = 5 * time.Second  // for ending what was begun when nobody waits any more
	filingMark = "Inktray-Filing" // metadata: which staged object it was
	timeMark   = "Inktray-Received"
	mostListed = 1_000_000 // objects of one folder
)

// Tree is a bucket, or the keys of it that have a prefix.
type Tree struct {
	config         Config
	bucket, prefix string
	core           minio.Core
	transport      *http.Transport
	wrong          error

	mutex sync.Mutex
	spool disk.FS
	sums  map[string][32]byte // of what is staged
}

// New gives a tree. The store is met at first use.
func New(c Config) *Tree {
	if c.Largest == 0 {
		c.Largest = 64 << 20
	}
	t := &Tree{config: c, sums: map[string][32]byte{}, transport: c.Server.Transport()}
	t.bucket, t.prefix, _ = strings.Cut(strings.Trim(c.Path, "/"), "/")
	u := c.Server.URL()
	core, err := minio.NewCore(u.Host,
		&minio.Options{Creds: credentials.NewStaticV4(c.Name, c.Secret, ""), Secure: u.Scheme == "https",
			Transport: t.transport, Region: c.Region, BucketLookup: minio.BucketLookupPath, MaxRetries: 1})
	if t.wrong = err; err == nil {
		t.core = *core
	}
	if t.bucket == "" && err == nil {
		t.wrong = &cabinet.Error{Problem: "the address names no bucket",
			Advice: "Write it as https://objects.brackwater.example/bucket.", Lasting: true}
	}
	return t
}

// Close lets go of the store and of the spool.
func (t *Tree) Close() error {
	t.transport.CloseIdleConnections()
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if t.spool != nil {
		defer func() { t.spool = nil }()
		return t.spool.Close()
	}
	return nil
}

// Place is the address.
func (t *Tree) Place() string {
	u := t.config.Server.URL()
	return "the bucket " + u.String() + "/" + strings.Trim(t.config.Path, "/")
}

// Replaces says how.
func (t *Tree) Replaces() string { return "by one PUT on condition" }

func (t *Tree) key(name string) string { return strings.TrimPrefix(path.Join(t.prefix, name), "/") }

// explain says what a store's refusal means to the office.
func (t *Tree) explain(err error) error {
	if err == nil {
		return nil
	}
	var told *cabinet.Error
	var step *reach.Error
	switch {
	case errors.As(err, &told) || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrExist):
		return err
	case errors.As(err, &step):
		return &cabinet.Error{Problem: string(step.Step) + ": " + step.Problem, Advice: step.Advice, Err: err}
	case errors.Is(err, context.Canceled):
		return err
	}
	var answer minio.ErrorResponse
	if !errors.As(err, &answer) {
		return &cabinet.Error{Problem: fmt.Sprintf("the store broke off (%v)", reach.Cause(err)),
			Advice: "Ink Tray tries again. If it happens often, ask the administrator of the store.", Err: err}
	}
	e := &cabinet.Error{
		Problem: fmt.Sprintf("the store answers %s (%s)", answer.Code, strings.TrimSuffix(answer.Message, ".")), Err: err}
	switch answer.Code {
	case "NoSuchKey":
		return fs.ErrNotExist
	case "PreconditionFailed":
		return fs.ErrExist
	case "NoSuchBucket":
		e.Problem, e.Advice = "there is no bucket “"+t.bucket+"”", "Make it in the store, or correct the address."
	case "AccessDenied", "AllAccessDisabled":
		e.Problem, e.Advice = "the store does not permit it",
			"Give this key the right to list, read, write and delete in the bucket."
	case "InvalidAccessKeyId", "SignatureDoesNotMatch":
		e.Problem, e.Advice = "the store refuses the access key or the secret key", "Correct them."
	case "RequestTimeTooSkewed":
		e.Problem, e.Advice = "the clocks of this machine and of the store are more than 15 minutes apart",
			"Set this machine's clock."
	case "SlowDown", "ServiceUnavailable", "SlowDownRead", "SlowDownWrite", "RequestTimeout":
		e.Problem, e.Advice = "the store asks to wait ("+answer.Code+")", "It is tried again by itself."
	case "XMinioStorageFull", "QuotaExceeded", "XMinioAdminBucketQuotaExceeded":
		e.Problem, e.Advice = "there is no room left in the store", "Free some space. Ink Tray then files what waits."
	case "EntityTooLarge":
		e.Problem, e.Advice, e.Lasting = "the file is larger than the store takes", "Ask the administrator of the "+
			"store.", true
	case "KeyTooLongError", "XMinioInvalidObjectName", "InvalidObjectName":
		e.Problem, e.Advice, e.Lasting = "the path is not one that the store takes", "Shorten the rule's folder or name.",
			true
	case "":
		if answer.StatusCode == http.StatusNotFound {
			return fs.ErrNotExist
		}
		e.Problem = fmt.Sprintf("the store answers with status %d", answer.StatusCode)
	}
	if answer.StatusCode == http.StatusPreconditionFailed || answer.Code == "ConditionalRequestConflict" {
		return fs.ErrExist
	}
	return e
}

// staged says which temporary object a path names; ok is false for all others.
func staged(name string) (id string, ok bool) {
	return strings.CutPrefix(name, cabinet.Staging+"/")
}

// waiting opens the folder in which staged objects lie.
func (t *Tree) waiting() (disk.FS, error) {
	if t.wrong != nil {
		return nil, t.explain(t.wrong)
	}
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if t.spool == nil {
		s, err := t.config.Spool()
		if err != nil {
			return nil, here(err, "opening the folder for what waits")
		}
		t.spool = s
	}
	return t.spool, nil
}

// here explains a failure of this machine's own disk.
func here(err error, doing string) error {
	if errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return &cabinet.Error{Problem: fmt.Sprintf("%s on this machine failed (%v)", doing, reach.Cause(err)),
		Advice: "Check whether this machine's disk has room left and can be written to.", Err: err}
}

// Create stages on this machine's disk, flushed with the entry that names it.
func (t *Tree) Create(_ context.Context, name string, modified time.Time, r io.Reader) error {
	id, ok := staged(name)
	if !ok {
		return fmt.Errorf("%s is not staged", name)
	}
	d, err := t.waiting()
	if err != nil {
		return err
	}
	f, err := d.Create(id)
	if errors.Is(err, fs.ErrExist) {
		if err := d.Remove(id); err != nil {
			return here(err, "replacing what is staged")
		}
		f, err = d.Create(id)
	}
	if err != nil {
		return here(err, "staging")
	}
	sum := sha256.New()
	_, err = io.Copy(struct{ io.Writer }{io.MultiWriter(f, sum)}, r)
	if err == nil && !modified.IsZero() {
		err = d.Chtimes(id, modified)
	}
	if err == nil {
		err = f.Sync()
	}
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = d.SyncDir(".")
	}
	if err != nil {
		return here(err, "staging")
	}
	t.mutex.Lock()
	defer t.mutex.Unlock()
	t.sums[id] = [32]byte(sum.Sum(nil))
	return nil
}

// sum is the checksum of what is staged; after a restart it is read again.
func (t *Tree) sum(ctx context.Context, d disk.FS, id string) ([32]byte, error) {
	t.mutex.Lock()
	known, ok := t.sums[id]
	t.mutex.Unlock()
	if ok {
		return known, nil
	}
	f, err := d.Open(id)
	if err != nil {
		return known, here(err, "reading what is staged")
	}
	defer f.Close()
	content, err := cabinet.Measure(ctx, f)
	return content.SHA256, err
}

// Open reads an object.
func (t *Tree) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	d, err := t.waiting()
	if err != nil {
		return nil, err
	}
	if id, ok := staged(name); ok {
		f, err := d.Open(id)
		if err != nil {
			return nil, here(err, "reading what is staged")
		}
		return f, nil
	}
	r, _, _, err := t.core.GetObject(ctx, t.bucket, t.key(name), minio.GetObjectOptions{})
	if err != nil {
		return nil, t.explain(err)
	}
	return r, nil
}

// Stat looks at one object; "" is the bucket itself.
func (t *Tree) Stat(ctx context.Context, name string) (cabinet.Entry, error) {
	d, err := t.waiting()
	if err != nil {
		return cabinet.Entry{}, err
	}
	if id, ok := staged(name); ok {
		info, err := d.Lstat(id)
		if err != nil {
			return cabinet.Entry{}, here(err, "looking for what is staged")
		}
		return cabinet.Entry{Name: id, Size: info.Size(), Modified: info.ModTime()}, nil
	}
	ctx, cancel := context.WithTimeout(ctx, exchange)
	defer cancel()
	if name == "" {
		is, err := t.core.BucketExists(ctx, t.bucket)
		if err == nil && !is {
			err = minio.ErrorResponse{Code: "NoSuchBucket"}
		}
		return cabinet.Entry{Folder: true}, t.explain(err)
	}
	info, err := t.core.StatObject(ctx, t.bucket, t.key(name), minio.StatObjectOptions{})
	if err != nil {
		return cabinet.Entry{}, t.explain(err)
	}
	return entry(name, &info), nil
}

func entry(name string, info *minio.ObjectInfo) cabinet.Entry {
	e := cabinet.Entry{Name: path.Base(name), Size: info.Size, Modified: info.LastModified}
	if at, err := time.Parse(time.RFC3339, info.UserMetadata[timeMark]); err == nil {
		e.Modified = at
	}
	return e
}

// List lists one level of keys.
func (t *Tree) List(ctx context.Context, folder string) ([]cabinet.Entry, error) {
	d, err := t.waiting()
	if err != nil {
		return nil, err
	}
	var all []cabinet.Entry
	if folder == cabinet.Staging {
		found, err := d.ReadDir(".")
		if err != nil {
			return nil, here(err, "looking for what is staged")
		}
		for _, e := range found {
			all = append(all, cabinet.Entry{Name: e.Name()})
		}
		return all, nil
	}
	prefix := ""
	if key := t.key(folder); key != "" {
		prefix = key + "/"
	}
	token, any := "", folder == ""
	for {
		page, cancel := context.WithTimeout(ctx, exchange)
		result, err := listed(page, t, prefix, token)
		cancel()
		if err != nil {
			return nil, t.explain(err)
		}
		for _, p := range result.CommonPrefixes {
			if name := strings.TrimSuffix(strings.TrimPrefix(p.Prefix, prefix), "/"); name != "" {
				all = append(all, cabinet.Entry{Name: name, Folder: true})
			}
		}
		for i := range result.Contents {
			any = true // an object with the folder's own name and a slash says that the folder is there
			if name := strings.TrimPrefix(result.Contents[i].Key, prefix); name != "" {
				all = append(all, entry(name, &result.Contents[i]))
			}
		}
		if !result.IsTruncated {
			break
		}
		if len(all) > mostListed { // a part of it must not pass for all of it
			return nil, &cabinet.Error{Problem: fmt.Sprintf("the folder %q holds more than %d objects", folder, mostListed),
				Advice: "Let the rule part its folders further, by month or by sender.", Lasting: true}
		}
		token = result.NextContinuationToken
	}
	if len(all) == 0 && !any {
		return nil, fs.ErrNotExist
	}
	// Where an object and a folder have one name, the folder is the one to go into.
	slices.SortStableFunc(all, func(a, b cabinet.Entry) int {
		if a.Name == b.Name && a.Folder != b.Folder {
			if a.Folder {
				return 1
			}
			return -1
		}
		return strings.Compare(a.Name, b.Name)
	})
	return all, nil
}

// listed asks for one page; the library's own call takes no context.
func listed(ctx context.Context, t *Tree, prefix, token string) (minio.ListBucketV2Result, error) {
	type out struct {
		result minio.ListBucketV2Result
		err    error
	}
	done := make(chan out, 1)
	go func() {
		r, err := t.core.ListObjectsV2(t.bucket, prefix, "", token, "/", 1000)
		done <- out{r, err}
	}()
	select {
	case o := <-done:
		return o.result, o.err
	case <-ctx.Done(): // it ends by the connection's own deadline
		return minio.ListBucketV2Result{}, ctx.Err()
	}
}

// Mkdir makes nothing: a folder is there once something is in it.
func (t *Tree) Mkdir(context.Context, string) error { return nil }

// RemoveFolder removes nothing: a folder is gone when nothing is in it any more.
func (t *Tree) RemoveFolder(context.Context, string) error { return fs.ErrNotExist }

// Remove removes an object.
func (t *Tree) Remove(ctx context.Context, name string) error {
	d, err := t.waiting()
	if err != nil {
		return err
	}
	if id, ok := staged(name); ok {
		if err := d.Remove(id); err != nil {
			return here(err, "removing what is staged")
		}
		t.mutex.Lock()
		defer t.mutex.Unlock()
		delete(t.sums, id)
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, exchange)
	defer cancel()
	return t.explain(t.core.RemoveObject(ctx, t.bucket, t.key(name), minio.RemoveObjectOptions{}))
}

// Move gives what is staged its name, by a request that the store refuses where the
// name is taken. Another object is fetched, put under its new name in the same way,
// and taken away from its old one only if it is still what was fetched.
func (t *Tree) Move(ctx context.Context, from, to string) error {
	free := func(o *minio.PutObjectOptions) { o.SetMatchETagExcept("*") }
	if _, ok := staged(from); ok {
		return t.put(ctx, from, to, free)
	}
	was, err := t.stat(ctx, from)
	if err != nil {
		return err
	}
	if _, err := t.stat(ctx, to); err == nil {
		return fs.ErrExist
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	get := minio.GetObjectOptions{}
	if err := get.SetMatchETag(was.ETag); err != nil {
		return err
	}
	r, _, _, err := t.core.GetObject(ctx, t.bucket, t.key(from), get)
	if err != nil {
		return t.explain(err)
	}
	// The name is a wanted one: two that move to it stage apart.
	sum := sha256.Sum256([]byte(from + "\x00" + to + "\x00" + was.ETag))
	temporary := cabinet.Staging + "/" + cabinet.Probe + hex.EncodeToString(sum[:16]) + ".part"
	err = t.Create(ctx, temporary, entry(from, &was).Modified, r)
	r.Close()
	if err != nil {
		return err
	}
	if err := t.put(ctx, temporary, to, free); err != nil {
		_ = t.Remove(ctx, temporary)
		return err
	}
	now, err := t.stat(ctx, from)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil // somebody took it away meanwhile; it has its new name
	case err != nil || now.ETag != was.ETag:
		return err // somebody wrote another content there meanwhile, which stays
	}
	return t.Remove(ctx, from)
}

func (t *Tree) stat(ctx context.Context, name string) (minio.ObjectInfo, error) {
	ctx, cancel := context.WithTimeout(ctx, exchange)
	defer cancel()
	info, err := t.core.StatObject(ctx, t.bucket, t.key(name), minio.StatObjectOptions{})
	return info, t.explain(err)
}

// WriteNote writes a small object in one request.
func (t *Tree) WriteNote(ctx context.Context, name string, data []byte) error {
	return t.write(ctx, name, data, minio.PutObjectOptions{})
}

// WriteOnce writes a small object in one request, which the store refuses where the name is taken: fs.ErrExist.
func (t *Tree) WriteOnce(ctx context.Context, name string, data []byte) error {
	options := minio.PutObjectOptions{}
	options.SetMatchETagExcept("*")
	return t.write(ctx, name, data, options)
}

func (t *Tree) write(ctx context.Context, name string, data []byte, options minio.PutObjectOptions) error {
	if t.wrong != nil {
		return t.explain(t.wrong)
	}
	ctx, cancel := context.WithTimeout(ctx, exchange)
	defer cancel()
	sum := sha256.Sum256(data)
	options.DisableMultipart, options.DisableContentSha256 = true, true
	_, err := t.core.PutObject(ctx, t.bucket, t.key(name), bytes.NewReader(data), int64(len(data)), "",
		hex.EncodeToString(sum[:]), options)
	return t.explain(err)
}

// Replace puts a staged object in the place of another one, if that is not changed meanwhile (If-Match).
func (t *Tree) Replace(ctx context.Context, from, to string) error {
	there, err := t.stat(ctx, to)
	if err != nil {
		return err
	}
	return t.put(ctx, from, to, func(o *minio.PutObjectOptions) { o.SetMatchETag(there.ETag) })
}

// Room is not told by object stores.
func (t *Tree) Room(context.Context) (int64, error) { return -1, nil }

// put sends what is staged, whole and checked by its SHA-256, and lets go of it.
func (t *Tree) put(ctx context.Context, from, to string, condition func(*minio.PutObjectOptions)) error {
	id, _ := staged(from)
	key := t.key(to)
	if len(key) > maxKey {
		return &cabinet.Error{Problem: fmt.Sprintf("the path has %d octets, and an object store takes %d", len(key), maxKey),
			Advice: "Shorten the rule's folder or name.", Lasting: true}
	}
	d, err := t.waiting()
	if err != nil {
		return err
	}
	info, err := d.Lstat(id)
	if err != nil {
		return here(err, "reading what is staged")
	}
	sum, err := t.sum(ctx, d, id)
	if err != nil {
		return err
	}
	f, err := d.Open(id)
	if err != nil {
		return here(err, "reading what is staged")
	}
	defer f.Close()
	// the whole content's checksum is sent instead of its chunks'
	options := minio.PutObjectOptions{ContentType: "application/octet-stream", DisableMultipart: true,
		DisableContentSha256: true,
		UserMetadata: map[string]string{filingMark: id + " " + hex.EncodeToString(sum[:]),
			timeMark: info.ModTime().UTC().Format(time.RFC3339)}}
	if info.Size() > t.config.Largest {
		err = t.inParts(ctx, key, f, info.Size(), options, condition)
	} else {
		condition(&options)
		_, err = t.core.PutObject(ctx, t.bucket, key, f, info.Size(), "", hex.EncodeToString(sum[:]), options)
	}
	if err = t.explain(err); errors.Is(err, fs.ErrExist) {
		// Perhaps it is there already, by a request whose answer was lost.
		if there, statErr := t.stat(ctx, to); statErr == nil &&
			there.UserMetadata[filingMark] == options.UserMetadata[filingMark] {
			err = nil
		}
	}
	if err != nil {
		return err
	}
	return t.Remove(ctx, from)
}

// inParts sends a large object. The condition counts when the parts are joined; a
// library's own way puts it elsewhere, where two writers can both win.
func (t *Tree) inParts(ctx context.Context, key string, r io.Reader, size int64, options minio.PutObjectOptions,
	condition func(*minio.PutObjectOptions)) error {
	if size > maxObject {
		return minio.ErrorResponse{Code: "EntityTooLarge"}
	}
	upload, err := t.core.NewMultipartUpload(ctx, t.bucket, key, options)
	if err != nil {
		return err
	}
	length := max(int64(part), (size+9999)/10000)
	var parts []minio.CompletePart
	for left := size; err == nil && left > 0; left -= length {
		n := min(length, left)
		var buffer []byte
		buffer, err = io.ReadAll(io.LimitReader(r, n))
		if err == nil && int64(len(buffer)) != n {
			err = io.ErrUnexpectedEOF
		}
		if err != nil {
			break
		}
		sum := sha256.Sum256(buffer)
		var done minio.ObjectPart
		done, err = t.core.PutObjectPart(ctx, t.bucket, key, upload, len(parts)+1, bytes.NewReader(buffer), n,
			minio.PutObjectPartOptions{Sha256Hex: hex.EncodeToString(sum[:]), DisableContentSha256: true})
		parts = append(parts, minio.CompletePart{PartNumber: done.PartNumber, ETag: done.ETag})
	}
	if err == nil {
		end := minio.PutObjectOptions{}
		condition(&end)
		if _, err = t.core.CompleteMultipartUpload(ctx, t.bucket, key, upload, parts, end); err == nil {
			return nil
		}
	}
	tidy, cancel := context.WithTimeout(context.WithoutCancel(ctx), exchange)
	defer cancel()
	_ = t.core.AbortMultipartUpload(tidy, t.bucket, key, upload) // else it is swept
	return err
}

// Writable writes and removes an object: what is staged proves nothing of the store.
func (t *Tree) Writable(ctx context.Context, probe string) error {
	if err := errors.Join(t.wrong, ctx.Err()); err != nil {
		return t.explain(err)
	}
	// What was begun is ended, also where nobody waits for it any more: else the
	// object would stay.
	whole, cancel := context.WithTimeout(context.WithoutCancel(ctx), exchange)
	defer cancel()
	defer context.AfterFunc(ctx, func() { time.AfterFunc(grace, cancel) })()
	key := t.key(cabinet.Reserved + "/" + probe)
	sum := sha256.Sum256([]byte("check"))
	_, err := t.core.PutObject(whole, t.bucket, key, strings.NewReader("check"), 5, "", hex.EncodeToString(sum[:]),
		minio.PutObjectOptions{DisableMultipart: true, DisableContentSha256: true})
	// it may be there although the answer was lost
	return t.explain(cmp.Or(err, t.core.RemoveObject(whole, t.bucket, key, minio.RemoveObjectOptions{})))
}

// ProveMore tries out whether the condition counts for objects in parts as well.
func (t *Tree) ProveMore(ctx context.Context, probe string) (string, error) {
	key := t.key(cabinet.Reserved + "/" + probe)
	defer func() {
		tidy, cancel := context.WithTimeout(context.WithoutCancel(ctx), exchange)
		defer cancel()
		_ = t.core.RemoveObject(tidy, t.bucket, key, minio.RemoveObjectOptions{})
	}()
	free := func(o *minio.PutObjectOptions) { o.SetMatchETagExcept("*") }
	once := func() error {
		return t.explain(t.inParts(ctx, key, strings.NewReader(probe), int64(len(probe)), minio.PutObjectOptions{}, free))
	}
	if err := once(); err != nil {
		return "", err
	}
	if err := once(); !errors.Is(err, fs.ErrExist) {
		return "", &cabinet.Error{
			Problem: fmt.Sprintf("the store lets an object in parts take a name that is taken (%v)", err),
			Advice: "Files above 64 MB could be lost there. Ask the administrator of the store, or choose another " +
				"one.", Lasting: true}
	}
	return "also to files above 64 MB, which go in parts", nil
}

// Sweep ends uploads in parts that nobody has gone on with for a day.
func (t *Tree) Sweep(ctx context.Context) error {
	if _, err := t.waiting(); err != nil {
		return err
	}
	for upload := range t.core.ListIncompleteUploads(ctx, t.bucket, t.key(""), true) {
		if upload.Err != nil {
			return t.explain(upload.Err)
		}
		if time.Since(upload.Initiated) > 24*time.Hour {
			if err := t.core.AbortMultipartUpload(ctx, t.bucket, upload.Key, upload.UploadID); err != nil {
				return t.explain(err)
			}
		}
	}
	return nil
}
