// Package child reads what is hostile - archives, winmail.dat, signed mail,
// documents, messages to be drawn - in a process of its own: the same binary, restarted,
// with nothing but its pipes, a deadline and a limit on its memory. Its death is
// an answer, not an outage. On Linux it can open no file, no connection and no other program.
package child

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"inktray.example/inktray/internal/core/invoice"
	"inktray.example/inktray/internal/core/render"
	"inktray.example/inktray/internal/core/text"
	"inktray.example/inktray/internal/core/unpack"
)

// variable tells a process that it is a child. What it is to do comes as orders.
const (
	variable = "INKTRAY_CHILD"
	told     = "told"     // the first order says what it may do
	confined = "confined" // it may do nothing but read what it is given, from its start
)

// mostOrder bounds an order, mostName a name in an order, in octets. A name comes from a message and may have any
// length; its end is kept, because the extension is there.
const (
	mostOrder = 128 << 10
	mostName  = 4 << 10
)

var errOrder = errors.New("the order to a process that reads is not as it should be")

const (
	deadline = 2 * time.Minute // for one item
	memory   = 512 << 20       // octets
	frame    = 64 << 10
)

// order is what a child is told.
type order struct {
	Unpack *unpack.Request   `json:"unpack,omitempty"`
	Render *render.Request   `json:"render,omitempty"`
	Text   *text.Request     `json:"text,omitempty"`
	Draw   *text.Drawing     `json:"draw,omitempty"`
	Find   *text.Search      `json:"find,omitempty"`
	Codes  *text.CodeRequest `json:"codes,omitempty"`
	// Straighten makes a picture one whose lines lie straight.
	Straighten bool `json:"straighten,omitempty"`
	// Become is the program that the process becomes, and what it is to do.
	Become *Recognition `json:"become,omitempty"`
	// Prepare is the folder in which the reader of PDFs is made ready.
	Prepare string `json:"prepare,omitempty"`
	// Probe lets the child try what it should not be able to do.
	Probe *Probe `json:"probe,omitempty"`
}

// limits are what a child may do besides reading what it is given.
type limits struct {
	folder string // it may read what is there; "" for nothing
	writes bool   // it may also write there; such a child reads nothing of anybody's
	become string // the program that it becomes, which reads what its system and folder have for it; "" for none
}

func (o *order) limits() limits {
	switch {
	case o.Prepare != "":
		return limits{folder: o.Prepare, writes: true}
	case o.Text != nil:
		return limits{folder: o.Text.Reader}
	case o.Find != nil:
		return limits{folder: o.Find.Reader}
	case o.Draw != nil:
		return limits{folder: o.Draw.Reader}
	case o.Codes != nil:
		return limits{folder: o.Codes.Reader}
	case o.Become != nil:
		return limits{folder: o.Become.Folder, become: o.Become.Program}
	case o.Probe != nil:
		return limits{folder: o.Probe.Folder}
	}
	return limits{}
}

// apply takes from this process whatever else it may do.
func (l limits) apply() {
	confine(l)
	if !l.writes {
		debug.SetMemoryLimit(memory / 2)
	}
}

// end is a child's last word.
type end struct {
	Problem   string         `json:"problem,omitempty"`
	Encrypted bool           `json:"encrypted,omitempty"`
	Empty     bool           `json:"empty,omitempty"`
	Limit     bool           `json:"limit,omitempty"`
	Report    *render.Report `json:"report,omitempty"`
	Could     []string       `json:"could,omitempty"` // what a probe could do
	// Invoice is the electronic invoice that a file is, or holds; Unread says why it cannot be read.
	Invoice *invoice.Invoice `json:"invoice,omitempty"`
	Unread  string           `json:"unread,omitempty"`
	// Pictures are the pages of a PDF that are pictures; of Pages in all.
	Pictures []int `json:"pictures,omitempty"`
	Pages    int   `json:"pages,omitempty"`
	// Spots are where the texts stand that were looked for.
	Spots []text.Spot `json:"spots,omitempty"`
	// Left is how many pages nobody looked at for codes.
	Left int `json:"left,omitempty"`
	// Drawn is the page or the picture that was drawn.
	Drawn *text.Drawn `json:"drawn,omitempty"`
}

