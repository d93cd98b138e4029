package child

import (
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/sys/unix"
)

// load puts a program into memory (memfd_create(2)), where nobody can change it any more, and gives the path at which
// it can be started while this process runs. The path is one of this process: in a child the file may have another
// number.
func load(compressed string) (path string, err error) {
	const flags = unix.MFD_CLOEXEC | unix.MFD_ALLOW_SEALING
	fd, err := unix.MemfdCreate("inktray-reader", flags|unix.MFD_EXEC)
	if errors.Is(err, unix.EINVAL) { // before kernel 6.3
		fd, err = unix.MemfdCreate("inktray-reader", flags)
	}
	if err != nil {
		return "", errors.Join(errNoSmall, err)
	}
	file := os.NewFile(uintptr(fd), "inktray-reader") // never closed: it is wanted as long as the process runs
	in, err := gzip.NewReader(strings.NewReader(compressed))
	if err == nil {
		_, err = io.Copy(file, in)
	}
	if err == nil {
		_, err = unix.FcntlInt(uintptr(fd), unix.F_ADD_SEALS,
			unix.F_SEAL_SHRINK|unix.F_SEAL_GROW|unix.F_SEAL_WRITE|unix.F_SEAL_SEAL)
	}
	if err != nil {
		return "", errors.Join(err, file.Close())
	}
	small.file = file
	return fmt.Sprintf("/proc/%d/fd/%d", os.Getpid(), fd), nil
}
