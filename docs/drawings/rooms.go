package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"slices"
	"strings"
)

// storeys are the rooms of the house from the top to the ground: imports point downward.
var storeys = []struct {
	name  string
	rooms []room
}{
	{"programs", []room{{"cmd/bspand", nil}, {"cmd/bspan", nil}}},
	{"edges", []room{{"api", nil}, {"gateway", nil}, {"client", nil}}},
	{"use cases", []room{{"service/replicas", []string{"planning", "proof", "worker", "sets"}}, {"service, one package each", []string{"naming", "verify", "rights", "shares", "estimates", "surveys", "accounts", "lint …"}}}},
	{"shared by use cases", []room{{"service/steps", nil}, {"service/estate", []string{"endpoint"}}, {"service/access", []string{"events", "vault"}}, {"service/jobs", nil}, {"service/work", nil}}},
	{"engines", []room{{"mover/replication", nil}, {"mover/estimate", []string{"pack"}}}},
	{"shared by engines", []room{{"mover/transfer", nil}, {"mover/compare", nil}, {"mover/gate", nil}}},
	{"reach", []room{{"tree", []string{"smb", "folder", "remote", "memory …"}}, {"smbadmin", nil}, {"directory", nil}, {"records", nil}}},
	{"ground", []room{{"core", []string{"replica", "acl", "chunk", "calendar", "dedup", "finding …"}}, {"model", nil}}},
}

// room is a package, or several under one name, with what is in it.
type room struct {
	name string
	has  []string
}

// roomOf finds the room of a package; "" of what is not drawn.
func roomOf(pkg string) string {
	name, ours := strings.CutPrefix(pkg, "bridgespan/")
	if !ours {
		return ""
	}
	for _, s := range storeys {
		for _, r := range s.rooms {
			if name == r.name || strings.HasPrefix(name, r.name+"/") {
				return r.name
			}
		}
	}
	switch {
	case name == "service/endpoint":
		return "service/estate"
	case name == "service/events", name == "service/vault":
		return "service/access"
	case name == "mover/pack":
		return "mover/estimate"
	case strings.HasPrefix(name, "service/"):
		return "service, one package each"
	}
	return ""
}

// uses are the rooms that each room imports.
func uses() (map[string]map[string]bool, error) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	if err != nil {
		return nil, err
	}
	all := map[string]map[string]bool{}
	for d := json.NewDecoder(bytes.NewReader(out)); ; {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			return all, nil
		} else if err != nil {
			return nil, err
		}
		from := roomOf(p.ImportPath)
		for _, i := range p.Imports {
			if to := roomOf(i); from != "" && to != "" && from != to {
				if all[from] == nil {
					all[from] = map[string]bool{}
				}
				all[from][to] = true
			}
		}
	}
}

// direct leaves out what a room reaches through another one it uses.
func direct(all map[string]map[string]bool) map[string][]string {
	var reaches func(from, to string, seen map[string]bool) bool
	reaches = func(from, to string, seen map[string]bool) bool {
		if seen[from] {
			return false
		}
		seen[from] = true
		return all[from][to] || slices.ContainsFunc(keys(all[from]), func(next string) bool { return reaches(next, to, seen) })
	}
	few := map[string][]string{}
	for from, list := range all {
		for _, to := range keys(list) {
			through := slices.ContainsFunc(keys(list), func(other string) bool { return other != to && reaches(other, to, map[string]bool{from: true}) })
			if !through {
				few[from] = append(few[from], to)
			}
		}
	}
	return few
}

func keys(m map[string]bool) []string {
	var list []string
	for k := range m {
		list = append(list, k)
	}
	slices.Sort(list)
	return list
}

// Sizes of the drawing of rooms, in pixels.
const (
	roomsWidth   = 1180
	storeyHeight = 112
	boxHeight    = 72
	marginLeft   = 150
)

func drawRooms() ([]byte, error) {
	all, err := uses()
	if err != nil {
		return nil, err
	}
	c := newCanvas(roomsWidth, len(storeys)*storeyHeight+20, "The rooms of the house, and which of them use which")
	type place struct{ storey, left, top, width int }
	places := map[string]place{}
	for i, s := range storeys {
		each := (roomsWidth - marginLeft - 20) / len(s.rooms)
		for k, r := range s.rooms {
			places[r.name] = place{i, marginLeft + k*each + 10, 20 + i*storeyHeight, each - 20}
		}
	}
	for from, list := range direct(all) {
		for _, to := range list {
			a, b := places[from], places[to]
			if b.top < a.top {
				return nil, fmt.Errorf("%s uses %s, which is above it", from, to)
			}
		}
	}
	few := direct(all)
	below := map[string][]string{} // rooms that are used across a storey: an arrow would cross others
	for _, s := range storeys {
		for _, r := range s.rooms {
			a := places[r.name]
			var near []string
			for _, to := range few[r.name] {
				if places[to].storey > a.storey+1 {
					below[r.name] = append(below[r.name], to)
				} else {
					near = append(near, to)
				}
			}
			for k, to := range near {
				b := places[to]
				x := a.left + (k+1)*a.width/(len(near)+1)
				if b.top == a.top { // a neighbour
					from, at := a.left+a.width, b.left
					if b.left < a.left {
						from, at = a.left, b.left+b.width
					}
					c.arrow(from, a.top+boxHeight/2, at, a.top+boxHeight/2)
					continue
				}
				c.curve(x, a.top+boxHeight, nearest(x, b.left+12, b.left+b.width-12), b.top)
			}
		}
	}
	for i, s := range storeys {
		c.text(16, 20+i*storeyHeight+boxHeight/2+5, "start", "400", soft, s.name)
		for _, r := range s.rooms {
			p := places[r.name]
			c.box(p.left, p.top, p.width, boxHeight, ink)
			rows := []string{r.name}
			if len(r.has) > 0 {
				rows = append(rows, strings.Join(r.has, ", "))
			}
			if len(below[r.name]) > 0 {
				rows = append(rows, "uses "+strings.Join(below[r.name], ", "))
			}
			for k, row := range rows {
				weight, colour := "400", soft
				if k == 0 {
					weight, colour = "600", ink
				}
				c.text(p.left+p.width/2, p.top+boxHeight/2+5+18*k-9*(len(rows)-1), "middle", weight, colour, row)
			}
		}
	}
	return c.close(), nil
}

func nearest(x, least, most int) int { return min(max(x, least), most) }
