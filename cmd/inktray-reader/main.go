// Command inktray-reader reads hostile contents for the service, which holds it and starts it. It holds nothing else:
// no server, no database and no mail client, so it starts in a third of the time.
package main

import (
	"fmt"
	"os"

	"inktray.example/inktray/internal/child"
)

func main() {
	child.Main()
	fmt.Fprintln(os.Stderr, "The service starts this program itself. Start inktray instead.")
	os.Exit(2)
}
