package replication

import (
	"context"
	"io"

	"bridgespan/tree"
)

// paced passes content on as fast as the lane may carry.
func (c *carry) paced(ctx context.Context, content io.Reader) io.Reader {
	return tree.Paced(ctx, content, c.cross)
}

// cross waits until so many bytes may cross the lane.
func (c *carry) cross(ctx context.Context, bytes int) error {
	if c.Pace != nil {
		if err := c.Pace(ctx, c.lane, bytes); err != nil {
			return err
		}
	}
	c.progress.cross(c.Now(), bytes)
	return nil
}
