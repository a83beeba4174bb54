// Openapi prints the document of the desk's calls, of which the console's types are made. It needs no built console.
package main

import (
	"fmt"
	"os"

	"spindle/internal/desk"
)

func main() {
	b, err := desk.Document()
	if err == nil {
		_, err = os.Stdout.Write(b)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
