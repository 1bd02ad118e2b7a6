package handset

import (
	"bytes"
	"context"
	"encoding/pem"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"yamato/internal/core/device"
	"yamato/internal/outside"
)

// trust has a browser trust an authority of one's own. Chromium on Linux reads those of its user from a database of
// NSS below the home folder, which is the profile here; Debian's certutil writes it.
func trust(ctx context.Context, profile, authority string) error {
	certificates, err := outside.ReadAuthorities(authority)
	if err != nil {
		return err
	}
	program, err := exec.LookPath("certutil")
	if err != nil {
		return &device.Trouble{Why: "the site file names an authority for handsets, and certutil, which has the browser trust it, is not installed",
			Remedy: "as root: apt-get install -y libnss3-tools"}
	}
	dir := filepath.Join(profile, ".pki", "nssdb")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	write := func(in []byte, args ...string) error {
		c := exec.CommandContext(ctx, program, append([]string{"-d", "sql:" + dir}, args...)...)
		c.Stdin = bytes.NewReader(in)
		if said, err := c.CombinedOutput(); err != nil {
			return fmt.Errorf("certutil cannot keep the authority: %w: %s", err, strings.TrimSpace(string(said)))
		}
		return nil
	}
	if err := write(nil, "-N", "--empty-password"); err != nil {
		return err
	}
	for i, c := range certificates {
		text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
		// C: it vouches for servers, and for nothing else.
		if err := write(text, "-A", "-a", "-t", "C,,", "-n", fmt.Sprintf("authority %d", i+1)); err != nil {
			return err
		}
	}
	return nil
}
