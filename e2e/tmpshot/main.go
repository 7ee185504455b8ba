package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"time"

	"bridgespan/demo"
	"bridgespan/e2e/browser"
)

func main() {
	text, _ := os.ReadFile("var/demo/estate.json")
	var estate demo.Estate
	_ = json.Unmarshal(text, &estate)
	b, err := browser.Start(context.Background())
	if err != nil {
		panic(err)
	}
	defer b.Close()
	t, err := b.Tab()
	if err != nil {
		panic(err)
	}
	do := func(err error) {
		if err != nil {
			fmt.Println("ERR", err)
			_ = t.Shot("/tmp/shot-err.png")
			os.Exit(1)
		}
	}
	do(t.Open(estate.Console + "/"))
	do(t.See("Sign in"))
	do(t.Type("Name", estate.User))
	do(t.Type("Password", estate.Password))
	do(t.Click("button", "Sign in"))
	do(t.See("Latest changes"))
	for _, a := range os.Args[1:] {
		verb, rest, _ := strings.Cut(a, "=")
		switch verb {
		case "open":
			do(t.Open(estate.Console + rest))
		case "see":
			do(t.See(rest))
		case "click":
			do(t.Click("button", rest))
		case "wait":
			time.Sleep(2 * time.Second)
		case "js":
			_, err := browser.Eval[bool](t, "("+rest+", true)")
			do(err)
		case "shot":
			do(t.Shot(rest))
		}
	}
}
