package remote

import (
	"context"
	"errors"
	"fmt"
	"os/exec"
	"regexp"
	"strings"
	"sync"

	"yamato/internal/core/fleet"
)

// versions are those of the browsers of this machine, by engine and path: they are asked for once.
var versions struct {
	sync.Mutex
	known map[[2]string]string
}

var versionForm = regexp.MustCompile(`([0-9]{1,4}(?:\.[0-9]{1,4})?)[0-9.]*`)

// Installed gives the version of an engine's browser, as far as people name it: "Gecko 153", "WebKit 2.50". Its error
// is a *device.Trouble where there is none.
func Installed(ctx context.Context, engine string, keeps []string, path string) (string, error) {
	versions.Lock()
	defer versions.Unlock()
	if v := versions.known[[2]string{engine, path}]; v != "" {
		return v, nil
	}
	ctx, stop := context.WithTimeoutCause(ctx, startTime, errors.New("it does not say its version"))
	defer stop()
	said, err := "", error(nil)
	switch engine {
	case fleet.Gecko:
		var found string
		if found, err = findProgram(path, geckoNames, "the browser Firefox", "firefox-esr"); err == nil {
			var out []byte
			out, err = exec.CommandContext(ctx, found, "--version").Output()
			said = string(out)
		}
	case fleet.WebKit: // its browser says nothing without a screen
		w := newWebKit(keeps, path, tells{})
		said, err = w.boot(ctx, "")
		w.halt()
	default:
		return "", fmt.Errorf("there is no engine %q here", engine)
	}
	if err != nil {
		return "", err
	}
	m := versionForm.FindStringSubmatch(said)
	if m == nil {
		return "", fmt.Errorf("%s says that its version is %.60q", engine, said)
	}
	version := m[1]
	if engine == fleet.Gecko {
		version, _, _ = strings.Cut(version, ".")
	}
	if versions.known == nil {
		versions.known = map[[2]string]string{}
	}
	versions.known[[2]string{engine, path}] = engine + " " + version
	return engine + " " + version, nil
}

// Available tells why there can be no handsets with an engine on this machine, nil where there can.
func Available(engine string) error {
	if engine == fleet.Gecko {
		_, err := findProgram("", geckoNames, "the browser Firefox", "firefox-esr")
		return err
	}
	_, _, err := findWebKit("")
	return err
}
