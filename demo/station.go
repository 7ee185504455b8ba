package demo

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"bridgespan/client"
	"bridgespan/model"
	"bridgespan/mover/host"
	"bridgespan/standin/process"
)

// station is the computer of the weather station on the island. No file service
// runs there: a mover serves the folder that the station's program writes to.
var station = struct{ name, site, address, behind, folder, note string }{
	"reed", "Tern Island", "127.0.0.15", "127.0.0.25", "readings", "The weather station's computer; no file service runs there",
}

// weather keeps the readings of the station in Larkfield as well.
var weather = model.NewReplicaSet{
	Name: "weather", Note: "Readings of the station on the island, for the glasshouse", Calendar: "full",
	Replicas: []model.NewReplica{{Server: station.name, Share: station.folder, Seed: true}, {Server: "fern", Share: "glasshouse", Sub: "Tern Island weather"}},
}

// moverStep is how far after the console's port the mover's is.
const moverStep = 20

func (d *Demo) stationFolder() string { return d.path("reed/readings") }

// startStation starts the mover of the station, and lays the leg that leads there.
func (d *Demo) startStation() error {
	if _, err := os.Stat(d.stationFolder()); errors.Is(err, fs.ErrNotExist) {
		if err := writeReadings(d.stationFolder(), d.Size); err != nil {
			return err
		}
	}
	port := strconv.Itoa(d.Port + moverStep)
	cmd := exec.Command(d.Service, "mover", "--listen", net.JoinHostPort(station.address, port), "--state-dir", d.path("reed/mover"), "--folder", station.folder+"="+d.stationFolder())
	var err error
	if d.mover, err = process.Start("mover", cmd, d.path("reed/log")); err != nil {
		return err
	}
	if err := d.mover.Await(process.Dial(net.JoinHostPort(station.address, port)), 20*time.Second); err != nil {
		return fmt.Errorf("%w; its log is %s", err, d.path("reed/log"))
	}
	if err := d.layLeg(station.site, station.behind, station.address, d.Port+moverStep); err != nil {
		return fmt.Errorf("lay the leg to %s: %w", station.name, err)
	}
	return nil
}

// keepWeather adds the station, and keeps its readings in Larkfield as well.
func (d *Demo) keepWeather(ctx context.Context, api *client.Client) error {
	fingerprint, secret, err := host.Identity(d.path("reed/mover"))
	if err != nil {
		return err
	}
	if _, err := api.AddServer(ctx, model.NewServer{Name: station.name, Site: station.site, Address: station.behind, Port: d.Port + moverStep, Certificate: fingerprint, Password: secret, Note: station.note}); err != nil {
		return err
	}
	if _, err := api.CheckServer(ctx, station.name); err != nil {
		return err
	}
	return keep(ctx, api, weather)
}

// writeReadings writes what the station's program has written so far: a file a day.
func writeReadings(dir string, size Size) error {
	days, each := 120, time.Minute
	if size == "small" {
		days, each = 20, 10*time.Minute
	}
	random := rand.New(rand.NewPCG(7, 2026))
	first := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	for day := range days {
		at := first.AddDate(0, 0, day)
		var text strings.Builder
		text.WriteString("time,air °C,soil °C,humidity %,wind m/s,light klx\n")
		for t := at; t.Day() == at.Day(); t = t.Add(each) {
			hour := float64(t.Hour()) + float64(t.Minute())/60
			sun := max(0, math.Sin((hour-6)/12*math.Pi))
			fmt.Fprintf(&text, "%s,%.1f,%.1f,%.0f,%.1f,%.1f\n", t.Format("15:04"), 11+7*sun+random.NormFloat64()/2, 12+2*sun, 82-20*sun+random.NormFloat64(), math.Abs(6+2*random.NormFloat64()), 60*sun)
		}
		name := filepath.Join(dir, at.Format("2006-01"), at.Format("2006-01-02")+".csv")
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(name, []byte(text.String()), 0o644); err != nil {
			return err
		}
		if err := os.Chtimes(name, at, at.AddDate(0, 0, 1)); err != nil {
			return err
		}
	}
	return nil
}
