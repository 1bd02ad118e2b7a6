package ui

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/plain"
)

// ErrLeft is given where a person, once asked, would rather not.
var ErrLeft = errors.New("nothing was done")

// Yes gives a command that cannot be taken back its flag --yes.
func Yes(cmd *cobra.Command) *cobra.Command {
	cmd.Flags().Bool("yes", false, "do not ask; where nobody can be asked it is needed")
	return cmd
}

// Sure asks once whether to do what cannot be taken back, in one line: what it is, after a semicolon what becomes of
// it, and what hangs on it. With --yes it does not ask; where nobody is there to be asked, it refuses.
func (a *App) Sure(cmd *cobra.Command, what string, hangs ...string) error {
	if yes, err := cmd.Flags().GetBool("yes"); err != nil || yes {
		return err
	}
	what, more, _ := strings.Cut(what, "; ")
	line := what + "?"
	if more != "" {
		line += " " + plain.Capital(more) + "."
	}
	if len(hangs) > 0 {
		line += " " + plain.Capital(plain.Need(hangs)) + "."
	}
	in, ok := a.In.(*os.File)
	if !ok || !term.IsTerminal(int(in.Fd())) || !a.Animated() {
		return WrongCall{Title: "nobody can be asked here: " + line, Hint: "say it with --yes"}
	}
	fmt.Fprintf(a.Err, "%s [y/N] ", line)
	answer, err := bufio.NewReader(io.LimitReader(in, 100)).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	switch strings.ToLower(strings.TrimSpace(answer)) {
	case "y", "yes":
		return nil
	}
	return ErrLeft
}

// NeededBy gives in words what needs a lineup, suite, secret or plan.
func NeededBy(ctx context.Context, s *client.Service, kind contract.GetNeedsParamsKind, name string) ([]string, error) {
	out, err := client.As[struct {
		NeededBy []string `json:"needed_by"`
	}](s.GetNeeds(ctx, s.Project, &contract.GetNeedsParams{Kind: kind, Name: name}))
	return out.NeededBy, err
}
