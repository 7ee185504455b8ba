package plan

// Prices are those of an object service, as its provider tells them. A GB is 10^9 bytes. The zero value is not known.
type Prices struct {
	Currency string
	Stored   float64 // of a GB for a month
	Out      float64 // of a GB that is read out of the service
}

// Known reports whether there are prices.
func (p Prices) Known() bool { return p.Currency != "" }

const gigabyte = 1e9

// StoredFor is what so many bytes cost in a month.
func (p Prices) StoredFor(bytes int64) float64 { return p.Stored * float64(bytes) / gigabyte }

// OutFor is what it costs to read so many bytes.
func (p Prices) OutFor(bytes int64) float64 { return p.Out * float64(bytes) / gigabyte }

// weeksOfMonth are the weeks of a month, in the mean of a year.
const weeksOfMonth = 365.25 / 12 / 7

// Monthly is how many bytes a month has, of so many a week.
func Monthly(weekly int64) int64 { return int64(float64(weekly) * weeksOfMonth) }

// Reader is a replica that gets what it holds out of a bucket.
type Reader struct {
	Lacks int64 // bytes that it lacks of what the seed holds
	Stubs bool  // it holds stubs
	Room  int64 // of those, bytes that it fills in advance, at most
}

// fills are the bytes that it reads for its first fill.
func (r Reader) fills() int64 {
	if r.Stubs {
		return max(0, min(r.Lacks, r.Room))
	}
	return r.Lacks
}

// Amounts are the bytes that a provider charges for.
type Amounts struct {
	Stored  int64 // once the bucket is filled
	Fill    int64 // read for the first fill
	Monthly int64 // read in each month after it: changes of the seed, by all others that do not wait for first use
}

// AmountsOf foretells what is stored in a bucket and read out of it, of a seed that changes so much in a week.
func AmountsOf(seed Content, readers []Reader) (a Amounts) {
	a.Stored = seed.Bytes
	for _, r := range readers {
		a.Fill += r.fills()
		if !r.Stubs || r.Room > 0 {
			a.Monthly += Monthly(seed.Weekly)
		}
	}
	return a
}
