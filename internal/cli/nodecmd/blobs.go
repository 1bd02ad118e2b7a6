package nodecmd

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"yamato/internal/blob"
	"yamato/internal/blob/bucket"
	"yamato/internal/cli/ui"
)

// openBlobs opens where the service keeps blobs.
func (c *nodeConfig) openBlobs(ctx context.Context) (blob.Store, error) {
	if err := os.MkdirAll(filepath.Join(c.dir, "blobs", "staging"), 0o700); err != nil {
		return nil, fmt.Errorf("making the folder for what arrives: %w", err)
	}
	return openStore(ctx, ui.First(c.blobs, filepath.Join(c.dir, "blobs")), c.blobKeys, filepath.Join(c.dir, "blobs",
		"staging"))
}

// openStore opens a folder or a bucket. What arrives for a bucket is put in spool until it is whole.
func openStore(ctx context.Context, at, keyFile, spool string) (blob.Store, error) {
	if !bucket.Is(at) {
		return blob.OpenDir(at)
	}
	p, err := bucket.ReadPlace(at, os.Getenv)
	if err != nil {
		return nil, ui.WrongCall{Title: err.Error()}
	}
	b, err := bucket.Open(ctx, p, keyFile, spool)
	if err != nil {
		return nil, ui.WrongCall{Title: err.Error(), Hint: "see that the server answers, the bucket is there and private, and the keys may write to it"}
	}
	return b, nil
}

// BlobsCommand has the commands on what services keep.
func (a *App) BlobsCommand() *cobra.Command {
	c := &cobra.Command{Use: "blobs", Short: "Move what a service keeps from a folder to a bucket, or back"}
	c.AddCommand(a.blobsMove())
	return c
}

func (a *App) blobsMove() *cobra.Command {
	var keyFile string
	var remove bool
	cmd := &cobra.Command{
		Use: "move FROM TO", Short: "Copy all that is kept in one place to another; run it again where it was interrupted",
		Long: "Copies every blob from a service's folder (DIR/blobs) or bucket (s3://bucket/prefix) to another, each checked by its digest. What is\n" +
			"there already is passed over, so that it goes on where it was interrupted, and can be run while the service serves: once more\n" +
			"after the service was stopped takes along what came meanwhile. Then start the service with --blobs TO.",
		Example: "  yamato blobs move /srv/yamato/blobs s3://evidence/yamato --blobs-keys keys",
		Args:    ui.Exactly(2, "name both places: yamato blobs move /srv/yamato/blobs s3://evidence/yamato"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			spool, err := os.MkdirTemp("", "yamato-move-")
			if err != nil {
				return err
			}
			defer os.RemoveAll(spool)
			if _, err := os.Stat(args[0]); !bucket.Is(args[0]) && err != nil {
				return ui.WrongCall{Title: "there is nothing to move: " + err.Error(),
					Hint: "name the folder `blobs` of the service's --dir"}
			}
			from, err := openStore(ctx, args[0], keyFile, spool)
			if err != nil {
				return err
			}
			to, err := openStore(ctx, args[1], keyFile, spool)
			if err != nil {
				return err
			}
			m, err := blob.Move(ctx, from, to, remove, func(m blob.Moved) {
				if a.Animated() {
					fmt.Fprintf(a.Err, "\r\x1b[K%d seen, %d sent, %s", m.Blobs, m.Sent, ui.Size(m.Bytes))
				}
			})
			if a.Animated() {
				fmt.Fprint(a.Err, "\r\x1b[K")
			}
			if err != nil {
				fmt.Fprintf(a.Err, "%d of what is kept were moved before this; run the same again to go on\n", m.Blobs)
				return err
			}
			return a.Write(m, func() {
				fmt.Fprintf(a.Out, "%s there, %d of them sent now (%s)", ui.Plural(m.Blobs, "blob"), m.Sent,
					ui.Size(m.Bytes))
				if remove {
					fmt.Fprintf(a.Out, ", and removed from %s", args[0])
				}
				fmt.Fprintln(a.Out)
			})
		},
	}
	cmd.Flags().StringVar(&keyFile, "blobs-keys", "", "`file` with the keys of a bucket (default: $AWS_ACCESS_KEY_ID and $AWS_SECRET_ACCESS_KEY)")
	cmd.Flags().BoolVar(&remove, "remove", false, "take each away from the first place once the second has it whole")
	return cmd
}