// The kinds of frames on the pipe.
const (
	frameEntry   = 'e'
	frameData    = 'd'
	frameSpoiled = 's' // no more comes of this content, and why
	frameEnd     = 'x'
)

// Main does a child's work and ends the process, if it is a child; else it
// returns at once. It is the first thing that a program calls.
func Main() {
	if os.Getenv(variable) == "" {
		return
	}
	if err := serve(os.Getenv(variable) == confined, &framer{w: bufio.NewWriterSize(os.Stdout, frame)}); err != nil {
		os.Exit(1)
	}
	os.Exit(0)
}

// serve works on one order after another until there is none any more. The first one says what the process may do,
// unless that is nothing from the start.
func serve(alone bool, out *framer) error {
	if alone {
		limits{}.apply()
	}
	for first := !alone; ; first = false {
		o, file, err := receive()
		if err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
		if first {
			o.limits().apply()
		}
		result := work(&o, file, out)
		if err := errors.Join(file.Close(), out.end(result)); err != nil {
			return err
		}
	}
}

func work(o *order, in *os.File, out *framer) end {
	if o.Prepare != "" {
		if err := text.Prepare(o.Prepare); err != nil {
			return end{Problem: err.Error()}
		}
		return end{}
	}
	if o.Probe != nil {
		return end{Could: o.Probe.could()}
	}
	if o.Become != nil {
		return end{Problem: o.Become.become(in).Error()} // it does not come back from there
	}
	info, err := in.Stat()
	if err != nil {
		return end{Problem: err.Error()}
	}
	switch {
	case o.Unpack != nil:
		err := unpack.Open(in, info.Size(), *o.Unpack, func(e unpack.Entry, content io.Reader) error {
			data, err := json.Marshal(e)
			for err == nil && len(data) > frame { // control characters take six octets each
				for _, s := range []*string{&e.Header, &e.Type, &e.Remark, &e.Spoiled, &e.Left, &e.Name} {
					*s = strings.ToValidUTF8((*s)[len(*s)/2:], "")
				}
				data, err = json.Marshal(e)
			}
			if err != nil {
				return unpack.Passed(err)
			}
			if err := out.write(frameEntry, data); err != nil || content == nil {
				return unpack.Passed(err)
			}
			from := &source{r: content}
			_, err = io.Copy(out, from)
			var limit *unpack.Error
			if from.err == nil || errors.As(from.err, &limit) {
				return err
			}
			why := from.err.Error()
			return unpack.Passed(out.write(frameSpoiled, []byte(why[:min(len(why), 1<<10)])))
		})
		var known *unpack.Error
		if errors.As(err, &known) {
			return end{Problem: known.Problem, Encrypted: known.Encrypted, Limit: known.Limit}
		}
		if err != nil {
			return end{Problem: err.Error()}
		}
		return end{}
	case o.Render != nil:
		data, err := io.ReadAll(in)
		if err != nil {
			return end{Problem: err.Error()}
		}
		report, err := render.Write(out, data, *o.Render)
		if err != nil {
			return end{Problem: err.Error()}
		}
		return end{Report: &report}
	}
	if o.Text != nil {
		found, err := text.Read(in, info.Size(), *o.Text)
		var known *text.Error
		if errors.As(err, &known) {
			return end{Problem: known.Problem, Encrypted: known.Encrypted, Empty: known.Empty, Pictures: found.Pictures,
				Pages: found.Pages}
		}
		if err == nil {
			_, err = io.WriteString(out, found.Text)
		}
		if err != nil {
			return end{Problem: err.Error()}
		}
		return end{Invoice: found.Invoice, Unread: found.Unread, Pictures: found.Pictures, Pages: found.Pages}
	}
	if o.Draw != nil {
		drawn, err := text.Draw(out, in, info.Size(), *o.Draw)
		return pictured(drawn, err)
	}
	if o.Find != nil {
		spots, err := text.Find(in, info.Size(), *o.Find)
		out := pictured(text.Drawn{}, err)
		out.Spots = spots
		return out
	}
	if o.Codes != nil {
		found, left, err := text.Codes(in, info.Size(), *o.Codes)
		if err == nil {
			err = json.NewEncoder(out).Encode(found)
		}
		last := pictured(text.Drawn{}, err)
		last.Left = left
		return last
	}
	if o.Straighten {
		drawn, err := text.Straighten(out, in)
		return pictured(drawn, err)
	}
	return end{Problem: "the order is empty"}
}

