package front

import (
	"bridgespan/core/namespace"
	"bridgespan/core/text"
	"bridgespan/tree"
)

// What a mover may say of a front. It comes from another host: nothing of it is kept or shown before it
// was compared with these.
const (
	mostEntries = 1_000_000
	mostShares  = 100_000
	mostLines   = 100
	mostWords   = 1000 // bytes of a text
)

// check returns an error when an answer to so many changes can be none, and makes its texts fit to be
// shown.
func (c Client) check(a *reply, changes int) error {
	a.Folder = text.Printable(a.Folder, tree.MaxPath)
	clean(&a.Started)
	if len(a.Failed) > changes && changes > 0 || len(a.Failed) > mostEntries {
		return c.Distrust("%d of %d changes failed", len(a.Failed), changes)
	}
	for i := range a.Failed {
		clean(&a.Failed[i].Path, &a.Failed[i].Trouble)
	}
	if len(a.Connected) > mostConnected {
		return c.Distrust("%d people have a front open", len(a.Connected))
	}
	for i := range a.Connected {
		clean(&a.Connected[i].Person, &a.Connected[i].Machine)
	}
	if a.Found != nil {
		if err := c.checkFound(a.Found); err != nil {
			return err
		}
	}
	if a.Offer != nil {
		return c.checkOffer(a.Offer)
	}
	return nil
}

func (c Client) checkFound(f *Found) error {
	if len(f.Entries) > mostEntries || len(f.Foreign) > mostForeign {
		return c.Distrust("a front of %d entries, with %d foreign names", len(f.Entries), len(f.Foreign))
	}
	for _, e := range f.Entries {
		// Where a link leads is compared alone: somebody may have changed it on the host.
		if e.Path == "" || namespace.CheckPath("path", e.Path) != nil || len(e.To) > mostLink {
			return c.Distrust("an entry of a front at %.100q, leading to %d places", e.Path, len(e.To))
		}
	}
	for i := range f.Foreign {
		clean(&f.Foreign[i])
	}
	return nil
}

func (c Client) checkOffer(o *Offer) error {
	if len(o.Missing) > mostLines || len(o.ByHand) > mostLines || len(o.Shares) > mostShares {
		return c.Distrust("a file service of %d shares, whose configuration lacks %d lines", len(o.Shares), len(o.Missing))
	}
	clean(&o.Service, &o.Include)
	for i := range o.Missing {
		clean(&o.Missing[i])
	}
	for i := range o.ByHand {
		clean(&o.ByHand[i])
	}
	for i := range o.Shares {
		clean(&o.Shares[i].Name)
		o.Shares[i].Path = text.Printable(o.Shares[i].Path, tree.MaxPath)
	}
	return nil
}

// clean makes texts fit to be shown.
func clean(texts ...*string) {
	for _, t := range texts {
		*t = text.Printable(*t, mostWords)
	}
}
