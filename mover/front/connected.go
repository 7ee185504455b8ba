package front

import (
	"context"
	"encoding/json"
	"slices"
	"strconv"
	"time"
)

// Connected is somebody who has the share of a front open.
type Connected struct {
	Person  string    `json:"person,omitempty"` // absent when the host cannot name the account
	Machine string    `json:"machine"`
	Since   time.Time `json:"since"`
}

// mostConnected is how many connections are told.
const mostConnected = 500

// Connected tells who has the share of a front open, the latest first, as the file service's own
// smbstatus(1) says.
func (k *Keeper) Connected(ctx context.Context, share string) ([]Connected, error) {
	out, err := tool(ctx, "smbstatus", "--json", "-s", k.Service.Configuration)
	if err != nil {
		return nil, err
	}
	return connected(out, share)
}

func connected(status []byte, share string) ([]Connected, error) {
	var s struct {
		Sessions map[string]struct {
			Username string `json:"username"`
		} `json:"sessions"`
		Tcons map[string]struct {
			Service   string `json:"service"`
			Session   string `json:"session_id"`
			Machine   string `json:"machine"`
			Connected string `json:"connected_at"`
		} `json:"tcons"`
	}
	if err := json.Unmarshal(status, &s); err != nil {
		return nil, err
	}
	list := []Connected{}
	for _, t := range s.Tcons {
		if t.Service != share {
			continue
		}
		c := Connected{Machine: t.Machine, Person: s.Sessions[t.Session].Username}
		if _, err := strconv.ParseUint(c.Person, 10, 64); err == nil { // the number of an account that the host cannot name
			c.Person = ""
		}
		c.Since, _ = time.Parse(time.RFC3339Nano, t.Connected) // a time that cannot be read is left out
		list = append(list, c)
	}
	slices.SortFunc(list, func(a, b Connected) int { return b.Since.Compare(a.Since) })
	return list[:min(len(list), mostConnected)], nil
}
