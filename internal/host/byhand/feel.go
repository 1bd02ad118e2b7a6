package byhand

import (
	"bytes"
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
	"yamato/internal/core/feel"
	"yamato/internal/core/plain"
	"yamato/internal/link"
)

// felt is something that the device has been made to feel, and what undoes it.
type felt struct {
	words string
	undo  func(ctx context.Context) error // nil where cleaning alone does
}

// maxFiles bounds the files that are given to an app at once.
const maxFiles = 100

// travelling names a way that the device travels; in place of a place.
const travelling = "route"

// feel makes the device feel something: a level of a surrounding (core/feel), or a way to travel.
func (s *sitting) feel(ctx context.Context, o link.Order) (link.Answer, error) {
	var words string
	var err error
	if o.Name == travelling {
		words, err = s.setOut(ctx, o.Args)
	} else {
		words, err = s.set(ctx, o)
	}
	if err != nil {
		return link.Answer{}, err
	}
	s.status.Felt = s.feels()
	return link.Answer{Text: words}, s.note(link.Entry{Kind: link.EntryFelt, Text: words})
}

// set has the device feel a level, and gives that in words.
func (s *sitting) set(ctx context.Context, o link.Order) (string, error) {
	of := feel.Named(o.Name)
	if of == nil {
		return "", refuse("there are "+strings.Join(feel.Names(), ", "), "there is no %q to be felt",
			plain.Clip(o.Name, 40))
	}
	if !of.Can(s.Device) {
		return "", device.ErrNoAbility
	}
	app, level := nameOf(o.App, s.app()), o.Text
	if of.Name == feel.Files {
		paths, err := s.files(ctx, o.Args)
		if err != nil {
			return "", err
		}
		level = feel.Paths(paths...)
	}
	if why := of.Check(level); why != "" {
		return "", refuse("", "%s", why)
	}
	rest, known := s.rest(ctx, of, app)
	if err := of.Do(ctx, s.Device, app, level); err != nil {
		return "", err
	}
	words := of.Told(level)
	if of.Passing {
		return words, nil
	}
	if of.Name == feel.Place {
		words = called(words, o.Args)
	}
	var undo func(ctx context.Context) error
	if known {
		undo = func(ctx context.Context) error { return of.Do(ctx, s.Device, app, rest) }
	}
	s.nowFeels(of, words, undo)
	return words, nil
}

// nowFeels notes what the device has been made to feel, by an order or by a line of script. What it goes back to is
// what it was when it was first changed.
func (s *sitting) nowFeels(of *feel.Surrounding, words string, undo func(ctx context.Context) error) {
	if of.Name == feel.Place { // it is somewhere, or on its way
		s.route = nil
		delete(s.felt, travelling)
	}
	if before, again := s.felt[of.Name]; again {
		undo = before.undo
	}
	s.felt[of.Name] = felt{words, undo}
}

// rest gives the level that undoing goes back to: a session's device speaks the session's language.
func (s *sitting) rest(ctx context.Context, of *feel.Surrounding, app string) (level string, known bool) {
	if of.Name == feel.Language && s.Session.Language != "" {
		return s.Session.Language, true
	}
	return of.Rest(ctx, s.Device, app)
}

// called says a place by its name, where it has one.
func called(words string, args json.RawMessage) string {
	var in struct{ Name string }
	where, at := strings.CutPrefix(words, "is at ")
	if len(args) == 0 || json.Unmarshal(args, &in) != nil || in.Name == "" || !at {
		return words
	}
	return "is at " + plain.Clip(in.Name, 100) + " (" + where + ")"
}

// files fetches files to choose from.
func (s *sitting) files(ctx context.Context, args json.RawMessage) (paths []string, err error) {
	var in struct{ Digests []string }
	if err := json.Unmarshal(args, &in); err != nil {
		return nil, refuse("", "that cannot be read: %v", err)
	}
	if len(in.Digests) > maxFiles {
		return nil, refuse("give them in parts", "at most %d files are given at once", maxFiles)
	}
	for _, digest := range in.Digests {
		path, err := s.Fetch(ctx, digest)
		if err != nil {
			return nil, err
		}
		paths = append(paths, path)
	}
	return paths, nil
}

// setOut has the device travel, and gives that in words.
func (s *sitting) setOut(ctx context.Context, args json.RawMessage) (string, error) {
	d, err := ability[device.Placed](s)
	if err != nil {
		return "", err
	}
	var in struct {
		GPX   string
		Speed float64 // metres a second
	}
	if err := json.Unmarshal(args, &in); err != nil {
		return "", refuse("", "that cannot be read: %v", err)
	}
	r, err := readRoute(in.GPX, in.Speed)
	if err != nil {
		return "", err
	}
	if err := d.SetPlace(ctx, r.at(0)); err != nil {
		return "", err
	}
	s.route = r
	delete(s.felt, feel.Place)
	words := fmt.Sprintf("travels %.1f km at %.0f km/h", r.length()/1000, r.speed*3.6)
	s.felt[travelling] = felt{words, func(ctx context.Context) error {
		s.route = nil
		return d.SetPlace(ctx, nil)
	}}
	return words, nil
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
		if err := s.note(link.Entry{Kind: link.EntryFelt, Text: fmt.Sprintf("%d of the surroundings taken back",
			n)}); err != nil {
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
