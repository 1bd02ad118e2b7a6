package ui

import (
	"strings"

	"github.com/spf13/cobra"

	"yamato/internal/contract"
	"yamato/internal/core/evidence"
)

// KeepRules are rules of what is kept of a run, as an option that may be repeated.
type KeepRules struct{ rules evidence.Rules }

// Bind adds the option to a command.
func (k *KeepRules) Bind(cmd *cobra.Command) {
	cmd.Flags().Var(k, "keep", `what is kept, as "video always": a sort (`+strings.Join(evidence.Sorts, ", ")+
		` or everything), and always, unless passed or never; may be repeated`)
	var all []string
	for _, sort := range append([]string{evidence.All}, evidence.Sorts...) {
		for _, rule := range evidence.Rulings {
			all = append(all, sort+" "+rule)
		}
	}
	_ = cmd.RegisterFlagCompletionFunc("keep", cobra.FixedCompletions(all, cobra.ShellCompDirectiveNoFileComp))
}

// String tells the rules.
func (k *KeepRules) String() string { return strings.Join(k.rules.Words(), ", ") }

// Set reads one.
func (k *KeepRules) Set(text string) error {
	sort, rule, err := evidence.ReadRule(text)
	if err != nil {
		return err
	}
	if k.rules == nil {
		k.rules = evidence.Rules{}
	}
	k.rules[sort] = rule
	return nil
}

// Type names what is given.
func (k *KeepRules) Type() string { return "rule" }

// Given gives the rules, nil where there are none.
func (k *KeepRules) Given() *contract.Keep {
	if len(k.rules) == 0 {
		return nil
	}
	return (*contract.Keep)(&k.rules)
}
