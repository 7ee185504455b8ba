// Package leg stands in for the network between two sites: a relay of TCP
// connections that is as slow, and as far, as a leg. Both directions have the
// leg's whole speed, shared by all connections.
package leg

import (
	"context"
	"net"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"bridgespan/guard"
)

// Leg is a relay that runs. It must be made by Start.
type Leg struct {
	listener net.Listener
	target   string
	delay    time.Duration // one way
	there    *rate.Limiter
	back     *rate.Limiter
	ctx      context.Context
	stop     context.CancelFunc
	group    guard.WaitGroup
	crossed  atomic.Int64
}

// piece is how many bytes travel together, and window how many pieces are on
// their way in one connection.
const (
	piece  = 16 << 10
	window = 64
)

// Start relays what connects to address to target, at so many Mbit/s in each
// direction and with so long a round trip.
func Start(address, target string, mbit float64, rtt time.Duration) (*Leg, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancel(context.Background())
	limit := rate.Limit(mbit * 1e6 / 8)
	l := &Leg{listener: listener, target: target, delay: rtt / 2, there: rate.NewLimiter(limit, piece), back: rate.NewLimiter(limit, piece), ctx: ctx, stop: stop}
	l.group.Go(l.accept)
	return l, nil
}

// Address is where it listens.
func (l *Leg) Address() string { return l.listener.Addr().String() }

// Crossed is how many bytes have gone through, both ways together.
func (l *Leg) Crossed() int64 { return l.crossed.Load() }

// Stop ends the relay and all that goes through it.
func (l *Leg) Stop() {
	l.stop()
	_ = l.listener.Close()
	l.group.Wait()
}

func (l *Leg) accept() {
	for {
		near, err := l.listener.Accept()
		if err != nil {
			return
		}
		l.group.Go(func() { l.relay(near) })
	}
}

// relay relays one connection until one of its ends closes it.
func (l *Leg) relay(near net.Conn) {
	defer near.Close()
	far, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(l.ctx, "tcp", l.target)
	if err != nil {
		return
	}
	defer far.Close()
	ended := context.AfterFunc(l.ctx, guard.Func(func() { near.Close(); far.Close() }))
	defer ended()
	var both guard.WaitGroup
	both.Go(func() { l.carry(far, near, l.there) })
	both.Go(func() { l.carry(near, far, l.back) })
	both.Wait()
}

// parcel is a piece of a connection, and when it arrives.
type parcel struct {
	bytes []byte
	at    time.Time
}

// carry carries one direction of a connection.
func (l *Leg) carry(to, from net.Conn, limiter *rate.Limiter) {
	way := make(chan parcel, window)
	var sending guard.WaitGroup
	sending.Go(func() {
		// Who reads from here learns of the end, and the other end as well.
		defer func() { to.Close(); from.Close() }()
		for p := range way {
			select {
			case <-time.After(time.Until(p.at)):
			case <-l.ctx.Done():
			}
			if _, err := to.Write(p.bytes); err != nil {
				break
			}
		}
		for range way { // drained, so that the reader ends
		}
	})
	for {
		buffer := make([]byte, piece)
		n, err := from.Read(buffer)
		if n > 0 && limiter.WaitN(l.ctx, n) == nil {
			l.crossed.Add(int64(n))
			way <- parcel{buffer[:n], time.Now().Add(l.delay)}
		}
		if err != nil || l.ctx.Err() != nil {
			break
		}
	}
	close(way)
	sending.Wait()
}
