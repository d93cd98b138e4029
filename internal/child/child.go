// Package child reads what is hostile - archives, winmail.dat, signed mail,
// documents, messages to be drawn - in a process of its own: the same binary, started anew,
// with nothing but its pipes, a deadline and a limit on its memory. Its death is
// an answer, not an outage.
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
	"time"

	"inktray.example/inktray/internal/core/render"
	"inktray.example/inktray/internal/core/text"
	"inktray.example/inktray/internal/core/unpack"
)

// variable tells a process that it is a child, and what it is to do.
const variable = "INKTRAY_CHILD"

const (
	deadline = 2 * time.Minute // for one item
	memory   = 512 << 20       // octets
	frame    = 64 << 10
)

// order is what a child is told.
type order struct {
	Unpack *unpack.Request `json:"unpack,omitempty"`
	Render *render.Request `json:"render,omitempty"`
	Text   *text.Request   `json:"text,omitempty"`
	// Prepare is the folder in which the reader of PDFs is made ready.
	Prepare string `json:"prepare,omitempty"`
	// Stay lets the child wait for one order after another, each in a line, of which
	// File says what is read.
	Stay bool   `json:"stay,omitempty"`
	File string `json:"file,omitempty"`
}

// end is a child's last word.
type end struct {
	Problem   string         `json:"problem,omitempty"`
	Encrypted bool           `json:"encrypted,omitempty"`
	Limit     bool           `json:"limit,omitempty"`
	Report    *render.Report `json:"report,omitempty"`
}

// The kinds of frames on the pipe.
const (
	frameEntry = 'e'
	frameData  = 'd'
	frameEnd   = 'x'
)

// Main does a child's work and ends the process, if it is a child; else it
// returns at once. It is the first thing that a program calls.
func Main() {
	told := os.Getenv(variable)
	if told == "" {
		return
	}
	var o order
	err := json.Unmarshal([]byte(told), &o)
	if err != nil {
		os.Exit(1)
	}
	if o.Prepare == "" { // that one reads nothing of anybody's, and writes
		confine(memory)
		debug.SetMemoryLimit(memory / 2)
	}
	out := &framer{w: bufio.NewWriterSize(os.Stdout, frame)}
	if o.Stay {
		err = stay(os.Stdin, out)
	} else {
		err = out.end(work(&o, os.Stdin, out))
	}
	if err != nil {
		os.Exit(1)
	}
	os.Exit(0)
}

// stay works on one order after another until there is none any more.
func stay(in io.Reader, out *framer) error {
	for orders := json.NewDecoder(in); ; {
		var o order
		if err := orders.Decode(&o); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
		var result end
		f, err := os.Open(o.File)
		if err == nil {
			result = work(&o, f, out)
			err = f.Close()
		}
		if err != nil {
			result = end{Problem: fmt.Sprintf("it cannot be opened (%v)", err)}
		}
		if err := out.end(result); err != nil {
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
	info, err := in.Stat()
	if err != nil {
		return end{Problem: err.Error()}
	}
	switch {
	case o.Unpack != nil:
		err := unpack.Open(in, info.Size(), *o.Unpack, func(e unpack.Entry, content io.Reader) error {
			data, err := json.Marshal(e)
			if err != nil {
				return unpack.Passed(err)
			}
			if err := out.write(frameEntry, data); err != nil || content == nil {
				return unpack.Passed(err)
			}
			_, err = io.Copy(out, content)
			return err
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
			return end{Problem: known.Problem, Encrypted: known.Encrypted}
		}
		if err == nil {
			_, err = io.WriteString(out, found)
		}
		if err != nil {
			return end{Problem: err.Error()}
		}
		return end{}
	}
	return end{Problem: "the order is empty"}
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
	_, err := run(ctx, file, order{Unpack: &r}, func(frames *frames) error {
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
			for frames.kind == frameData { // what the caller did not want
				if err := frames.next(); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return err
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
func Text(ctx context.Context, file *os.File, r text.Request) (string, error) {
	head := make([]byte, text.Head)
	n, err := file.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return "", err
	}
	if r.Reader != "" && text.PDF(head[:n]) {
		return ofPDF(ctx, file, r)
	}
	var b strings.Builder
	_, err = run(ctx, file, order{Text: &r}, into(&b))
	return b.String(), err
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
	told, err := json.Marshal(o)
	if err != nil {
		return end{}, err
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return end{}, err
	}
	// The child dies with the thread that started it (PR_SET_PDEATHSIG).
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	cmd, out, stderr, err := start(ctx, file, string(told))
	if err != nil {
		return end{}, fmt.Errorf("starting a process to read in: %w", err)
	}
	f := &frames{r: bufio.NewReaderSize(out, frame)}
	last, err := f.answer(read)
	if err != nil {
		_ = cmd.Process.Kill() // it may have ended already
	}
	return last, verdict(ctx, last, err, cmd.Wait(), stderr)
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
		return &unpack.Error{Problem: last.Problem, Encrypted: last.Encrypted, Limit: last.Limit}
	case err == nil:
		return nil
	case ctx.Err() == context.DeadlineExceeded:
		return &unpack.Error{Problem: fmt.Sprintf("reading it took longer than %v, which is the limit", deadline), Limit: true}
	case ctx.Err() != nil:
		return ctx.Err()
	case starved(stderr.Bytes()):
		return &unpack.Error{Problem: fmt.Sprintf("reading it takes more than %d MB of memory, which is the limit", memory>>20), Limit: true}
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
		bytes.Contains(words, []byte("cannot allocate memory")) || bytes.Contains(words, []byte("fatal error: stack overflow"))
}

// start starts the child, without a network where the system allows that.
func start(ctx context.Context, in io.Reader, told string) (*exec.Cmd, io.Reader, *bytes.Buffer, error) {
	path, err := os.Executable()
	if err != nil {
		return nil, nil, nil, err
	}
	if runtime.GOOS == "linux" {
		path = "/proc/self/exe" // also after an upgrade has put another program in this one's place
	}
	for _, alone := range []bool{true, false} {
		cmd := exec.CommandContext(ctx, path)
		cmd.Env = []string{variable + "=" + told}
		cmd.Dir = os.TempDir()
		cmd.Stdin = in
		stderr := &bytes.Buffer{}
		cmd.Stderr = &limited{w: stderr, left: 64 << 10}
		cmd.WaitDelay = time.Second
		attributes(cmd, alone)
		var out io.ReadCloser
		if out, err = cmd.StdoutPipe(); err != nil {
			return nil, nil, nil, err
		}
		if err = cmd.Start(); err == nil {
			return cmd, out, stderr, nil
		}
	}
	return nil, nil, nil, err
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
