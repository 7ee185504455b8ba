package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/pelletier/go-toml/v2"

	"bridgespan/client"
	"bridgespan/guard"
	"bridgespan/standin/cloud"
	"bridgespan/standin/database"
	"bridgespan/standin/domain"
	"bridgespan/standin/fileserver"
	"bridgespan/standin/leg"
	"bridgespan/standin/process"
	"bridgespan/standin/volume"
)

// Options direct the demo.
type Options struct {
	Dir     string // where everything is kept; must be absolute
	Size    Size
	Port    int    // of the console and the API; the gateway has the tenth after it
	SMBPort int    // of the file servers
	Domain  string // address of the domain; "" for the scenario's
	Service string // the program that serves
	Out     io.Writer
}

// Demo is the running scenario.
type Demo struct {
	Options
	Estate   Estate
	Database *database.Server
	Domain   *domain.Controller
	Servers  map[string]*fileserver.Server
	service  *process.Process
	mover    *process.Process // of the station
	cloud    *cloud.Server
	// frontMovers are those of frontHosts, in their order.
	frontMovers []*process.Process
	// disk is that of the island, and islandMover the mover that serves it; nil where none can be mounted.
	disk        *volume.Volume
	islandMover *process.Process
	legs        []*leg.Leg
	held        []io.Closer     // files that people have open
	people      guard.WaitGroup // at work
	goHome      context.CancelFunc
	lock        *os.File
}

// gatewayStep is how far after the console's port the gateway's is.
const gatewayStep = 10

func (d *Demo) path(name string) string { return filepath.Join(d.Dir, name) }

func (d *Demo) say(format string, args ...any) { fmt.Fprintf(d.Out, format+"\n", args...) }

// Up starts the demo: from nothing at first, on the kept data later. Down ends it.
func Up(ctx context.Context, o Options) (*Demo, error) {
	if err := CheckSize(o.Size); err != nil {
		return nil, err
	}
	d := &Demo{Options: o, Servers: map[string]*fileserver.Server{}}
	if err := d.start(ctx); err != nil {
		d.Down()
		return nil, err
	}
	return d, nil
}

func (d *Demo) start(ctx context.Context) error {
	if err := os.MkdirAll(d.Dir, 0o711); err != nil {
		return err
	}
	if err := d.takeLock(); err != nil {
		return err
	}
	if err := checkPrograms(); err != nil {
		return err
	}
	process.EndLeftovers(d.Dir)
	if err := d.checkPorts(); err != nil {
		return err
	}
	fresh, err := d.readEstate()
	if err != nil {
		return err
	}
	if err := d.startServers(ctx, fresh); err != nil {
		return err
	}
	if err := d.startLegs(); err != nil {
		return err
	}
	if err := d.startStation(); err != nil {
		return err
	}
	if err := d.startIsland(ctx); err != nil {
		return fmt.Errorf("start the edge on the island: %w", err)
	}
	if err := d.startCloud(); err != nil {
		return err
	}
	if err := d.startService(ctx); err != nil {
		return err
	}
	if fresh {
		if err := d.setUp(ctx); err != nil {
			return err
		}
	}
	if err := d.showFronts(ctx); err != nil {
		return err
	}
	if err := d.writeEstate(); err != nil {
		return err
	}
	if !fresh {
		return nil
	}
	return d.goToWork(ctx)
}

// checkPorts says in one sentence which of the ports somebody else has.
func (d *Demo) checkPorts() error {
	type listener struct {
		what, host string
		port       int
	}
	list := []listener{{"the console", "127.0.0.1", d.Port}, {"the gateway", "127.0.0.1", d.Port + gatewayStep}, {"the mover", station.address, d.Port + moverStep}, {"the leg to the mover", station.behind, d.Port + moverStep},
		{"the mover of " + island.name, d.addressOf(island.beside).address, d.Port + moverStep}, {"the leg to " + island.name, d.addressOf(island.beside).behind, d.Port + moverStep}}
	for _, r := range cloudRegions {
		list = append(list, listener{"the cloud's region " + r.name, r.address, d.Port + cloudStep})
	}
	list = append(list, listener{"the cloud's control service", "127.0.0.1", d.Port + controlStep})
	if d.hasFronts() {
		for _, h := range frontHosts {
			list = append(list, listener{"the mover of " + h.name, h.address, d.Port + moverStep})
		}
	}
	for _, l := range list {
		if err := process.CheckFree(l.what, net.JoinHostPort(l.host, strconv.Itoa(l.port))); err != nil {
			return fmt.Errorf("%w, as in: make demo DEMO_PORT=8700", err)
		}
	}
	return nil
}

// checkPrograms says in one sentence what is not installed.
func checkPrograms() error {
	var missing []string
	for _, program := range slices.Concat(database.Programs(), fileserver.Programs(), domain.Programs()) {
		if _, err := exec.LookPath(program); err != nil {
			missing = append(missing, program)
		}
	}
	if len(missing) > 0 {
		return fmt.Errorf("these programs are not installed: %s; run make setup as root", strings.Join(missing, ", "))
	}
	return nil
}

