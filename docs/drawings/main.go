// Drawings draws the house from the code: which rooms use which, and the way of one changed file.
// Run in the top of the repository, it writes docs/rooms.svg and docs/changed-file.svg; with
// -check it only reports whether they are what the code says.
package main

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
)

func main() {
	check := flag.Bool("check", false, "report whether the drawings are current, and write nothing")
	flag.Parse()
	if err := run(*check); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(check bool) error {
	var bad error
	for name, draw := range map[string]func() ([]byte, error){"rooms.svg": drawRooms, "changed-file.svg": drawChangedFile} {
		drawing, err := draw()
		if err != nil {
			return err
		}
		file := filepath.Join("docs", name)
		kept, err := os.ReadFile(file)
		switch {
		case check && (err != nil || !bytes.Equal(kept, drawing)):
			bad = errors.Join(bad, fmt.Errorf("%s is not what the code says: run make generate", file))
		case !check:
			bad = errors.Join(bad, os.WriteFile(file, drawing, 0o644))
		}
	}
	return bad
}
