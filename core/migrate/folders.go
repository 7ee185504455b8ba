// Package migrate computes what a migration does: where shares go, and what would be mixed there.
package migrate

import (
	"bridgespan/core/namespace"
)

// Collision is two folders of which one is the other, or lies inside of it. Both are indices of the list.
type Collision struct{ Folder, Inside int }

// Collisions are the folders that would hold the files of two shares. Names that differ in their case alone are one folder.
func Collisions(folders []string) (list []Collision) {
	at := map[string]int{}
	for i, f := range folders {
		if first, taken := at[namespace.Key(f)]; taken {
			list = append(list, Collision{first, i})
			continue
		}
		at[namespace.Key(f)] = i
	}
	for i, f := range folders {
		for _, above := range namespace.Parents(f) {
			if outer, taken := at[namespace.Key(above)]; taken {
				list = append(list, Collision{outer, i})
			}
		}
	}
	return list
}