// takeLock keeps two demos from working in the same folder.
func (d *Demo) takeLock() error {
	lock, err := os.OpenFile(d.path("lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return fmt.Errorf("the demo is running already (in %s): end it with Ctrl-C where it runs", d.Dir)
	}
	d.lock = lock
	return nil
}

// clear removes what a start that was cut short left behind.
func (d *Demo) clear() error {
	if err := volume.UnmountBelow(context.Background(), d.path("servers")); err != nil {
		return err
	}
	if err := fileserver.Discard(d.path("servers")); err != nil {
		return err
	}
	names, err := os.ReadDir(d.Dir)
	if err != nil {
		return err
	}
	for _, name := range names {
		if name.Name() == "lock" {
			continue
		}
		if err := os.RemoveAll(d.path(name.Name())); err != nil {
			return err
		}
	}
	return nil
}

func (d *Demo) password(name string) string {
	for _, p := range d.Estate.People {
		if p.Name == name {
			return p.Password
		}
	}
	return ""
}

// startService writes the service's configuration and starts it.
func (d *Demo) startService(ctx context.Context) error {
	d.Estate.Console = fmt.Sprintf("http://127.0.0.1:%d", d.Port)
	d.Estate.Gateway = fmt.Sprintf("http://127.0.0.1:%d", d.Port+gatewayStep)
	d.Estate.Database = d.Database.DSN("bridgespan")
	text, err := toml.Marshal(map[string]string{
		"listen": strings.TrimPrefix(d.Estate.Console, "http://"), "gateway": strings.TrimPrefix(d.Estate.Gateway, "http://"),
		"gateway_site": sites[0].Name, "database": d.Estate.Database, "key_file": d.path("bspand.key"), "setup_token_file": d.path("setup-token"),
	})
	if err != nil {
		return err
	}
	if err := os.WriteFile(d.path("bspand.toml"), text, 0o600); err != nil {
		return err
	}
	if d.service, err = process.Start("bspand", exec.Command(d.Service, "serve", "--config", d.path("bspand.toml")), d.path("bspand.log")); err != nil {
		return err
	}
	api := &client.Client{Base: d.Estate.Console}
	if err := d.service.Await(func() error { return api.Ready(ctx) }, 60*time.Second); err != nil {
		return fmt.Errorf("%w; its log is %s", err, d.path("bspand.log"))
	}
	return nil
}

// Done is closed when the service ends by itself.
func (d *Demo) Done() <-chan struct{} { return d.service.Done() }

// Greet tells what was started and what to try next.
func (d *Demo) Greet() {
	e := d.Estate
	reader := "ivy.marsh"
	d.say(`
Larkfield Botanic Trust is up.

  Console   %s
  Sign in   %s   %s

Try next:

  bin/bspan --server %s login --name %s --password-file var/demo/sign-in
  smbclient //127.0.0.16/trust -U 'LARKFIELD\%s%%%s' -c 'cd collections/herbarium; ls'
  bin/bspan where /trust/collections/herbarium --from Highmoor --through front
  echo "11:59,21.5,14.0,60,4.2,55.0" >> %s
  bin/bspan replica show weather
  bin/bspan replica show ledgers
  bin/bspan cloud list
  bin/bspan rights --as ivy.marsh fern/herbarium/Retouched
  curl -u %s:%s --head "%s/trust/collections/herbarium/Awkward%%20names/two%%20%%20spaces.txt"

Addresses, accounts and passwords of everything are in var/demo/estate.json.
Ctrl-C ends what was started here, and nothing else.`,
		e.Console, e.User, e.Password, e.Console, e.User, reader, d.password(reader), filepath.Join("var/demo/reed/readings", "2026-06/2026-06-20.csv"), reader, d.password(reader), e.Gateway)
}

// goToWork lets people work, until the demo ends.
func (d *Demo) goToWork(ctx context.Context) error {
	api := &client.Client{Base: d.Estate.Console}
	if _, err := api.Login(ctx, d.Estate.User, d.Estate.Password, "people of the demo"); err != nil {
		return err
	}
	work, stop := context.WithCancel(context.WithoutCancel(ctx))
	d.goHome = stop
	for _, do := range []func(context.Context, *client.Client) error{d.enliven, d.estimate, d.deliver} {
		d.people.Go(func() {
			if err := do(work, api); err != nil && work.Err() == nil {
				d.say("The people of the demo had to stop working: %v", err)
			}
		})
	}
	return nil
}

// Down ends everything that the demo started.
func (d *Demo) Down() {
	if d.goHome != nil {
		d.goHome()
		d.people.Wait()
	}
	for _, open := range d.held {
		_ = open.Close()
	}
	if d.service != nil {
		d.service.Stop(15 * time.Second)
	}
	if d.cloud != nil {
		d.cloud.Stop()
	}
	for _, l := range d.legs {
		l.Stop()
	}
	if d.mover != nil {
		d.mover.Stop(15 * time.Second)
	}
	for _, mover := range d.frontMovers {
		if mover != nil {
			mover.Stop(15 * time.Second)
		}
	}
	d.stopIsland()
	var group guard.WaitGroup
	for _, s := range d.Servers {
		group.Go(s.Stop)
	}
	if d.Database != nil {
		group.Go(d.Database.Stop)
	}
	group.Wait()
	d.unmountIsland()
	if d.Domain != nil { // last: servers say farewell to it
		d.Domain.Stop()
	}
	if d.lock != nil {
		d.lock.Close()
	}
}

// Reset removes the demo's data. The demo must not be running.
func Reset(dir string) error {
	d := &Demo{Options: Options{Dir: dir, Out: io.Discard}}
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err := d.takeLock(); err != nil {
		return err
	}
	defer d.lock.Close()
	process.EndLeftovers(dir)
	return d.clear()
}
