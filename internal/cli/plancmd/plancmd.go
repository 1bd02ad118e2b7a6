// Package plancmd has the commands on plans and on combinations.
package plancmd

import "yamato/internal/cli/ui"

// App has the commands, on what all commands share.
type App struct{ *ui.App }

// Of gives them.
func Of(a *ui.App) *App { return &App{a} }
