// Package webdav keeps files on a WebDAV server (RFC 4918).
package webdav

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"inktray.example/inktray/internal/cabinet"
	"inktray.example/inktray/internal/reach"
)

// Config says which server, and where on it.
type Config struct {
	Server   reach.Server
	Path     string // of the cabinet's place on the server, without escapes
	Username string
	Password string
}

// Tree is a folder of a WebDAV server.
type Tree struct {
	config    Config
	base      url.URL
	client    *http.Client
	transport *http.Transport
	lengths   atomic.Bool // the server wants to be told lengths
}

// exchange bounds a request without content to speak of.
const exchange = 30 * time.Second

// New gives a tree. The server is met at first use.
func New(c Config) *Tree {
	t := &Tree{config: c, base: c.Server.URL(), transport: c.Server.Transport()}
	t.base.Path = strings.TrimSuffix("/"+strings.TrimPrefix(c.Path, "/"), "/")
	t.client = &http.Client{Transport: t.transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	return t
}

// Close ends what connections wait.
func (t *Tree) Close() error {
	t.transport.CloseIdleConnections()
	return nil
}

// Place is the address.
func (t *Tree) Place() string { return "the folder " + t.base.String() }

// Replaces says how.
func (t *Tree) Replaces() string { return "by one PUT" }

// at is the address of a path; that of a folder ends with a slash, since some
// servers send clients that ask without one elsewhere.
func (t *Tree) at(name string, folder bool) string {
	u := t.base
	if name != "" {
		u.Path += "/" + name
	}
	if folder {
		u.Path += "/"
	}
	return u.String()
}

// do sends a request. Answers from 300 on are errors, except 207.
func (t *Tree) do(ctx context.Context, method, to string, body io.Reader, header map[string]string) (*http.Response,
	error) {
	r, err := http.NewRequestWithContext(ctx, method, to, body)
	if err != nil {
		return nil, err
	}
	if t.config.Username != "" || t.config.Password != "" {
		r.SetBasicAuth(t.config.Username, t.config.Password)
	}
	if s, ok := body.(sized); ok {
		r.ContentLength = s.length
	}
	for k, v := range header {
		r.Header.Set(k, v)
	}
	answer, err := t.client.Do(r)
	if err != nil {
		return nil, unreached(err)
	}
	if answer.StatusCode < 300 {
		return answer, nil
	}
	defer answer.Body.Close()
	_, _ = io.CopyN(io.Discard, answer.Body, 64<<10)
	return nil, refused(method, answer)
}

// refusal is an answer that a server gave instead of doing what it was asked.
type refusal struct {
	status   int
	location string
	told     error
}

func (r *refusal) Error() string { return r.told.Error() }
func (r *refusal) Unwrap() error { return r.told }

func status(err error) int {
	var r *refusal
	if errors.As(err, &r) {
		return r.status
	}
	return 0
}

// refused says what an answer means to the office.
func refused(method string, answer *http.Response) error {
	r := &refusal{status: answer.StatusCode, location: answer.Header.Get("Location")}
	e := &cabinet.Error{Problem: "the server answers " + answer.Status}
	r.told = e
	switch answer.StatusCode {
	case http.StatusNotFound, http.StatusConflict: // RFC 4918 section 9.3.1: a folder above is missing
		r.told = fs.ErrNotExist
	case http.StatusPreconditionFailed:
		r.told = fs.ErrExist
	case http.StatusMethodNotAllowed:
		if method == "MKCOL" { // section 9.3.1: there is something already
			r.told = fs.ErrExist
			return r
		}
		e.Problem, e.Advice = "the server does not do "+method+" there ("+answer.Status+")", "Check that the address is "+
			"that of a WebDAV folder."
	case http.StatusUnauthorized:
		e.Problem, e.Advice = "the server refuses name or password", "Correct them."
	case http.StatusForbidden:
		e.Problem, e.Advice = "the server does not permit it (403)", "Give this account the right to write there, on the "+
			"server."
	case http.StatusRequestEntityTooLarge:
		e.Problem, e.Advice, e.Lasting = "the file is larger than the server takes (413)", "Ask the administrator of the "+
			"server for a higher limit.", true
	case http.StatusRequestURITooLong:
		e.Problem, e.Advice, e.Lasting = "the path is longer than the server takes (414)", "Shorten the rule's folder or "+
			"name.", true
	case http.StatusLocked:
		e.Problem, e.Advice = "the file is locked on the server "+
			"(423)", "Ink Tray tries again. Close the file where it is open."
	case http.StatusInsufficientStorage:
		e.Problem, e.Advice = "there is no room left on the server (507)", "Free some space. Ink Tray then files what "+
			"waits."
	case http.StatusTooManyRequests, http.StatusServiceUnavailable:
		e.Problem, e.Advice = "the server asks to wait ("+answer.Status+")", "It is tried again by itself."
		e.After = reach.RetryAfter(answer)
	case http.StatusMovedPermanently, http.StatusFound, http.StatusTemporaryRedirect, http.StatusPermanentRedirect:
		e.Problem, e.Advice = "the address leads elsewhere, to "+r.location, "Enter that address if you trust it."
	}
	return r
}

// unreached says why a server was not reached.
func unreached(err error) error {
	var step *reach.Error
	if errors.As(err, &step) {
		return &cabinet.Error{Problem: string(step.Step) + ": " + step.Problem, Advice: step.Advice, Err: err}
	}
	if errors.Is(err, context.Canceled) {
		return err
	}
	return &cabinet.Error{Problem: fmt.Sprintf("the server broke off (%v)", reach.Cause(err)),
		Advice: "Ink Tray tries again. If it happens often, ask the administrator of the server.", Err: err}
}

// done sends a request of whose answer only the status counts.
func (t *Tree) done(ctx context.Context, method, to string, header map[string]string) error {
	ctx, cancel := context.WithTimeout(ctx, exchange)
	defer cancel()
	answer, err := t.do(ctx, method, to, nil, header)
	if err != nil {
		return err
	}
	_, err = io.Copy(io.Discard, io.LimitReader(answer.Body, 64<<10))
	if closeErr := answer.Body.Close(); err == nil {
		err = closeErr
	}
	if err == nil && answer.StatusCode == http.StatusMultiStatus { // RFC 4918 section 9.6.1: a part of it failed
		return &cabinet.Error{Problem: "the server did only a part of it (207)", Advice: "Check on the server what is " +
			"locked or cannot be written to."}
	}
	return err
}

// unlocked is done for servers that lock what is worked on for a moment (423): it is
// asked again some times.
func (t *Tree) unlocked(ctx context.Context, method, to string, header map[string]string) error {
	for pause := 10 * time.Millisecond; ; pause *= 2 {
		err := t.done(ctx, method, to, header)
		if status(err) != http.StatusLocked || pause > time.Second {
			return err
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return err
		}
	}
}

// Create puts a file. What is longer than a little is sent in chunks, since its
// length is not known; to servers that want to be told it, from a file of our own.
func (t *Tree) Create(ctx context.Context, name string, _ time.Time, r io.Reader) error {
	return t.put(ctx, t.at(name, false), r, nil)
}

func (t *Tree) put(ctx context.Context, to string, r io.Reader, header map[string]string) error {
	little := make([]byte, 64<<10)
	n, err := io.ReadFull(r, little)
	var body io.Reader
	switch {
	case err == io.EOF || err == io.ErrUnexpectedEOF:
		body = bytes.NewReader(little[:n])
	case err != nil:
		return err
	default:
		body = io.MultiReader(bytes.NewReader(little), r)
	}
	if n == len(little) && t.lengths.Load() {
		f, err := os.CreateTemp("", "inktray-")
		if err != nil {
			return err
		}
		defer func() { f.Close(); os.Remove(f.Name()) }()
		if _, err = io.Copy(f, body); err == nil {
			_, err = f.Seek(0, io.SeekStart)
		}
		if err != nil {
			return err
		}
		info, err := f.Stat()
		if err != nil {
			return err
		}
		body = sized{f, info.Size()}
	}
	answer, err := t.do(ctx, http.MethodPut, to, body, header)
	if err == nil {
		_, _ = io.CopyN(io.Discard, answer.Body, 64<<10)
		return answer.Body.Close()
	}
	if s := status(err); s == http.StatusLengthRequired || s == http.StatusNotImplemented && n == len(little) &&
		!t.lengths.Load() {
		t.lengths.Store(true)
		return &cabinet.Error{Problem: fmt.Sprintf("the server wants to be told the length of a file first (%d)", s),
			Advice: "It is told from now on."}
	}
	return err
}

// sized is content whose length is known.
type sized struct {
	io.Reader
	length int64
}

// Open gets a file.
func (t *Tree) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	answer, err := t.do(ctx, http.MethodGet, t.at(name, false), nil, nil)
	if err != nil {
		return nil, err
	}
	return answer.Body, nil
}

