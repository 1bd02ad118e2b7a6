package nodecmd

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"yamato/demo"
	"yamato/internal/host/android"
)

// cable is what the demo's site of phones needs: the phones that ship, on ports of this machine; a server of the debug
// bridge that is nobody else's, so that what somebody has plugged in stays out of it; and a folder in which the image
// tools would keep emulators.
type cable struct {
	phones []string // addresses
	env    []string // of its host
	server android.Server
}

// prepareCable makes it, nil where the demo has no such site.
func prepareCable(dir string, sites []string) (*cable, error) {
	if !slices.Contains(sites, demo.Cable) {
		return nil, nil
	}
	home := filepath.Join(dir, "cable")
	name, config := demo.Emulator()
	of := filepath.Join(home, "emulators", name+".avd")
	if err := errors.Join(os.MkdirAll(of, 0o700), os.WriteFile(filepath.Join(of, "config.ini"), []byte(config), 0o600)); err != nil {
		return nil, err
	}
	ports, err := freePorts(1 + len(demo.Phones))
	if err != nil {
		return nil, err
	}
	c := &cable{server: android.Server{Address: ports[0]}, phones: ports[1:]}
	_, port, _ := net.SplitHostPort(ports[0])
	c.env = []string{"HOME=" + home, "ANDROID_USER_HOME=" + filepath.Join(home, ".android"), "ANDROID_ADB_SERVER_PORT=" + port,
		"ANDROID_AVD_HOME=" + filepath.Join(home, "emulators")}
	return c, nil
}

// freePorts gives addresses on loopback that nobody listens on.
func freePorts(n int) (out []string, err error) {
	for range n {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, fmt.Errorf("this machine has no port to spare: %w", err)
		}
		defer l.Close() // once all are known, so that none is given twice
		out = append(out, l.Addr().String())
	}
	return out, nil
}

// at are the addresses of the phones.
func (c *cable) at() []string {
	if c == nil {
		return nil
	}
	return c.phones
}

// tell has the host of the site know where all that is.
func (c *cable) tell(sites []siteFile) {
	for i := range sites {
		if c != nil && sites[i].name == demo.Cable {
			sites[i].env = c.env
		}
	}
}

// run has the phones be there until ctx ends, and ends the bridge's server then.
func (c *cable) run(ctx context.Context, log *slog.Logger) error {
	if c == nil {
		return nil
	}
	var g errgroup.Group
	for i, p := range demo.Phones {
		g.Go(func() error {
			return supervise(ctx, log, nil, "standin", "phone", "--listen", c.phones[i], "--serial", p.Serial, "--model", p.Model, "--os", p.OS)
		})
	}
	err := g.Wait()
	last, stop := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer stop()
	return errors.Join(err, c.server.Stop(last))
}
