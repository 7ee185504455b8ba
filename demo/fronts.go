package demo

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"time"

	"bridgespan/client"
	"bridgespan/model"
	"bridgespan/mover/host"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/process"
)

// frontHosts are small hosts with a file service and a mover, where people meet the namespace: one at each
// site that has people at desks.
var frontHosts = []server{
	{name: "bracken", site: "Larkfield", address: "127.0.0.16", sid: "S-1-5-21-1911-1105-7305", note: "Front of Larkfield: a file service and a mover", signing: true},
	{name: "bluebell", site: "Highmoor", address: "127.0.0.17", sid: "S-1-5-21-1911-1106-7306", note: "Front of Highmoor: a file service and a mover", signing: true},
}

// usualSMBPort is where clients that follow links go: elsewhere there are no fronts.
const usualSMBPort = 445

func (d *Demo) hasFronts() bool { return d.SMBPort == usualSMBPort }

// startFrontHosts starts their file services; place is the folder of all servers.
func (d *Demo) startFrontHosts(place string, known sids) error {
	if !d.hasFronts() {
		return nil
	}
	d.frontMovers = make([]*process.Process, len(frontHosts))
	var g gathered
	for i, h := range frontHosts {
		c := d.config(h, filepath.Join(place, h.name), known)
		c.Fronts = true
		running, err := fileserver.Start(c)
		if err != nil {
			return err
		}
		d.Servers[h.name] = running
		g.run(func() (err error) {
			d.frontMovers[i], err = d.startFrontMover(h, running)
			return err
		})
	}
	return g.wait()
}

// startFrontMover starts the mover beside a file service.
func (d *Demo) startFrontMover(h server, beside *fileserver.Server) (*process.Process, error) {
	at := net.JoinHostPort(h.address, strconv.Itoa(d.Port+moverStep))
	cmd := exec.Command(d.Service, "mover", "--listen", at, "--state-dir", d.path(h.name+"/mover"), "--fronts", beside.FrontsFolder(), "--file-service", beside.Configuration())
	if err := os.MkdirAll(d.path(h.name), 0o711); err != nil {
		return nil, err
	}
	mover, err := process.Start("mover", cmd, d.path(h.name+"/log"))
	if err != nil {
		return nil, err
	}
	if err := mover.Await(process.Dial(at), 20*time.Second); err != nil {
		return mover, fmt.Errorf("%w; its log is %s", err, d.path(h.name+"/log"))
	}
	return mover, nil
}

// keepFronts shows the namespace at the front hosts that do not show it yet.
func (d *Demo) keepFronts(ctx context.Context, api *client.Client) error {
	if !d.hasFronts() {
		return nil
	}
	for _, h := range frontHosts {
		if _, err := api.Front(ctx, h.name, space); !client.IsNotFound(err) {
			if err != nil {
				return err
			}
			continue
		}
		fingerprint, secret, err := host.Identity(d.path(h.name + "/mover"))
		if err != nil {
			return err
		}
		if _, err := api.Server(ctx, h.name); client.IsNotFound(err) {
			if _, err := api.AddServer(ctx, model.NewServer{Name: h.name, Site: h.site, Address: h.address, Port: d.Port + moverStep, Certificate: fingerprint, Password: secret, Note: h.note}); err != nil {
				return err
			}
		}
		if _, err := api.CheckServer(ctx, h.name); err != nil {
			return err
		}
		n := model.NewFront{Server: h.name, Share: space, Namespace: space, Comment: "Everything that people at the trust open", CheckAs: &model.FrontCheckAs{Domain: domainName, Account: "wren.hale", Password: d.password("wren.hale")}}
		if _, err := api.AddFront(ctx, n); err != nil {
			return err
		}
	}
	return nil
}

// showFronts signs in and keeps the fronts.
func (d *Demo) showFronts(ctx context.Context) error {
	api := &client.Client{Base: d.Estate.Console}
	if _, err := api.Login(ctx, d.Estate.User, d.Estate.Password, "set-up of the demo"); err != nil {
		return err
	}
	return d.keepFronts(ctx, api)
}
