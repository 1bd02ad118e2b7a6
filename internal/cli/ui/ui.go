// Package ui is what all commands share: what they read and write, how they find the service,
// how wrong calls are told, and completion.
package ui

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/google/renameio/v2"

	"yamato/internal/client"
	"yamato/internal/contract"
)

// Version of the program.
const Version = "0.1.0"

// Exit codes; see docs/commands.md.
const (
	ExitPass    = 0
	ExitFail    = 1
	ExitCall    = 2 // a wrong call
	ExitService = 3 // trouble with the service
	ExitError   = 4
	ExitNothing = 5 // cancelled, or nothing decided
)

// Exit ends the program with a code, after what it had to say has been said.
type Exit struct{ Code int }

func (e Exit) Error() string { return fmt.Sprintf("exit %d", e.Code) }

// WrongCall is a call that cannot be carried out as it stands.
type WrongCall struct{ Title, Hint string }

func (w WrongCall) Error() string { return w.Title }

// App is what all commands share.
type App struct {
	Out, Err io.Writer
	In       io.Reader
	PushName string // of what comes from standard input
	Output   string
	Service  string
	Token    string
	Project  string
}

// Connection is what a first start writes for the local user.
type Connection struct {
	Service string `json:"service"`
	Token   string `json:"token"`
	Project string `json:"project"`
}

func connectionFile() (string, error) {
	if f := os.Getenv("YAMATO_CONNECTION"); f != "" {
		return f, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "yamato", "connection.json"), nil
}

func WriteConnection(c Connection) (string, error) {
	path, err := connectionFile()
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return "", err
	}
	body, err := json.MarshalIndent(c, "", "  ")
	if err != nil {
		return "", err
	}
	return path, renameio.WriteFile(path, append(body, '\n'), 0o600)
}

// Connect finds the service: by flags, else by the environment, else by what
// the last start on this machine wrote.
func (a *App) Connect(ctx context.Context) (*client.Service, error) {
	var c Connection
	if path, err := connectionFile(); err == nil {
		if body, err := os.ReadFile(path); err == nil {
			if err := json.Unmarshal(body, &c); err != nil {
				return nil, WrongCall{path + " cannot be read", "start the service again; it writes the file anew"}
			}
		}
	}
	c.Service = First(a.Service, os.Getenv("YAMATO_SERVICE"), c.Service)
	c.Token = First(os.Getenv("YAMATO_TOKEN"), c.Token)
	if a.Token != "" {
		body, err := os.ReadFile(a.Token)
		if err != nil {
			return nil, WrongCall{"the token cannot be read: " + err.Error(), ""}
		}
		c.Token = strings.TrimSpace(string(body))
	}
	if c.Service == "" || c.Token == "" {
		return nil, WrongCall{"no service is known",
			"start one with `yamato up` (or `yamato demo`), or pass --service and --token-file"}
	}
	c.Project = First(a.Project, c.Project)
	s, err := client.Open(c.Service, c.Token, c.Project)
	if err != nil || c.Project != "" {
		return s, err
	}
	me, err := client.As[contract.About](s.About(ctx))
	s.Project = me.Project
	return s, err
}

// Write writes v as JSON if that is asked for, else calls table.
func (a *App) Write(v any, table func()) error {
	if a.Output != "json" {
		table()
		return nil
	}
	e := json.NewEncoder(a.Out)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

func First(values ...string) string {
	for _, v := range values {
		if v != "" {
			return v
		}
	}
	return ""
}

func Deref[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}

func Optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func Several(list []string) *[]string {
	if len(list) == 0 {
		return nil
	}
	return &list
}

// ExitFor gives the code of a run's outcome.
func ExitFor(r contract.Run) error {
	code := map[string]int{"pass": ExitPass, "fail": ExitFail, "error": ExitError}
	c, ok := code[r.Verdict]
	if r.State == "cancelled" || !ok {
		c = ExitNothing
	}
	if c == ExitPass {
		return nil
	}
	return Exit{c}
}

// Failed is an errand that a host could not carry out.
type Failed struct{ Title, Hint string }

func (f Failed) Error() string { return f.Title }
