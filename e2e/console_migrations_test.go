package e2e

// testMigrationPages begins a migration, surveys its shares, checks a target, lets one of them stay, and removes it.
func testMigrationPages(c checker) {
	tab := c.tab
	c.must(tab.Click("link", "Migrations"), tab.See("There is no migration"))
	c.accessible("no migrations")
	c.must(tab.Click("button", "Begin a migration"), tab.Type("Name", "oak to elm"), tab.Type("Sources", "oak\nbeech"), tab.Click("button", "Begin"), tab.See(`No server is called "beech"`))
	c.accessible("a new migration, with an error")
	c.must(tab.Type("Sources", "oak"), tab.Type("Note", "oak is old"), tab.Click("button", "Begin"), tab.See("Not surveyed yet"), tab.See("oak/store"), tab.See("stays (administrative)"), tab.See("A survey lists the accounts"))
	c.must(tab.Click("field", "Migrate oak/quiet"), tab.Wait("the share to stay", "[...document.querySelectorAll('tr')].some((r) => /oak.quiet\\s+stays/.test(r.innerText))"))
	c.must(tab.Click("button", "Survey"), tab.See("Survey again"), tab.See("change in a day"), tab.See("Shares as CSV"), tab.See("Known to"))
	c.must(tab.Click("button", "Choose a target"), tab.Type("Target", "oak/quiet"), tab.Click("button", "Choose"), tab.See("is one of them"))
	c.must(tab.Type("Target", "elm/quiet/from oak"), tab.Click("button", "Choose"), tab.See("Check again"), tab.See("1 folder goes there"), tab.See("a share of the same name is there already: store"), tab.See("all 4 accounts in the permissions are known there"))
	c.accessible("a migration with a target")
	c.must(tab.Click("button", "Change"), tab.Type("Shares that stay", "oak/nothing"), tab.Click("button", "Save"), tab.See(`has no share "nothing"`))
	c.accessible("a change of a migration, with an error")
	c.must(tab.Type("Shares that stay", ""), tab.Type("Folders at the target", "oak/store"), tab.Click("button", "Save"), tab.See("has no folder"), tab.Type("Folders at the target", "oak/store = kept/store"), tab.Click("button", "Save"), tab.Gone("Choose what moves"), tab.See("1 share not surveyed yet"), tab.See("kept/store"))
	c.must(tab.Click("link", "Migrations"), tab.See("oak to elm"), tab.See("1 share not surveyed yet"))
	c.accessible("migrations")
	c.must(tab.Click("link", "oak to elm"), tab.Click("button", "Remove …"), tab.See("The surveys of the shares stay"), tab.Click("button", "Remove"), tab.See("There is no migration"))
}