// pictured is the last word on a picture.
func pictured(drawn text.Drawn, err error) end {
	var known *text.Error
	if errors.As(err, &known) {
		return end{Problem: known.Problem, Encrypted: known.Encrypted}
	}
	if err != nil {
		return end{Problem: err.Error()}
	}
	return end{Drawn: &drawn}
}

// source remembers why no more could be read.
type source struct {
	r   io.Reader
	err error
}

func (s *source) Read(p []byte) (int, error) {
	n, err := s.r.Read(p)
	if err != nil && err != io.EOF {
		s.err = err
	}
	return n, err
}

// framer writes frames: their kind, their length and their content.
type framer struct{ w *bufio.Writer }

func (f *framer) write(kind byte, data []byte) error {
	var head [5]byte
	head[0] = kind
	binary.BigEndian.PutUint32(head[1:], uint32(len(data)))
	if _, err := f.w.Write(head[:]); err != nil {
		return err
	}
	_, err := f.w.Write(data)
	return err
}

func (f *framer) Write(data []byte) (int, error) {
	for n := 0; n < len(data); {
		some := data[n:min(n+frame, len(data))]
		if err := f.write(frameData, some); err != nil {
			return n, err
		}
		n += len(some)
	}
	return len(data), nil
}

// end writes the last word on an order.
func (f *framer) end(of end) error {
	data, err := json.Marshal(of)
	if err == nil {
		err = f.write(frameEnd, data)
	}
	return errors.Join(err, f.w.Flush())
}

// Unpack opens a file that holds others. What cannot be opened is told as an
// *unpack.Error; other errors are the caller's own or the machine's.
func Unpack(ctx context.Context, file *os.File, r unpack.Request, visit unpack.Visit) error {
	_, err := run(ctx, file, order{Unpack: &r}, visiting(&r, visit))
	return err
}

// visiting tells of the entries of a file.
func visiting(r *unpack.Request, visit unpack.Visit) func(*frames) error {
	return func(frames *frames) error {
		for frames.kind == frameEntry {
			var e unpack.Entry
			if err := json.Unmarshal(frames.data, &e); err != nil {
				return err
			}
			if err := frames.next(); err != nil {
				return err
			}
			var content io.Reader
			if r.Contents {
				content = &body{frames: frames}
			}
			if err := visit(e, content); err != nil {
				return err
			}
			for frames.kind == frameData || frames.kind == frameSpoiled { // what the caller did not want
				if err := frames.next(); err != nil {
					return err
				}
			}
		}
		return nil
	}
}

// Render draws a message in another form.
func Render(ctx context.Context, file *os.File, r render.Request, w io.Writer) (render.Report, error) {
	e, err := run(ctx, file, order{Render: &r}, func(frames *frames) error {
		_, err := io.Copy(w, &body{frames: frames})
		return err
	})
	if err != nil || e.Report == nil {
		return render.Report{}, err
	}
	return *e.Report, nil
}

// Text reads the text inside of a document. What cannot be read is told as an
// *unpack.Error.
func Text(ctx context.Context, file *os.File, r text.Request) (text.Found, error) {
	if is, err := isPDF(file); err != nil {
		return text.Found{}, err
	} else if is && r.Reader != "" {
		return ofPDF(ctx, file, r)
	}
	var b strings.Builder
	last, err := run(ctx, file, order{Text: &r}, into(&b))
	return last.found(b.String()), err
}

// found is what a child has read of a file.
func (e end) found(read string) text.Found {
	return text.Found{Text: read, Invoice: e.Invoice, Unread: e.Unread, Pictures: e.Pictures, Pages: e.Pages}
}

