package readings

import (
	"bytes"
	"math"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yamato/internal/core/device"
)

func TestCountersBecomeRatesAndARestartIsNoPeak(t *testing.T) {
	s := &Series{}
	tell := func(at int64, cpu, memory float64) {
		s.Add(at, []device.Reading{{Name: "cpu", Value: cpu}, {Name: "memory", Value: memory},
			{Name: "battery", Value: 80}})
	}
	tell(0, 10, 100)
	tell(500, 10.25, 300)
	tell(1000, 10.5, 200)
	tell(1500, 0.1, 50) // it was started anew
	tell(1500, 9, 9)    // out of order
	sums := s.Sums()
	require.Equal(t, Sum{Name: "cpu", Unit: "percent", Smallest: 20, Median: 50, Largest: 50, PeakMS: 500, Count: 3},
		sums[0])
	require.Equal(t, Sum{Name: "memory", Unit: "bytes", Smallest: 50, Median: 150, Largest: 300, PeakMS: 500, Count: 4},
		sums[1])
	require.Equal(t, "battery", sums[2].Name)
	require.Equal(t, 1, s.Dropped)
	var b bytes.Buffer
	require.NoError(t, s.Write(&b))
	require.Equal(t, "ms,cpu (percent),memory (bytes),battery (percent)\n0,,100,80\n500,50,300,80\n1000,50,200,80\n1500,20,50,80\n", b.String())
}

func TestWhatIsWrittenIsReadAgain(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s, at := &Series{}, int64(0)
		for range rapid.IntRange(1, 30).Draw(t, "moments") {
			at += rapid.Int64Range(0, 900).Draw(t, "step")
			var list []device.Reading
			for _, name := range rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"memory", "elements", "layouts",
				"battery", `od"d, name`}), 1, 5,
				rapid.ID[string]).Draw(t, "names") {
				list = append(list, device.Reading{Name: name,
					Value: float64(rapid.Int64Range(-1e9, 1e12).Draw(t, "value")) / 4})
			}
			s.Add(at, list)
		}
		var b bytes.Buffer
		require.NoError(t, s.Write(&b))
		again, err := Read(bytes.NewReader(b.Bytes()))
		require.NoError(t, err)
		require.Equal(t, s.Sums(), again.Sums())
	})
}

func TestHostileReadings(t *testing.T) {
	s := &Series{}
	for i := range int64(40) {
		s.Add(i, []device.Reading{{Name: string(rune('a' + i)), Value: 1}, {Name: "memory", Value: math.Inf(1)},
			{Name: "cpu", Value: math.NaN()}})
	}
	require.LessOrEqual(t, len(s.Names), MaxNames)
	for _, text := range []string{"", "no,head\n", "ms,a\nx,1\n", "ms,a\n1,y\n", "ms,a\n1,2,3\n"} {
		_, err := Read(bytes.NewReader([]byte(text)))
		require.Error(t, err, text)
	}
}
