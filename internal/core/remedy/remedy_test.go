package remedy_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/remedy"
)

func TestARemedyIsToldToItsReader(t *testing.T) {
	r := remedy.Say("%s once %s is mended; raise %s", remedy.DeviceRestore("kaede-7-1"), "it", remedy.Option("repeat-failed"))
	require.Equal(t, "`yamato device restore kaede-7-1` once it is mended; raise --repeat-failed", r.String())
	require.Equal(t, "`DELETE …/devices/kaede-7-1/sideline` once it is mended; raise repeat_failed", r.For(remedy.Program))
	within := remedy.Say("for now: %s", r)
	require.Equal(t, "for now: "+r.For(remedy.Program), within.For(remedy.Program))
	require.Equal(t, "start it: `yamato host --site FILE`", remedy.Say("start it: %s", remedy.HostStart).For(remedy.Program),
		"a host is started where its devices are, and by no call")
}

func TestWordsOfOthersAreNoFormat(t *testing.T) {
	require.Equal(t, "100 %s full {}", remedy.Plain("100 %s full {}").String())
	require.True(t, remedy.Plain("").IsZero())
	require.Equal(t, "", remedy.Remedy{}.For(remedy.Program))
}

func TestAKeptRemedyIsThePersonsWords(t *testing.T) {
	kept, err := json.Marshal(remedy.Say("%s lists them", remedy.DeviceList))
	require.NoError(t, err)
	var back remedy.Remedy
	require.NoError(t, json.Unmarshal(kept, &back))
	require.Equal(t, "`yamato device ls` lists them", back.For(remedy.Program))
}
