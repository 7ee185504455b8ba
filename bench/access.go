package main

import (
	"context"
	"errors"
	"time"

	accounts "bridgespan/core/account"
	"bridgespan/core/acl"
)

// decisions of effective access on one core, against a million a second.
var decisions = benchmark{name: "effective-access", unit: "decisions/s", bar: 1, prepare: func(context.Context, *endings) (way, way, error) {
	domain := accounts.MustSID("S-1-5-21-1-2-3")
	p, err := acl.ParseParts("O:BAD:AI(D;;FW;;;BG)(A;OICIID;FA;;;BA)(A;OICIID;FA;;;SY)(A;ID;0x1301bf;;;S-1-5-21-1-2-3-1150)(A;ID;0x1301bf;;;S-1-5-21-1-2-3-1103)(A;ID;0x1200a9;;;AU)")
	if err != nil {
		return nil, nil, err
	}
	share, err := acl.ParseParts("D:(A;;FA;;;WD)")
	if err != nil {
		return nil, nil, err
	}
	token := accounts.NewToken(domain.Child(1101), 0)
	for i := range 40 {
		token.Add(domain.Child(uint32(1102+i)), domain.Child(1101))
	}
	o := acl.Object{Permissions: p, Parent: &p, Share: &share}
	ours := func(context.Context) (float64, error) {
		const n = 1_000_000
		start := time.Now()
		for range n {
			if o.Effective(token)&acl.ReadData == 0 {
				return 0, errors.New("refused")
			}
		}
		return n / time.Since(start).Seconds(), nil
	}
	return ours, func(context.Context) (float64, error) { return 1_000_000, nil }, nil
}}
