// Package nodecmd has the commands on services, hosts and all on one machine.
package nodecmd

import "yamato/internal/cli/ui"

// App has the commands, on what all commands share.
type App struct{ *ui.App }

// Of gives them.
func Of(a *ui.App) *App { return &App{a} }
