// Package runcmd has the commands on runs.
package runcmd

import "yamato/internal/cli/ui"

// App has the commands, on what all commands share.
type App struct{ *ui.App }

// Of gives them.
func Of(a *ui.App) *App { return &App{a} }
