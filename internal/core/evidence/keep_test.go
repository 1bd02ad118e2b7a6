package evidence

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestTheNearestRuleWins(t *testing.T) {
	k := Keeping{Suite: Rules{Video.Rule: Always, Log.Rule: Never}, Plan: Rules{Video.Rule: Never},
		Run: Rules{All: UnlessPassed}}
	require.Equal(t, Ruling{UnlessPassed, "run"}, k.Of(Video.Rule),
		"everything of the run is nearer than the video of the plan")
	k.Run = nil
	require.Equal(t, Ruling{Never, "plan"}, k.Of(Video.Rule))
	require.Equal(t, Ruling{Never, "suite"}, k.Of(Log.Rule))
	k.Plan = Rules{All: Never, Log.Rule: Always}
	require.Equal(t, Ruling{Always, "plan"}, k.Of(Log.Rule), "what names the sort says more than what names everything")
	keep, why := k.Keeps(Network.Rule, false)
	require.False(t, keep)
	require.Equal(t, "its plan’s rule is `network never`", why)
	require.False(t, k.May(Network.Rule))
	require.Equal(t, Ruling{UnlessPassed, "usual"}, Keeping{}.Of(Video.Rule))
}

func TestEverySortHasARuleWhateverIsWritten(t *testing.T) {
	rules := rapid.MapOf(rapid.SampledFrom(append([]string{All}, Sorts...)), rapid.SampledFrom(Rulings))
	rapid.Check(t, func(t *rapid.T) {
		k := Keeping{Run: rules.Draw(t, "run"), Plan: rules.Draw(t, "plan"), Suite: rules.Draw(t, "suite")}
		for _, sort := range Sorts {
			require.Contains(t, Rulings, k.Of(sort).Rule)
			failed, _ := k.Keeps(sort, false)
			passed, why := k.Keeps(sort, true)
			require.Equal(t, k.May(sort), failed, "what may be kept is kept of what failed")
			require.True(t, failed || !passed, "no rule keeps what passed and not what failed")
			require.Equal(t, passed, why == "", "what is not kept has a reason")
		}
	})
}

func TestARuleIsReadAsItIsWritten(t *testing.T) {
	for text, want := range map[string][2]string{"video always": {Video.Rule, Always}, "log=never": {Log.Rule, Never},
		"everything  unless   passed": {All, UnlessPassed}, "bodies=unless passed": {Bodies.Rule, UnlessPassed}} {
		sort, rule, err := ReadRule(text)
		require.NoError(t, err, text)
		require.Equal(t, want, [2]string{sort, rule})
	}
	for text, says := range map[string]string{"vidoe always": "did you mean `video`?",
		"video alway": "did you mean `always`?",
		"video":       "write a sort and a rule", "": "write a sort and a rule", "heat never": "there are film, pictures"} {
		_, _, err := ReadRule(text)
		require.ErrorContains(t, err, says, text)
	}
	require.Equal(t, []string{"everything never", "video always"}, Rules{Video.Rule: Always, All: Never}.Words())
}
