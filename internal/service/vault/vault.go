// Package vault keeps what suites want of their project: secrets, which nothing shows once they
// are set, and test accounts, each of which is lent to one leg at a time.
package vault

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"

	"yamato/internal/core/plain"
	"yamato/internal/core/remedy"
	"yamato/internal/core/script"
	"yamato/internal/link"
	"yamato/internal/service/base"
	"yamato/internal/store/pg"
	"yamato/internal/store/vault"
)

// Bounds, for each project.
const (
	maxSecrets  = 500
	maxAccounts = 2000
	maxFields   = 20
	maxValue    = 4000 // bytes of a value
)

// Part is these use cases.
type Part struct{ *base.Base }

// New gives them.
func New(b *base.Base) *Part { return &Part{b} }

var name = regexp.MustCompile(`^[\pL\pN][\pL\pN ._-]{0,99}$`)

var fieldName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,40}$`)

func checkName(what, given string) error {
	if !name.MatchString(given) {
		return base.Invalid(fmt.Sprintf("%s has a name of 1 to 100 letters, digits, blanks and . _ -, not %q", what,
			base.Short(given, 60)), "")
	}
	return nil
}

// Secrets lists a project's secrets, without their values.
func (s *Part) Secrets(ctx context.Context, c base.Caller) ([]vault.Secret, error) {
	return s.Store.Secrets(ctx, c.ProjectID, nil)
}

// SetSecret gives a secret its value.
func (s *Part) SetSecret(ctx context.Context, c base.Caller, name, value string) error {
	if err := checkName("a secret", name); err != nil {
		return err
	}
	if err := checkValue(value); err != nil {
		return err
	}
	sealed, err := s.Seal([]byte(value), sealedFor(c.ProjectID, "secret", name))
	if err != nil {
		return err
	}
	err = s.Store.KeepSecret(ctx, c.ProjectID, vault.Secret{Name: name, Sealed: sealed, SetBy: c.Name}, maxSecrets)
	if errors.Is(err, pg.ErrNone) {
		return base.Invalid(fmt.Sprintf("a project has at most %d secrets", maxSecrets),
			remedy.Say("take some away: %s", remedy.SecretRemove))
	}
	return err
}

func checkValue(value string) error {
	switch {
	case len(value) < script.MinSecret:
		return base.Invalid(fmt.Sprintf("a value that is to be hidden has at least %d bytes", script.MinSecret),
			"less would be found, and hidden, in everything")
	case len(value) > maxValue:
		return base.Invalid(fmt.Sprintf("a value has at most %d bytes", maxValue), "")
	case plain.Text(value, maxValue) != value:
		return base.Invalid("a value is text: UTF-8 without control characters of the kind that end it", "")
	}
	return nil
}

// RemoveSecret takes a secret away.
func (s *Part) RemoveSecret(ctx context.Context, c base.Caller, name string, anyway bool) error {
	if err := s.Spare(ctx, c, base.NeedsSecret, name, anyway); err != nil {
		return err
	}
	return base.NotThere(s.Store.RemoveSecret(ctx, c.ProjectID, name), remedy.Say("%s lists them", remedy.SecretList),
		"there is no secret %q", name)
}

// Accounts lists a project's test accounts, without what they hold.
func (s *Part) Accounts(ctx context.Context, c base.Caller) ([]vault.Account, error) {
	return s.Store.Accounts(ctx, c.ProjectID)
}

// AddAccount keeps a test account: several of one name are as good as each other.
func (s *Part) AddAccount(ctx context.Context, c base.Caller, name, user string, fields map[string]string) (int64,
	error) {
	if err := checkName("an account", name); err != nil {
		return 0, err
	}
	if user == "" || len(user) > 200 || plain.Text(user, 200) != user {
		return 0, base.Invalid("an account has a user of 1 to 200 bytes", "")
	}
	if len(fields) > maxFields {
		return 0, base.Invalid(fmt.Sprintf("an account holds at most %d fields", maxFields), "")
	}
	for f, v := range fields {
		if !fieldName.MatchString(f) || f == "user" {
			return 0, base.Invalid(fmt.Sprintf("a field is called by small letters, digits and _, and not user: %q",
				base.Short(f, 60)), "")
		}
		if err := checkValue(v); err != nil {
			return 0, err
		}
	}
	body, err := json.Marshal(fields)
	if err != nil {
		return 0, err
	}
	sealed, err := s.Seal(body, sealedFor(c.ProjectID, "account", name+"\x00"+user))
	if err != nil {
		return 0, err
	}
	a := vault.Account{Name: name, User: user, Sealed: sealed, AddedBy: c.Name}
	a.Fields.V = append([]string{}, slices.Sorted(maps.Keys(fields))...)
	id, err := s.Store.AddAccount(ctx, c.ProjectID, a, maxAccounts)
	if errors.Is(err, pg.ErrNone) {
		return 0, base.Invalid(fmt.Sprintf("a project has at most %d accounts", maxAccounts),
			remedy.Say("take some away: %s", remedy.AccountRemove))
	}
	s.Bell.Ring()
	return id, err
}

// RemoveAccount takes an account off the list. Who has it keeps it for as long as it was lent.
func (s *Part) RemoveAccount(ctx context.Context, c base.Caller, id int64) error {
	return base.NotThere(s.Store.RemoveAccount(ctx, c.ProjectID, id), remedy.Say("%s lists them", remedy.AccountList),
		"there is no account %d", id)
}

// Lent gives a host what the suite of a live lease wants. A secret that the project does not have
// is left out: the step that needs it says so.
func (s *Part) Lent(ctx context.Context, c base.Caller, lease int64) (link.Lent, error) {
	out := link.Lent{Secrets: map[string]string{}, Accounts: map[string]map[string]string{}}
	if err := s.Speaks(ctx, c, lease); err != nil {
		return out, err
	}
	w, err := s.Store.WantedBy(ctx, c.ProjectID, lease)
	if err != nil {
		return out, base.NotThere(err, "it may have ended", "no leg holds lease %d", lease)
	}
	if names := w.Asks.V.Secrets; len(names) > 0 {
		list, err := s.Store.Secrets(ctx, c.ProjectID, names)
		if err != nil {
			return out, err
		}
		for _, one := range list {
			value, err := s.Open(one.Sealed, sealedFor(c.ProjectID, "secret", one.Name))
			if err != nil {
				return out, fmt.Errorf("the secret %q: %w", one.Name, err)
			}
			out.Secrets[one.Name] = string(value)
		}
	}
	lent, err := s.Store.LentTo(ctx, lease)
	if err != nil {
		return out, err
	}
	for _, a := range lent {
		body, err := s.Open(a.Sealed, sealedFor(c.ProjectID, "account", a.Name+"\x00"+a.User))
		if err != nil {
			return out, fmt.Errorf("the account %q: %w", a.Name, err)
		}
		fields := map[string]string{}
		if err := json.Unmarshal(body, &fields); err != nil {
			return out, err
		}
		fields["user"] = a.User
		out.Accounts[a.Name] = fields
	}
	return out, nil
}

func sealedFor(project int64, what, name string) string {
	return fmt.Sprintf("%d\x00%s\x00%s", project, what, name)
}
