package verify

import "math"

// AtMost is the share of all files that differs at most, with a confidence of
// 95%, when so many of a random sample of so many do: the upper end of the
// interval of Clopper and Pearson (Biometrika 26, 1934), one-sided. A sample of
// all files leaves no doubt. It returns 1 for a sample of none.
func AtMost(sampled, differ, all int64) float64 {
	switch {
	case sampled <= 0 || differ >= sampled && sampled < all:
		return 1
	case sampled >= all:
		return float64(differ) / float64(all)
	}
	low, high := float64(differ)/float64(sampled), 1.0
	for range 60 {
		middle := (low + high) / 2
		if atMostOf(sampled, differ, middle) > 0.05 {
			low = middle
		} else {
			high = middle
		}
	}
	return high
}

// atMostOf is how probable it is that at most so many of a sample differ, when
// a share of all does: the distribution of Bernoulli, summed in logarithms.
func atMostOf(sampled, differ int64, share float64) float64 {
	n, sum := float64(sampled), 0.0
	all, _ := math.Lgamma(n + 1)
	for k := range differ + 1 {
		one, _ := math.Lgamma(float64(k) + 1)
		other, _ := math.Lgamma(n - float64(k) + 1)
		sum += math.Exp(all - one - other + float64(k)*math.Log(share) + (n-float64(k))*math.Log1p(-share))
	}
	return sum
}
