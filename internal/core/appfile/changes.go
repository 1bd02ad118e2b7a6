package appfile

import (
	"slices"
	"strconv"
	"strings"
)

// Change is one thing in which a package differs from the one before: a list that
// has gained or lost something, or a value that is another.
type Change struct {
	What    string // "permissions"
	Before  string // of a value
	After   string
	Added   []string // to a list
	Removed []string
}

// Changes gives what differs between two packages of one kind, in the order in
// which it matters to a tester. Sizes are given in bytes.
func Changes(before, after *Package) []Change {
	var out []Change
	list := func(what string, a, b []string) {
		c := Change{What: what, Added: without(b, a), Removed: without(a, b)}
		if len(c.Added)+len(c.Removed) > 0 {
			out = append(out, c)
		}
	}
	value := func(what, a, b string) {
		if a != b {
			out = append(out, Change{What: what, Before: a, After: b})
		}
	}
	value("application id", before.ApplicationID, after.ApplicationID)
	list("permissions", before.Permissions, after.Permissions)
	value("minimum OS", before.MinimumOS, after.MinimumOS)
	value("target OS", before.TargetOS, after.TargetOS)
	list("languages", before.Languages, after.Languages)
	list("ABIs", before.ABIs, after.ABIs)
	list("forms", before.Forms, after.Forms)
	list("required traits", before.Needs, after.Needs)
	value("starts with", before.Launch, after.Launch)
	value("debuggable", yes(before.Debuggable), yes(after.Debuggable))
	value("signed by", signedBy(before.Signing), signedBy(after.Signing))
	list("signature schemes", schemes(before.Signing), schemes(after.Signing))
	if before.Profile != nil && after.Profile != nil {
		value("profile", before.Profile.Name, after.Profile.Name)
		value("profile expires", before.Profile.Expires.Format("2006-01-02"),
			after.Profile.Expires.Format("2006-01-02"))
		list("devices in the profile", before.Profile.Devices, after.Profile.Devices)
		list("entitlements", before.Profile.Entitlements, after.Profile.Entitlements)
	}
	for _, name := range []string{"code", "native code", "resources", "assets", "other"} {
		value("size of "+name, strconv.FormatInt(sizeOf(before.Parts, name), 10),
			strconv.FormatInt(sizeOf(after.Parts, name), 10))
	}
	return out
}

func without(list, other []string) []string {
	var out []string
	for _, s := range list {
		if !slices.Contains(other, s) {
			out = append(out, s)
		}
	}
	return out
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

func signedBy(s *Signing) string {
	if s == nil {
		return "nobody"
	}
	return s.Subject + " (" + s.Fingerprint[:min(16, len(s.Fingerprint))] + ")"
}

func schemes(s *Signing) []string {
	if s == nil {
		return nil
	}
	return s.Schemes
}

func sizeOf(parts []Part, name string) int64 {
	for _, p := range parts {
		if strings.EqualFold(p.Name, name) {
			return p.Size
		}
	}
	return 0
}
