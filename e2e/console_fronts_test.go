package e2e

import (
	"testing"

	"bridgespan/e2e/harness"
)

// testFrontPages looks at fronts in the console: it checks, changes, adds and removes one.
func testFrontPages(t *testing.T, o *orchard) {
	c := startBrowser(t)
	tab := c.tab
	at := `\\` + o.low.Beside.Address + `\`
	c.must(tab.Open(o.Base+"/"), tab.Type("Name", harness.Admin), tab.Type("Password", harness.Password), tab.Click("button", "Sign in"), tab.See("Live"))
	c.must(tab.Click("link", "Namespaces"), tab.Click("link", "/garden"), tab.See(at+"garden"), tab.See("3 signposts, 1 folder"))
	c.accessible("namespace with fronts")
	c.must(tab.Click("button", "Look at "+at+"garden"), tab.See("Last written"), tab.Click("button", "Check now"), tab.See("opened the first location of"))
	c.accessible("front")
	c.must(tab.Click("button", "Edit …"), tab.Type("Branch", "nowhere"), tab.Click("button", "Save"), tab.See("no folder /garden/nowhere"))
	c.accessible("changing a front, with an error")
	c.must(tab.Type("Branch", ""), tab.Type("Comment", "Beds and papers"), tab.Click("button", "Save"), tab.See("Beds and papers"), tab.Press("\x1b"))

	c.must(tab.Click("button", "Add a front …"), tab.Choose("Host", "bracken (Lowland)"), tab.Type("Share", "a[b]"), tab.Click("button", "Rehearse"), tab.See("cannot be the name of a share"))
	c.accessible("adding a front, with an error")
	c.must(tab.Type("Share", "papers"), tab.Type("Branch", "papers"), tab.Click("button", "Rehearse"), tab.See("What would be done"))
	c.accessible("adding a front")
	c.must(tab.Click("button", "Add the front"), tab.See("People open "+at+"papers"))

	c.must(tab.Click("button", "Look at "+at+"papers"), tab.Click("button", "Remove …"), tab.Click("button", "Rehearse"), tab.See("stop offering the share "+at+"papers"))
	c.accessible("removing a front")
	c.must(tab.Click("button", "Remove the front"), tab.See("papers was removed"))
	if faults := tab.Faults(); len(faults) > 0 {
		t.Errorf("the console says %v", faults)
	}
}
