package e2e

// testReplicaPages plans a replica set, makes it, changes it and ends it.
func testReplicaPages(c checker) {
	tab := c.tab
	c.must(tab.Click("link", "Replica sets"), tab.See("No folder is kept the same in several places yet"))
	c.accessible("replica sets, without any")
	c.must(tab.Click("button", "Plan a replica set"), tab.See("What it is to be"))
	c.must(tab.Type("Name of the set", "meadow"), tab.Choose("Server 1", "oak"), tab.Choose("Share 1", "store"), tab.Choose("Server 2", "oak"), tab.Choose("Share 2", "store"),
		tab.Click("button", "Find out what comes of it"), tab.See("oak/store is the same as oak/store"))
	c.accessible("planning a replica set, with an error")
	c.must(tab.Choose("Share 2", "quiet"), tab.Type("Folder 2", "copies/meadow"), tab.Type("Calendar", "sometimes"), tab.See("is not a rule of a calendar"))
	c.must(tab.Click("button", "Outside working hours"), tab.Gone("is not a rule of a calendar"))
	c.must(tab.Click("button", "Always"), tab.Click("button", "Find out what comes of it"), tab.See("Layouts side by side"), tab.See("Make the folder oak/quiet/copies/meadow"))
	c.accessible("the plan of a replica set")
	c.must(tab.Click("button", "Make meadow"), tab.See("is kept the same in 2 places"), tab.See("All 2 replicas hold the same"))
	c.accessible("replica set")
	c.must(tab.Click("button", "Settings"), tab.Type("Calendar of all lanes without one of their own", "off; sat"), tab.See("is not a rule of a calendar"))
	c.accessible("settings of a replica set, with an error")
	c.must(tab.Type("Calendar of all lanes without one of their own", "full; mon-fri 8-18 5"), tab.Click("button", "Save"), tab.See("The settings of meadow were saved"), tab.See("full; mon-fri 8-18 5"))
	c.must(tab.Click("button", "Open, close or change the lane from oak store to oak quiet copies meadow"), tab.See("regardless of its calendar"))
	c.accessible("a lane")
	c.must(tab.Press("\x1b"), tab.Click("button", "Pause"), tab.See("nothing is looked at or carried"), tab.Click("button", "Go on"), tab.See("All 2 replicas hold the same"))
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
