package replicas

import (
	"context"
	"fmt"
	"time"

	"bridgespan/model"
	"bridgespan/service/steps"
)

// pickUpMost is how long a creation waits for a replica to be picked up.
const pickUpMost = 15 * time.Second

// pickUp waits until a replica has picked up its settings, and says what is
// awaited there.
func (c *creation) pickUp(ctx context.Context, i int) (string, error) {
	name := c.set.Replicas[i].Name
	deadline := time.After(pickUpMost)
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		set, err := c.Set(ctx, c.set.Name)
		if err == nil {
			r := &set.Replicas[i]
			if r.PickedUp != nil && r.State != model.ReplicaNew {
				return "picked up: " + r.Words + closedTo(&set, name), nil
			}
			c.kept.Steps[c.stepOf(i)].Found = r.Words
		}
		select {
		case <-ctx.Done():
		case <-deadline:
		case <-tick.C:
			continue
		}
		return "", steps.Awaited{Found: "not picked up yet" + closedTo(&set, name)}
	}
}

// stepOf is the step at which a replica is picked up: the last ones.
func (c *creation) stepOf(i int) int { return len(c.steps) - len(c.set.Replicas) + i }

// closedTo says which lanes to a replica are closed, and until when.
func closedTo(set *model.ReplicaSet, name string) (text string) {
	for _, l := range set.Lanes {
		if l.To == name && l.State == model.LaneClosed {
			text += fmt.Sprintf("; the lane from %s is %s", l.From, l.Words)
		}
	}
	return text
}
