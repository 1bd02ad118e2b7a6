package runcmd

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"yamato/internal/blob/bucket"
	"yamato/internal/cli/ui"
)

// runCopy copies what is kept of a run to a bucket of somebody's own.
func (a *App) runCopy() *cobra.Command {
	var keyFile string
	w := &wanted{}
	cmd := &cobra.Command{
		Use: "copy RUN s3://BUCKET/PREFIX", Short: "Copy what is kept of a run to a bucket: all of it, or some",
		Example:           "  yamato run copy 12 s3://reports/tideline --failed",
		Args:              ui.Exactly(2, "name the run and the bucket: yamato run copy 12 s3://reports/tideline"),
		ValidArgsFunction: a.Complete(ui.CompleteRuns),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			if err := w.check(); err != nil {
				return err
			}
			place, err := bucket.ReadPlace(args[1], os.Getenv)
			if err != nil {
				return ui.WrongCall{Title: err.Error()}
			}
			s, number, err := a.connectRun(ctx, args)
			if err != nil {
				return err
			}
			spool, err := os.MkdirTemp("", "yamato-copy-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(spool)
			b, err := bucket.Open(ctx, place, keyFile, spool)
			if err != nil {
				return ui.WrongCall{Title: err.Error(),
					Hint: "see that the server answers, the bucket is there and private, and the keys may write to it"}
			}
			_, list, _, err := a.pieces(ctx, s, number, w)
			if err != nil {
				return err
			}
			sent, there := 0, 0
			for i, e := range list {
				path := filepath.ToSlash(e.path)
				content, err := s.EvidenceContent(ctx, number, e.Id)
				if err != nil {
					return err
				}
				now, err := b.PutNamed(ctx, fmt.Sprintf("run-%d/%s", number, path), e.MediaType, content, e.Size)
				_ = content.Close()
				if err != nil {
					return fmt.Errorf("copying %s: %w; run the same again to go on", path, err)
				}
				if now {
					sent++
				} else {
					there++
				}
				if a.Animated() {
					fmt.Fprintf(a.Err, "\r\x1b[K%d of %d", i+1, len(list))
				}
			}
			if a.Animated() {
				fmt.Fprint(a.Err, "\r\x1b[K")
			}
			return a.Write(map[string]int{"sent": sent, "there_already": there}, func() {
				fmt.Fprintf(a.Out, "%s sent to %s, %d there already\n", ui.Plural(sent, "piece"), args[1], there)
			})
		},
	}
	w.bind(cmd)
	cmd.Flags().StringVar(&keyFile, "blobs-keys", "", "`file` with the keys of the bucket (default: $AWS_ACCESS_KEY_ID and $AWS_SECRET_ACCESS_KEY)")
	return cmd
}
