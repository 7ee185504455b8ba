package demo

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strconv"
	"time"

	"github.com/minio/minio-go/v7"

	"bridgespan/client"
	"bridgespan/model"
	"bridgespan/mover/edge"
	"bridgespan/mover/host"
	"bridgespan/standin/process"
	"bridgespan/standin/volume"
)

// island is the edge on Tern Island: a mover beside the file service of sedge, over one folder on its small disk.
var island = struct{ name, beside, share, folder, note string }{
	"sedge-edge", "sedge", "specimens", "specimens", "The mover beside the file service of sedge; its disk is small",
}

// specimens keeps the specimen scans in the cloud, and shows them on the island, whose disk has room for some of them.
var specimens = model.NewReplicaSet{
	Name: "specimens", Note: "Specimen scans in the cloud, for Larkfield and the island", Layout: model.LayoutHub, Calendar: "full",
	Permissions: model.PermissionsMap, AccountMap: gardens.Name,
	Replicas: []model.NewReplica{{Server: haar.name, Share: "trust-specimens"}, {Server: "fern", Share: "herbarium", Seed: true},
		{Server: island.name, Share: island.folder, IntakeQuota: 16 << 20, Edge: &model.EdgePolicy{Fill: model.FillNames, FreePercent: 30, Never: []string{"Loans/"}, Refused: []string{"nightly-backup"}}}},
}

// diskSize is the size of the island's disk: a part of the scans alone has room on it.
func diskSize(s Size) int64 {
	if s == "small" {
		return 24 << 20
	}
	return int64(160<<20) * int64(max(scales[s], 1))
}

func (d *Demo) islandFolder() string { return d.Servers[island.beside].SharePath(island.share) }

// startIsland mounts the island's disk under the share of its file service, and starts the mover beside it. Where nothing can
// be mounted, the demo goes without.
func (d *Demo) startIsland(ctx context.Context) (err error) {
	if err := os.MkdirAll(d.path(island.name), 0o711); err != nil {
		return err
	}
	folder := d.islandFolder()
	before, err := os.Stat(folder)
	if err != nil {
		return err
	}
	d.disk, err = volume.Mount(ctx, d.path(island.name+"/disk.ext4"), folder, diskSize(d.Size))
	if errors.Is(err, volume.ErrUnsupported) {
		d.say("Without the edge on the island: %v", err)
		return nil
	}
	if err == nil {
		err = volume.Like(folder, before)
	}
	if err != nil {
		return err
	}
	if _, err := edge.Supported(folder, edge.AnyTrigger); err != nil {
		d.say("Without the edge on the island: %v", err)
		err := d.disk.Unmount(ctx)
		d.disk = nil
		return err
	}
	port := strconv.Itoa(d.Port + moverStep)
	address := d.addressOf(island.beside)
	cmd := exec.Command(d.Service, "mover", "--listen", net.JoinHostPort(address.address, port), "--state-dir", d.path(island.name+"/mover"), "--folder", island.folder+"="+folder, "--samba", island.folder)
	if d.islandMover, err = process.Start("mover", cmd, d.path(island.name+"/log")); err != nil {
		return err
	}
	if err := d.islandMover.Await(process.Dial(net.JoinHostPort(address.address, port)), 20*time.Second); err != nil {
		return fmt.Errorf("%w; its log is %s", err, d.path(island.name+"/log"))
	}
	return d.layLeg(address.site, address.behind, address.address, d.Port+moverStep)
}

func (d *Demo) addressOf(name string) server {
	for _, s := range servers {
		if s.name == name {
			return s
		}
	}
	panic("no server " + name)
}

// stopIsland ends the mover; unmountIsland takes the disk away, once nobody has files open there.
func (d *Demo) stopIsland() {
	if d.islandMover != nil {
		d.islandMover.Stop(15 * time.Second)
	}
}

func (d *Demo) unmountIsland() {
	if d.disk == nil {
		return
	}
	if err := edge.EndGuards(context.Background(), d.path(island.name+"/mover"), ""); err != nil {
		d.say("What guards the stubs on the island does not end: %v", err)
	}
	if err := d.disk.Unmount(context.Background()); err != nil {
		d.say("The island's disk stays mounted: %v", err)
	}
}

// keepSpecimens adds the edge on the island, and keeps the specimen scans in the cloud.
func (d *Demo) keepSpecimens(ctx context.Context, api *client.Client) error {
	if d.disk == nil {
		return nil
	}
	bucket, err := d.openCloud()
	if err != nil {
		return err
	}
	if err := bucket.MakeBucket(ctx, specimens.Replicas[0].Share, minio.MakeBucketOptions{Region: cloudRegions[0].name}); err != nil {
		return fmt.Errorf("make the bucket: %w", err)
	}
	fingerprint, secret, err := host.Identity(d.path(island.name + "/mover"))
	if err != nil {
		return err
	}
	at := d.addressOf(island.beside)
	if _, err := api.AddServer(ctx, model.NewServer{Name: island.name, Site: at.site, Address: at.reached(), Port: d.Port + moverStep, Certificate: fingerprint, Password: secret, Beside: island.beside, Note: island.note}); err != nil {
		return err
	}
	if _, err := api.CheckServer(ctx, island.name); err != nil {
		return err
	}
	if err := keep(ctx, api, specimens); err != nil {
		return err
	}
	if err := d.beginNotes(ctx, api, bucket); err != nil {
		return fmt.Errorf("begin to set up %s: %w", notes.Name, err)
	}
	if err := awaitFilled(ctx, api, specimens.Name); err != nil {
		return err
	}
	if _, err := api.DropProbe(ctx, specimens.Name, model.DropProbe{}); err != nil {
		return err
	}
	_, err = api.FindAccountUses(ctx, specimens.Name)
	return err
}

// notes are a cloud set that somebody has begun to set up. They tell where rare plants grow, and are sealed.
var notes = model.NewCloudSetup{Name: "field notes", CloudDraft: model.CloudDraft{
	Account: haar.name, Bucket: "trust-fieldnotes", Quota: 1 << 40, Note: "Notes from the field, readable at Larkfield while the radio link is down",
	Edges: []model.DraftEdge{{Server: "sedge", Share: "fieldnotes", Seed: true}, {Server: "yarrow", Share: "arrivals", Sub: "fieldnotes"}},
}}

// recoveryFile has the private key that opens what is sealed without the service.
const recoveryFile = "recovery.txt"

// beginNotes goes through the steps of the set-up up to the plan.
func (d *Demo) beginNotes(ctx context.Context, api *client.Client, bucket *minio.Client) error {
	if err := bucket.MakeBucket(ctx, notes.Bucket, minio.MakeBucketOptions{Region: cloudRegions[0].name}); err != nil {
		return err
	}
	recovery, err := api.MakeRecoveryKey(ctx)
	if err != nil {
		return err
	}
	if err := os.WriteFile(d.path(recoveryFile), []byte(recovery.Private), 0o600); err != nil {
		return err
	}
	asked := notes
	asked.Sealing = &model.Sealing{RecoveryKeys: []string{recovery.Public}}
	if _, err := api.AddCloudSetup(ctx, asked); err != nil {
		return err
	}
	_, err = api.CheckCloudSetup(ctx, notes.Name)
	return err
}
