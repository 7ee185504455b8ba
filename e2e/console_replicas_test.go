package e2e

import (
	"strings"

	"bridgespan/e2e/harness"
	"bridgespan/model"
	"bridgespan/tree"
)

// testReplicaPages plans a replica set, makes it, changes it and ends it.
func testReplicaPages(c checker, e *harness.Estate) {
	tab := c.tab
	c.must(tab.Click("link", "Replica sets"), tab.See("No folder is kept the same in several places yet"))
	c.accessible("replica sets, without any")
	c.must(tab.Click("button", "Plan a replica set"), tab.See("What it is to be"))
	c.must(tab.Type("Name of the set", "meadow"), tab.Choose("Server 1", "oak"), tab.Choose("Share 1", "store"), tab.Choose("Server 2", "oak"), tab.Choose("Share 2", "store"),
		tab.Click("button", "Find out what comes of it"), tab.See("is the same as oak/store"))
	c.accessible("planning a replica set, with an error")
	c.must(tab.Choose("Share 2", "quiet"), tab.Type("Folder 2", "copies/meadow"), tab.Type("Calendar", "sometimes"), tab.See("is not a rule of a calendar"))
	c.must(tab.Click("button", "Outside working hours"), tab.Gone("is not a rule of a calendar"))
	c.must(tab.Click("button", "Always"), tab.Type("Intake 2, in GiB", "much"), tab.Click("button", "Find out what comes of it"), tab.See("Must be at least 0"))
	c.must(tab.Type("Intake 2, in GiB", "0.5"), tab.Choose("Layout", "Custom: the lanes below"), tab.Click("button", "Find out what comes of it"), tab.See("No way leads from the seed"))
	c.must(tab.Click("button", "Add a lane"), tab.Click("button", "Add a lane"), tab.Choose("Lane 2, from", "oak quiet copies meadow"), tab.Choose("Lane 2, to", "oak store"), tab.Click("button", "Give it a calendar of its own: lane 2"))
	c.accessible("planning lanes")
	c.must(tab.Click("button", "Find out what comes of it"), tab.See("Layouts side by side"), tab.See("Make the folder oak/quiet/copies/meadow"), tab.See("then within a second"), tab.See("2 lanes (custom)"))
	c.accessible("the plan of a replica set")
	c.must(tab.Click("button", "Make meadow"), tab.See("Making meadow"), tab.See("2 folders were made"), tab.See("Picked up:"))
	c.accessible("the making of a replica set")
	c.must(tab.Click("link", "See how meadow is filled"), tab.See("All 2 replicas hold the same"))
	c.accessible("replica set")
	c.must(tab.Click("button", "Settings"), tab.Type("Calendar of all lanes without one of their own", "off; sat"), tab.See("is not a rule of a calendar"))
	c.accessible("settings of a replica set, with an error")
	c.must(tab.Type("Calendar of all lanes without one of their own", "full; mon-fri 8-18 5"), tab.See("What follows"), tab.See("fit into a week"))
	c.accessible("what follows from other settings")
	c.must(tab.Click("button", "Save"), tab.See("The settings of meadow were saved"), tab.See("full; mon-fri 8-18 5"))
	c.must(tab.Click("button", "Open, close or change the lane from oak store to oak quiet copies meadow"), tab.See("regardless of its calendar"))
	c.accessible("a lane")
	c.must(tab.Press("\x1b"))
	testReplicaForms(c)
	testWaitingPaths(c, e)
	c.must(tab.Click("button", "Pause"), tab.See("nothing is looked at or carried"), tab.Click("button", "Go on"), tab.See("All 2 replicas hold the same"))
	c.must(tab.See("It was never verified"), tab.Choose("How much is compared", "Every byte"), tab.Click("button", "Verify now"), tab.See("All replicas hold what oak store holds, by every byte"), tab.See("Nothing differs"), tab.See("Checksums"))
	c.accessible("the verification of a replica set")
	c.must(tab.Click("link", "meadow"), tab.Click("button", "Drop a probe"), tab.See("Content after"), tab.See("oak quiet copies meadow"))
	c.must(tab.Click("button", "Verify again and again …"), tab.Type("When", "sometimes"), tab.Click("button", "Save"), tab.See("does not say when"))
	c.accessible("a job, with an error")
	c.must(tab.Type("When", "mon-fri 02:30"), tab.Click("button", "Save"), tab.See("mon,tue,wed,thu,fri 02:30"))
	c.accessible("a replica set with a job")
	c.must(tab.Click("button", "Disable"), tab.See("disabled"), tab.Click("link", "Replica sets"), tab.See("Nothing needs you"))
	c.accessible("replica sets")
	c.must(tab.Click("link", "meadow"), tab.Click("button", "Remove …"), tab.See("All files stay where they are"), tab.Click("button", "Remove"), tab.See("its files are where they were"), tab.See("No folder is kept the same"))
}

