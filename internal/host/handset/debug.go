package handset

import (
	"context"
	"errors"
	"fmt"

	"github.com/chromedp/cdproto/runtime"

	"yamato/internal/core/plain"
	"yamato/internal/host/handset/debugport"
)

// maxExpression bounds what is evaluated in an app, and maxValue what it gives, in bytes.
const (
	maxExpression = 64 << 10
	maxValue      = 64 << 10
)

// Evaluate evaluates an expression in the page in front, among its own scripts.
func (d *Device) Evaluate(ctx context.Context, expression string) (string, error) {
	if err := d.reach(ctx); err != nil {
		return "", err
	}
	if d.tab == nil || d.away {
		return "", errors.New("no app is in front whose page could be asked")
	}
	if len(expression) > maxExpression {
		return "", fmt.Errorf("an expression has at most %d bytes", maxExpression)
	}
	var value *runtime.RemoteObject
	var wrong *runtime.ExceptionDetails
	err := d.do(ctx, func(ctx context.Context) (err error) {
		value, wrong, err = runtime.Evaluate(expression).WithReplMode(true).WithAwaitPromise(true).WithReturnByValue(true).Do(ctx)
		return err
	})
	switch {
	case err != nil:
		return "", err
	case wrong != nil:
		return "", errors.New(plain.Text(thrown(wrong), 2000))
	case value == nil: // a dialog came up before there was an answer
		return "", errDialog
	case value.Type == runtime.TypeUndefined:
		return "undefined", nil
	}
	return plain.Text(said(value), maxValue), nil
}

// DebugPort lets a debugger reach the page in front (package debugport).
func (d *Device) DebugPort(ctx context.Context) (string, error) {
	if err := d.reach(ctx); err != nil {
		return "", err
	}
	if d.tab == nil {
		return "", errors.New("no app is in front that a debugger could be joined to")
	}
	if err := d.tab.alive(); err != nil {
		return "", err
	}
	p, err := debugport.Open(ctx, debugport.Page{Browser: d.running.Session, Target: d.tab.target,
		Name:    plain.Text(d.front, 200),
		Version: d.running.version})
	if err != nil {
		return "", err
	}
	d.tab.ports = append(d.tab.ports, p)
	return p.Address, nil
}
