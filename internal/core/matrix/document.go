package matrix

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"yamato/internal/core/document"
	"yamato/internal/core/fleet"
	"yamato/internal/core/matrix/cover"
)

// Document is a grid that stands alone, with what it is applied to.
type Document struct {
	Name      string            `yaml:"matrix"`
	About     string            `yaml:"about,omitempty"`
	Devices   []DocumentDevices `yaml:"devices,omitempty"`
	Languages fleet.Words       `yaml:"languages,omitempty"` // that the build has
	Minutes   int               `yaml:"minutes,omitempty"`   // of a device, that a combination takes
	Grid      `yaml:",inline"`
}

// DocumentDevices are devices that are alike.
type DocumentDevices struct {
	Model     string        `yaml:"model"`
	Platform  string        `yaml:"platform"`
	OS        document.Text `yaml:"os"`
	Kind      string        `yaml:"kind,omitempty"` // emulator where it is not said
	Form      string        `yaml:"form,omitempty"`
	Site      string        `yaml:"site,omitempty"`
	Count     int           `yaml:"count,omitempty"` // 1 where it is not said
	Abilities fleet.Words   `yaml:"abilities,omitempty"`
}

// maxDocumentDevices bounds the kinds of device of a document.
const maxDocumentDevices = 4000

// ReadDocument reads a document; its errors say what is wrong with the line and a suggestion.
func ReadDocument(text []byte) (*Document, error) {
	var d Document
	if err := document.Read(text, &d); err != nil {
		return nil, fmt.Errorf("it cannot be read: %w", err)
	}
	if len(d.Devices) > maxDocumentDevices {
		return nil, fmt.Errorf("at most %d kinds of device are combined", maxDocumentDevices)
	}
	if d.Minutes < 0 || d.Minutes > 100_000 {
		return nil, errors.New("`minutes` is how long a combination takes: 1 to 100000")
	}
	for i, k := range d.Devices {
		if k.Model == "" || k.Platform == "" || k.OS == "" {
			return nil, faulty(fmt.Sprintf("$.devices[%d]", i), "write {model: Kaede 7, platform: android, os: 14}",
				"a device has a model, a platform and an OS").In(text)
		}
	}
	if f := d.Check(); f != nil {
		return nil, f.In(text)
	}
	return &d, nil
}

// Choose gives the combinations of the document.
func (d *Document) Choose(text []byte, effort int, work *cover.Work) (Selection, error) {
	minutes := int64(max(d.Minutes, 1)) * time.Minute.Milliseconds()
	w := Wanted{Languages: d.Languages, Effort: effort, Work: work,
		Cost: func(*Group, fleet.Levels) int64 { return minutes }}
	id := int64(0)
	bySite := slices.ContainsFunc(d.Factors, func(f Factor) bool { return f.Name == fleet.Site })
	for _, k := range d.Devices {
		if k.Kind == "" {
			k.Kind = fleet.Emulator
		}
		class := fleet.Class{Kind: k.Kind, Model: k.Model, Platform: k.Platform, OS: string(k.OS)}
		g := Group{Leg: Leg{Combination: fleet.Combination{Class: class}}, Device: fleet.Device{Form: k.Form}.As(class)}
		if bySite {
			g.Device.Site = k.Site
		}
		for range max(k.Count, 1) {
			id++
			g.Members = append(g.Members, Member{ID: id, Abilities: k.Abilities})
		}
		w.Groups = append(w.Groups, g)
	}
	sel, err := Choose(&d.Grid, w)
	var fault *Fault
	if errors.As(err, &fault) {
		return sel, fault.In(text)
	}
	return sel, err
}
