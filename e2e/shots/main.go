// Command shots takes the pictures of docs/screenshots from the running demo.
//
//	go run ./e2e/shots [FOLDER]
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"bridgespan/demo"
	"bridgespan/e2e/browser"
)

func main() {
	folder := "docs/screenshots"
	if len(os.Args) > 1 {
		folder = os.Args[1]
	}
	if err := run(context.Background(), folder); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, folder string) error {
	text, err := os.ReadFile("var/demo/estate.json")
	if err != nil {
		return fmt.Errorf("the demo must run first: %w", err)
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
	shot := func(name string) error {
		fmt.Println(name)
		return t.Shot(filepath.Join(folder, name+".png"))
	}
	visit := func(path, sees string) error {
		return errors.Join(t.Open(estate.Console+path), t.See(sees))
	}
	scroll := func(heading string) error {
		_, err := browser.Eval[bool](t, fmt.Sprintf("([...document.querySelectorAll('h2')].find((h) => h.innerText === %q).scrollIntoView(), true)", heading))
		return err
	}
	theme := func(name string) error {
		_, err := browser.Eval[bool](t, fmt.Sprintf("localStorage.setItem('bspan-theme', %q), true", name))
		return err
	}
	steps := []func() error{
		func() error { return visit("/", "Sign in") },
		func() error { return theme("day") },
		func() error { return visit("/", "Sign in") },
		func() error { return t.Type("Name", estate.User) },
		func() error { return t.Type("Password", estate.Password) },
		func() error { return t.Click("button", "Sign in") },
		func() error { return t.See("Latest changes") },
		func() error { return t.See("Live") },
		func() error { return t.Gone("Reading changes") },
		func() error { return shot("overview") },
		func() error { return visit("/servers/fern", "herbarium") },
		func() error { return shot("server") },
		func() error { return visit("/servers/fern/shares/herbarium", "By time since the last change") },
		func() error { return t.See("it names an account of this server alone") },
		func() error { return shot("share") },
		func() error { return visit("/servers/fern/shares/herbarium/files/", "Rights to") },
		func() error { return t.Type("As", "ivy.marsh") },
		func() error { return t.See("change") },
		func() error { return t.Click("button", "Show rights of Retouched") },
		func() error { return t.See("scanners") },
		func() error { return t.See("Entry 3 grants change") },
		func() error { return shot("rights") },
		func() error { return visit("/servers/fern/shares/herbarium/files/", "Rights to") },
		func() error { return t.Type("Path", "heather/herbarium") },
		func() error { return t.Click("button", "And everything below") },
		func() error { return t.See("Who gains, who loses") },
		func() error { return t.See("Retouched/") },
		func() error { return shot("comparison") },
		func() error { return visit("/sites", "Tern Island") },
		func() error { return shot("sites") },
		func() error { return visit("/namespaces/trust", "glasshouse") },
		func() error { return t.Click("item", "herbarium") },
		func() error { return t.Choose("Standing at", "Tern Island") },
		func() error { return t.Type("As", "ivy.marsh") },
		func() error { return t.See("behind leg cost 120") },
		func() error { return shot("namespace") },
		func() error { return visit("/namespaces/trust", "glasshouse") },
		func() error { return t.Choose("Seen from", "Tern Island") },
		func() error { return t.Type("Seen by", "educators") },
		func() error { return t.See("may not open it") },
		func() error { return shot("lens") },
		func() error { return t.See("Return to this") },
		func() error { return t.Click("button", `Look at \\127.0.0.16\trust`) },
		func() error { return t.Click("button", "Check now") },
		func() error { return t.See("Checking") },
		func() error { return t.See("Check now") },
		func() error { return t.See("opened the first location of") },
		func() error { return shot("front") },
		func() error { return visit("/replicas/lessons", "lost a conflict") },
		func() error { return t.See("held by LARKFIELD") },
		func() error { return shot("replica-set") },
		// The people of the demo have every byte verified.
		func() error {
			run, err := browser.Eval[float64](t, "fetch('/api/v1/runs?kind=verify-set&limit=1').then((r) => r.json()).then((p) => p.items[0].id)")
			return errors.Join(err, visit(fmt.Sprintf("/runs/%.0f", run), "Checksums"))
		},
		func() error { return t.See("it is still in the backlog") },
		func() error { return shot("replica-verification") },
		func() error { return visit("/replicas/specimens", "Arrival forecast") },
		func() error { return t.Choose("What is asked for", "A change made now at fern") },
		func() error { return t.Click("button", "Forecast") },
		func() error { return t.See("Median of 1 probe") },
		func() error { return t.See("fern\\scanners") },
		func() error { return scroll("Arrival forecast") },
		func() error { return shot("cloud-set") },
		func() error { return visit("/cloud-setups/field%20notes", "Step 8 of 9") },
		func() error { return t.Click("button", "Plan") },
		func() error { return t.See("Step 9 of 9") },
		func() error { return shot("cloud-setup") },
		func() error { return visit("/replicas", "lessons") },
		func() error { return t.Click("button", "Plan a replica set") },
		func() error { return t.Type("Name of the set", "sheets") },
		func() error { return t.Choose("Server 1", "fern") },
		func() error { return t.Choose("Share 1", "herbarium") },
		func() error { return t.Choose("Server 2", "heather") },
		func() error { return t.Choose("Share 2", "herbarium") },
		func() error { return t.Click("button", "Add a replica") },
		func() error { return t.Choose("Server 3", "sedge") },
		func() error { return t.Choose("Share 3", "fieldnotes") },
		func() error { return t.Type("Folder 3", "herbarium") },
		func() error { return t.Click("button", "Outside working hours") },
		func() error { return t.Click("button", "Find out what comes of it") },
		func() error { return t.See("Layouts side by side") },
		func() error { return scroll("What comes of it") },
		func() error { return shot("replica-plan") },
		func() error { return visit("/migrations/fern-to-yarrow", "fern/herbarium") },
		func() error { return t.See("nobody") },
		func() error { return shot("migration") },
		func() error { return visit("/dedup", "Highmoor scans") },
		func() error { return t.See("Kept together") },
		func() error {
			_, err := browser.Eval[bool](t, "(document.querySelectorAll('label input[type=checkbox]').forEach((c) => c.click()), true)")
			return err
		},
		func() error { return t.Click("button", "Compare") },
		func() error { return t.See("all together") },
		func() error { return shot("dedup") },
		func() error { return visit("/dedup/Larkfield%20shares", "Where the saving is") },
		func() error { return t.See("came out as they are") },
		func() error { return shot("dedup-volume") },
		func() error { return theme("night") },
		func() error { return visit("/dedup/Larkfield%20shares", "Where the saving is") },
		func() error { return t.Type("Least age, in days", "180") },
		func() error { return t.Click("button", "What if?") },
		func() error { return t.See("points") },
		func() error { return t.Type("Hours in which backups work", "off; mon-fri 22-2 full") },
		func() error { return t.Click("button", "Plan it") },
		func() error { return t.See("shared with a backup") },
		func() error { return scroll("Under another policy") },
		func() error { return shot("dedup-plan-night") },
		func() error { return theme("day") },
	}
	for _, step := range steps {
		if err := step(); err != nil {
			return err
		}
	}
	fmt.Println("command-line")
	return shotTerminal(t, estate, folder)
}
