package child

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// systemFolders are what a program of the system reads to start; what is not there does not matter.
var systemFolders = []string{"/lib", "/lib32", "/lib64", "/usr/lib", "/usr/lib64", "/usr/local/lib"}

// become makes this process the program that reads the text in a picture, with the picture as its input. It is
// confined already, and stays so. It comes back only where the program cannot be started.
func (r *Recognition) become(in *os.File) error {
	if _, err := in.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if err := unix.Dup3(int(in.Fd()), 0, 0); err != nil {
		return err
	}
	mode := "3" // pages as they come
	if r.Upright {
		mode = "1" // those that lie on their side, too
	}
	words := []string{"tesseract", "stdin", "stdout", "-l", strings.Join(r.Languages, "+"), "--tessdata-dir", r.Folder,
		"--psm", mode, "-c", "tessedit_create_tsv=1"}
	if r.DPI > 0 {
		words = append(words, "--dpi", strconv.Itoa(r.DPI))
	}
	err := syscall.Exec(r.Program, words, []string{"OMP_THREAD_LIMIT=1", "LC_ALL=C.UTF-8"})
	return errors.Join(fmt.Errorf("%s cannot be started", r.Program), err)
}
