//go:build !linux

package child

import (
	"errors"
	"os"
)

func (*Recognition) become(*os.File) error {
	return errors.New("this system cannot confine another program")
}
