// Package dedup estimates what deduplication and compression would save, and shows
// where: what is read of each file is kept as a [Summary], and from summaries alone
// an [Estimator] counts, under any [Policy], as often as it is asked.
//
// Content is cut into chunks, as the [Profile] says, and each is known by its print,
// the first half of its BLAKE3 hash. A [Table] counts prints within a bound of
// memory: exactly while they fit, and then a sample of them, chosen by their value
// alone (Gibbons, "Distinct Sampling for Highly-Accurate Answers to Distinct Values
// Queries", VLDB 2001). Each half of the prints that is given up doubles what one
// that is kept stands for, so that sums stay without bias (Horvitz and Thompson,
// 1952), and [Figure] says in which interval the truth is, 95 times in 100.
package dedup

import (
	"math"
)

// Figure is a number of bytes, with the interval that holds the true one with 95%
// confidence. Both ends are the number itself when it is exact.
type Figure struct {
	Bytes int64 `json:"bytes"`
	Low   int64 `json:"low" doc:"The true number is not less, with 95% confidence"`
	High  int64 `json:"high" doc:"The true number is not more, with 95% confidence"`
}

// Exact is a figure without doubt.
func Exact(bytes int64) Figure { return Figure{bytes, bytes, bytes} }

// z is how many standard deviations around the mean hold 95% of a normal distribution.
const z = 1.959964

// about is a figure with a variance, which is not outside of least and most.
func about(bytes, variance, least, most float64) Figure {
	half := z * math.Sqrt(max(variance, 0))
	within := func(x float64) int64 { return int64(math.Round(min(max(x, least), most))) }
	return Figure{within(bytes), within(bytes - half), within(bytes + half)}
}

// from is what is left of a whole without the figure.
func (f Figure) from(whole int64) Figure {
	return Figure{whole - f.Bytes, whole - f.High, whole - f.Low}
}

// IsExact reports whether there is no doubt.
func (f Figure) IsExact() bool { return f.Low == f.High }
