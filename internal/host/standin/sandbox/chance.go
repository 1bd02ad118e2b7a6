package sandbox

import (
	"math/rand/v2"

	"github.com/dop251/goja"
)

// chance gives numbers in [0, 1) that are a function of the seed alone (PCG,
// O'Neill 2014).
func chance(seed uint64) goja.RandSource {
	return rand.New(rand.NewPCG(seed, 0x9e3779b97f4a7c15)).Float64
}
