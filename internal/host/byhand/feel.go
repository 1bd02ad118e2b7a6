package byhand

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/link"
)

// felt is something that the device has been made to feel, and what undoes it.
type felt struct {
	words string
	undo  func(ctx context.Context) error // nil where cleaning alone does
}

type feeling = func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error)

// feelings are what a device can be made to feel, by name: each reads what is wanted, does it, and
// gives it in words with what undoes it.
var feelings = map[string]feeling{
	"place": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		var in struct {
			Latitude, Longitude, Accuracy float64
			Name                          string
			None                          bool
		}
		return sets(s, args, &in, func(d device.Placed) (felt, error) {
			s.route = nil
			undo := func(ctx context.Context) error { return d.SetPlace(ctx, nil) }
			if in.None {
				return felt{"does not know where it is", undo}, d.SetPlace(ctx, nil)
			}
			p := &device.Place{Latitude: in.Latitude, Longitude: in.Longitude, Accuracy: cmp.Or(in.Accuracy, usualAccuracy)}
			words := fmt.Sprintf("is at %.5f, %.5f", p.Latitude, p.Longitude)
			if in.Name != "" {
				words = "is at " + plain.Clip(in.Name, 100) + fmt.Sprintf(" (%.5f, %.5f)", p.Latitude, p.Longitude)
			}
			if err := p.Check(); err != nil {
				return felt{}, err
			}
			return felt{words, undo}, d.SetPlace(ctx, p)
		})
	},
	"route": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		var in struct {
			GPX   string
			Speed float64 // metres a second
		}
		return sets(s, args, &in, func(d device.Placed) (felt, error) {
			r, err := readRoute(in.GPX, in.Speed)
			if err != nil {
				return felt{}, err
			}
			s.route = r
			err = d.SetPlace(ctx, r.at(0))
			return felt{fmt.Sprintf("travels %.1f km at %.0f km/h", r.length()/1000, r.speed*3.6), func(ctx context.Context) error {
				s.route = nil
				return d.SetPlace(ctx, nil)
			}}, err
		})
	},
	"network": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		var in struct {
			Kind             string // none, slow, normal or custom
			DelayMS          int64  `json:"delay_ms"`
			Download, Upload int    // bytes a second
			Loss             float64
		}
		return sets(s, args, &in, func(d device.Networked) (felt, error) {
			n, words := device.Network{}, "has a normal network"
			switch in.Kind {
			case "none":
				n, words = device.Network{None: true}, "has no network"
			case "slow":
				n, words = device.Slow, "has a slow network"
			case "custom":
				n = device.Network{Delay: time.Duration(in.DelayMS) * time.Millisecond, Download: in.Download, Upload: in.Upload,
					Loss: in.Loss}
				words = fmt.Sprintf("has a network with %d ms delay, %d bytes/s down, %d up, %.0f %% lost", in.DelayMS, in.Download,
					in.Upload, in.Loss*100)
			}
			if err := n.Check(); err != nil {
				return felt{}, err
			}
			return felt{words, func(ctx context.Context) error { return d.SetNetwork(ctx, device.Network{}) }}, d.SetNetwork(ctx, n)
		})
	},
	"battery": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		var in struct {
			Percent  int
			Charging bool
		}
		return sets(s, args, &in, func(d device.Powered) (felt, error) {
			words := fmt.Sprintf("has %d %% of its battery", in.Percent)
			if in.Charging {
				words += " and charges"
			}
			return felt{words, func(ctx context.Context) error { return d.SetBattery(ctx, 100, true) }},
				d.SetBattery(ctx, in.Percent, in.Charging)
		})
	},
	"tilt": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		var in struct{ Alpha, Beta, Gamma float64 }
		return sets(s, args, &in, func(d device.Moving) (felt, error) {
			return felt{fmt.Sprintf("is tilted by %.0f°, %.0f°, %.0f°", in.Alpha, in.Beta, in.Gamma),
				func(ctx context.Context) error { return d.Tilt(ctx, 0, 0, 0) }}, d.Tilt(ctx, in.Alpha, in.Beta, in.Gamma)
		})
	},
	"shake": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		return sets(s, args, nil, func(d device.Moving) (felt, error) { return felt{}, d.Shake(ctx) })
	},
	"language": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		var in struct{ Tag string }
		return sets(s, args, &in, func(d device.Speaking) (felt, error) {
			return felt{"speaks " + plain.Clip(in.Tag, 40), func(ctx context.Context) error {
				return d.SetLanguage(ctx, nameOf(s.Session.Language, "en-GB"))
			}}, d.SetLanguage(ctx, in.Tag)
		})
	},
	"time zone": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		var in struct{ Name string }
		return sets(s, args, &in, func(d device.Zoned) (felt, error) {
			return felt{"is in the time zone " + plain.Clip(in.Name, 60), nil}, d.SetTimeZone(ctx, in.Name)
		})
	},
	"appearance": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		var in struct{ Dark bool }
		return sets(s, args, &in, func(d device.Dressing) (felt, error) {
			words := "is light"
			if in.Dark {
				words = "is dark"
			}
			return felt{words, func(ctx context.Context) error { return d.SetAppearance(ctx, false) }}, d.SetAppearance(ctx, in.Dark)
		})
	},
	"text size": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		var in struct{ Percent int }
		return sets(s, args, &in, func(d device.Enlarging) (felt, error) {
			return felt{fmt.Sprintf("shows text at %d %%", in.Percent), func(ctx context.Context) error {
				return d.SetTextSize(ctx, 100)
			}}, d.SetTextSize(ctx, in.Percent)
		})
	},
	"rotation": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		var in struct{ To string }
		return sets(s, args, &in, func(d device.Rotating) (felt, error) {
			words := "is held upright"
			if in.To == device.Landscape {
				words = "is held across"
			}
			return felt{words, func(ctx context.Context) error { return d.Rotate(ctx, device.Portrait) }}, d.Rotate(ctx, in.To)
		})
	},
	"push": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		var in struct{ App, Message string }
		return sets(s, args, &in, func(d device.Pushed) (felt, error) {
			return felt{}, d.Push(ctx, nameOf(in.App, s.app()), in.Message)
		})
	},
	"permission": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		var in struct{ App, Permission, Answer string }
		return sets(s, args, &in, func(d device.Permitting) (felt, error) {
			app := nameOf(in.App, s.app())
			return felt{fmt.Sprintf("answers %s about %s", in.Answer, in.Permission), func(ctx context.Context) error {
				return d.SetPermission(ctx, app, in.Permission, device.Ask)
			}}, d.SetPermission(ctx, app, in.Permission, in.Answer)
		})
	},
	"files": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		var in struct{ Digests []string }
		return sets(s, args, &in, func(d device.Filing) (felt, error) {
			if len(in.Digests) > maxFiles {
				return felt{}, refuse("give them in parts", "at most %d files are given at once", maxFiles)
			}
			var paths []string
			for _, digest := range in.Digests {
				path, err := s.Fetch(ctx, digest)
				if err != nil {
					return felt{}, err
				}
				paths = append(paths, path)
			}
			return felt{fmt.Sprintf("has %d files to choose from", len(paths)), func(ctx context.Context) error { return d.PutFiles(ctx) }},
				d.PutFiles(ctx, paths...)
		})
	},
	"clipboard": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		var in struct{ Text string }
		return sets(s, args, &in, func(d device.Copying) (felt, error) {
			return felt{fmt.Sprintf("holds %q in its clipboard", plain.Clip(in.Text, 60)), func(ctx context.Context) error {
				return d.SetClipboard(ctx, "")
			}}, d.SetClipboard(ctx, in.Text)
		})
	},
	"away": func(s *sitting, ctx context.Context, args json.RawMessage) (felt, error) {
		return sets(s, args, nil, func(d device.Leaving) (felt, error) { return felt{}, d.SendAway(ctx) })
	},
}