// Mkdir makes a folder.
func (t *Tree) Mkdir(ctx context.Context, folder string) error {
	for try := 1; ; try++ {
		err := t.unlocked(ctx, "MKCOL", t.at(folder, true), nil)
		if status(err) != http.StatusForbidden {
			return err
		}
		// That is also what mod_dav says to the slower of two, whose folder may be gone again by now.
		if _, there := t.Stat(ctx, folder); there == nil {
			return fs.ErrExist
		} else if try == 3 || !errors.Is(there, fs.ErrNotExist) {
			return err
		}
	}
}

// Remove deletes a file.
func (t *Tree) Remove(ctx context.Context, name string) error {
	return t.done(ctx, http.MethodDelete, t.at(name, false), nil)
}

// RemoveFolder removes an empty folder. DELETE takes along whatever is in a folder (RFC 4918
// section 9.6.1), so it is moved aside first, where nobody puts anything into it, and comes
// back where somebody did at the last moment.
func (t *Tree) RemoveFolder(ctx context.Context, folder string) error {
	aside := cabinet.Staging + "/emptied-" + rand.Text()
	move := func(from, to string) error {
		return t.unlocked(ctx, "MOVE", t.at(from, true), map[string]string{"Destination": t.at(to, true), "Overwrite": "F"})
	}
	if err := move(folder, aside); err != nil {
		return err
	}
	entries, err := t.List(ctx, aside)
	if err != nil || len(entries) > 0 {
		if back := move(aside, folder); back != nil {
			return &cabinet.Error{Problem: "the folder " + folder + " was moved to " + aside + " and could not be moved back",
				Advice: "Move it back on the server: it is not empty.", Err: back}
		}
		if err == nil {
			err = cabinet.ErrNotEmpty
		}
		return err
	}
	return t.done(ctx, http.MethodDelete, t.at(aside, true), nil)
}

