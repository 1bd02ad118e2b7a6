package android

import (
	"errors"
	"fmt"
	"regexp"
	"strings"

	"yamato/internal/core/device"
)

// Whose a refusal is: the build's, which is to be changed; the phone's, which is to be mended; or a person's, who said no.
const (
	ofBuild = iota
	ofPhone
	ofPerson
)

// refusals are what the OS says where it does not install a package (PackageManager of the OS), with whose it is, and what to do.
var refusals = map[string]struct {
	whose       int
	why, remedy string
}{
	"INSTALL_FAILED_INSUFFICIENT_STORAGE": {ofPhone, "there is no room for the app", "remove apps or pictures until 500 MB are free"},
	"INSTALL_FAILED_MEDIA_UNAVAILABLE":    {ofPhone, "where the app would be put is not there", "put the memory card back, or restart it"},
	"INSTALL_FAILED_CONTAINER_ERROR":      {ofPhone, "the phone could not keep the package", "restart it, and see whether there is room on it"},
	"INSTALL_FAILED_INTERNAL_ERROR":       {ofPhone, "the phone's package manager is in trouble", "restart it"},
	"INSTALL_FAILED_DEXOPT":               {ofPhone, "the phone could not prepare the app's code", "restart it, and see whether there is room on it"},
	"INSTALL_FAILED_CPU_ABI_INCOMPATIBLE": {ofBuild, "its native code is for other processors", "add a package for this one's"},
	"INSTALL_FAILED_NO_MATCHING_ABIS":     {ofBuild, "its native code is for other processors", "add a package for this one's"},
	"INSTALL_FAILED_OLDER_SDK":            {ofBuild, "it needs a newer version of the OS", "choose devices with that, or lower what it needs"},
	"INSTALL_FAILED_NEWER_SDK":            {ofBuild, "it is for older versions of the OS alone", "choose devices with those"},
	"INSTALL_FAILED_DEPRECATED_SDK_VERSION": {ofBuild, "it is made for a version of the OS that is too old for this phone",
		"raise the version that it is made for (targetSdkVersion)"},
	"INSTALL_FAILED_MISSING_SHARED_LIBRARY": {ofBuild, "it needs a library that this phone has not", "choose other devices, or make it do without"},
	"INSTALL_FAILED_MISSING_FEATURE":        {ofBuild, "it needs hardware that this phone has not", "choose devices that have it"},
	"INSTALL_FAILED_MISSING_SPLIT":          {ofBuild, "a part of it is missing", "add all packages of the app"},
	"INSTALL_FAILED_TEST_ONLY":              {ofBuild, "it is marked as for tests only", "build it without android:testOnly"},
	"INSTALL_FAILED_INVALID_APK":            {ofBuild, "it is no package that this phone can read", "build it anew"},
	"INSTALL_FAILED_CONFLICTING_PROVIDER":   {ofBuild, "another app offers what it offers, under the same name", "remove that app, or rename the provider"},
	"INSTALL_FAILED_DUPLICATE_PERMISSION":   {ofBuild, "another app declares a permission of the same name", "remove that app, or rename the permission"},
	"INSTALL_FAILED_SHARED_USER_INCOMPATIBLE": {ofBuild, "it wants to share data with an app that is signed differently",
		"sign both by the same key"},
	"INSTALL_FAILED_UPDATE_INCOMPATIBLE": {ofBuild, "another app of that id, signed differently, is installed", "remove it first"},
	"INSTALL_FAILED_VERSION_DOWNGRADE":   {ofBuild, "a newer version of the app is on the phone, and it takes no older one", "remove it there first"},
	"INSTALL_FAILED_VERIFICATION_FAILURE": {ofPhone, "what checks apps on the phone did not let it pass",
		"switch the checking of apps over USB off in its developer options"},
	"INSTALL_FAILED_VERIFICATION_TIMEOUT": {ofPhone, "what checks apps on the phone has not answered",
		"switch the checking of apps over USB off in its developer options, or give it a network"},
	"INSTALL_FAILED_REJECTED": {ofPhone, "the phone rejects it", "see its developer options"},
	"INSTALL_FAILED_USER_RESTRICTED": {ofPerson, "the phone lets nobody install apps over its cable, or somebody said no on its screen",
		"allow it in its developer options (Install via USB), and say yes on its screen"},
	"INSTALL_FAILED_ABORTED":                         {ofPerson, "it was broken off on the phone", "say yes on its screen where it asks"},
	"INSTALL_PARSE_FAILED_NO_CERTIFICATES":           {ofBuild, "it is not signed, or not in a way that this version of the OS reads", "sign it"},
	"INSTALL_PARSE_FAILED_INCONSISTENT_CERTIFICATES": {ofBuild, "its parts are signed by different keys", "sign all by the same"},
	"INSTALL_PARSE_FAILED_MANIFEST_MALFORMED":        {ofBuild, "its manifest cannot be read", "see what the build tools say of it"},
	"INSTALL_PARSE_FAILED_NOT_APK":                   {ofBuild, "it is no Android package", "add an .apk"},
}

var because = regexp.MustCompile(`Failure \[([A-Z_]{1,80})(?::\s*([^\]]*))?`)

// refused tells what the OS refuses a package for, and what to do.
func refused(said string) error {
	m := because.FindStringSubmatch(said)
	if m == nil {
		return fmt.Errorf("the phone did not install it: %s", clipped(strings.TrimSpace(said), 300))
	}
	r, known := refusals[m[1]]
	words := clipped(m[2], 200)
	switch {
	case !known && words != "":
		return fmt.Errorf("the phone refuses the package (%s: %s)", m[1], words)
	case !known:
		return fmt.Errorf("the phone refuses the package (%s)", m[1])
	case r.whose == ofBuild:
		return errors.New(r.why + "; to mend it: " + r.remedy)
	}
	return &device.Trouble{Why: r.why, Remedy: r.remedy}
}
