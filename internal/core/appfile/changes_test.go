package appfile_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/appfile"
)

func TestChangesTellWhatATesterHasToKnow(t *testing.T) {
	before := &appfile.Package{MinimumOS: "11", Permissions: []string{"INTERNET", "NFC"}, Languages: []string{"de"},
		Parts:   []appfile.Part{{Name: "code", Size: 10}},
		Signing: &appfile.Signing{Schemes: []string{"v2"}, Subject: "CN=A", Fingerprint: "aa"},
		Profile: &appfile.Profile{Expires: time.Date(2026, 9, 30, 0, 0, 0, 0, time.UTC), Devices: []string{"x"}}}
	after := &appfile.Package{MinimumOS: "14", Permissions: []string{"INTERNET", "CAMERA"}, Languages: []string{"de"},
		ABIs: []string{"arm64-v8a"}, Parts: []appfile.Part{{Name: "code", Size: 14}, {Name: "native code", Size: 3}},
		Signing: &appfile.Signing{Schemes: []string{"v2", "v3"}, Subject: "CN=B", Fingerprint: "bb"},
		Profile: &appfile.Profile{Expires: time.Date(2027, 6, 1, 0, 0, 0, 0, time.UTC), Devices: []string{"x", "y"}}}
	require.Equal(t, []appfile.Change{
		{What: "permissions", Added: []string{"CAMERA"}, Removed: []string{"NFC"}},
		{What: "minimum OS", Before: "11", After: "14"},
		{What: "ABIs", Added: []string{"arm64-v8a"}},
		{What: "signed by", Before: "CN=A (aa)", After: "CN=B (bb)"},
		{What: "signature schemes", Added: []string{"v3"}},
		{What: "profile expires", Before: "2026-09-30", After: "2027-06-01"},
		{What: "devices in the profile", Added: []string{"y"}},
		{What: "size of code", Before: "10", After: "14"},
		{What: "size of native code", Before: "0", After: "3"},
	}, appfile.Changes(before, after))
	require.Empty(t, appfile.Changes(after, after))
}
