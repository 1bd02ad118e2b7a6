package device_test

import (
	"fmt"

	"yamato/internal/core/device"
)

// phone is a device with keys of its own.
type phone struct{ device.Device }

func (phone) Deeds() []device.Deed { return []device.Deed{{Name: "plug-in", Does: "plugs it in"}} }

// watched is a device that something watches over. It knows none of its abilities.
type watched struct{ device.Device }

func (w watched) Unwrap() device.Device { return w.Device }

func ExampleAs() {
	var d device.Device = watched{watched{phone{}}}
	able, ok := device.As[interface{ Deeds() []device.Deed }](d)
	fmt.Println(ok, able.Deeds()[0].Name)
	_, ok = device.As[device.Logger](d)
	fmt.Println(ok)
	// Output:
	// true plug-in
	// false
}
