package cli

import (
	"context"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"yamato/internal/client"
	"yamato/internal/contract"
)

func none(cmd *cobra.Command, args []string) error {
	return exactly(0, "`"+cmd.CommandPath()+"` takes no arguments")(cmd, args)
}

func exactly(n int, hint string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) != n {
			return wrongCall{"wrong number of arguments: " + strconv.Itoa(len(args)) + " instead of " + strconv.Itoa(n), hint}
		}
		return nil
	}
}

func atLeast(n int, hint string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) < n {
			return wrongCall{"too few arguments", hint}
		}
		return nil
	}
}

func runNumber(args []string) (int64, error) {
	n, err := strconv.ParseInt(args[0], 10, 64)
	if err != nil || n < 1 {
		return 0, wrongCall{args[0] + " is no run's number", "`yamato run ls` lists the runs"}
	}
	return n, nil
}

type completion = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

func files(extensions ...string) completion {
	return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return extensions, cobra.ShellCompDirectiveFilterFileExt
	}
}

// complete offers what the service knows; without a service it offers nothing.
func (a *app) complete(list func(context.Context, *client.Service) []string) completion {
	return func(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
		ctx, stop := context.WithTimeout(context.Background(), 2*time.Second)
		defer stop()
		s, err := a.connect(ctx)
		if err != nil {
			return nil, cobra.ShellCompDirectiveDefault
		}
		return list(ctx, s), cobra.ShellCompDirectiveNoFileComp
	}
}

func completeBuilds(ctx context.Context, s *client.Service) (out []string) {
	if r, err := s.ListBuildsWithResponse(ctx, s.Project, &contract.ListBuildsParams{}); err == nil && r.JSON200 != nil {
		for _, b := range r.JSON200.Items {
			out = append(out, strconv.FormatInt(b.Number, 10)+"\t"+b.App+" "+b.VersionName)
		}
	}
	return out
}

func completeSuites(ctx context.Context, s *client.Service) (out []string) {
	if r, err := s.ListSuitesWithResponse(ctx, s.Project); err == nil && r.JSON200 != nil {
		for _, one := range *r.JSON200 {
			out = append(out, one.Name)
		}
	}
	return out
}

func completeModels(ctx context.Context, s *client.Service) (out []string) {
	if r, err := s.ListDevicesWithResponse(ctx, s.Project); err == nil && r.JSON200 != nil {
		for _, d := range *r.JSON200 {
			out = append(out, d.Model)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func completeDevices(ctx context.Context, s *client.Service) (out []string) {
	if r, err := s.ListDevicesWithResponse(ctx, s.Project); err == nil && r.JSON200 != nil {
		for _, d := range *r.JSON200 {
			out = append(out, d.Name+"\t"+d.Model+", "+d.State)
		}
	}
	return out
}

func completeRuns(ctx context.Context, s *client.Service) (out []string) {
	if r, err := s.ListRunsWithResponse(ctx, s.Project, &contract.ListRunsParams{}); err == nil && r.JSON200 != nil {
		for _, one := range r.JSON200.Items {
			out = append(out, strconv.FormatInt(one.Number, 10)+"\t"+one.App+" "+one.VersionName+", "+one.Verdict)
		}
	}
	return out
}
