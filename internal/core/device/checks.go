package device

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"golang.org/x/text/language"

	"yamato/internal/core/plain"
)

// What can be asked of abilities; each driver refuses the rest, in the same words.

// Check tells why p is no place, nil where it is one. No place is one: the device does not know.
func (p *Place) Check() error {
	if p == nil || p.Latitude >= -90 && p.Latitude <= 90 && p.Longitude >= -180 && p.Longitude <= 180 &&
		p.Accuracy >= 0 && !math.IsInf(p.Accuracy, 1) {
		return nil
	}
	return errors.New("a place has a latitude of -90 to 90 and a longitude of -180 to 180 degrees, and is accurate to some " +
		"metres")
}

// Check tells why n is no network, nil where it is one.
func (n Network) Check() error {
	if n.Delay >= 0 && n.Download >= 0 && n.Upload >= 0 && n.Loss >= 0 && n.Loss <= 1 {
		return nil
	}
	return errors.New("a network has a delay and rates of no less than nothing, and loses 0 to 1 of its packets")
}

// CheckTilt tells why these are no angles of W3C Device Orientation.
func CheckTilt(alpha, beta, gamma float64) error {
	if alpha >= 0 && alpha < 360 && beta >= -180 && beta < 180 && gamma >= -90 && gamma < 90 {
		return nil
	}
	return errors.New("a tilt has alpha of 0 to 360, beta of -180 to 180 and gamma of -90 to 90 degrees")
}

// CheckTextSize tells why text has no such size, in percent.
func CheckTextSize(percent int) error {
	if percent >= 50 && percent <= 300 {
		return nil
	}
	return fmt.Errorf("text has 50 to 300 percent of its usual size, not %d", percent)
}

// CheckHeld tells why a device is not held so.
func CheckHeld(to string) error {
	if to == Portrait || to == Landscape {
		return nil
	}
	return fmt.Errorf("a device is held in %s or %s, not %q", Portrait, Landscape, to)
}

// CheckLanguage tells why a tag is no language.
func CheckLanguage(tag string) error {
	if _, err := language.Parse(tag); err != nil {
		return fmt.Errorf("%q is no language: %w", tag, err)
	}
	return nil
}

// CheckZone tells why a name is no time zone.
func CheckZone(name string) error {
	if _, err := time.LoadLocation(name); err != nil || name == "" || name == "Local" || len(name) > 100 {
		return fmt.Errorf("there is no time zone %q; they are called as in Europe/Lisbon", plain.Clip(name, 60))
	}
	return nil
}

// Permissions are what apps ask for.
var Permissions = []string{"camera", "location", "microphone", "motion", "notifications"}

// Purposes are what an app would do with a permission, as a question on the screen says it.
var Purposes = map[string]string{"camera": "use the camera", "location": "know where this device is",
	"microphone": "use the microphone", "motion": "know how this device moves", "notifications": "show notifications"}

// CheckPermission tells why a permission cannot be answered so.
func CheckPermission(permission, answer string) error {
	switch {
	case !slices.Contains(Permissions, permission):
		return fmt.Errorf("there is no permission %q; there are camera, location, microphone, motion and notifications",
			permission)
	case !slices.Contains([]string{Allow, Deny, Ask}, answer):
		return fmt.Errorf("a permission is answered with allow, deny or ask, not %q", answer)
	}
	return nil
}

// CheckFingers tells why fingers cannot do this.
func CheckFingers(fingers []Finger) error {
	for _, f := range fingers {
		for _, a := range f {
			at := a.At.X + a.At.Y
			if math.IsNaN(at) || math.IsInf(at, 0) || a.Over < 0 ||
				!slices.Contains([]string{"down", "move", "up", "pause"}, a.Do) {
				return errors.New("a finger moves to places, goes down and up, and pauses")
			}
		}
	}
	return nil
}
