package plan

import (
	"golang.org/x/text/language"
	"golang.org/x/text/message"
)

// Prices are those of an object service. A GB is 10^9 bytes. The zero value means that they are not known.
type Prices struct {
	Currency string
	Stored   float64 // per GB and month
	Out      float64 // per GB read out of the service
}

// Known reports whether the prices are known.
func (p Prices) Known() bool { return p.Currency != "" }

// Money is an amount as people write it; the price is unknown without a currency.
func Money(amount float64, currency string) string {
	switch {
	case currency == "":
		return "price unknown"
	case amount > 0 && amount < 0.01:
		return "less than 0.01 " + currency
	}
	return message.NewPrinter(language.English).Sprintf("%.2f ", amount) + currency
}

const gigabyte = 1e9

// StoredFor is the price of storing a number of bytes for a month.
func (p Prices) StoredFor(bytes int64) float64 { return p.Stored * float64(bytes) / gigabyte }

// OutFor is the price of reading a number of bytes.
func (p Prices) OutFor(bytes int64) float64 { return p.Out * float64(bytes) / gigabyte }

// weeksOfMonth is the mean over a year.
const weeksOfMonth = 365.25 / 12 / 7

// Monthly converts bytes per week to bytes per month.
func Monthly(weekly int64) int64 { return int64(float64(weekly) * weeksOfMonth) }

// Reader is a replica that reads its content out of a bucket.
type Reader struct {
	Missing int64 // bytes of the seed that it does not hold
	Stubs   bool  // it holds stubs
	Room    int64 // bytes that it fills in advance at most, with stubs
}

// fills is the number of bytes that it reads for its first fill.
func (r Reader) fills() int64 {
	if r.Stubs {
		return max(0, min(r.Missing, r.Room))
	}
	return r.Missing
}

// Amounts is the numbers of bytes that a provider charges for.
type Amounts struct {
	Stored  int64 // once the bucket is filled
	Fill    int64 // read for the first fill
	Monthly int64 // read per month after it: changes of the seed, for each reader that does not wait for first use
}

// AmountsOf forecasts the bytes stored in a bucket and read out of it, from the weekly changes of the seed.
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
