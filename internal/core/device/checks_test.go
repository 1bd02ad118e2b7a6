package device

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/screen"
)

func TestWhatCannotBeAskedIsRefused(t *testing.T) {
	nan := math.NaN()
	for name, err := range map[string]error{
		"north of the pole": (&Place{Latitude: 90.1}).Check(), "nowhere": (&Place{Latitude: nan}).Check(),
		"round the world":               (&Place{Longitude: 181}).Check(),
		"accurate to less than nothing": (&Place{Accuracy: -1}).Check(),
		"anywhere":                      (&Place{Accuracy: math.Inf(1)}).Check(), "before it was asked": Network{Delay: -1}.Check(),
		"loses more than all": Network{Loss: 1.1}.Check(), "loses nothing that is": Network{Loss: nan}.Check(),
		"backwards": Network{Upload: -1}.Check(), "all round": CheckTilt(360, 0, 0), "no angle": CheckTilt(0, nan, 0),
		"over its edge": CheckTilt(0, 0, 90), "tiny": CheckTextSize(49), "huge": CheckTextSize(301),
		"sideways":    CheckHeld("sideways"),
		"no language": CheckLanguage("no language at all"), "the moon": CheckPermission("moon", Allow),
		"perhaps":    CheckPermission("camera", "perhaps"),
		"to nowhere": CheckFingers([]Finger{{{Do: "move", At: screen.Point{X: nan}}}}),
		"sings":      CheckFingers([]Finger{{{Do: "sing"}}}),
		"before":     CheckFingers([]Finger{{{Do: "pause", Over: -time.Second}}}),
	} {
		require.Error(t, err, name)
	}
	var nowhere *Place
	for name, err := range map[string]error{
		"not known": nowhere.Check(), "a corner": (&Place{Latitude: -90, Longitude: 180, Accuracy: 5}).Check(),
		"normal": Network{}.Check(),
		"slow":   Slow.Check(), "flat": CheckTilt(0, 0, 0), "usual": CheckTextSize(100), "upright": CheckHeld(Portrait),
		"German": CheckLanguage("de-DE"), "fingers": CheckFingers(Pinch(screen.Point{X: 10, Y: 10}, 5, 50,
			time.Second)),
	} {
		require.NoError(t, err, name)
	}
	for _, p := range Permissions {
		for _, answer := range []string{Allow, Deny, Ask} {
			require.NoError(t, CheckPermission(p, answer))
		}
	}
}
