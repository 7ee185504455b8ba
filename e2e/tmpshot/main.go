package main

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"

	"bridgespan/demo"
	"bridgespan/e2e/browser"
)

// args: verb=arg[=arg]...: open=/x see=text click=button=Name type=field=text choose=f=o shot=name theme=night size=w,h press=keys
func main() {
	text, _ := os.ReadFile("var/demo/estate.json")
	var estate demo.Estate
	json.Unmarshal(text, &estate)
	b, err := browser.Start(context.Background())
	if err != nil {
		panic(err)
	}
	defer b.Close()
	t, err := b.Tab()
	if err != nil {
		panic(err)
	}
	must := func(err error) {
		if err != nil {
			t.Shot("/tmp/shots/error.png")
			fmt.Println(err)
			b.Close()
			os.Exit(1)
		}
	}
	must(t.Open(estate.Console + "/"))
	must(t.See("Sign in"))
	must(t.Type("Name", estate.User))
	must(t.Type("Password", estate.Password))
	must(t.Click("button", "Sign in"))
	must(t.See("Latest changes"))
	for _, a := range os.Args[1:] {
		p := strings.SplitN(a, "=", 3)
		for len(p) < 3 {
			p = append(p, "")
		}
		fmt.Println(a)
		switch p[0] {
		case "open":
			must(t.Open(estate.Console + p[1]))
		case "see":
			must(t.See(p[1]))
		case "gone":
			must(t.Gone(p[1]))
		case "click":
			must(t.Click(p[1], p[2]))
		case "type":
			must(t.Type(p[1], p[2]))
		case "choose":
			must(t.Choose(p[1], p[2]))
		case "press":
			must(t.Press(p[1]))
		case "size":
			var w, h int64
			fmt.Sscanf(p[1], "%d,%d", &w, &h)
			must(t.Size(w, h))
		case "theme":
			_, err := browser.Eval[bool](t, fmt.Sprintf("localStorage.setItem('bspan-theme', %q), true", p[1]))
			must(err)
		case "eval":
			_, err := browser.Eval[bool](t, "("+strings.Join(p[1:], "=")+", true)")
			must(err)
		case "shot":
			must(t.Shot("/tmp/shots/" + p[1] + ".png"))
		}
	}
}
