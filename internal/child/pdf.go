package child

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/core/codes"
	"inktray.example/inktray/internal/core/text"
	"inktray.example/inktray/internal/core/unpack"
)

// Getting ready takes the reader of PDFs longer than most files do, so a child that has
// read one stays for others.
const (
	mostWaiting = 2                // children that wait for another file
	waitsFor    = 20 * time.Second // then it ends
	mostRead    = 50               // files of one child
	mostBusy    = deadline / 4     // of one child in all: what it has used up is not the next file's fault
)

var pdfs struct {
	mutex     sync.Mutex
	prepared  map[string]bool // folders
	preparing map[string]*preparation
	waiting   []*helper
}

// ofPDF reads the text of a PDF in a child that stays.
func ofPDF(ctx context.Context, file *os.File, r text.Request) (text.Found, error) {
	var err error
	if r.Reader, err = filepath.Abs(r.Reader); err != nil {
		return text.Found{}, err
	}
	var b strings.Builder
	last, err := onPDF(ctx, file, r.Reader, order{Text: &r}, func() bool { return b.Len() == 0 }, into(&b))
	return last.found(b.String()), err
}

// Draw draws a page of a PDF in grey, as PNG. What cannot be drawn is told as an *unpack.Error.
func Draw(ctx context.Context, file *os.File, r text.Drawing, w io.Writer) (text.Drawn, error) {
	var err error
	if r.Reader, err = filepath.Abs(r.Reader); err != nil {
		return text.Drawn{}, err
	}
	written := int64(0)
	last, err := onPDF(ctx, file, r.Reader, order{Draw: &r}, func() bool { return written == 0 }, func(f *frames) error {
		n, err := io.Copy(w, &body{frames: f})
		written += n
		return err
	})
	return last.drawn(), err
}

// Find looks for texts on the pages of a PDF. What cannot be read is told as an *unpack.Error.
func Find(ctx context.Context, file *os.File, r text.Search) ([]text.Spot, error) {
	var err error
	if r.Reader, err = filepath.Abs(r.Reader); err != nil {
		return nil, err
	}
	last, err := onPDF(ctx, file, r.Reader, order{Find: &r}, func() bool { return true },
		func(*frames) error { return nil })
	return last.Spots, err
}

// Codes reads the bar codes and QR codes on the pages of a PDF, or in a picture. left is how many pages nobody looked
// at. What cannot be read is told as an *unpack.Error.
func Codes(ctx context.Context, file *os.File, r text.CodeRequest) (found []codes.Code, left int, err error) {
	if r.Reader, err = filepath.Abs(r.Reader); err != nil {
		return nil, 0, err
	}
	pdf, err := isPDF(file)
	if err != nil {
		return nil, 0, err
	}
	var said strings.Builder
	var last end
	if pdf {
		last, err = onPDF(ctx, file, r.Reader, order{Codes: &r}, func() bool { return said.Len() == 0 }, into(&said))
	} else {
		r.Reader = ""
		last, err = run(ctx, file, order{Codes: &r}, into(&said))
	}
	if err == nil {
		if err = json.Unmarshal([]byte(said.String()), &found); err != nil {
			err = &unpack.Error{Problem: "its codes cannot be read"}
		}
	}
	return found, last.Left, err
}

// Straighten writes a picture in grey and with its lines straight, as PNG. What cannot be read is told as an
// *unpack.Error.
func Straighten(ctx context.Context, file *os.File, w io.Writer) (text.Drawn, error) {
	last, err := run(ctx, file, order{Straighten: true}, func(f *frames) error {
		_, err := io.Copy(w, &body{frames: f})
		return err
	})
	return last.drawn(), err
}

func (e end) drawn() text.Drawn {
	if e.Drawn == nil {
		return text.Drawn{}
	}
	return *e.Drawn
}

