package pack

import (
	"encoding/json"
	"fmt"

	"github.com/fxamacker/cbor/v2"

	"bridgespan/core/replica"
)

// Begun is what was begun at a path.
type Begun struct {
	Key     string           `json:"key"`
	Pending *replica.Pending `json:"pending"`
}

// begunPack is a pack of what will be at paths, the keys of which are whole, and where
// things are meanwhile.
type begunPack struct {
	_      struct{} `cbor:",toarray"`
	Pack   Pack
	Places []places
}

type places struct {
	_             struct{} `cbor:",toarray"`
	Staged, Attic cbor.ByteString
}

// AllBegun packs what was begun at paths.
func AllBegun(list []Begun, number Number) ([]byte, error) {
	p := newPacker(len(list), number)
	at := make([]places, len(list))
	for i, b := range list {
		p.entry(b.Key, &b.Pending.Content, &b.Pending.Permissions)
		at[i] = places{Staged: cbor.ByteString(b.Pending.Staged), Attic: cbor.ByteString(b.Pending.Attic)}
	}
	if p.err != nil {
		return nil, p.err
	}
	return cbor.Marshal(&begunPack{Pack: p.pack, Places: at})
}

// ReadBegun reads what AllBegun wrote, or the list in JSON that was written before there
// were packs.
func ReadBegun(content []byte, numbered Numbered) (list []Begun, err error) {
	if len(content) > 0 && content[0] == '[' {
		return list, json.Unmarshal(content, &list)
	}
	var b begunPack
	if err := cbor.Unmarshal(content, &b); err != nil {
		return nil, fmt.Errorf("what was begun cannot be read: %w", err)
	}
	if err := b.Pack.check(); err != nil {
		return nil, err
	}
	if len(b.Places) != len(b.Pack.Entries) {
		return nil, fmt.Errorf("what was begun cannot be read: there are %d paths and %d places", len(b.Pack.Entries), len(b.Places))
	}
	list = make([]Begun, len(b.Places))
	for i := range list {
		e, pending := &b.Pack.Entries[i], &replica.Pending{Staged: string(b.Places[i].Staged), Attic: string(b.Places[i].Attic)}
		if pending.Content, pending.Permissions, err = b.Pack.content(e, numbered); err != nil {
			return nil, err
		}
		list[i] = Begun{string(e.Key), pending}
	}
	return list, nil
}
