package api

import (
	"context"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/core/feel"
	"yamato/internal/core/script"
	"yamato/internal/service/base"
	"yamato/internal/service/builds"
	"yamato/internal/store/vault"
)

func filesIn(list *[]contract.SuiteFile) map[string][]byte {
	out := map[string][]byte{}
	for _, f := range base.Deref(list) {
		out[f.Path] = f.Content
	}
	return out
}

// PushSuite takes a suite in.
func (h *handlers) PushSuite(ctx context.Context, r PushSuiteRequestObject) (PushSuiteResponseObject, error) {
	b := r.Body
	s, err := h.service.Builds.PushSuite(ctx, caller(ctx), builds.NewSuite{FileName: b.FileName,
		Text: b.Text, Files: filesIn(b.Files),
		Tried: base.Deref(b.Tried), Kept: text(b.Origin) == "kept", Over: base.Deref(b.Over)})
	return PushSuite200JSONResponse(wire.Pushed(s)), err
}

// CheckSuite checks a script that is not kept.
func (h *handlers) CheckSuite(ctx context.Context, r CheckSuiteRequestObject) (CheckSuiteResponseObject, error) {
	b := r.Body
	list, err := h.service.Builds.CheckSuite(ctx, caller(ctx), builds.ToCheck{Text: b.Text,
		Files: filesIn(b.Files), App: text(b.App),
		Build: text(b.Build), Lineup: text(b.Lineup)})
	return CheckSuite200JSONResponse(wire.Findings(list)), err
}

// ListSuiteRevisions lists the revisions of a suite.
func (h *handlers) ListSuiteRevisions(ctx context.Context,
	r ListSuiteRevisionsRequestObject) (ListSuiteRevisionsResponseObject, error) {
	list, err := h.service.Builds.Revisions(ctx, caller(ctx), r.Suite)
	return ListSuiteRevisions200JSONResponse(wire.Each(list, wire.Suite)), err
}

// GetSuiteRevision gives the text of one.
func (h *handlers) GetSuiteRevision(ctx context.Context,
	r GetSuiteRevisionRequestObject) (GetSuiteRevisionResponseObject, error) {
	suite, whole, err := h.service.Builds.Revision(ctx, caller(ctx), r.Suite, r.Revision)
	return GetSuiteRevision200JSONResponse(contract.SuiteText{Suite: wire.Suite(suite), Text: whole.Text,
		Files: wire.SuiteFiles(whole)}), err
}

// ListSurroundings tells what a device can be made to feel.
func (h *handlers) ListSurroundings(context.Context, ListSurroundingsRequestObject) (ListSurroundingsResponseObject,
	error) {
	out := ListSurroundings200JSONResponse{}
	for _, s := range feel.All {
		one := contract.Surrounding{Name: s.Name, Label: s.Label, About: s.About, Ability: s.Ability, Usual: s.Usual,
			Varied:  s.Varied,
			Passing: s.Passing, Open: s.Open, Example: base.Stated(s.Example), Verb: base.Stated(s.Verb),
			Usage: append([]string{}, s.Usage()...),
			Choices: wire.Each(s.Choices, func(c feel.Choice) contract.SurroundingChoice {
				return contract.SurroundingChoice{Level: c.Level, Words: c.Words}
			})}
		out = append(out, one)
	}
	return out, nil
}

// GetLanguage tells the words of the script language.
func (h *handlers) GetLanguage(context.Context, GetLanguageRequestObject) (GetLanguageResponseObject, error) {
	l := script.Language()
	word := func(w script.WordUsage) contract.LanguageWord {
		return contract.LanguageWord{Word: w.Word, Usage: w.Usage}
	}
	return GetLanguage200JSONResponse(contract.ScriptLanguage{File: wire.Each(l.File, word),
		Steps: wire.Each(l.Steps, word),
		Roles: l.Roles, States: l.States, Words: l.Words}), nil
}

// ListSeen lists what screens of an app had on them.
func (h *handlers) ListSeen(ctx context.Context, r ListSeenRequestObject) (ListSeenResponseObject, error) {
	list, err := h.service.Builds.Seen(ctx, caller(ctx), r.App)
	return ListSeen200JSONResponse(wire.Each(list, func(e vault.Element) contract.SeenElement {
		return contract.SeenElement{Id: e.ID, Text: e.Text, Role: e.Role, Screen: e.Screen, Unsure: e.Unsure}
	})), err
}

// ListSecrets lists the project's secrets, without their values.
func (h *handlers) ListSecrets(ctx context.Context, _ ListSecretsRequestObject) (ListSecretsResponseObject, error) {
	list, err := h.service.Vault.Secrets(ctx, caller(ctx))
	return ListSecrets200JSONResponse(wire.Each(list, func(s vault.Secret) contract.Secret {
		return contract.Secret{Name: s.Name, SetAt: s.SetAt, SetBy: s.SetBy}
	})), err
}

// SetSecret gives a secret its value.
func (h *handlers) SetSecret(ctx context.Context, r SetSecretRequestObject) (SetSecretResponseObject, error) {
	return SetSecret204Response{}, h.service.Vault.SetSecret(ctx, caller(ctx), r.Name, r.Body.Value)
}

// RemoveSecret takes a secret away.
func (h *handlers) RemoveSecret(ctx context.Context, r RemoveSecretRequestObject) (RemoveSecretResponseObject, error) {
	return RemoveSecret204Response{}, h.service.Vault.RemoveSecret(ctx, caller(ctx), r.Name,
		base.Deref(r.Params.Anyway))
}

func accountOut(a vault.Account) contract.Account {
	return contract.Account{Id: a.ID, Name: a.Name, User: a.User, Fields: append([]string{}, a.Fields.V...),
		AddedAt: a.AddedAt,
		AddedBy: a.AddedBy, LentTo: base.Stated(a.Holder)}
}

// ListAccounts lists the project's test accounts.
func (h *handlers) ListAccounts(ctx context.Context, _ ListAccountsRequestObject) (ListAccountsResponseObject, error) {
	list, err := h.service.Vault.Accounts(ctx, caller(ctx))
	return ListAccounts200JSONResponse(wire.Each(list, accountOut)), err
}

// AddAccount adds one.
func (h *handlers) AddAccount(ctx context.Context, r AddAccountRequestObject) (AddAccountResponseObject, error) {
	b := r.Body
	id, err := h.service.Vault.AddAccount(ctx, caller(ctx), b.Name, b.User, base.Deref(b.Fields))
	if err != nil {
		return nil, err
	}
	list, err := h.service.Vault.Accounts(ctx, caller(ctx))
	i := slices.IndexFunc(list, func(a vault.Account) bool { return a.ID == id })
	if err != nil || i < 0 {
		return nil, err
	}
	return AddAccount200JSONResponse(accountOut(list[i])), nil
}

// RemoveAccount takes one off the list.
func (h *handlers) RemoveAccount(ctx context.Context, r RemoveAccountRequestObject) (RemoveAccountResponseObject,
	error) {
	return RemoveAccount204Response{}, h.service.Vault.RemoveAccount(ctx, caller(ctx), r.Account)
}

// lent gives a host what the suite of a lease wants.
func (h *handlers) lent(g *gin.Context) {
	lease, err := number(g, "lease")
	if err != nil {
		h.fail(g, err)
		return
	}
	out, err := h.service.Vault.Lent(g.Request.Context(), caller(g.Request.Context()), lease)
	if err != nil {
		h.fail(g, err)
		return
	}
	g.JSON(http.StatusOK, out)
}
