package api

import (
	"context"

	"yamato/internal/contract"
	"yamato/internal/service/base"
	"yamato/internal/store/access"
)

func hostTokenOut(t access.HostToken) contract.HostToken {
	return contract.HostToken{Id: t.ID, Host: base.Stated(t.Host), Shared: t.Host == "", MadeBy: base.Stated(t.MadeBy),
		MadeAt: t.Made,
		UsedAt: t.Used, WithdrawnAt: t.Withdrawn}
}

// ListHostTokens lists the tokens of hosts.
func (h *handlers) ListHostTokens(ctx context.Context, _ ListHostTokensRequestObject) (ListHostTokensResponseObject,
	error) {
	list, err := h.service.Care.HostTokens(ctx, caller(ctx))
	out := ListHostTokens200JSONResponse{}
	for _, t := range list {
		out = append(out, hostTokenOut(t))
	}
	return out, err
}

// MakeHostToken makes a token that speaks for one host.
func (h *handlers) MakeHostToken(ctx context.Context, r MakeHostTokenRequestObject) (MakeHostTokenResponseObject,
	error) {
	id, token, err := h.service.Care.MakeHostToken(ctx, caller(ctx), r.Body.Host)
	return MakeHostToken200JSONResponse{Id: id, Host: r.Body.Host, Token: token}, err
}

// WithdrawHostToken takes a host's token back.
func (h *handlers) WithdrawHostToken(ctx context.Context,
	r WithdrawHostTokenRequestObject) (WithdrawHostTokenResponseObject, error) {
	t, err := h.service.Care.WithdrawHostToken(ctx, caller(ctx), r.Token)
	return WithdrawHostToken200JSONResponse(hostTokenOut(t)), err
}
