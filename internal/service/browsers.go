package service

import (
	"context"
	"errors"
	"time"

	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/store/pg"
)

// How long a sign-in link can be used, and how long a browser stays signed in.
const (
	SignInLasts  = 15 * time.Minute
	BrowserLasts = 30 * 24 * time.Hour
)

// MakeSignIn makes a code that signs one browser in as the caller, once.
func (s *Service) MakeSignIn(ctx context.Context, c base.Caller) (code string, until time.Time, err error) {
	code = base.NewToken()
	until, err = s.Store.AddSignIn(ctx, c.TokenID, code, SignInLasts)
	return code, until, err
}

// SignIn uses a code up, and gives what the browser's cookie is to hold.
func (s *Service) SignIn(ctx context.Context, code string) (cookie string, c base.Caller, err error) {
	if len(code) > 200 {
		code = ""
	}
	cookie = base.NewToken()
	c, err = s.Store.UseSignIn(ctx, code, cookie, BrowserLasts)
	if errors.Is(err, pg.ErrNone) {
		return "", c, base.Refuse(base.SignInUsed, "this sign-in link has been used or has run out",
			remedy.Say("%s makes a new one; a link is good once, for 15 minutes", remedy.Console))
	}
	return cookie, c, err
}

// BrowserCaller finds who a browser's cookie stands for.
func (s *Service) BrowserCaller(ctx context.Context, cookie string) (base.Caller, error) {
	if len(cookie) < 20 || len(cookie) > 200 {
		return base.Caller{}, base.SignedOut
	}
	if c, ok := s.callers.get("cookie\x00" + cookie); ok {
		return c, nil
	}
	c, err := s.Store.BrowserCaller(ctx, cookie)
	if errors.Is(err, pg.ErrNone) {
		return base.Caller{}, base.SignedOut
	}
	if err == nil {
		s.callers.put("cookie\x00"+cookie, c)
	}
	return c, err
}

// SignOut forgets a browser.
func (s *Service) SignOut(ctx context.Context, cookie string) error {
	s.callers.forget("cookie\x00" + cookie)
	return s.Store.DropBrowser(ctx, cookie)
}
