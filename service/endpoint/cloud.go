package endpoint

import (
	"context"
	"strings"
	"time"

	"bridgespan/model"
	"bridgespan/tree"
	"bridgespan/tree/bucket"
	"bridgespan/tree/bucket/seal"
)

// Cloud signs in to an account at an object service.
func Cloud(ctx context.Context, to bucket.Target) (Endpoint, error) {
	account, err := bucket.SignIn(ctx, to)
	if err != nil {
		return nil, err
	}
	return &overCloud{account, to}, nil
}

type overCloud struct {
	account *bucket.Account
	to      bucket.Target
}

func (o *overCloud) Close() error { return o.account.Close() }
func (o *overCloud) Greeting() string {
	return "access key " + o.to.Key + " accepted in " + o.to.Region
}

func (o *overCloud) Tree(ctx context.Context, share, sub string) (tree.Tree, error) {
	return o.sealed(ctx, share, sub, nil)
}

func (o *overCloud) sealed(ctx context.Context, share, sub string, key *seal.Key) (tree.Tree, error) {
	t, err := o.account.Open(ctx, share, sub, key)
	if err != nil {
		return nil, err
	}
	return t, nil
}

// SealedTree opens a folder of a bucket whose files are sealed. It returns an error wrapping tree.ErrUnsupported where there are no buckets.
func SealedTree(ctx context.Context, e Endpoint, share, sub string, key *seal.Key) (tree.Tree, error) {
	o, ok := e.(*overCloud)
	if !ok {
		return nil, tree.PathError("open", share, tree.ErrUnsupported)
	}
	return o.sealed(ctx, share, sub, key)
}

func (o *overCloud) Shares(ctx context.Context) (shares []model.Share, err error) {
	names, err := o.account.Buckets(ctx)
	for _, name := range names {
		shares = append(shares, model.Share{Name: name, Kind: "disk", Path: name})
	}
	return shares, err
}

// BucketKeeper is an endpoint whose shares are buckets.
type BucketKeeper interface {
	// BucketTaken reports whether an account of the service has a bucket of this name.
	BucketTaken(ctx context.Context, name string) (bool, error)
	// CreateBucket creates a bucket in the region of the endpoint. It returns an error wrapping bucket.ErrTaken when
	// there is one.
	CreateBucket(ctx context.Context, name string) error
	// RemoveBucket removes an empty bucket, or returns an error wrapping tree.ErrNotEmpty.
	RemoveBucket(ctx context.Context, name string) error
}

// Buckets is the keeper of an endpoint's buckets; nil of one whose shares are none.
func Buckets(e Endpoint) BucketKeeper {
	if o, ok := e.(*overCloud); ok {
		return o.account
	}
	return nil
}

func (o *overCloud) Clock(context.Context) (time.Duration, error) { return o.account.Clock(), nil }

// Machine is the endpoint: all accounts of a service share one set of bucket names.
func (o *overCloud) Machine(context.Context) (string, error) {
	return "cloud " + strings.ToLower(o.to.Endpoint), nil
}