// maxFiles bounds the files that are given to an app at once.
const maxFiles = 100

// moments are feelings that pass: there is nothing to undo.
var moments = map[string]string{"shake": "was shaken", "push": "got a message pushed", "away": "sent the app away"}

// sets reads what is wanted, and has the ability do it.
func sets[T any](s *sitting, args json.RawMessage, in any, do func(T) (felt, error)) (felt, error) {
	d, err := ability[T](s)
	if err != nil {
		return felt{}, err
	}
	if in != nil {
		if err := json.Unmarshal(args, in); err != nil {
			return felt{}, refuse("", "that cannot be read: %v", err)
		}
	}
	return do(d)
}

// feel makes the device feel something.
func (s *sitting) feel(ctx context.Context, o link.Order) (link.Answer, error) {
	do, ok := feelings[o.Name]
	if !ok {
		return link.Answer{}, refuse("", "there is no %q to be felt", plain.Clip(o.Name, 40))
	}
	f, err := do(s, ctx, o.Args)
	if err != nil {
		return link.Answer{}, err
	}
	words := f.words
	if passing, ok := moments[o.Name]; ok {
		words = passing
	} else {
		s.felt[o.Name] = f
	}
	if o.Name == "place" || o.Name == "route" { // one of the two
		delete(s.felt, map[string]string{"place": "route", "route": "place"}[o.Name])
	}
	s.status.Felt = s.feels()
	return link.Answer{Text: words}, s.note(link.Entry{Kind: link.EntryFelt, Text: words})
}