// isPDF says whether a file is a PDF, which takes a process that stays.
func isPDF(file *os.File) (bool, error) {
	head := make([]byte, text.Head)
	n, err := file.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return false, err
	}
	return text.PDF(head[:n]), nil
}

// into gathers a text.
func into(b *strings.Builder) func(*frames) error {
	return func(f *frames) error {
		_, err := io.Copy(b, io.LimitReader(&body{frames: f}, text.Most))
		return err
	}
}

// frames reads what a child writes.
type frames struct {
	r    *bufio.Reader
	kind byte
	data []byte
	buf  [frame]byte
}

func (f *frames) next() error {
	var head [5]byte
	if _, err := io.ReadFull(f.r, head[:]); err != nil {
		return err
	}
	n := binary.BigEndian.Uint32(head[1:])
	if n > frame {
		return errors.New("a frame is too long")
	}
	f.kind, f.data = head[0], f.buf[:n]
	_, err := io.ReadFull(f.r, f.data)
	return err
}

// body reads the data frames up to the next of another kind.
type body struct {
	frames *frames
	at     int
}

func (b *body) Read(p []byte) (int, error) {
	for {
		if b.frames.kind == frameSpoiled {
			return 0, &unpack.Error{Problem: fmt.Sprintf("the file is broken in its archive (%s)", b.frames.data)}
		}
		if b.frames.kind != frameData {
			return 0, io.EOF
		}
		if b.at < len(b.frames.data) {
			n := copy(p, b.frames.data[b.at:])
			b.at += n
			return n, nil
		}
		b.at = 0
		if err := b.frames.next(); err != nil {
			if err == io.EOF {
				err = io.ErrUnexpectedEOF
			}
			return 0, err
		}
	}
}

// run starts a child, lets read take its answer and waits for it.
func run(ctx context.Context, file *os.File, o order, read func(*frames) error) (end, error) {
	ctx, cancel := context.WithTimeout(ctx, deadline)
	defer cancel()
	o.shorten()
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return end{}, err
	}
	if ctx.Value(patiently{}) != nil {
		return runPatiently(ctx, file, o, read)
	}
	// The child dies with the thread that started it (PR_SET_PDEATHSIG).
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	return runHere(ctx, file, o, read)
}

type patiently struct{}

// Patiently lets processes that are started for ctx leave the processors to others that want them.
func Patiently(ctx context.Context) context.Context {
	return context.WithValue(ctx, patiently{}, true)
}

// runPatiently runs a child from a thread of lower priority, which the child has, too. The thread ends with it: an
// ordinary user may not raise a priority again.
func runPatiently(ctx context.Context, file *os.File, o order, read func(*frames) error) (last end, err error) {
	var done sync.WaitGroup
	done.Go(func() {
		runtime.LockOSThread() // never unlocked
		giveWay()
		last, err = runHere(ctx, file, o, read)
	})
	done.Wait()
	return last, err
}

// runHere runs a child from this thread.
func runHere(ctx context.Context, file *os.File, o order, read func(*frames) error) (end, error) {
	p, err := start(ctx, o.limits() == limits{})
	if err != nil {
		return end{}, fmt.Errorf("starting a process to read in: %w", err)
	}
	var last end
	if err = p.orders.send(&o, file); err == nil {
		last, err = p.frames.answer(read)
	} else if !errors.Is(err, errOrder) {
		err = errors.Join(io.ErrUnexpectedEOF, err)
	}
	p.orders.close()
	if err != nil {
		_ = p.cmd.Process.Kill() // it may have ended already
	}
	return last, verdict(ctx, last, err, p.cmd.Wait(), p.stderr)
}

// shorten keeps an order within its bounds, whatever a message called its parts.
func (o *order) shorten() {
	if o.Unpack != nil {
		short := *o.Unpack
		short.Name, short.Type = tail(short.Name), tail(short.Type)
		o.Unpack = &short
	}
	if o.Text != nil {
		short := *o.Text
		short.Name, short.Type = tail(short.Name), tail(short.Type)
		o.Text = &short
	}
}

