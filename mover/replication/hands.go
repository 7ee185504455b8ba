package replication

// hands bound what a carry does side by side: so many errands work, and so many
// more wait for what they have written to be lasting, or for the records. Large
// files have hands of their own, fewer, since each keeps the ways full by itself.
type hands struct{ small, large chan struct{} }

// smallShare is how many errands work in the place of a large file: with small
// ones, most of the time goes by until a server answers.
const smallShare = 8

func newHands(large int) hands {
	return hands{make(chan struct{}, smallShare*large), make(chan struct{}, large)}
}

// work does something with a hand of the small ones.
func (h hands) work(do func() error) error {
	h.small <- struct{}{}
	defer func() { <-h.small }()
	return do()
}

// rest gives back the hand that work took for as long as something is waited for.
func (h hands) rest(wait func() error) error {
	<-h.small
	defer func() { h.small <- struct{}{} }()
	return wait()
}

// file does something about the content of a file of so many bytes: a large one
// in a large hand, and not in the one that work took.
func (h hands) file(size int64, do func() error) error {
	if size <= smallFile {
		return do()
	}
	return h.rest(func() error {
		h.large <- struct{}{}
		defer func() { <-h.large }()
		return do()
	})
}