// feels lists what the device has been made to feel.
func (s *sitting) feels() []link.Felt {
	out := []link.Felt{}
	for _, what := range slices.Sorted(maps.Keys(s.felt)) {
		out = append(out, link.Felt{What: what, Words: s.felt[what].words})
	}
	return out
}

// undo takes back all that the device was made to feel, or what is named.
func (s *sitting) undo(ctx context.Context, o link.Order) (link.Answer, error) {
	var left error
	n := 0
	for _, what := range slices.Sorted(maps.Keys(s.felt)) {
		if o.Name != "" && o.Name != what {
			continue
		}
		if undo := s.felt[what].undo; undo == nil {
			left = errors.Join(left, refuse("", "%s stays until the session ends: cleaning takes it back", what))
		} else if err := undo(ctx); err != nil {
			left = errors.Join(left, fmt.Errorf("%s: %w", what, err))
		} else {
			delete(s.felt, what)
			n++
		}
	}
	s.status.Felt = s.feels()
	if n > 0 {
		if err := s.note(link.Entry{Kind: link.EntryFelt, Text: fmt.Sprintf("%d of the surroundings taken back", n)}); err != nil {
			return link.Answer{}, err
		}
	}
	return link.Answer{Text: fmt.Sprintf("%d taken back", n)}, left
}

// changes lists what the session has changed on the device, for who cleans it.
func (s *sitting) changes() []string {
	out := []string{}
	for _, a := range s.status.Apps {
		if a.There {
			continue
		}
		out = append(out, nameOf(a.Name, a.ID)+" and its data")
	}
	for _, f := range s.feels() {
		out = append(out, "that it "+f.Words)
	}
	return out
}

// route is a way that the device travels.
type route struct {
	points []device.Place
	speed  float64 // metres a second
	began  time.Time
	told   time.Time
}

// Bounds of a route.
const (
	maxGPX        = 4 << 20
	maxPoints     = 100_000
	usualSpeed    = 1.4 // metres a second, as people walk
	maxSpeed      = 400
	travelEvery   = time.Second
	earthRadius   = 6_371_009.0 // metres, mean (IUGG)
	usualAccuracy = 10.0
)

