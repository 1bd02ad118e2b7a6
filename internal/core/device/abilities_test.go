package device

import (
	"os"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/screen"
)

// TestThePageOfAbilitiesNamesEachOfThem holds docs/abilities.md to the code.
func TestThePageOfAbilitiesNamesEachOfThem(t *testing.T) {
	page, err := os.ReadFile("../../../docs/abilities.md")
	require.NoError(t, err)
	rows := map[string]string{}
	for _, m := range regexp.MustCompile("(?m)^\\| (`[a-z ]+`(?:, `[a-z]+`)?) \\| `([A-Za-z]+)` \\|").FindAllStringSubmatch(string(page), -1) {
		for _, name := range strings.Split(m[1], ", ") {
			rows[strings.Trim(name, "`")] = m[2]
		}
	}
	source, err := os.ReadFile("abilities.go")
	require.NoError(t, err)
	for _, a := range Abilities {
		require.NotEmpty(t, a.Promise)
		require.Contains(t, rows, a.Name, "docs/abilities.md tells the ability")
		require.Contains(t, string(source), "ability["+rows[a.Name]+`]("`+a.Name+`"`, "and its interface")
		delete(rows, a.Name)
	}
	delete(rows, "back") // a key that some have beside home
	require.Empty(t, rows, "docs/abilities.md tells what there is not")
}

func TestADeviceHasTheAbilitiesThatItsTypeHas(t *testing.T) {
	var d Device = struct {
		Device
		Chancy
	}{}
	require.Equal(t, []string{"chance"}, Names(d))
	require.Empty(t, Names(struct{ Device }{}))
}

func TestGesturesBeginDownAndEndUp(t *testing.T) {
	at := screen.Point{X: 100, Y: 200}
	for name, fingers := range map[string][]Finger{"double": {DoubleTap(at)}, "hold": {Hold(at, time.Second)},
		"drag": {Drag(at, screen.Point{X: 10, Y: 20}, 300*time.Millisecond)}, "pinch": Pinch(at, 120, 30,
			time.Second)} {
		for _, f := range fingers {
			down := 0
			for _, a := range f {
				switch a.Do {
				case "down":
					down++
				case "up":
					down--
				}
				require.Contains(t, []int{0, 1}, down, name)
			}
			require.Zero(t, down, "%s: no finger stays", name)
			require.Equal(t, "move", f[0].Do, "%s: it is somewhere first", name)
		}
	}
	drag := Drag(at, screen.Point{X: 10, Y: 20}, 300*time.Millisecond)
	require.Equal(t, screen.Point{X: 10, Y: 20}, drag[len(drag)-2].At, "it ends where it is to")
	var took time.Duration
	for _, a := range drag {
		took += a.Over
	}
	require.InDelta(t, 300, float64(took.Milliseconds()), 20)
	two := Pinch(at, 120, 30, time.Second)
	require.True(t, reflect.DeepEqual(len(two[0]), len(two[1])), "both fingers move together")
	require.InDelta(t, 120, two[1][0].At.X-two[0][0].At.X, 0.01)
}
