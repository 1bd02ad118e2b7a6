package byhand

import "yamato/internal/host/driver"

// bare is a device without any ability.
type bare struct{ driver.Device }
