package smbadmin

import (
	"context"
	"slices"
	"strings"

	smb2 "github.com/cloudsoda/go-smb2"

	"bridgespan/tree/smb"
)

// Share is a share as its server lists it.
type Share struct {
	Name   string
	Note   string
	Kind   string // "disk", "printer", "device" or "pipes"
	Hidden bool   // kept out of people's lists
}

// Shares lists the shares of a server, in order of name, over the srvsvc pipe
// ([MS-SRVS] 3.1.4.8).
func Shares(ctx context.Context, session *smb.Session) ([]Share, error) {
	listed, err := session.Client(ctx).ListShares()
	if err != nil {
		return nil, err
	}
	kinds := map[smb2.ShareType]string{smb2.ShareTypeDiskTree: "disk", smb2.ShareTypePrintQueue: "printer", smb2.ShareTypeDevice: "device", smb2.ShareTypeIPC: "pipes"}
	var shares []Share
	for _, s := range listed {
		kind, ok := kinds[s.Type()]
		if !ok {
			kind = "other"
		}
		shares = append(shares, Share{Name: s.Name, Note: s.Comment, Kind: kind, Hidden: s.IsSpecial() || strings.HasSuffix(s.Name, "$")})
	}
	slices.SortFunc(shares, func(a, b Share) int { return strings.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)) })
	return shares, nil
}
