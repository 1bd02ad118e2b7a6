package host

import (
	"yamato/internal/core/fleet"
	"yamato/internal/host/driver"
)

// surroundings are what levels make a device feel. A factor that is new is applied here.
func surroundings(levels fleet.Levels, realTime bool) driver.Surroundings {
	return driver.Surroundings{Language: levels.Of(fleet.Language), RealTime: realTime}
}
