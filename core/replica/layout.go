package replica

// Mesh leads from every replica to every other one.
func Mesh(replicas []ID) (lanes []Lane) {
	for _, a := range replicas {
		for _, b := range replicas {
			if a != b {
				lanes = append(lanes, Lane{a, b})
			}
		}
	}
	return lanes
}

// Hub leads from one replica to every other one, and back.
func Hub(hub ID, replicas []ID) (lanes []Lane) {
	for _, r := range replicas {
		if r != hub {
			lanes = append(lanes, Lane{hub, r}, Lane{r, hub})
		}
	}
	return lanes
}

// Chain leads from each replica to the next one, and back.
func Chain(replicas []ID) (lanes []Lane) {
	for i := range len(replicas) - 1 {
		lanes = append(lanes, Lane{replicas[i], replicas[i+1]}, Lane{replicas[i+1], replicas[i]})
	}
	return lanes
}

// Unreached are the replicas to which no way leads from one of them; when it is
// empty for each, changes made anywhere get everywhere.
func Unreached(from ID, replicas []ID, lanes []Lane) (left []ID) {
	reached := map[ID]bool{from: true}
	for grown := true; grown; {
		grown = false
		for _, l := range lanes {
			if reached[l.From] && !reached[l.To] {
				reached[l.To], grown = true, true
			}
		}
	}
	for _, r := range replicas {
		if !reached[r] {
			left = append(left, r)
		}
	}
	return left
}
