// Takes a few pictures.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"

	"bridgespan/demo"
	"bridgespan/e2e/browser"
)

func main() {
	if err := run(context.Background()); err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
}

func run(ctx context.Context) error {
	text, err := os.ReadFile("var/demo/estate.json")
	if err != nil {
		return err
	}
	var estate demo.Estate
	if err := json.Unmarshal(text, &estate); err != nil {
		return err
	}
	b, err := browser.Start(ctx)
	if err != nil {
		return err
	}
	defer b.Close()
	t, err := b.Tab()
	if err != nil {
		return err
	}
	return errors.Join(shots(t, estate))
}
