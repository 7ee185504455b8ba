package e2e

// testDedupPages estimates a volume, looks at what was found, asks for another policy,
// plans, proves and forgets.
func testDedupPages(c checker) {
	tab := c.tab
	c.must(tab.Click("link", "Deduplication"), tab.See("No volume was estimated yet"))
	c.accessible("deduplication, without any volume")
	c.must(tab.Click("button", "Estimate a volume"), tab.Click("button", "Begin"), tab.See("There is nothing to estimate"))
	c.accessible("an estimate that is asked for, with an error")
	c.must(tab.Choose("Server", "oak"), tab.Click("field", "store"), tab.Click("field", "quiet"), tab.Type("Name of the volume", "all of oak"), tab.Type("Left out", "nowhere/"), tab.Click("button", "Begin"))
	c.must(tab.See("would be saved,"), tab.See("\"nowhere/\" leaves nothing out"), tab.See("Where the saving is"), tab.See("every chunk"), tab.See("equal files"))
	c.accessible("an estimate")
	c.must(tab.Click("button", "store "), tab.See("oak/store"))
	c.must(tab.Choose("By", "folder"), tab.See("oak/quiet/2026"), tab.Choose("By", "owner"), tab.See("S-1-5-"))
	c.must(tab.Type("Least age, in days", "9999"), tab.Click("button", "What if?"), tab.See("the policy leaves nothing"), tab.Type("Left out", "[/"), tab.Click("button", "What if?"), tab.See("is not a pattern"))
	c.accessible("another policy, with an error")
	c.must(tab.Type("Hours in which it may work", "off"), tab.Click("button", "Plan it"), tab.See("it may never work"), tab.Type("Hours in which it may work", "off; sat full"), tab.Click("button", "Plan it"))
	c.must(tab.See("The first pass reads"), tab.See("The windows as iCalendar"))
	c.accessible("a plan")
	c.must(tab.Click("button", "Prove it on a folder"), tab.Type("Folder", "oak/nowhere"), tab.Click("button", "Prove it"), tab.See("is not in the volume all of oak"))
	c.accessible("a proof that is asked for, with an error")
	c.must(tab.Type("Folder", "oak/store"), tab.Click("field", "Keep the store, to be inspected"), tab.Click("field", "Also when the work folder lies on the volume itself"), tab.Click("button", "Prove it"), tab.See("came out as they are"))
	c.accessible("a proof")
	c.must(tab.Click("button", "Its chunks …"), tab.See("Among others by"), tab.See("oak/store/2026"))
	c.accessible("the chunks of a store")
	c.must(tab.Press("\x1b"), tab.Click("button", "Remove it …"), tab.Click("button", "Remove it"), tab.See("The store is removed"))
	c.must(tab.Click("button", "Estimate again and again …"), tab.Type("When", "sometimes"), tab.Click("button", "Save"), tab.See("does not say when"))
	c.accessible("a job that is asked for, with an error")
	c.must(tab.Type("When", "sat 02:30"), tab.Click("button", "Save"), tab.See("Do it now"))
	c.must(tab.Click("button", "Estimate again"), tab.Click("button", "Begin"), tab.See("each can be shown again"), tab.Click("button", "Compare"), tab.See("Two estimates side by side"))
	c.accessible("two estimates compared")
	c.must(tab.Click("link", "Deduplication"), tab.See("all of oak would save most"), tab.Click("field", "all of oak"), tab.Click("button", "Compare"), tab.See("oak/store and oak/quiet"))
	c.accessible("volumes")
	c.must(tab.Click("link", "all of oak"), tab.Click("button", "Forget …"), tab.Click("button", "Forget it"), tab.See("all of oak is forgotten"), tab.See("No volume was estimated yet"))
}