// Replace reads what is staged and puts it over the file, if that is still what it
// was: servers take the old file away before they MOVE another there, but let a PUT
// show only once it is whole.
func (t *Tree) Replace(ctx context.Context, from, to string) error {
	there, err := t.Stat(ctx, to)
	if err != nil {
		return err
	}
	header := map[string]string{}
	if tag := t.tag(ctx, to); tag != "" {
		header["If-Match"] = tag
	}
	staged, err := t.Stat(ctx, from)
	if err != nil {
		return err
	}
	r, err := t.Open(ctx, from)
	if err != nil {
		return err
	}
	err = t.put(ctx, t.at(to, false), r, header)
	r.Close()
	if err != nil {
		return err
	}
	if there, err = t.Stat(ctx, to); err != nil {
		return err
	}
	if there.Size != staged.Size {
		return &cabinet.Error{Problem: fmt.Sprintf("the server took %d octets of %d", there.Size, staged.Size),
			Advice: "It is tried again."}
	}
	return t.Remove(ctx, from)
}

// tag is a file's strong entity tag, "" where it has none (RFC 9110 section 8.8.3).
func (t *Tree) tag(ctx context.Context, name string) string {
	ctx, cancel := context.WithTimeout(ctx, exchange)
	defer cancel()
	answer, err := t.do(ctx, http.MethodHead, t.at(name, false), nil, nil)
	if err != nil {
		return ""
	}
	answer.Body.Close()
	if tag := answer.Header.Get("ETag"); !strings.HasPrefix(tag, "W/") {
		return tag
	}
	return ""
}

// Stat asks for one name.
func (t *Tree) Stat(ctx context.Context, name string) (cabinet.Entry, error) {
	found, err := t.find(ctx, name, name == "", "0", nil)
	if err != nil {
		return cabinet.Entry{}, err
	}
	if len(found) == 0 {
		return cabinet.Entry{}, fs.ErrNotExist
	}
	return found[0].Entry, nil
}

// List asks for what is in a folder.
func (t *Tree) List(ctx context.Context, folder string) ([]cabinet.Entry, error) {
	self := false
	all, err := t.find(ctx, folder, true, "1", func(f *found) bool {
		if f.self {
			self = f.Folder
		}
		return !f.self
	})
	// what servers say to a file's name with a slash
	if s := status(err); s/100 == 3 || s/100 == 4 && s != http.StatusUnauthorized {
		if there, err := t.Stat(ctx, folder); err == nil && !there.Folder {
			return nil, fs.ErrNotExist
		}
	}
	if err != nil {
		return nil, err
	}
	if !self {
		return nil, fs.ErrNotExist
	}
	entries := make([]cabinet.Entry, len(all))
	for i := range all {
		entries[i] = all[i].Entry
	}
	return entries, nil
}

// Room asks for the quota (RFC 4331).
func (t *Tree) Room(ctx context.Context) (int64, error) {
	found, err := t.find(ctx, "", true, "0", nil)
	if err != nil || len(found) == 0 {
		return -1, err
	}
	return found[0].room, nil
}

const wanted = `<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><resourcetype/><getcontentlength/><getlastmodified/><creationdate/></prop></propfind>`
const wantedRoom = `<?xml version="1.0" encoding="utf-8"?><propfind xmlns="DAV:"><prop><resourcetype/><quota-available-bytes/></prop></propfind>`

