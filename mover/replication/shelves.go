package replication

import (
	"context"
	"path"
	"strconv"

	"bridgespan/tree"
)

// shelves are the folders of an intake over which files are spread: some servers
// look through all of a folder for every name that is new in it.
const shelves = 64

// stagedName makes a name in the receiver's intake, and the folder for it.
func (c *carry) stagedName(ctx context.Context) (string, error) {
	c.mu.Lock()
	n := c.shelved % shelves
	c.shelved++
	ready := c.ready[n]
	c.mu.Unlock()
	shelf := path.Join(c.intakeOfRun(), strconv.Itoa(n))
	if !ready {
		if err := tree.MkdirAll(ctx, c.to.Tree, shelf); err != nil {
			return "", err
		}
		c.mu.Lock()
		c.ready[n] = true
		c.mu.Unlock()
	}
	return path.Join(shelf, c.Unique()), nil
}
