package bucket

// MostMeta is how many bytes the names and values of what is said beside an object may have together.
const MostMeta = 2048

// MetaSize is how many bytes some metadata takes, as services count: names without their common prefix, and
// values.
func MetaSize(meta map[string]string) (n int) {
	for name, value := range meta {
		n += len(name) + len(value)
	}
	return n
}
