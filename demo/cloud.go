package demo

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/http"
	"os"
	"strconv"
	"strings"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"bridgespan/client"
	"bridgespan/model"
	"bridgespan/standin/cloud"
)

// haar is the simulated cloud of the scenario. The trust has an account there.
var haar = struct{ name, site, note, bucket string }{"haar", "Larkfield", "The trust's account at a cloud, near Larkfield", "trust-ledgers"}

// cloudRegions are the regions of haar, with the addresses of their services.
var cloudRegions = []struct{ name, address string }{{"coast-1", "127.0.0.18"}, {"inland-1", "127.0.0.19"}}

// haarPrices are the prices of haar for a GB: stored for a month, and read.
var haarPrices = struct {
	currency    string
	stored, out float64
}{"EUR", 0.021, 0.085}

// How far after the console's port those of the cloud are.
const (
	cloudStep   = 30
	controlStep = 90
)

// ledgers keeps a copy of the seed bank's ledgers in the cloud.
var ledgers = model.NewReplicaSet{
	Name: "ledgers", Note: "Accession ledgers, with a copy in the cloud", Calendar: "full",
	Replicas: []model.NewReplica{{Server: "fern", Share: "seedbank", Seed: true}, {Server: haar.name, Share: haar.bucket, Sub: "seedbank"}},
}

// delivered is a file that a partner of the trust puts straight into the bucket.
const delivered = "seedbank/From partners/Exchange list 2026.csv"

func (d *Demo) regionAt(i int) string {
	return net.JoinHostPort(cloudRegions[i].address, strconv.Itoa(d.Port+cloudStep))
}

func (d *Demo) cloudControl() string {
	return net.JoinHostPort("127.0.0.1", strconv.Itoa(d.Port+controlStep))
}

// startCloud starts the simulated cloud. At its first start it makes an access key.
func (d *Demo) startCloud() error {
	o := cloud.Options{Dir: d.path("haar"), TLS: true, Control: d.cloudControl()}
	for i, r := range cloudRegions {
		o.Regions = append(o.Regions, cloud.Region{Name: r.name, Listen: d.regionAt(i), StoredPrice: haarPrices.stored, OutPrice: haarPrices.out})
	}
	var err error
	d.cloud, err = cloud.Start(o)
	return err
}

// keepLedgers adds the account at the cloud, and keeps the ledgers there as well.
func (d *Demo) keepLedgers(ctx context.Context, api *client.Client) error {
	bucket, err := d.openCloud()
	if err != nil {
		return err
	}
	if err := bucket.MakeBucket(ctx, haar.bucket, minio.MakeBucketOptions{Region: cloudRegions[0].name}); err != nil {
		return fmt.Errorf("make the bucket: %w", err)
	}
	authority, err := os.ReadFile(d.cloud.CA)
	if err != nil {
		return err
	}
	key := d.cloud.Config.Keys[0]
	if _, err := api.AddServer(ctx, model.NewServer{Name: haar.name, Site: haar.site, Address: cloudRegions[0].address, Port: d.Port + cloudStep, Account: key.ID, Password: key.Secret, Note: haar.note,
		Cloud: &model.CloudReach{Region: cloudRegions[0].name, PathStyle: true, Authority: string(authority), Currency: haarPrices.currency, StoredPrice: haarPrices.stored, OutPrice: haarPrices.out}}); err != nil {
		return err
	}
	if _, err := api.CheckServer(ctx, haar.name); err != nil {
		return err
	}
	return keep(ctx, api, ledgers)
}

// openCloud opens the trust's account as any other client does.
func (d *Demo) openCloud() (*minio.Client, error) {
	pem, err := os.ReadFile(d.cloud.CA)
	if err != nil {
		return nil, err
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(pem)
	key := d.cloud.Config.Keys[0]
	return minio.New(d.regionAt(0), &minio.Options{Creds: credentials.NewStaticV4(key.ID, key.Secret, ""), Secure: true, Region: cloudRegions[0].name, BucketLookup: minio.BucketLookupPath,
		Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}}})
}

// deliver lets a partner put a file straight into the bucket, once all is there, and has the bucket scanned.
func (d *Demo) deliver(ctx context.Context, api *client.Client) error {
	if err := awaitFilled(ctx, api, ledgers.Name); err != nil {
		return err
	}
	bucket, err := d.openCloud()
	if err != nil {
		return err
	}
	const list = "accession,species,packets\nLBT-2026-0411,Primula scotica,12\nLBT-2026-0412,Saxifraga cernua,3\n"
	if _, err := bucket.PutObject(ctx, haar.bucket, delivered, strings.NewReader(list), int64(len(list)), minio.PutObjectOptions{ContentType: "text/csv"}); err != nil {
		return err
	}
	return api.LookAtReplicas(ctx, ledgers.Name, haar.name)
}