type found struct {
	cabinet.Entry
	self bool
	room int64
	date time.Time // when the server said so, by its own clock
}

type propertyStatus struct {
	Status   string `xml:"DAV: status"`
	Property struct {
		Type struct {
			Collection *struct{} `xml:"DAV: collection"`
		} `xml:"DAV: resourcetype"`
		Length   string `xml:"DAV: getcontentlength"`
		Modified string `xml:"DAV: getlastmodified"`
		Created  string `xml:"DAV: creationdate"`
		Room     string `xml:"DAV: quota-available-bytes"`
	} `xml:"DAV: prop"`
}

type response struct {
	Href   string           `xml:"DAV: href"`
	Status []propertyStatus `xml:"DAV: propstat"`
}

// mostListed bounds an answer to PROPFIND, in octets.
const mostListed = 512 << 20

// find asks by PROPFIND (RFC 4918 section 9.1), reading answer by answer.
func (t *Tree) find(ctx context.Context, name string, folder bool, depth string, keep func(*found) bool) ([]found,
	error) {
	ctx, cancel := context.WithTimeout(ctx, 10*exchange)
	defer cancel()
	body := wanted
	if name == "" && depth == "0" {
		body = wantedRoom
	}
	ask := func(folder bool) (*http.Response, error) {
		return t.do(ctx, "PROPFIND", t.at(name, folder), strings.NewReader(body),
			map[string]string{"Depth": depth, "Content-Type": "application/xml"})
	}
	answer, err := ask(folder)
	var r *refusal
	if errors.As(err, &r) && r.status/100 == 3 && !folder && strings.HasSuffix(r.location, "/") {
		answer, err = ask(true) // it is a folder
	}
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode == http.StatusOK && name != "" {
		if n, _ := answer.Body.Read(make([]byte, 1)); n == 0 {
			return nil, fs.ErrNotExist // some say nothing at all of what vanished while they looked
		}
	}
	if answer.StatusCode != http.StatusMultiStatus {
		return nil, &cabinet.Error{Problem: "the server answers " + answer.Status + " where it should list the folder",
			Advice: "Check that the address is that of a WebDAV folder."}
	}
	date, _ := http.ParseTime(answer.Header.Get("Date"))
	self := path.Clean("/" + strings.TrimPrefix(t.base.Path+"/"+name, "/"))
	var all []found
	d := xml.NewDecoder(io.LimitReader(answer.Body, mostListed))
	for {
		token, err := d.Token()
		if err == io.EOF {
			return all, nil
		}
		if err != nil {
			return nil, &cabinet.Error{Problem: fmt.Sprintf("the server's list of the folder cannot be read (%v)", err),
				Advice: "Ink Tray tries again. If it happens often, ask the administrator of the server.", Err: err}
		}
		start, ok := token.(xml.StartElement)
		if !ok || start.Name.Local != "response" || start.Name.Space != "DAV:" {
			continue
		}
		var one response
		if err := d.DecodeElement(&one, &start); err != nil {
			return nil, &cabinet.Error{Problem: fmt.Sprintf("the server's list of the folder cannot be read (%v)", err),
				Advice: "Ink Tray tries again. If it happens often, ask the administrator of the server.", Err: err}
		}
		f, ok := one.read(self)
		f.date = date
		if ok && (keep == nil || keep(&f)) {
			all = append(all, f)
		}
	}
}

// read understands one answer. Names that are no names of the folder asked for are
// passed over: nothing from a server leads out of it.
func (r *response) read(self string) (found, bool) {
	f := found{room: -1}
	u, err := url.Parse(strings.TrimSpace(r.Href))
	if err != nil {
		return f, false
	}
	full := path.Clean("/" + u.Path)
	f.Name = path.Base(full)
	if f.self = full == self; !f.self && path.Dir(full) != self {
		return f, false
	}
	for _, s := range r.Status {
		if fields := strings.Fields(s.Status); len(fields) < 2 || fields[1] != "200" {
			continue
		}
		p := &s.Property
		f.Folder = f.Folder || p.Type.Collection != nil
		if n, err := strconv.ParseInt(strings.TrimSpace(p.Length), 10, 64); err == nil {
			f.Size = n
		}
		if n, err := strconv.ParseInt(strings.TrimSpace(p.Room), 10, 64); err == nil {
			f.room = n
		}
		if at, err := http.ParseTime(strings.TrimSpace(p.Modified)); err == nil {
			f.Modified = at
		} else if at, err := time.Parse(time.RFC3339, strings.TrimSpace(p.Created)); err == nil {
			f.Modified = at
		}
	}
	if f.Folder {
		f.Size = 0
	}
	return f, true
}
