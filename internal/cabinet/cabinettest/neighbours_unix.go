//go:build unix

package cabinettest

import (
	"errors"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

func remove(path string) error { return os.Remove(path) }

// Neighbours are all kinds of them.
var Neighbours = []Neighbour{
	{Name: "file", Proves: "another's file is not overwritten", Holds: "another",
		Make: func(p string) error { return os.WriteFile(p, []byte("another"), 0o644) }},
	{Name: "empty file", Proves: "a file without content counts as one",
		Make: func(p string) error { return os.WriteFile(p, nil, 0o644) }, After: true},
	{Name: "folder", Proves: "a folder takes the name and is not gone into",
		Make: func(p string) error { return os.Mkdir(p, 0o755) }},
	{Name: "folder with files", Proves: "what lies in it stays", Make: func(p string) error {
		if err := os.Mkdir(p, 0o755); err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(p, "x"), []byte("x"), 0o644)
	}},
	{Name: "link to a file", Proves: "a link within the cabinet counts as the file it leads to", Holds: "beside",
		Make: func(p string) error { return os.Symlink("beside.csv", p) }},
	{Name: "link to nothing", Proves: "a link that leads nowhere takes the name",
		Make: func(p string) error { return os.Symlink("nowhere", p) }},
	{Name: "link to itself", Proves: "a loop takes the name and is not followed",
		Make: func(p string) error { return os.Symlink(filepath.Base(p), p) }},
	{Name: "loop of two links", Proves: "a loop takes the name and is not followed", Make: func(p string) error {
		if err := os.Symlink(filepath.Base(p)+".b", p); err != nil {
			return err
		}
		return os.Symlink(filepath.Base(p), p+".b")
	}},
	{Name: "link outside", Proves: "nothing is read outside of the cabinet",
		Make: func(p string) error { return os.Symlink("/etc/hostname", p) }},
	{Name: "link upwards", Proves: "nothing is read outside of the cabinet",
		Make: func(p string) error { return os.Symlink("../../../../../../../etc/hostname", p) }},
	{Name: "link to a folder", Proves: "it takes the name", Make: func(p string) error { return os.Symlink(".", p) }},
	{Name: "pipe", Proves: "opening never waits for a writer", Make: func(p string) error {
		return unix.Mkfifo(p, 0o644)
	}},
	{Name: "link to a pipe", Proves: "opening never waits for a writer", Make: func(p string) error {
		if err := unix.Mkfifo(p+".pipe", 0o644); err != nil {
			return err
		}
		return os.Symlink(filepath.Base(p)+".pipe", p)
	}},
	{Name: "socket", Proves: "a socket takes the name",
		Make: func(p string) error { return node(p, unix.S_IFSOCK, 0) }},
	{Name: "device", Proves: "a device is not opened", // /dev/zero never ends
		Make: func(p string) error { return node(p, unix.S_IFCHR, int(unix.Mkdev(1, 5))) }},
	{Name: "file that comes between look and use", Proves: "it is not overwritten", Holds: "quick", After: true,
		Make: func(p string) error { return os.WriteFile(p, []byte("quick"), 0o644) }},
	{Name: "pipe that comes between look and use", Proves: "it is not waited for", After: true,
		Make: func(p string) error { return unix.Mkfifo(p, 0o644) }},
	{Name: "folder that comes between look and use", Proves: "it stays", After: true,
		Make: func(p string) error { return os.Mkdir(p, 0o755) }},
}

// node makes what the system lets this user make.
func node(path string, kind uint32, device int) error {
	err := unix.Mknod(path, kind|0o644, device)
	if errors.Is(err, unix.EPERM) {
		return ErrNoNeighbour
	}
	return err
}
