package suitecmd

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"yamato/internal/cli/ui"
	"yamato/internal/client"
	"yamato/internal/contract"
	"yamato/internal/core/script"
)

// SecretCommand keeps values that nothing shows.
func (a *App) SecretCommand() *cobra.Command {
	c := &cobra.Command{Use: "secret", Short: "Keep values that scripts use and nothing shows"}
	c.AddCommand(a.secretSet(), a.secretLs(), ui.Yes(a.secretRemove()))
	return c
}

func (a *App) secretSet() *cobra.Command {
	return &cobra.Command{
		Use: "set NAME", Short: "Give a secret its value, typed without being shown, or read from standard input",
		Example: "  yamato secret set pin\n  yamato secret set pin < pin.txt",
		Args:    ui.Exactly(1, "name the secret: yamato secret set NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			value, err := a.hidden("Value of " + args[0])
			if err != nil {
				return err
			}
			if _, err := client.As[struct{}](s.SetSecret(cmd.Context(), s.Project, args[0],
				contract.SecretValue{Value: value})); err != nil {
				return err
			}
			return a.Write(map[string]string{"set": args[0]}, func() {
				fmt.Fprintf(a.Out, "Scripts use it so: set E to secret %q. Nothing shows it.\n", args[0])
			})
		},
	}
}

func (a *App) secretLs() *cobra.Command {
	return &cobra.Command{
		Use: "ls", Short: "List the secrets, without their values", Example: "  yamato secret ls", Args: ui.None,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			list, err := client.As[[]contract.Secret](s.ListSecrets(cmd.Context(), s.Project))
			if err != nil {
				return err
			}
			return a.Write(list, func() {
				if len(list) == 0 {
					fmt.Fprintln(a.Out, "No secrets yet. Keep one: yamato secret set NAME")
					return
				}
				var rows [][]string
				for _, one := range list {
					rows = append(rows, []string{one.Name, ui.Ago(one.SetAt), one.SetBy})
				}
				a.Table([]string{"NAME", "SET", "BY"}, rows)
			})
		},
	}
}

func (a *App) secretRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Take a secret away", Example: "  yamato secret remove pin",
		Args: ui.Exactly(1, "name the secret: yamato secret remove NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			needs, err := ui.NeededBy(cmd.Context(), s, contract.GetNeedsParamsKindSecret, args[0])
			if err == nil {
				err = a.Sure(cmd, "Take the secret "+args[0]+" away", needs...)
			}
			if err == nil {
				_, err = client.As[struct{}](s.RemoveSecret(cmd.Context(), s.Project, args[0],
					&contract.RemoveSecretParams{Anyway: new(true)}))
			}
			if err != nil {
				return err
			}
			return a.Write(map[string]string{"removed": args[0]},
				func() { fmt.Fprintf(a.Out, "The secret %s is gone.\n", args[0]) })
		},
	}
}

// hidden reads a value: typed unseen at a terminal, else all of standard input without the end of
// its last line.
func (a *App) hidden(what string) (string, error) {
	if f, ok := a.In.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprintf(a.Err, "%s (it is not shown): ", what)
		typed, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.Err)
		return string(typed), err
	}
	if a.In == nil {
		return "", ui.WrongCall{Title: "there is no value on standard input",
			Hint: "type it at a terminal, or hand it in: yamato secret set NAME < FILE"}
	}
	read, err := io.ReadAll(io.LimitReader(a.In, 1<<16))
	if err != nil {
		return "", err
	}
	value := strings.TrimSuffix(string(bytes.TrimSuffix(read, []byte("\n"))), "\r")
	if len(value) < script.MinSecret {
		return "", ui.WrongCall{Title: fmt.Sprintf("a value that is to be hidden has at least %d bytes",
			script.MinSecret),
			Hint: "less would be found, and hidden, in everything"}
	}
	return value, nil
}

// AccountCommand keeps test accounts.
func (a *App) AccountCommand() *cobra.Command {
	c := &cobra.Command{Use: "account", Short: "Keep test accounts, each lent to one leg at a time"}
	c.AddCommand(a.accountAdd(), a.accountLs(), a.accountRemove())
	return c
}

func (a *App) accountAdd() *cobra.Command {
	var user string
	var fields []string
	cmd := &cobra.Command{
		Use: "add NAME --user USER", Short: "Add a test account; its password is typed without being shown, or read from standard input",
		Example: "  yamato account add payer --user aya@sorane.example\n  yamato account add payer --user bo@sorane.example --field pin=4711 < password.txt",
		Args:    ui.Exactly(1, "name the account: yamato account add NAME --user USER"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if user == "" {
				return ui.WrongCall{Title: "an account has a user", Hint: "name it: --user aya@sorane.example"}
			}
			holds := map[string]string{}
			for _, f := range fields {
				name, value, ok := strings.Cut(f, "=")
				if !ok {
					return ui.WrongCall{Title: fmt.Sprintf("%q is no field", f), Hint: "write it: --field pin=4711"}
				}
				holds[name] = value
			}
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			password, err := a.hidden("Password of " + user)
			if err != nil {
				return err
			}
			holds["password"] = password
			added, err := client.As[contract.Account](s.AddAccount(cmd.Context(), s.Project,
				contract.NewAccount{Name: args[0], User: user,
					Fields: &holds}))
			if err != nil {
				return err
			}
			return a.Write(added, func() {
				fmt.Fprintf(a.Out, "Account %d is kept. Scripts use it so: account %q as $who, then {who.user} and $who.password.\n",
					added.Id, added.Name)
			})
		},
	}
	cmd.Flags().StringVar(&user, "user", "", "who signs in; reports show it")
	cmd.Flags().StringArrayVar(&fields, "field", nil, "what else the account holds, as name=value; nothing shows it; may be repeated")
	return cmd
}

func (a *App) accountLs() *cobra.Command {
	return &cobra.Command{
		Use: "ls", Short: "List the test accounts, and who has each", Example: "  yamato account ls", Args: ui.None,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			list, err := client.As[[]contract.Account](s.ListAccounts(cmd.Context(), s.Project))
			if err != nil {
				return err
			}
			return a.Write(list, func() {
				if len(list) == 0 {
					fmt.Fprintln(a.Out, "No accounts yet. Add one: yamato account add NAME --user USER")
					return
				}
				var rows [][]string
				for _, one := range list {
					lent := "free"
					if one.LentTo != nil {
						lent = *one.LentTo
					}
					rows = append(rows, []string{strconv.FormatInt(one.Id, 10), one.Name, one.User,
						strings.Join(one.Fields, ", "), lent})
				}
				a.Table([]string{"ID", "NAME", "USER", "HOLDS", "LENT TO"}, rows)
			})
		},
	}
}

func (a *App) accountRemove() *cobra.Command {
	return ui.Yes(&cobra.Command{
		Use: "remove ID", Short: "Take a test account off the list", Example: "  yamato account remove 3",
		Args: ui.Exactly(1, "name the account by its number: yamato account remove 3"),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return ui.WrongCall{Title: fmt.Sprintf("%q is no account's number", args[0]),
					Hint: "`yamato account ls` lists them"}
			}
			s, err := a.Connect(cmd.Context())
			if err != nil {
				return err
			}
			if err := a.Sure(cmd, fmt.Sprintf("Take account %d off the list", id)); err != nil {
				return err
			}
			if _, err := client.As[struct{}](s.RemoveAccount(cmd.Context(), s.Project, id)); err != nil {
				return err
			}
			return a.Write(map[string]int64{"removed": id},
				func() { fmt.Fprintf(a.Out, "Account %d is off the list.\n", id) })
		},
	})
}
