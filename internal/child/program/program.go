// Package program holds the command inktray-reader, so that the service stays one file. It is there where the build has
// the tag reader, which needs reader.gz: `make build` makes both. Without it the service starts itself anew instead.
package program

// Compressed is the program, compressed by gzip (RFC 1952); "" where the build has none.
func Compressed() string { return compressed }
