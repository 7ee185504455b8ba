package namespace

// Look is how one location was found.
type Look struct {
	Health Health
	Text   string // what is wrong, in words
}

// looksNeeded is how many looks in a row must find a location otherwise before
// that counts: one that comes and goes must not send people to and fro.
const looksNeeded = 2

// Judge lets a look at a location have its say: was is what counts so far, and
// misses how many looks in a row found it otherwise. The first look counts at once.
func Judge(was Health, misses int, found Health) (now Health, missesNow int) {
	switch {
	case was == NotTried:
		return found, 0
	case found == was:
		return was, 0
	case misses+1 < looksNeeded:
		return was, misses + 1
	}
	return found, 0
}
