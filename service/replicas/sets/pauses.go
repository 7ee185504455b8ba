package sets

import "time"

// Pauses between looks at all of a replica. A look takes its share of the
// server's time: the longer it took, the longer the pause.
const (
	LeastPause = 5 * time.Second
	MostPause  = 15 * time.Minute
	PauseShare = 20
	BusyShare  = 4 // instead, where people change something
	SoonShare  = 2 // instead, after a folder was found gone: it may have been moved
	AfterFault = 5 * time.Second
)
