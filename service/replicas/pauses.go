package replicas

import "time"

// Pauses between looks at all of a replica. A look takes its share of the
// server's time: the longer it took, the longer the pause.
const (
	leastPause = 5 * time.Second
	mostPause  = 15 * time.Minute
	pauseShare = 20
	busyShare  = 4 // instead, where people change something
	soonShare  = 2 // instead, after a folder was found gone: it may have been moved
	afterFault = 5 * time.Second
)
