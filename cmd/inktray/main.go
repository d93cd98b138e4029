// Command inktray files the attachments of incoming mail into named folders.
package main

import (
	"os"

	"inktray.example/inktray/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
