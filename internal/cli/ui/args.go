package ui

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"yamato/internal/client"
	"yamato/internal/contract"
)

func None(cmd *cobra.Command, args []string) error {
	return Exactly(0, "`"+cmd.CommandPath()+"` takes no arguments")(cmd, args)
}

func Exactly(n int, hint string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) != n {
			return WrongCall{"wrong number of arguments: " + strconv.Itoa(len(args)) + " instead of " + strconv.Itoa(
				n), hint}
		}
		return nil
	}
}

func AtLeast(n int, hint string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) < n {
			return WrongCall{"too few arguments", hint}
		}
		return nil
	}
}

func RunNumber(args []string) (int64, error) {
	n, err := strconv.ParseInt(args[0], 10, 64)
	if err != nil || n < 1 {
		return 0, WrongCall{args[0] + " is no run's number", "`yamato run ls` lists the runs"}
	}
	return n, nil
}

// CrashNumber reads a crash's number.
func CrashNumber(args []string) (int64, error) {
	n, err := strconv.ParseInt(args[0], 10, 64)
	if err != nil || n < 1 {
		return 0, WrongCall{args[0] + " is no crash's number", "`yamato crash ls` lists them"}
	}
	return n, nil
}

// Within refuses a number that is not from least to most.
func Within(flag string, n, least, most int) error {
	if n < least || n > most {
		return WrongCall{fmt.Sprintf("--%s is %d to %d, not %d", flag, least, most, n), ""}
	}
	return nil
}

// NotNegative refuses a time that ends before it begins.
func NotNegative(flag string, d time.Duration) error {
	if d < 0 {
		return WrongCall{fmt.Sprintf("--%s cannot be %s: it is a length of time", flag, d),
			"write it as in 90s, 30m or 48h"}
	}
	return nil
}

// Positive refuses a time that is none.
func Positive(flag string, d time.Duration) error {
	if d <= 0 {
		return WrongCall{fmt.Sprintf("--%s has to be longer than nothing, not %s", flag, d),
			"write it as in 90s, 30m or 48h"}
	}
	return nil
}

type Completion = func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective)

func Files(extensions ...string) Completion {
	return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return extensions, cobra.ShellCompDirectiveFilterFileExt
	}
}

// Complete offers what the service knows; without a service it offers nothing.
func (a *App) Complete(list func(context.Context, *client.Service) []string) Completion {
	return func(cmd *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
		ctx, stop := context.WithTimeout(context.Background(), 2*time.Second)
		defer stop()
		s, err := a.Connect(ctx)
		if err != nil {
			return nil, cobra.ShellCompDirectiveDefault
		}
		return list(ctx, s), cobra.ShellCompDirectiveNoFileComp
	}
}

// CompleteBuilds offers each version once, with its app and the newest build of it, and
// the numbers of older builds of one version.
func CompleteBuilds(ctx context.Context, s *client.Service) (out []string) {
	r, err := client.As[contract.BuildList](s.ListBuilds(ctx, s.Project, &contract.ListBuildsParams{}))
	if err != nil {
		return nil
	}
	seen := map[string]bool{}
	for _, b := range r.Items {
		if k := b.App + "\x00" + b.VersionName; !seen[k] {
			seen[k] = true
			out = append(out, fmt.Sprintf("%s\t%s, build %d", b.VersionName, b.App, b.Number))
		}
	}
	for _, b := range r.Items {
		out = append(out, fmt.Sprintf("%d\t%s %s (%s)", b.Number, b.App, b.VersionName, b.VersionCode))
	}
	return out
}

func CompleteApps(ctx context.Context, s *client.Service) (out []string) {
	if r, err := client.As[contract.BuildList](s.ListBuilds(ctx, s.Project, &contract.ListBuildsParams{})); err == nil {
		for _, b := range r.Items {
			out = append(out, b.App)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func CompleteCases(ctx context.Context, s *client.Service) (out []string) {
	if r, err := client.As[[]contract.Suite](s.ListSuites(ctx, s.Project)); err == nil {
		for _, one := range r {
			for _, c := range one.Cases {
				out = append(out, c.Name+"\t"+one.Name)
			}
		}
	}
	return out
}

func CompleteTags(ctx context.Context, s *client.Service) (out []string) {
	if r, err := client.As[[]contract.Suite](s.ListSuites(ctx, s.Project)); err == nil {
		for _, one := range r {
			for _, c := range one.Cases {
				out = append(out, c.Tags...)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// CompletePicks offers models, and single devices by their names.
func CompletePicks(ctx context.Context, s *client.Service) []string {
	var wide []string // platforms and kinds
	if r, err := client.As[[]contract.Device](s.ListDevices(ctx, s.Project, nil)); err == nil {
		for _, d := range r {
			wide = append(wide, d.Platform, d.Kind)
		}
	}
	slices.Sort(wide)
	return slices.Concat(CompleteModels(ctx, s), CompleteDevices(ctx, s), slices.Compact(wide))
}

func CompleteSuites(ctx context.Context, s *client.Service) (out []string) {
	if r, err := client.As[[]contract.Suite](s.ListSuites(ctx, s.Project)); err == nil {
		for _, one := range r {
			out = append(out, one.Name)
		}
	}
	return out
}

func CompleteModels(ctx context.Context, s *client.Service) (out []string) {
	if r, err := client.As[[]contract.Device](s.ListDevices(ctx, s.Project, nil)); err == nil {
		for _, d := range r {
			out = append(out, d.Model)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func CompleteDevices(ctx context.Context, s *client.Service) (out []string) {
	if r, err := client.As[[]contract.Device](s.ListDevices(ctx, s.Project, nil)); err == nil {
		for _, d := range r {
			out = append(out, d.Name+"\t"+d.Model+", "+d.State)
		}
	}
	return out
}

func CompleteRuns(ctx context.Context, s *client.Service) (out []string) {
	if r, err := client.As[contract.RunList](s.ListRuns(ctx, s.Project, &contract.ListRunsParams{})); err == nil {
		for _, one := range r.Items {
			out = append(out, strconv.FormatInt(one.Number, 10)+"\t"+one.App+" "+one.VersionName+", "+one.Verdict)
		}
	}
	return out
}

func CompleteLineups(ctx context.Context, s *client.Service) (out []string) {
	if r, err := client.As[[]contract.Lineup](s.ListLineups(ctx, s.Project)); err == nil {
		for _, l := range r {
			out = append(out, l.Name+"\t"+Deref(l.About))
		}
	}
	return out
}
