// Package suitecmd holds the commands about scripts and what they want of the project: suites,
// secrets, accounts, and the language server for editors.
package suitecmd

import "yamato/internal/cli/ui"

// App is what these commands share with all.
type App struct{ *ui.App }

// Of gives the commands over what all share.
func Of(a *ui.App) *App { return &App{a} }
