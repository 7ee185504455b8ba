package transfer

// Limiter bounds what is done side by side: so many tasks work, while more may wait until
// what they wrote is durable or recorded. Large files are bounded by themselves and lower,
// since each keeps both ends busy alone. A nil limiter bounds nothing.
type Limiter struct{ small, large chan struct{} }

// smallShare is how many tasks work for each large file: with small files, most of the time
// is spent until a server answers.
const smallShare = 8

// NewLimiter makes one for so many large files at a time.
func NewLimiter(large int) *Limiter {
	return &Limiter{make(chan struct{}, smallShare*large), make(chan struct{}, large)}
}

// Small is how many tasks work at a time.
func (l *Limiter) Small() int { return cap(l.small) }

// Work does something in one of the small places.
func (l *Limiter) Work(do func() error) error {
	if l == nil {
		return do()
	}
	l.small <- struct{}{}
	defer func() { <-l.small }()
	return do()
}

// Rest gives back the place that Work took for as long as something is waited for.
func (l *Limiter) Rest(wait func() error) error {
	if l == nil {
		return wait()
	}
	<-l.small
	defer func() { l.small <- struct{}{} }()
	return wait()
}

// File does something with the content of a file of so many bytes: in a large place when it
// is large, and not in the one that Work took.
func (l *Limiter) File(size int64, do func() error) error {
	if l == nil || size <= SmallFile {
		return do()
	}
	return l.Rest(func() error {
		l.large <- struct{}{}
		defer func() { <-l.large }()
		return do()
	})
}
