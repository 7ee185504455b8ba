package demo

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"math"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"github.com/dustin/go-humanize"

	"bridgespan/core/account"
	"bridgespan/directory"
	"bridgespan/guard"
	"bridgespan/standin/database"
	"bridgespan/standin/domain"
	"bridgespan/standin/fileserver"
)

// gathered runs things side by side and gathers their errors.
type gathered struct {
	group  guard.WaitGroup
	mu     sync.Mutex
	failed error
}

func (g *gathered) run(do func() error) {
	g.group.Go(func() {
		if err := do(); err != nil {
			g.mu.Lock()
			defer g.mu.Unlock()
			g.failed = errors.Join(g.failed, err)
		}
	})
}

func (g *gathered) wait() error {
	g.group.Wait()
	return g.failed
}

// startServers starts the database, the domain and the four file servers side
// by side, and fills those that are new. Members wait for their domain.
func (d *Demo) startServers(ctx context.Context, fresh bool) error {
	place, err := fileserver.Place(d.path("servers"))
	if err != nil {
		return err
	}
	var written atomic.Int64
	start := time.Now()
	if fresh {
		d.say("Starting a database, a domain and six file servers, and filling them (%s) …", d.Size)
	}
	var g gathered
	g.run(func() (err error) {
		d.Database, err = database.Start(d.path("database"), 0)
		return err
	})
	known, ready := sids{}, make(chan struct{})
	g.run(func() error {
		defer close(ready)
		return d.startDomain(ctx, filepath.Join(place, "domain"), fresh, known)
	})
	var mu sync.Mutex
	for _, s := range servers {
		g.run(func() error {
			if !s.alone {
				<-ready
				if d.Domain == nil {
					return nil // said why already
				}
			}
			numbers := known
			if s.alone {
				numbers = s.localNumbers()
			}
			running, err := fileserver.Start(d.config(s, filepath.Join(place, s.name), known))
			if err != nil {
				return err
			}
			mu.Lock()
			d.Servers[s.name] = running
			mu.Unlock()
			if !fresh {
				return nil
			}
			if s.name == "fern" {
				numbers = maps.Clone(numbers)
				numbers[scanners] = account.MustSID(s.sid).Child(firstLocalGroup)
			}
			if err := fill(ctx, s, running, d.password(administrator), numbers, d.Size, &written); err != nil {
				return fmt.Errorf("fill %s: %w", s.name, err)
			}
			return nil
		})
	}
	if err = g.wait(); err == nil {
		err = d.startFrontHosts(place, known)
	}
	if fresh && err == nil {
		d.say("… %s written in %.0f s.", humanize.IBytes(uint64(written.Load())), time.Since(start).Seconds())
	}
	return err
}

// startDomain starts the domain and learns the numbers of its accounts.
func (d *Demo) startDomain(ctx context.Context, dir string, fresh bool, known sids) error {
	if d.Options.Domain == "" {
		d.Options.Domain = domainAddress
	}
	c := domain.Config{Dir: dir, Realm: realm, Name: domainName, Address: d.Options.Domain, SID: domainSID, Password: d.Estate.Domain.Password, Groups: groups}
	for _, p := range people {
		c.Users = append(c.Users, domain.User{Name: p.name, FullName: p.fullName, Password: d.password(p.name), Administrator: p.name == administrator})
	}
	c.Users = append(c.Users, domain.User{Name: departed, FullName: "Moss Oldroyd", Password: rand.Text()})
	running, err := domain.Start(c)
	if err != nil {
		return err
	}
	accounts, err := d.readDomain(ctx, running)
	if err != nil {
		running.Stop()
		return err
	}
	for _, a := range accounts {
		known[a.Name] = a.SID
	}
	d.Domain = running
	if !fresh {
		return nil
	}
	return running.RemoveUser(departed)
}

func (d *Demo) readDomain(ctx context.Context, running *domain.Controller) ([]directory.Account, error) {
	ca, err := os.ReadFile(running.CA())
	if err != nil {
		return nil, err
	}
	conn, err := directory.Dial(ctx, directory.Target{Address: running.LDAP(), Account: running.UserName(administrator), Password: d.password(administrator), CA: string(ca)})
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	accounts, _, err := conn.Accounts(ctx, "", math.MaxInt)
	return accounts, err
}

// config describes a file server.
func (d *Demo) config(s server, dir string, known sids) fileserver.Config {
	c := fileserver.Config{Dir: dir, Name: s.name, Address: s.address, Port: d.SMBPort, SID: s.sid, Shares: s.shares, Signing: s.signing}
	if !s.alone {
		owner, _ := known[administrator].Relative()
		c.Domain, c.Owner = d.Domain, int(owner)
		if s.name == "fern" {
			c.Groups = []fileserver.Group{{Name: scanners, RID: firstLocalGroup}}
		}
		return c
	}
	for i, g := range groups {
		c.Groups = append(c.Groups, fileserver.Group{Name: g.Name, RID: firstLocalGroup + i})
	}
	for i, p := range people {
		c.Accounts = append(c.Accounts, fileserver.Account{Name: p.name, Password: d.password(p.name), RID: firstLocalPerson + i, Groups: allGroupsOf(p.name), Administrator: p.name == administrator})
	}
	return c
}

// localNumbers are the numbers of the accounts of a server that stands alone.
func (s server) localNumbers() sids {
	numbers := sids{}
	for i, g := range groups {
		numbers[g.Name] = account.MustSID(s.sid).Child(uint32(firstLocalGroup + i))
	}
	return numbers
}

// domain is the domain of a server's accounts; "" for one that stands alone.
func (s server) domain() string {
	if s.alone {
		return ""
	}
	return domainName
}
