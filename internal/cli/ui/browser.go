package ui

import (
	"context"
	"net/url"
	"os"
	"os/exec"
	"runtime"

	"yamato/internal/client"
	"yamato/internal/contract"
)

// SignInLink makes a link that signs one browser in, and leads to a page, "" for the first. The code is in the
// fragment, which browsers send to nobody: no log and no referrer gets to see it.
func SignInLink(ctx context.Context, s *client.Service, page string) (string, error) {
	in, err := client.As[contract.SignIn](s.MakeSignIn(ctx))
	if page != "" {
		page = "?to=" + url.QueryEscape(page)
	}
	return s.Base() + "/sign-in" + page + "#" + in.Code, err
}

// OpenBrowser opens a link in the browser of whoever sits at this machine, if
// somebody does.
func OpenBrowser(link string) bool {
	var opener string
	switch {
	case os.Getenv("BROWSER") != "":
		opener = os.Getenv("BROWSER")
	case runtime.GOOS == "darwin":
		opener = "open"
	case os.Getenv("DISPLAY") != "" || os.Getenv("WAYLAND_DISPLAY") != "":
		opener = "xdg-open"
	default:
		return false
	}
	return exec.Command(opener, link).Start() == nil // it lives on by itself
}
