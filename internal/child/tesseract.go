package child

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"inktray.example/inktray/internal/core/ocr"
	"inktray.example/inktray/internal/core/unpack"
)

// Tesseract is the program that reads the text in pictures, as it is installed here.
type Tesseract struct {
	Path      string   // of the program
	Folder    string   // of the languages
	Version   string   // such as 5.3.0
	Languages []string // that are installed, such as deu and eng
	Upright   bool     // it can tell which way up a page lies
}

// Recognition says how the text in a picture is read. The process becomes Program for it.
type Recognition struct {
	Program   string   `json:"program"`
	Folder    string   `json:"folder"`
	Languages []string `json:"languages"`
	Upright   bool     `json:"upright,omitempty"`
	DPI       int      `json:"dpi,omitempty"` // dots per inch of the picture; 0 where it says so itself, or nobody knows
}

var (
	version  = regexp.MustCompile(`^tesseract v?([0-9][0-9A-Za-z.-]*)`)
	languish = regexp.MustCompile(`^[A-Za-z][A-Za-z_]{1,40}$`)
	folderIn = regexp.MustCompile(`"([^"]+)"`)
)

// ErrNoTesseract says that there is no program that reads pictures.
var ErrNoTesseract = errors.New("Tesseract is not installed")

// FindTesseract finds the program and its languages.
func FindTesseract(ctx context.Context) (*Tesseract, error) {
	if runtime.GOOS != "linux" {
		return nil, errors.New("the text in pictures is read on Linux only, where it can be read safely")
	}
	path, err := exec.LookPath("tesseract")
	if err != nil {
		return nil, ErrNoTesseract
	}
	if path, err = filepath.EvalSymlinks(path); err != nil {
		return nil, err
	}
	ask := func(what string) (string, error) {
		ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
		defer cancel()
		said, err := exec.CommandContext(ctx, path, what).CombinedOutput()
		if err != nil {
			return "", fmt.Errorf("%s %s: %w", path, what, err)
		}
		return string(said), nil
	}
	t := &Tesseract{Path: path}
	said, err := ask("--version")
	if err != nil {
		return nil, err
	}
	if found := version.FindStringSubmatch(said); found != nil {
		t.Version = found[1]
	}
	if said, err = ask("--list-langs"); err != nil {
		return nil, err
	}
	first, rest, _ := strings.Cut(said, "\n")
	if found := folderIn.FindStringSubmatch(first); found != nil {
		t.Folder = filepath.Clean(found[1])
	}
	for line := range strings.Lines(rest) {
		switch name := strings.TrimSpace(line); {
		case name == "osd":
			t.Upright = true
		case languish.MatchString(name):
			t.Languages = append(t.Languages, name)
		}
	}
	slices.Sort(t.Languages)
	if len(t.Languages) == 0 || t.Folder == "" {
		return nil, errors.New("Tesseract is installed without any language")
	}
	return t, nil
}

// Recognize reads the text in a picture, and leaves the processors to others that want them: a page takes seconds. What
// cannot be read is told as an *unpack.Error.
func Recognize(ctx context.Context, file *os.File, r Recognition) (read ocr.Reading, err error) {
	var done sync.WaitGroup
	done.Go(func() {
		// The child dies with the thread that started it (PR_SET_PDEATHSIG), and has its priority. The thread ends with it:
		// an ordinary user may not raise a priority again.
		runtime.LockOSThread() // never unlocked
		giveWay()
		read, err = recognize(ctx, file, r)
	})
	done.Wait()
	return read, err
}

func recognize(ctx context.Context, file *os.File, r Recognition) (ocr.Reading, error) {
	ctx, cancel := context.WithTimeout(ctx, deadline)
	defer cancel()
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return ocr.Reading{}, err
	}
	p, err := start(ctx, false)
	if err != nil {
		return ocr.Reading{}, fmt.Errorf("starting a process to read in: %w", err)
	}
	var said []byte
	if err = p.orders.send(&order{Become: &r}, file); err == nil {
		said, err = io.ReadAll(io.LimitReader(p.frames.r, ocr.Most))
	}
	p.orders.close()
	if err != nil || len(said) == ocr.Most {
		_ = p.cmd.Process.Kill() // it may have ended already
	}
	waited := p.cmd.Wait()
	switch words := p.stderr.Bytes(); {
	case ctx.Err() != nil || starved(words) || bytes.Contains(words, []byte("bad_alloc")):
		if ctx.Err() == nil {
			err = io.EOF
		}
		return ocr.Reading{}, verdict(ctx, end{}, errors.Join(err, io.EOF), waited, p.stderr)
	case waited != nil && len(said) > 0 && said[0] == frameEnd:
		return ocr.Reading{}, fmt.Errorf("starting Tesseract: %s", said[min(5, len(said)):])
	case waited != nil || err != nil:
		return ocr.Reading{}, &unpack.Error{Problem: "it is not a picture that Tesseract can read"}
	}
	return ocr.Parse(bytes.NewReader(said))
}
