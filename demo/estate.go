package demo

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// Estate is everything that scripts need to know about the demo. It is written
// to estate.json, for its owner alone.
type Estate struct {
	Console  string         `json:"console"`
	Gateway  string         `json:"gateway"`
	User     string         `json:"user"`
	Password string         `json:"password"`
	Size     Size           `json:"size"`
	Database string         `json:"database"`
	Domain   EstateDomain   `json:"domain"`
	Servers  []EstateServer `json:"servers"`
	Station  EstateStation  `json:"station"`
	Fronts   []EstateFront  `json:"fronts"`
	Cloud    EstateCloud    `json:"cloud"`
	Edge     *EstateEdge    `json:"edge,omitempty"` // absent where no disk can be mounted
	People   []Person       `json:"people"`
}

// EstateDomain is the domain of the demo.
type EstateDomain struct {
	Name     string `json:"name"`
	Realm    string `json:"realm"`
	Address  string `json:"address"`
	Folder   string `json:"folder"`
	PID      int    `json:"pid"`
	Password string `json:"password"` // of its account Administrator
}

// EstateCloud is the simulated cloud of the demo.
type EstateCloud struct {
	URL     string `json:"url"` // of its first region
	Region  string `json:"region"`
	Bucket  string `json:"bucket"`
	Key     string `json:"key"`
	Secret  string `json:"secret"`
	CA      string `json:"ca"`
	Control string `json:"control"` // where faults are turned on
}

// EstateEdge is the edge of the demo with a small disk.
type EstateEdge struct {
	Name   string `json:"name"`
	Set    string `json:"set"`
	Folder string `json:"folder"`
	PID    int    `json:"pid"`
}

// EstateServer is a file server of the demo.
type EstateServer struct {
	Name    string   `json:"name"`
	Site    string   `json:"site"`
	Address string   `json:"address"`
	Port    int      `json:"port"`
	Domain  string   `json:"domain,omitempty"`
	Account string   `json:"account"`
	Folder  string   `json:"folder"`
	PID     int      `json:"pid"`
	Shares  []string `json:"shares"`
}

// EstateStation is the host of the demo where a mover runs.
type EstateStation struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Port    int    `json:"port"`
	Folder  string `json:"folder"`
	PID     int    `json:"pid"`
}

// EstateFront is a host of the demo where people meet the namespace.
type EstateFront struct {
	Name    string `json:"name"`
	Site    string `json:"site"`
	Address string `json:"address"`
	Folder  string `json:"folder"` // of what it shows
	PID     int    `json:"pid"`
}

// Person has an account of the domain, and one with the same name and password
// on the server that stands alone.
type Person struct {
	Name     string   `json:"name"`
	Password string   `json:"password"`
	Groups   []string `json:"groups"`
}

// readEstate reads what an earlier start set up, and reports whether all is
// still to be done. A start that was cut short is begun again from nothing.
func (d *Demo) readEstate() (fresh bool, err error) {
	text, err := os.ReadFile(d.path("estate.json"))
	if err == nil {
		if err := json.Unmarshal(text, &d.Estate); err != nil {
			return false, fmt.Errorf("estate.json is damaged (%w): start afresh with make demo-reset", err)
		}
		if d.Estate.Size != d.Size {
			d.say("The kept demo has the size %q; make demo-reset starts afresh with another.", d.Estate.Size)
			d.Size = d.Estate.Size
		}
		return false, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	if err := d.clear(); err != nil {
		return false, err
	}
	d.Estate = Estate{User: administrator, Password: rand.Text()[:16], Size: d.Size, Domain: EstateDomain{Password: "Aa1-" + rand.Text()}}
	for _, p := range people {
		d.Estate.People = append(d.Estate.People, Person{Name: p.name, Password: rand.Text()[:14], Groups: groupsOf(p.name)})
	}
	return true, nil
}

func (d *Demo) writeEstate() error {
	d.Estate.Servers = nil
	d.Estate.Station = EstateStation{Name: station.name, Address: station.address, Port: d.Port + moverStep, Folder: d.stationFolder(), PID: d.mover.PID()}
	d.Estate.Domain = EstateDomain{Name: domainName, Realm: realm, Address: d.Options.Domain, Folder: d.Domain.Dir, PID: d.Domain.PID(), Password: d.Estate.Domain.Password}
	key := d.cloud.Config.Keys[0]
	d.Estate.Cloud = EstateCloud{URL: "https://" + d.regionAt(0), Region: cloudRegions[0].name, Bucket: haar.bucket, Key: key.ID, Secret: key.Secret, CA: d.cloud.CA, Control: d.cloudControl()}
	if d.Estate.Edge = nil; d.disk != nil {
		d.Estate.Edge = &EstateEdge{Name: island.name, Set: specimens.Name, Folder: d.islandFolder(), PID: d.islandMover.PID()}
	}
	d.Estate.Fronts = nil
	for i, mover := range d.frontMovers {
		if h := frontHosts[i]; mover != nil {
			running := d.Servers[h.name]
			d.Estate.Fronts = append(d.Estate.Fronts, EstateFront{Name: h.name, Site: h.site, Address: h.address, Folder: filepath.Join(running.FrontsFolder(), space), PID: mover.PID()})
		}
	}
	for _, s := range servers {
		running := d.Servers[s.name]
		e := EstateServer{Name: s.name, Site: s.site, Address: s.address, Port: running.Port, Domain: s.domain(), Account: administrator, Folder: running.Dir, PID: running.PID()}
		for _, share := range s.shares {
			e.Shares = append(e.Shares, share.Name)
		}
		d.Estate.Servers = append(d.Estate.Servers, e)
	}
	text, err := json.MarshalIndent(d.Estate, "", "  ")
	if err != nil {
		return err
	}
	// Written whole and renamed: its presence says that the set-up was finished.
	if err := os.WriteFile(d.path("estate.json.new"), text, 0o600); err != nil {
		return err
	}
	return os.Rename(d.path("estate.json.new"), d.path("estate.json"))
}
