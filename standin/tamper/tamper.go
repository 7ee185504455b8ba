// Package tamper stands between clients and an SMB server, as somebody on the network
// would who can read and change what passes.
package tamper

import (
	"encoding/binary"
	"io"
	"net"
	"sync"

	"bridgespan/guard"
)

// mostFrame bounds a message, which has 24 bits for its length ([MS-SMB2] 2.1).
const mostFrame = 1<<24 - 1

// Proxy passes messages on between clients and one server.
type Proxy struct {
	listener net.Listener
	server   string
	sent     func(message []byte) []byte
	answered func(message []byte) []byte

	mu    sync.Mutex
	ended bool
	open  map[net.Conn]bool
	group guard.WaitGroup
}

// Start listens on a free port of the loopback address. sent and answered get each
// message of a client and of the server, without the length before it, and return what is
// passed on instead; nil for either passes everything on as it is. They are called by
// several goroutines.
func Start(server string, sent, answered func(message []byte) []byte) (*Proxy, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	p := &Proxy{listener: l, server: server, sent: sent, answered: answered, open: map[net.Conn]bool{}}
	p.group.Go(p.accept)
	return p, nil
}

// Address is where it listens.
func (p *Proxy) Address() string { return p.listener.Addr().String() }

// Stop ends it, with all connections.
func (p *Proxy) Stop() {
	p.listener.Close()
	p.mu.Lock()
	p.ended = true
	for c := range p.open {
		c.Close()
	}
	p.mu.Unlock()
	_ = p.group.Wait()
}

// keep has a connection closed when the proxy ends; false when it has ended.
func (p *Proxy) keep(c net.Conn) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.open[c] = true
	return !p.ended
}

func (p *Proxy) drop(c net.Conn) {
	c.Close()
	p.mu.Lock()
	delete(p.open, c)
	p.mu.Unlock()
}

func (p *Proxy) accept() {
	for {
		client, err := p.listener.Accept()
		if err != nil {
			return
		}
		server, err := net.Dial("tcp", p.server)
		if err != nil {
			client.Close()
			continue
		}
		if !p.keep(client) || !p.keep(server) {
			p.drop(client)
			p.drop(server)
			return
		}
		p.group.Go(func() { p.pass(client, server, p.sent) })
		p.group.Go(func() { p.pass(server, client, p.answered) })
	}
}

// pass passes messages on until one end is gone, and closes both then.
func (p *Proxy) pass(from, to net.Conn, change func([]byte) []byte) {
	defer p.drop(from)
	defer p.drop(to)
	head := make([]byte, 4)
	for {
		if _, err := io.ReadFull(from, head); err != nil {
			return
		}
		length := binary.BigEndian.Uint32(head)
		if length > mostFrame {
			return
		}
		message := make([]byte, length)
		if _, err := io.ReadFull(from, message); err != nil {
			return
		}
		if change != nil {
			message = change(message)
		}
		if _, err := to.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(message))), message...)); err != nil {
			return
		}
	}
}
