package phone

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
)

// Console serves an emulator's console on l, as the OS's emulators do: who says the token that lies in the home folder may
// end it. kill is called where somebody does.
func Console(ctx context.Context, l net.Listener, token string, kill func()) error {
	var open sync.WaitGroup
	defer open.Wait()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	defer context.AfterFunc(ctx, func() { _ = l.Close() })()
	for {
		c, err := l.Accept()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		open.Go(func() {
			defer c.Close()
			defer context.AfterFunc(ctx, func() { _ = c.Close() })()
			console(c, token, kill)
		})
	}
}

func console(c net.Conn, token string, kill func()) {
	known := token == ""
	fmt.Fprint(c, "Android Console: Authentication required\r\nAndroid Console: type 'auth <auth_token>' to authenticate\r\nOK\r\n")
	for in := bufio.NewScanner(io.LimitReader(c, maxCat)); in.Scan(); {
		word, rest, _ := strings.Cut(strings.TrimSpace(in.Text()), " ")
		switch {
		case word == "auth" && rest == token, word == "auth" && known:
			known = true
			fmt.Fprint(c, "Android Console: type 'help' for a list of commands\r\nOK\r\n")
		case word == "auth":
			fmt.Fprint(c, "KO: authentication token does not match\r\n")
		case word == "quit" || word == "exit":
			return
		case word == "kill" && known:
			fmt.Fprint(c, "OK: killing emulator, bye bye\r\n")
			kill()
			return
		default:
			fmt.Fprint(c, "KO: unknown command, try 'help'\r\n")
		}
	}
}
