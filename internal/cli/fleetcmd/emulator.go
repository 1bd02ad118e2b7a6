package fleetcmd

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"yamato/internal/cli/ui"
	"yamato/internal/core/fleet"
	"yamato/internal/host/android"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin"
	"yamato/internal/phone"
)

// bootsIn is how long a simulated emulator takes to boot.
const bootsIn = 700 * time.Millisecond

// emulatorCall is what the OS's command for emulators is told, as far as the stand-in takes it.
type emulatorCall struct {
	list bool
	name string
	port int
}

func readEmulatorCall(args []string) (c emulatorCall, err error) {
	c.port = 5554
	for i := 0; i < len(args); i++ {
		value := func() string {
			if i++; i < len(args) {
				return args[i]
			}
			return ""
		}
		switch args[i] {
		case "-list-avds":
			c.list = true
		case "-avd":
			c.name = value()
		case "-port":
			if c.port, err = strconv.Atoi(value()); err != nil || c.port < 1024 || c.port > 65534 {
				return c, errors.New("-port takes an even number")
			}
		case "-no-window", "-no-audio", "-no-boot-anim", "-no-snapshot-save", "-wipe-data":
		default:
			return c, fmt.Errorf("unknown option: %s", args[i])
		}
	}
	return c, nil
}

// standinEmulator is what stands for the OS's command for emulators: it lists those that the image tools have made, and boots
// one, with its console and the device's side of the bridge beside it.
func (a *App) standinEmulator() *cobra.Command {
	return &cobra.Command{
		Use: "emulator", Short: "Stand for the OS's command for emulators, as the driver of phones calls it",
		Long: "Stand for the OS's command for emulators, as the driver of phones calls it: list the emulators that the OS's image tools have\n" +
			"made in their folder, or boot one, in its own form of options. What is `yamato.trouble` in its config.ini goes wrong: kvm, hang or dies.",
		Example: "  yamato standin emulator -list-avds", DisableFlagParsing: true,
		RunE: func(cmd *cobra.Command, args []string) error {
			if slices.Contains(args, "--help") || slices.Contains(args, "-h") {
				return cmd.Help()
			}
			call, err := readEmulatorCall(args)
			if err != nil {
				return ui.WrongCall{Title: err.Error(), Hint: "yamato standin emulator --help tells what it takes"}
			}
			if call.list {
				return a.listEmulators()
			}
			return a.emulate(cmd.Context(), call)
		},
	}
}

func (a *App) listEmulators() error {
	names, err := android.EmulatorNames()
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, n := range names {
		fmt.Fprintln(a.Out, n)
	}
	return nil
}

// emulate boots one, and serves it until it is ended by its console.
func (a *App) emulate(ctx context.Context, call emulatorCall) error {
	from, err := android.ReadEmulator(call.name)
	if err != nil {
		fmt.Fprintf(a.Err, "ERROR        | Unknown AVD name [%s], use -list-avds to see valid list.\n", call.name)
		return ui.Exit{Code: 1}
	}
	fmt.Fprintf(a.Out, "INFO         | Android emulator version 35.0.0.0 (stand-in)\nINFO         | Found AVD name '%s'\n", from.Name)
	trouble := from.Keys["yamato.trouble"]
	switch trouble {
	case "kvm":
		fmt.Fprintln(a.Err, "ERROR        | x86_64 emulation currently requires hardware acceleration!")
		return ui.Exit{Code: 1}
	case "dies":
		fmt.Fprintln(a.Err, "FATAL        | Not enough space to create userdata partition. Available: 12.0 MB, need 7372.8 MB.")
		return ui.Exit{Code: 1}
	}
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	listen := func(port int) (net.Listener, error) {
		return net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	}
	console, err := listen(call.port)
	if err != nil {
		return err
	}
	bridge, err := listen(call.port + 1)
	if err != nil {
		return errors.Join(err, console.Close())
	}
	p, closing, err := emulatedPhone(from, call.port, trouble == "hang")
	if err != nil {
		return errors.Join(err, console.Close(), bridge.Close())
	}
	home, _ := os.UserHomeDir()
	token, _ := os.ReadFile(filepath.Join(home, ".emulator_console_auth_token"))
	fmt.Fprintf(a.Out, "INFO         | emulator console is at port %d\n", call.port)
	var serving errgroup.Group
	serving.Go(func() error { return p.Serve(ctx, bridge) })
	serving.Go(func() error { return p.Console(ctx, console, strings.TrimSpace(string(token)), stop) })
	var s android.Server
	if err := s.Announce(ctx, call.port+1); err != nil { // the bridge finds it when it looks again
		fmt.Fprintf(a.Out, "WARNING      | the debug bridge was not told: %v\n", err)
	}
	return errors.Join(serving.Wait(), closing())
}

// emulatedPhone is the phone in an emulator, as its description has it.
func emulatedPhone(from android.Emulated, port int, hangs bool) (*phone.Phone, func() error, error) {
	number := func(key string, usual int) int {
		n, _ := strconv.Atoi(from.Keys[key])
		return cmp.Or(n, usual)
	}
	width, height, density := number("hw.lcd.width", 816), number("hw.lcd.height", 1792), number("hw.lcd.density", 320)
	v, err := standin.NewDriver(nil)
	if err != nil {
		return nil, nil, err
	}
	release := android.Release(from.API())
	body, err := v.Open(&driver.Site{Name: "emulator"}, driver.SiteDevice{Name: "emulator", Kind: fleet.Real, OS: release},
		fleet.Model{Model: "Kaede 7", Platform: "android", Form: "phone", Width: width * 160 / density, Height: height * 160 / density, MemoryMB: 4096})
	if err != nil {
		return nil, nil, err
	}
	dir, err := os.MkdirTemp("", "yamato-emulator-")
	if err != nil {
		return nil, nil, err
	}
	boots := bootsIn
	if hangs {
		boots = 100 * time.Hour
	}
	p, err := phone.New(phone.Config{Serial: fmt.Sprintf("EMULATOR%d", port), Model: "Kaede 7", Maker: "Kaede", Release: release, API: from.API(),
		ABI: "x86_64", Width: width, Height: height, Density: density, Dir: dir, Device: body, Boots: boots,
		Props: map[string]string{"ro.boot.qemu": "1", "ro.boot.qemu.avd_name": from.Name}})
	return p, func() error { return errors.Join(body.Close(), os.RemoveAll(dir)) }, err
}
