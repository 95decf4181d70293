// Package random gives every part of a run its own stream of random numbers.
//
// A stream is named after what draws from it ("link/fern/down", "bot/moss",
// "hillfold/sheep"). The numbers of a stream depend on the seed and its name
// alone, so adding a bot, a rule or a log line never changes what another
// stream draws. That is what makes "same seed, same bytes" hold while the
// program grows.
//
// The package knows nothing of what the numbers are used for.
package random

import "math/rand/v2"

// Stream returns the random stream of that name under that seed. Two calls
// with the same arguments return streams that draw the same numbers. A stream
// must not be shared between goroutines.
func Stream(seed uint64, name string) *rand.Rand {
	// FNV-1a folds the name; SplitMix64 (Steele, Lea and Flood, 2014) spreads
	// seed and name over the two words of the PCG generator's state, so that
	// neighbouring seeds and similar names start far apart.
	const offset, prime = 14695981039346656037, 1099511628211
	folded := uint64(offset)
	for i := 0; i < len(name); i++ {
		folded = (folded ^ uint64(name[i])) * prime
	}
	return rand.New(rand.NewPCG(splitMix(seed^folded), splitMix(folded+splitMix(seed))))
}

func splitMix(x uint64) uint64 {
	x += 0x9e3779b97f4a7c15
	x = (x ^ (x >> 30)) * 0xbf58476d1ce4e5b9
	x = (x ^ (x >> 27)) * 0x94d049bb133111eb
	return x ^ (x >> 31)
}