// testWaitingPaths closes a lane, and looks at what waits for it.
func testWaitingPaths(c checker, e *harness.Estate) {
	ctx, tab := c.t.Context(), c.tab
	closed, open := true, false
	lane := func(closed *bool) error {
		_, err := e.API.EditLane(ctx, "meadow", "oak store", "oak quiet copies meadow", model.EditLane{Closed: closed})
		return err
	}
	_, err := harness.Tree(c.t, e.Oak, "store").Put(ctx, "Late leaf.txt", strings.NewReader("late"), tree.PutOptions{})
	c.must(err, lane(&closed), tab.See("closed by hand"), e.API.LookAtReplicas(ctx, "meadow", ""))
	c.must(tab.Click("button", "1 wait from oak store to oak quiet copies meadow"), tab.See("In the order in which it is looked at"), tab.See("Late leaf.txt"))
	c.accessible("what waits for a lane")
	c.must(tab.Press("\x1b"), lane(&open), tab.See("All 2 replicas hold the same"))
}

// testReplicaForms changes the quotas of a replica, and looks at what else can
// be done with one.
func testReplicaForms(c checker) {
	tab := c.tab
	c.must(tab.Click("button", "Change oak quiet copies meadow"), tab.Type("Attic, in GiB", "2"), tab.Type("Intake, in GiB", "0.001"), tab.See("Large files wait for each other"), tab.See("its attic may keep 2.0 GiB"))
	c.accessible("the quotas of a replica")
	c.must(tab.Type("Intake, in GiB", "4"), tab.See("4.0 GiB may be on its way in at a time, 512 MiB so far"), tab.Click("button", "Save"), tab.See("oak quiet copies meadow was changed"), tab.See("of 2.0 GiB"))
	c.must(tab.Click("button", "Change oak quiet copies meadow"), tab.Choose("What to do", "Take it out of the set"), tab.See("Its files stay where they are"), tab.Click("button", "Take out"), tab.See("needs two replicas"))
	c.must(tab.Choose("What to do", "Put it at another place"), tab.Click("button", "Save"), tab.See("is there already"), tab.Press("\x1b"))
	c.must(tab.Click("button", "Add a replica"), tab.Choose("Server", "oak"), tab.Choose("Share", "quiet"), tab.Type("Folder", "copies"), tab.Click("button", "Add"), tab.See("is around oak/quiet/copies/meadow"))
	c.accessible("a further replica, with an error")
	c.must(tab.Press("\x1b"))
}

// testAccountMaps makes an account map, and ends it.
func testAccountMaps(c checker) {
	tab := c.tab
	c.must(tab.Click("link", "Servers"), tab.See("Account maps"), tab.Click("button", "Make a map"), tab.Type("Name", "trees"), tab.Type("Rules, one a line", "oak\\keepers"), tab.Click("button", "Save"), tab.See("is no rule about accounts of two servers"))
	c.accessible("an account map, with an error")
	c.must(tab.Type("Rules, one a line", "oak\\keepers = elm\\keepers"), tab.Click("button", "Save"), tab.See("trees was saved"), tab.See("oak\\keepers = elm\\keepers"))
	c.must(tab.Click("button", "Remove trees"), tab.Click("button", "Remove"), tab.See("trees was removed"))
}
