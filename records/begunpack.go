package records

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/fxamacker/cbor/v2"

	"bridgespan/core/replica"
)

// begunPack is the form in which what was begun is kept, as CBOR: a pack of what will
// be at paths, whose names are the whole of their keys, and where things are meanwhile.
type begunPack struct {
	_      struct{} `cbor:",toarray"`
	Pack   pack
	Places []begunPlaces
}

type begunPlaces struct {
	_             struct{} `cbor:",toarray"`
	Staged, Attic cbor.ByteString
}

func begunOf(ctx context.Context, q Queries, records []*replica.Record, ids DescriptorIDs) ([]byte, error) {
	p := &packer{ctx: ctx, q: q, ids: ids, pack: pack{Records: make([]packed, len(records))}}
	places := make([]begunPlaces, len(records))
	for i, rec := range records {
		if err := p.put(&p.pack.Records[i], rec.Key, &rec.Pending.Content, &rec.Pending.Permissions); err != nil {
			return nil, err
		}
		places[i] = begunPlaces{Staged: cbor.ByteString(rec.Pending.Staged), Attic: cbor.ByteString(rec.Pending.Attic)}
	}
	return cbor.Marshal(&begunPack{Pack: p.pack, Places: places})
}

// readBegun reads what begunOf wrote, or the JSON in which it was kept before.
func readBegun(ctx context.Context, q Queries, content []byte, permissions *descriptors) (paths []begunPath, err error) {
	if len(content) > 0 && content[0] == '[' {
		return paths, json.Unmarshal(content, &paths)
	}
	var b begunPack
	if err := cbor.Unmarshal(content, &b); err != nil {
		return nil, fmt.Errorf("what was begun cannot be read: %w", err)
	}
	if err := b.Pack.check(); err != nil || len(b.Places) != len(b.Pack.Records) {
		return nil, cmp.Or(err, errors.New("what was begun cannot be read: it is not whole"))
	}
	u, err := b.Pack.unpacker(ctx, q, permissions)
	if err != nil {
		return nil, err
	}
	paths = make([]begunPath, len(b.Places))
	for i := range paths {
		e, pending := &b.Pack.Records[i], &replica.Pending{Staged: string(b.Places[i].Staged), Attic: string(b.Places[i].Attic)}
		if pending.Content, pending.Permissions, err = u.content(e); err != nil {
			return nil, err
		}
		paths[i] = begunPath{Key: string(e.NameKey), Pending: pending}
	}
	return paths, nil
}
