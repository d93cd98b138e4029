package cabinettest

import "os"

func remove(path string) error { return os.Remove(path) }

// Neighbours are those that can be made there.
var Neighbours = []Neighbour{
	{Name: "file", Proves: "another's file is not overwritten", Holds: "another",
		Make: func(p string) error { return os.WriteFile(p, []byte("another"), 0o644) }},
	{Name: "folder", Proves: "a folder takes the name and is not gone into",
		Make: func(p string) error { return os.Mkdir(p, 0o755) }},
}