// onPDF lets a child that stays work on a PDF. fresh says whether nothing came of it yet, so that another may try.
func onPDF(ctx context.Context, file *os.File, folder string, o order, fresh func() bool,
	read func(*frames) error) (end, error) {
	ctx, cancel := context.WithTimeout(ctx, deadline)
	defer cancel()
	if err := prepare(ctx, folder); err != nil {
		return end{}, fmt.Errorf("making the reader of PDFs ready: %w", err)
	}
	for {
		h, err := helperFor(folder)
		if err != nil {
			return end{}, fmt.Errorf("starting a process to read in: %w", err)
		}
		if _, err := file.Seek(0, io.SeekStart); err != nil {
			return end{}, err
		}
		before := h.read
		last, err := h.ask(ctx, o, file, read)
		if err == nil {
			h.stay()
			return last, verdict(ctx, last, nil, nil, nil)
		}
		h.kill()
		if before > 0 && ctx.Err() == nil && fresh() {
			continue // it may have ended while it waited; another tells whether it is the file
		}
		return end{}, verdict(ctx, last, err, h.waited, h.stderr)
	}
}

// helperFor gives a child that waits, or a new one.
func helperFor(folder string) (*helper, error) {
	pdfs.mutex.Lock()
	for i := len(pdfs.waiting) - 1; i >= 0; i-- {
		if h := pdfs.waiting[i]; h.folder == folder {
			pdfs.waiting = append(pdfs.waiting[:i], pdfs.waiting[i+1:]...)
			pdfs.mutex.Unlock()
			h.timer.Stop()
			return h, nil
		}
	}
	pdfs.mutex.Unlock()
	return newHelper(folder, false)
}

// stay lets a child wait for another file.
func (h *helper) stay() {
	pdfs.mutex.Lock()
	defer pdfs.mutex.Unlock()
	if h.read >= mostRead || h.busy > mostBusy || len(pdfs.waiting) >= mostWaiting {
		go h.kill()
		return
	}
	pdfs.waiting = append(pdfs.waiting, h)
	h.timer = time.AfterFunc(waitsFor, func() {
		pdfs.mutex.Lock()
		for i := range pdfs.waiting {
			if pdfs.waiting[i] == h {
				pdfs.waiting = append(pdfs.waiting[:i], pdfs.waiting[i+1:]...)
				pdfs.mutex.Unlock()
				h.kill()
				return
			}
		}
		pdfs.mutex.Unlock() // somebody has taken it
	})
}

// prepare lets a child make the reader of PDFs ready, once for each run of the program: those that read may not
// write. It goes on though who asked for it first no longer waits.
func prepare(ctx context.Context, folder string) error {
	pdfs.mutex.Lock()
	if pdfs.prepared[folder] {
		pdfs.mutex.Unlock()
		return nil
	}
	at := pdfs.preparing[folder]
	if at == nil {
		at = &preparation{done: make(chan struct{})}
		if pdfs.preparing == nil {
			pdfs.preparing = map[string]*preparation{}
		}
		pdfs.preparing[folder] = at
		go func() {
			at.err = makeReady(folder)
			pdfs.mutex.Lock()
			defer pdfs.mutex.Unlock()
			if pdfs.prepared == nil {
				pdfs.prepared = map[string]bool{}
			}
			pdfs.prepared[folder] = at.err == nil
			delete(pdfs.preparing, folder)
			close(at.done)
		}()
	}
	pdfs.mutex.Unlock()
	select {
	case <-at.done:
		return at.err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// preparation is the reader of PDFs being made ready; err says why it could not be, once that is done.
type preparation struct {
	done chan struct{}
	err  error
}

func makeReady(folder string) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	nothing, err := os.Open(os.DevNull)
	if err != nil {
		return err
	}
	defer nothing.Close()
	if _, err := run(context.Background(), nothing, order{Prepare: folder},
		func(*frames) error { return nil }); err != nil {
		var known *unpack.Error // it is about no file
		if errors.As(err, &known) {
			return errors.New(known.Problem)
		}
		return err
	}
	all, err := os.ReadDir(folder)
	if err != nil {
		return err
	}
	for _, one := range all { // that of a version before is of no use any more
		if one.Name() != text.Version() {
			if err := os.RemoveAll(filepath.Join(folder, one.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}
