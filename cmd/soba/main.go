// Soba keeps watchlists that refresh, in tables whose every cell accounts for itself.
package main

import (
	"context"
	"os"
	_ "time/tzdata" // exchanges need their zones on machines that have none

	"soba.invalid/soba/console"
	"soba.invalid/soba/internal/cli"
)

func main() {
	os.Exit(cli.Main(context.Background(), cli.New(console.Files()), os.Args[1:]))
}