// readRoute reads a GPX 1.1 document: its tracks, else its routes, else its places, in order.
func readRoute(gpx string, speed float64) (*route, error) {
	if len(gpx) > maxGPX {
		return nil, refuse("cut it", "a GPX file has at most %d MB", maxGPX>>20)
	}
	if speed == 0 {
		speed = usualSpeed
	}
	if math.IsNaN(speed) || speed < 0 || speed > maxSpeed {
		return nil, refuse("", "a speed is over 0 and at most %d m/s", maxSpeed)
	}
	by := map[string][]device.Place{}
	d := xml.NewDecoder(bytes.NewReader([]byte(gpx)))
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, refuse("export it anew as GPX 1.1", "the GPX file cannot be read: %v", err)
		}
		e, ok := t.(xml.StartElement)
		if !ok || !slices.Contains([]string{"trkpt", "rtept", "wpt"}, e.Name.Local) {
			continue
		}
		p := device.Place{Accuracy: usualAccuracy, Latitude: math.NaN(), Longitude: math.NaN()}
		for _, a := range e.Attr {
			var v float64
			if _, err := fmt.Sscanf(strings.TrimSpace(a.Value), "%g", &v); err != nil {
				continue
			}
			switch a.Name.Local {
			case "lat":
				p.Latitude = v
			case "lon":
				p.Longitude = v
			}
		}
		if err := p.Check(); err != nil || math.IsNaN(p.Latitude+p.Longitude) {
			return nil, refuse("mend the file", "point %d of the GPX file is no place", len(by[e.Name.Local])+1)
		}
		if by[e.Name.Local] = append(by[e.Name.Local], p); len(by[e.Name.Local]) > maxPoints {
			return nil, refuse("cut it", "a GPX file has at most %d points", maxPoints)
		}
	}
	for _, sort := range []string{"trkpt", "rtept", "wpt"} {
		if len(by[sort]) > 0 {
			return &route{points: by[sort], speed: speed, began: time.Now()}, nil
		}
	}
	return nil, refuse("export a track or a route", "the GPX file holds no points")
}

func (r *route) length() (sum float64) {
	for i := 1; i < len(r.points); i++ {
		sum += metres(r.points[i-1], r.points[i])
	}
	return sum
}

// at gives where the device is after some metres; the last point once it has come there.
func (r *route) at(gone float64) *device.Place {
	for i := 1; i < len(r.points); i++ {
		a, b := r.points[i-1], r.points[i]
		leg := metres(a, b)
		if gone < leg {
			part := gone / leg
			return &device.Place{Latitude: a.Latitude + (b.Latitude-a.Latitude)*part,
				Longitude: a.Longitude + (b.Longitude-a.Longitude)*part, Accuracy: b.Accuracy}
		}
		gone -= leg
	}
	last := r.points[len(r.points)-1]
	return &last
}

// metres is the distance of two places over a sphere (haversine formula).
func metres(a, b device.Place) float64 {
	rad := math.Pi / 180
	dLat, dLon := (b.Latitude-a.Latitude)*rad/2, (b.Longitude-a.Longitude)*rad/2
	h := math.Pow(math.Sin(dLat), 2) + math.Cos(a.Latitude*rad)*math.Cos(b.Latitude*rad)*math.Pow(math.Sin(dLon), 2)
	return 2 * earthRadius * math.Asin(math.Min(1, math.Sqrt(h)))
}

// travel moves a device on that is on its way.
func (s *sitting) travel(ctx context.Context) {
	r := s.route
	if r == nil || time.Since(r.told) < travelEvery {
		return
	}
	d, ok := device.As[device.Placed](s.Device)
	if !ok {
		return
	}
	r.told = time.Now()
	gone := time.Since(r.began).Seconds() * r.speed
	if err := d.SetPlace(ctx, r.at(gone)); err != nil {
		s.route = nil
		_ = s.note(link.Entry{Kind: link.EntryTrouble, Text: "it cannot travel on: " + plain.Text(err.Error(), 300)})
		return
	}
	if gone >= r.length() {
		s.route = nil
		s.felt["route"] = felt{"has arrived where its way ends", s.felt["route"].undo}
		s.status.Felt = s.feels()
	}
}
