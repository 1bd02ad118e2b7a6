package cover

import "math/bits"

// chance is what falls out by a seed: the same on any machine and with any version of Go
// (SplitMix64; Steele, Lea and Flood, "Fast splittable pseudorandom number generators", OOPSLA 2014).
type chance struct{ state uint64 }

func (c *chance) next() uint64 {
	c.state += 0x9e3779b97f4a7c15
	z := c.state
	z = (z ^ z>>30) * 0xbf58476d1ce4e5b9
	z = (z ^ z>>27) * 0x94d049bb133111eb
	return z ^ z>>31
}

// below gives a number from 0 up to n.
func (c *chance) below(n int) int {
	high, _ := bits.Mul64(c.next(), uint64(n))
	return int(high)
}

// order gives the numbers from 0 up to n in some order.
func (c *chance) order(n int) []int {
	out := make([]int, n)
	for i := range out {
		j := c.below(i + 1)
		out[i], out[j] = out[j], i
	}
	return out
}
