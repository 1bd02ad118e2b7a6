package views

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"

	"yamato/internal/contract"
	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/service/builds"
)

// Settings gives what starts a run of a build on a device's class or a lineup, ready to copy.
func (s *Part) Settings(ctx context.Context, c base.Caller, app, ref, device, lineup string,
	suites []string) (contract.Settings, error) {
	b, err := s.builds.BuildNamed(ctx, c, app, ref)
	if err != nil {
		return contract.Settings{}, err
	}
	if len(suites) == 0 {
		list, err := s.Store.Suites(ctx, c.ProjectID)
		if err != nil {
			return contract.Settings{}, err
		}
		for _, one := range list {
			if !builds.Own(one.Name) {
				suites = append(suites, one.Name)
			}
		}
	}
	if len(suites) == 0 {
		return contract.Settings{}, base.Invalid("there are no suites yet, and a run needs one",
			remedy.Say("hand one in: %s", remedy.SuitePush))
	}
	in := contract.NewRun{Build: fmt.Sprint(b.Number), App: &b.App, Suites: suites}
	command := []string{"yamato run start --build", fmt.Sprint(b.Number), "--app", quote(b.App)}
	switch {
	case device != "" && lineup != "":
		return contract.Settings{}, base.Invalid("settings are for a device or for a lineup, not both", "")
	case device != "":
		d, err := s.Store.DeviceNamed(ctx, c.ProjectID, device)
		if err != nil {
			return contract.Settings{}, base.NotThere(err, remedy.Say("%s lists the devices", remedy.DeviceList),
				"there is no device %q",
				device)
		}
		in.On = &[]string{d.Facts.V.Name}
		command = append(command, "--on", quote(d.Facts.V.Name))
	case lineup != "":
		l, err := s.builds.Lineup(ctx, c, lineup)
		if err != nil {
			return contract.Settings{}, err
		}
		in.Lineup = &l.Name
		command = append(command, "--lineup", quote(l.Name))
	}
	for _, one := range suites {
		command = append(command, "--suite", quote(one))
	}
	request, err := json.MarshalIndent(in, "", "  ")
	if err != nil {
		return contract.Settings{}, err
	}
	document, err := yaml.JSONToYAML(request)
	return contract.Settings{Command: strings.Join(command, " "), Document: string(document), Request: string(request),
		Path: "/api/v1/projects/" + c.Project + "/runs"}, err
}

// quote writes a word for a shell.
func quote(word string) string {
	if word != "" && strings.IndexFunc(word, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune("-_./:=", r))
	}) < 0 {
		return word
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}
