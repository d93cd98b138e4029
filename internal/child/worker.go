package child

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/core/text"
	"inktray.example/inktray/internal/core/unpack"
)

// helper is a child that reads one file after another.
type helper struct {
	*process
	folder string // of the reader of PDFs
	ended  chan struct{}
	waited error // once it has ended
	read   int
	busy   time.Duration
	waits  bool        // it was there before it was asked for, so it may have ended meanwhile
	timer  *time.Timer // while it waits
}

// newHelper starts a child, of low priority where that is wanted.
func newHelper(folder string, patiently bool) (*helper, error) {
	h := &helper{folder: folder, ended: make(chan struct{})}
	started := make(chan error)
	go func() {
		// The child dies with the thread that started it (PR_SET_PDEATHSIG).
		runtime.LockOSThread()
		if patiently {
			giveWay() // the thread ends with the child: an ordinary user may not raise a priority again
		} else {
			defer runtime.UnlockOSThread()
		}
		p, err := start(context.Background(), folder == "")
		h.process = p
		started <- err
		if err == nil {
			<-h.ended
			h.waited = p.cmd.Wait()
			h.ended <- struct{}{}
		}
	}()
	if err := <-started; err != nil {
		return nil, err
	}
	return h, nil
}

// ask lets a child read a file.
func (h *helper) ask(ctx context.Context, o order, file *os.File, read func(*frames) error) (last end, err error) {
	began := time.Now()
	defer func() { h.busy += time.Since(began) }()
	h.read++
	defer context.AfterFunc(ctx, func() { _ = h.cmd.Process.Kill() })()
	o.shorten()
	if err := h.orders.send(&o, file); errors.Is(err, errOrder) {
		return end{}, err
	} else if err != nil {
		return end{}, errors.Join(io.ErrUnexpectedEOF, err)
	}
	return h.frames.answer(read)
}

// kill ends a child.
func (h *helper) kill() {
	h.orders.close()
	_ = h.cmd.Process.Kill() // it may have ended already
	h.ended <- struct{}{}
	<-h.ended
}

// The bounds of one child of a Worker: what the files before have used up is not the next file's fault.
const (
	mostWork = 5 * time.Second
	restsFor = time.Second // while its message is at something else; then it ends
)

// Worker reads the files of one message, one after another in one process: starting one for each would take most
// of the time. The files of two messages are never read in the same process. The zero value is ready; Close ends it.
// It may be used by several goroutines, which then have a process each.
type Worker struct {
	mutex   sync.Mutex
	resting *helper // waits for another file
}

// Unpack opens a file that holds others, like the function of that name. Before the first visit begin is called, and
// again where the file is read anew: a file before may have been why the process ended.
func (w *Worker) Unpack(ctx context.Context, file *os.File, r unpack.Request, begin func(), visit unpack.Visit) error {
	_, err := w.do(ctx, file, order{Unpack: &r}, func(f *frames) error {
		begin()
		return visiting(&r, visit)(f)
	})
	return err
}

// Text reads the text inside of a document, like the function of that name.
func (w *Worker) Text(ctx context.Context, file *os.File, r text.Request) (text.Found, error) {
	if is, err := isPDF(file); err != nil {
		return text.Found{}, err
	} else if is && r.Reader != "" {
		return ofPDF(ctx, file, r)
	}
	r.Reader = "" // it has no use for it, and the process may open nothing
	var b strings.Builder
	last, err := w.do(ctx, file, order{Text: &r}, func(f *frames) error {
		b.Reset()
		return into(&b)(f)
	})
	return last.found(b.String()), err
}

// do lets a process work on an order.
func (w *Worker) do(ctx context.Context, file *os.File, o order, read func(*frames) error) (end, error) {
	ctx, cancel := context.WithTimeout(ctx, deadline)
	defer cancel()
	for anew := false; ; anew = true {
		h, err := w.take(ctx.Value(patiently{}) != nil, anew)
		if err != nil {
			return end{}, fmt.Errorf("starting a process to read in: %w", err)
		}
		if _, err := file.Seek(0, io.SeekStart); err != nil {
			w.rest(h)
			return end{}, err
		}
		before := h.read > 0 || h.waits
		last, err := w.ask(ctx, h, o, file, read)
		if err == nil {
			return last, verdict(ctx, last, nil, nil, nil)
		}
		ended := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if before && ended && ctx.Err() == nil {
			continue // a new process tells whether it is this file
		}
		return last, verdict(ctx, last, err, h.waited, h.stderr)
	}
}

// ask lets a process read a file. It waits for the next one after that, and is ended where anything else comes of it,
// also where read panics.
func (w *Worker) ask(ctx context.Context, h *helper, o order, file *os.File, read func(*frames) error) (last end,
	err error) {
	ends := true
	defer func() {
		if ends {
			h.kill()
		}
	}()
	if last, err = h.ask(ctx, o, file, read); err == nil {
		w.rest(h)
		ends = false
	}
	return last, err
}

// take gives the process that waits, one that is ready, or a new one, which is certain where anew is set.
func (w *Worker) take(patiently, anew bool) (*helper, error) {
	if anew {
		return newHelper("", patiently)
	}
	w.mutex.Lock()
	h := w.resting
	w.resting = nil
	w.mutex.Unlock()
	if h != nil {
		h.timer.Stop()
		return h, nil
	}
	if patiently {
		return newHelper("", true) // it keeps its priority for ever
	}
	return readyHelper()
}

// rest lets a process wait for the message's next file.
func (w *Worker) rest(h *helper) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if w.resting != nil || h.busy > mostWork {
		go h.kill()
		return
	}
	w.resting = h
	h.timer = time.AfterFunc(restsFor, func() { w.end(h) })
}

// end ends a process if it still waits; a nil one stands for any.
func (w *Worker) end(h *helper) {
	w.mutex.Lock()
	waits := w.resting
	if waits == nil || h != nil && waits != h {
		w.mutex.Unlock()
		return
	}
	w.resting = nil
	w.mutex.Unlock()
	waits.timer.Stop()
	waits.kill()
}

// Close ends the process that waits.
func (w *Worker) Close() { w.end(nil) }