// tail is the end of a name, where it says what it is of.
func tail(name string) string {
	if len(name) <= mostName {
		return name
	}
	return strings.ToValidUTF8(name[len(name)-mostName:], "")
}

// answer reads what a child says to an order, up to its last word.
func (f *frames) answer(read func(*frames) error) (last end, err error) {
	if err = f.next(); err == nil {
		err = read(f)
	}
	if err == nil && f.kind != frameEnd {
		err = io.ErrUnexpectedEOF
	}
	if err == nil {
		err = json.Unmarshal(f.data, &last)
	}
	return last, err
}

// verdict is what became of an order, as an *unpack.Error where it is the file's fault.
func verdict(ctx context.Context, last end, err, waited error, stderr *bytes.Buffer) error {
	switch {
	case err == nil && last.Problem != "":
		return &unpack.Error{Problem: last.Problem, Encrypted: last.Encrypted, Empty: last.Empty, Limit: last.Limit}
	case err == nil:
		return nil
	case ctx.Err() == context.DeadlineExceeded:
		return &unpack.Error{Problem: fmt.Sprintf("reading it took longer than %v, which is the limit", deadline),
			Limit: true}
	case ctx.Err() != nil:
		return ctx.Err()
	case starved(stderr.Bytes()):
		return &unpack.Error{
			Problem: fmt.Sprintf("reading it takes more than %d MB of memory, which is the limit", memory>>20), Limit: true}
	case errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF):
		return &unpack.Error{Problem: fmt.Sprintf("the process that read it ended early (%v)", waited)}
	}
	return err
}

// starved says whether a process ended for want of memory, by its last words.
// Where an allocation of the runtime's own fails, during a collection, it says
// so by a segmentation fault outside of any goroutine; one inside is a panic.
func starved(words []byte) bool {
	return bytes.HasPrefix(words, []byte("SIGSEGV: ")) || bytes.Contains(words, []byte("out of memory")) ||
		bytes.Contains(words, []byte("cannot allocate memory")) ||
		bytes.Contains(words, []byte("fatal error: stack overflow"))
}

// started counts children.
var started atomic.Int64

// Started is how many processes were started to read in since the program began.
func Started() int64 { return started.Load() }

// process is a child that runs.
type process struct {
	cmd    *exec.Cmd
	orders *orders
	frames *frames
	stderr *bytes.Buffer
}

// start starts a child, without a network where the system allows that. One that reads and nothing else confines
// itself at once.
func start(ctx context.Context, reads bool) (*process, error) {
	paths, err := programs()
	if err != nil {
		return nil, err
	}
	kind := told
	if reads {
		kind = confined
	}
	for i, path := range paths {
		for _, alone := range []bool{true, false} {
			var p *process
			if p, err = begin(ctx, path, kind, alone); err == nil {
				started.Add(1)
				for _, before := range paths[:i] {
					cannot(before)
				}
				return p, nil
			}
		}
	}
	return nil, err
}

// begin starts a program as a child; alone puts it into a network of its own.
func begin(ctx context.Context, path, kind string, alone bool) (p *process, err error) {
	p = &process{cmd: exec.CommandContext(ctx, path), stderr: &bytes.Buffer{}}
	if p.orders, err = newOrders(); err != nil {
		return nil, err
	}
	p.cmd.Env = []string{variable + "=" + kind}
	p.cmd.Dir = os.TempDir()
	p.cmd.Stdin = p.orders.input()
	p.cmd.Stderr = &limited{w: p.stderr, left: 64 << 10}
	p.cmd.WaitDelay = time.Second
	attributes(p.cmd, alone)
	var out io.ReadCloser
	if out, err = p.cmd.StdoutPipe(); err == nil {
		p.frames = &frames{r: bufio.NewReaderSize(out, frame)}
		err = p.cmd.Start()
	}
	p.orders.started()
	if err != nil {
		p.orders.close()
		return nil, err
	}
	return p, nil
}

// limited keeps the beginning of what is written.
type limited struct {
	w    io.Writer
	left int
}

func (l *limited) Write(p []byte) (int, error) {
	if n := min(len(p), l.left); n > 0 {
		l.left -= n
		if _, err := l.w.Write(p[:n]); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}
