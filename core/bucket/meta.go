package bucket

// MostMeta is the largest size of the metadata of an object, in bytes.
const MostMeta = 2048

// MetaSize returns the size of metadata as services count it: names without the prefix x-amz-meta-, and values.
func MetaSize(meta map[string]string) (n int) {
	for name, value := range meta {
		n += len(name) + len(value)
	}
	return n
}
