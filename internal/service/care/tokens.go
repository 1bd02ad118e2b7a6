package care

import (
	"context"
	"strings"
	"unicode"

	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/store/access"
)

// HostTokens lists the tokens of a project's hosts.
func (s *Part) HostTokens(ctx context.Context, c base.Caller) ([]access.HostToken, error) {
	return s.Store.HostTokens(ctx, c.ProjectID)
}

// MakeHostToken makes a token that speaks for one host alone. It is kept nowhere but with who asked for it.
func (s *Part) MakeHostToken(ctx context.Context, c base.Caller, host string) (id int64, token string, err error) {
	if host == "" || len(host) > 100 || host != strings.TrimSpace(host) || strings.ContainsFunc(host,
		unicode.IsControl) {
		return 0, "", base.Invalid("a host has a name of 1 to 100 characters, without blanks around it",
			remedy.Say("it is the site's name, or what %s says", remedy.Option("name")))
	}
	token = base.NewToken()
	id, err = s.Store.AddHostToken(ctx, c.ProjectID, host, c.Name, token)
	return id, token, err
}

// WithdrawHostToken takes a token back, and cuts the link of its host.
func (s *Part) WithdrawHostToken(ctx context.Context, c base.Caller, id int64) (access.HostToken, error) {
	t, err := s.Store.WithdrawHostToken(ctx, c.ProjectID, id)
	if err != nil {
		return t, base.NotThere(err, remedy.Say("list them with %s", remedy.HostTokenList), "there is no host's token %d", id)
	}
	s.Bell.Ring()
	return t, nil
}
