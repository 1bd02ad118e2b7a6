package fleetcmd

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"yamato/internal/cli/ui"
	"yamato/internal/core/fleet"
	"yamato/internal/core/plain"
	"yamato/internal/host/driver"
	"yamato/internal/host/standin"
	"yamato/internal/phone"
)

// generations are those of the OS that the phone that ships can have, with their numbers for programs.
var generations = map[string]int{"10": 29, "15": 35}

// bodies are what the phone that ships can be, by its model: its screen in dp, and its memory.
var bodies = map[string]fleet.Model{
	"Kaede 7":    {Model: "Kaede 7", Platform: "android", Form: "phone", Width: 408, Height: 896, MemoryMB: 8192},
	"Kaede Mini": {Model: "Kaede Mini", Platform: "android", Form: "phone", Width: 316, Height: 632, MemoryMB: 2048},
}

// askPerson gives what asks whoever sits at this terminal whether a computer may debug the phone. What is answered with
// "always" is not asked again.
func (a *App) askPerson() func(ctx context.Context, key string) (allowed, always bool) {
	lines := make(chan string)
	var reading sync.Once
	return func(ctx context.Context, key string) (bool, bool) {
		reading.Do(func() {
			go func() { // it ends with the input, or with the program: a terminal cannot be stopped reading
				defer close(lines)
				for in := bufio.NewScanner(a.In); in.Scan(); {
					lines <- in.Text()
				}
			}()
		})
		_, computer, _ := strings.Cut(key, " ")
		a.Say(0, "%s asks whether it may debug this phone: yes, always or no?", cmp.Or(plain.Clip(plain.Text(computer, 100), 60), "A computer"))
		select {
		case answer := <-lines:
			answer = strings.ToLower(strings.TrimSpace(answer))
			return answer == "yes" || answer == "always", answer == "always"
		case <-ctx.Done():
			return false, false
		}
	}
}

// standinPhone serves a phone that the OS's debug bridge connects to.
func (a *App) standinPhone() *cobra.Command {
	var listen, release, serial, model string
	var asks bool
	cmd := &cobra.Command{
		Use: "phone", Short: "Serve a simulated phone that Android's debug bridge connects to, until Ctrl-C",
		Example: "  yamato standin phone\n  yamato standin phone --listen 127.0.0.1:5556 --os 10 --serial KAEDE7R2",
		Args:    ui.None,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			api := generations[release]
			if api == 0 {
				return ui.WrongCall{Title: fmt.Sprintf("the phone has no OS %q", release), Hint: "it has 10 or 15"}
			}
			shape, known := bodies[model]
			if !known {
				return ui.WrongCall{Title: fmt.Sprintf("the phone cannot be a %q", model), Hint: "it can be a Kaede 7 or a Kaede Mini"}
			}
			host, _, err := net.SplitHostPort(listen)
			if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsLoopback() {
				return ui.WrongCall{Title: fmt.Sprintf("the phone cannot listen on %q: whoever reaches it may do anything with it", listen),
					Hint: "give it a loopback address, such as 127.0.0.1:5555"}
			}
			l, err := net.Listen("tcp", listen)
			if err != nil {
				return ui.WrongCall{Title: "the phone cannot listen: " + err.Error(), Hint: "choose another address with --listen"}
			}
			defer l.Close()
			dir, err := os.MkdirTemp("", "yamato-phone-")
			if err != nil {
				return err
			}
			defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
			v, err := standin.NewDriver(nil)
			if err != nil {
				return err
			}
			body, err := v.Open(&driver.Site{Name: "phone"}, driver.SiteDevice{Name: "phone", Kind: fleet.Real, OS: release},
				shape)
			if err != nil {
				return err
			}
			defer body.Close()
			allow := a.askPerson()
			if !asks {
				allow = nil
			}
			p, err := phone.New(phone.Config{Allow: allow, Serial: serial, Model: model, Maker: "Kaede", Release: release, API: api, ABI: "x86_64",
				Width: 2 * shape.Width, Height: 2 * shape.Height, Density: 320, Dir: dir, Device: body})
			if err != nil {
				return err
			}
			a.Say(0, "A phone %s with Android %s is at %s. The bridge connects to it by\n  adb connect %s\nCtrl-C ends it.", serial,
				release, l.Addr(), l.Addr())
			return p.Serve(cmd.Context(), l)
		},
	}
	f := cmd.Flags()
	f.StringVar(&listen, "listen", "127.0.0.1:5555", "address on loopback that the bridge connects to")
	f.StringVar(&release, "os", "15", "version of the OS: 10 or 15")
	f.StringVar(&model, "model", "Kaede 7", "its model: Kaede 7 or Kaede Mini")
	_ = cmd.RegisterFlagCompletionFunc("model", cobra.FixedCompletions([]string{"Kaede 7", "Kaede Mini"}, cobra.ShellCompDirectiveNoFileComp))
	f.BoolVar(&asks, "asks", false, "ask here, in its person's place, whether a computer may debug it")
	f.StringVar(&serial, "serial", "KAEDE7R1", "its hardware's number")
	_ = cmd.RegisterFlagCompletionFunc("os", cobra.FixedCompletions([]string{"10", "15"}, cobra.ShellCompDirectiveNoFileComp))
	return cmd
}
