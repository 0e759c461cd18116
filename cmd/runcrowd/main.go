// Runcrowd plays fleets of virtual devices against a platform and proves,
// message by message, that it acknowledged, received and stored them.
package main

import (
	"os"

	"runcrowd/internal/cli"
)

func main() {
	os.Exit(cli.Main(os.Args, os.Stdout, os.Stderr))
}
