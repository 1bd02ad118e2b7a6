package fleet

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/core/appfile"
)

var monday = time.Date(2026, 11, 23, 10, 0, 0, 0, time.UTC)

// signedBy is an Android package with a certificate; Parts tell that it was read
// since signatures are.
func signedBy(fingerprint string) appfile.Package {
	return appfile.Package{Kind: appfile.Android, ApplicationID: "example.tideline", VersionCode: "61", MinimumOS: "11",
		Parts:   []appfile.Part{{Name: "code", Size: 1}},
		Signing: &appfile.Signing{Fingerprint: fingerprint}}
}

func changed(p appfile.Package, change func(*appfile.Package)) appfile.Package {
	change(&p)
	return p
}

func ipa(expires time.Time, devices ...string) appfile.Package {
	return appfile.Package{Kind: appfile.IOSDevice, ApplicationID: "example.tideline",
		Profile: &appfile.Profile{Name: "ad hoc", Expires: expires, Devices: devices}}
}

func TestEveryReasonWhyABuildDoesNotRunHasItsRemedy(t *testing.T) {
	android14 := android14
	android14.ABI, android14.Form = "x86_64", "phone"
	simulator := appfile.Package{Kind: appfile.Simulator, MinimumOS: "16.0"}
	later := monday.AddDate(1, 0, 0)
	owned := android14
	owned.Owner = "Bo"
	for name, c := range map[string]struct {
		device      Device
		packages    []appfile.Package
		installed   []Installed
		why, remedy []string
	}{
		"nothing for Android": {android14, []appfile.Package{simulator}, nil,
			[]string{"the build holds no Android package (.apk), which Kaede 7 (emulator) needs"},
			[]string{"push the Android package"}},
		"an .ipa for a simulator": {ios18, []appfile.Package{ipa(later)}, nil,
			[]string{"an .ipa runs on real devices only"},
			[]string{"add the simulator zip of the same version for Aster 12"}},
		"a simulator app for real": {iPhone, []appfile.Package{simulator}, nil,
			[]string{"a simulator app runs on simulators only"}, []string{"add the .ipa"}},
		"nothing for iOS": {ios18, []appfile.Package{signedBy("a")}, nil, []string{"holds no simulator zip"},
			[]string{"push the simulator zip"}},
		"a test package alone": {android14, []appfile.Package{{Kind: appfile.AndroidTest}}, nil,
			[]string{"a test package does not run by itself"}, []string{"add the Android package"}},
		"an unknown platform": {Device{Platform: "toaster"}, []appfile.Package{simulator}, nil,
			[]string{"no kind of package runs on toaster"}, []string{"another device"}},
		"an old OS": {android9, []appfile.Package{signedBy("a")}, nil,
			[]string{"needs Android 11; this one has 9"}, []string{"choose a device with Android 11 or newer"}},
		"other native code": {android14, []appfile.Package{changed(signedBy("a"), func(p *appfile.Package) {
			p.ABIs = []string{"arm64-v8a"}
		})}, nil, []string{"its native code is for arm64-v8a; this one is x86_64"},
			[]string{"build it for x86_64 too"}},
		"another form": {android14, []appfile.Package{changed(signedBy("a"), func(p *appfile.Package) {
			p.Forms = []string{"tablet"}
		})}, nil, []string{"is made for a tablet; this one is a phone"}, []string{"choose a tablet"}},
		"a trait that is required": {android14, []appfile.Package{changed(signedBy("a"), func(p *appfile.Package) {
			p.Needs = []string{"nfc"}
		})}, nil, []string{"requires nfc; this one has none"}, []string{"not required"}},
		"no signature": {android14, []appfile.Package{changed(signedBy("a"), func(p *appfile.Package) {
			p.Signing = nil
		})}, nil, []string{"is not signed"}, []string{"sign the package"}},
		"no profile": {iPhone, []appfile.Package{{Kind: appfile.IOSDevice}}, nil,
			[]string{"it holds no provisioning profile"}, []string{"sign the .ipa"}},
		"a profile of others": {iPhone, []appfile.Package{ipa(later, "00008120-BB")}, nil,
			[]string{"the profile does not list this phone"},
			[]string{`add its id 00008120-AA to the profile "ad hoc" and sign again`}},
		"a profile for a store": {iPhone, []appfile.Package{ipa(later)}, nil, []string{"the profile lists no devices"},
			[]string{"sign with a profile for development, or ad hoc, that lists this phone"}},
		"an old profile of others": {iPhone, []appfile.Package{ipa(time.Date(2026, 9, 30, 0, 0, 0, 0, time.UTC),
			"00008120-BB")}, nil, []string{"the profile expired on 30 September 2026",
			"the profile does not list this phone"},
			[]string{"renew the profile", "add its id"}},
		"signed differently": {android14, []appfile.Package{signedBy("aaaa")},
			[]Installed{{ID: "example.tideline", VersionCode: "58", Signer: "bbbb"},
				{ID: "example.other", VersionCode: "99", Signer: "cccc"}},
			[]string{"another app of that id, signed differently, is installed"}, []string{"remove example.tideline"}},
		"signed differently, Bo's": {owned, []appfile.Package{signedBy("aaaa")},
			[]Installed{{ID: "example.tideline", VersionCode: "58", Signer: "bbbb"}},
			[]string{"another app of that id"},
			[]string{"ask Bo to remove"}},
		"a newer one, old OS, more": {android9, []appfile.Package{signedBy("aaaa")},
			[]Installed{{ID: "example.tideline", VersionCode: "64", Signer: "aaaa"}}, []string{"needs Android 11",
				"a newer version (64) is installed"},
			[]string{"choose", "higher version code"}},
	} {
		at, reasons := Fit(c.packages, c.device, c.installed, monday)
		require.Equal(t, -1, at, name)
		require.Len(t, reasons, len(c.why), "%s: %v", name, reasons)
		for i := range c.why {
			require.Contains(t, reasons[i].Why, c.why[i], name)
			require.Contains(t, reasons[i].Remedy.String(), c.remedy[i], name)
		}
	}
}

func TestFitPicksThePackageOfTheDevicesKind(t *testing.T) {
	packages := []appfile.Package{{Kind: appfile.Simulator}, signedBy("a"), ipa(monday.AddDate(1, 0, 0),
		iPhone.HardwareID), {Kind: appfile.Web}}
	for want, d := range []Device{ios18, android14, iPhone, {Platform: "web"}} {
		at, reasons := Fit(packages, d, []Installed{{ID: "example.tideline", VersionCode: "61", Signer: "a"}}, monday)
		require.Equal(t, want, at, "%v", reasons)
		require.Empty(t, reasons)
	}
	everyDevice := ipa(monday.AddDate(1, 0, 0))
	everyDevice.Profile.AllDevices = true
	at, _ := Fit([]appfile.Package{everyDevice}, iPhone, nil, monday)
	require.Zero(t, at)
	at, _ = Fit([]appfile.Package{changed(everyDevice, func(p *appfile.Package) {
		p.Profile = &appfile.Profile{Devices: []string{"00008120-aa"}}
	})}, iPhone, nil, monday)
	require.Zero(t, at, "ids of devices are hexadecimal: small letters and capitals are the same")
	enlarged := iPhone
	enlarged.Form = "tablet"
	at, _ = Fit([]appfile.Package{changed(everyDevice, func(p *appfile.Package) {
		p.Forms = []string{"phone"}
	})}, enlarged, nil, monday)
	require.Zero(t, at, "tablets run phones' apps")
	wide := android14
	wide.ABI = "arm64-v8a"
	at, _ = Fit([]appfile.Package{changed(signedBy("a"), func(p *appfile.Package) {
		p.ABIs = []string{"armeabi-v7a"}
	})}, wide, nil, monday)
	require.Zero(t, at, "64-bit devices run the 32-bit code of their family")
}

func TestAClockThatIsOffIsToldInWordsOfItsSize(t *testing.T) {
	for off, words := range map[time.Duration]string{3 * time.Minute: "3 minutes", -11 * time.Minute: "11 minutes",
		61 * time.Minute: "1 hour", 26 * time.Hour: "1 day", 900 * time.Hour: "38 days"} {
		bad, ok := Unready(Readiness(Device{}, Health{ClockOff: &off}))
		require.True(t, ok)
		require.Equal(t, "its clock is off by "+words, bad.Why)
	}
}

func TestEveryCheckOfReadinessFailsAndPassesAndSaysWhatToDo(t *testing.T) {
	yes, no := true, false
	amount := func(n int) *int { return &n }
	late := 5 * time.Minute
	soon := time.Second
	phone := Device{Name: "kaede-7-r1", Kind: Real, Platform: "android", Site: "rack"}
	for id, c := range map[string]struct{ good, bad Health }{
		"connected":   {Health{Connected: &yes}, Health{Connected: &no}},
		"trusted":     {Health{Trusted: &yes}, Health{Trusted: &no}},
		"developer":   {Health{Developer: &yes}, Health{Developer: &no}},
		"debugging":   {Health{Debugging: "once"}, Health{Debugging: "never"}},
		"unlocked":    {Health{Unlocked: &yes}, Health{Unlocked: &no}},
		"trusts_code": {Health{TrustsCode: &yes}, Health{TrustsCode: &no}},
		"charge":      {Health{Charge: amount(5), Plugged: true}, Health{Charge: amount(5)}},
		"space":       {Health{FreeMB: amount(600)}, Health{FreeMB: amount(90)}},
		"clock":       {Health{ClockOff: &soon}, Health{ClockOff: &late}},
		"os":          {Health{OS: "14"}, Health{OS: "5.1"}},
		"in_front":    {Health{}, Health{InFront: "SIM card is missing"}},
	} {
		for _, platform := range []string{"android", "ios"} {
			d := phone
			d.Platform = platform
			_, bad := Unready(Readiness(d, c.good))
			if platform == "android" || id != "os" {
				require.False(t, bad, id)
			}
			checks := Readiness(d, c.bad)
			require.Len(t, checks, 1, id)
			require.Equal(t, id, checks[0].ID)
			r, bad := Unready(checks)
			require.True(t, bad, id)
			require.NotEmpty(t, r.Why, id)
			require.NotEmpty(t, r.Remedy, id)
		}
	}
	asked, _ := Unready(Readiness(phone, Health{Debugging: "asked"}))
	require.Contains(t, asked.Remedy.String(), "Always allow")
	cut := Readiness(phone, Health{Connected: &no, Developer: &no, Debugging: "never"})
	require.Len(t, cut, 1, "what an unplugged phone would say is not guessed")
}

func TestABootIsTriedFromPowerOffThenEmptiedThenGivenUp(t *testing.T) {
	var steps []BootStep
	for n := 0; NextBoot(n) != BootGiveUp; n++ {
		steps = append(steps, NextBoot(n))
	}
	require.Equal(t, []BootStep{BootPlain, BootPowerOff, BootEmptied}, steps)
}

func TestTroubleIsPutUpWithUntilItComesTooOften(t *testing.T) {
	ago := func(app int64, minutes ...int) (out []Trouble) {
		for _, m := range minutes {
			out = append(out, Trouble{monday.Add(-time.Duration(m) * time.Minute), app})
		}
		return out
	}
	three := Tolerance{3, time.Hour}
	require.Equal(t, Tolerate, three.Judge(ago(1, 1, 2), monday))
	require.Equal(t, TryOut, three.Judge(ago(1, 1, 2, 59), monday), "one app alone may be what makes the trouble")
	require.Equal(t, TakeOut, three.Judge(append(ago(1, 1, 2), ago(2, 59)...), monday))
	require.Equal(t, TryOut, three.Judge(append(ago(1, 1, 2, 3), ago(2, 61)...), monday),
		"what another met long ago does not count")
	require.Equal(t, Tolerate, three.Judge(ago(1, 1, 2, 61), monday))
	require.Equal(t, Tolerate, Tolerance{}.Judge(ago(1, 1, 1, 1, 1), monday), "no count is no bound")
}

func TestWhoMayUseADeviceAndWhen(t *testing.T) {
	bos := Device{Owner: "Bo", Use: Use{People: []string{"Aya"}, Hours: "Mon-Fri 09:00-18:00", Zone: "Europe/Lisbon"}}
	require.NoError(t, bos.Use.Check())
	night := monday.Add(10 * time.Hour)
	for _, c := range []struct {
		who string
		at  time.Time
		why string
	}{{"Aya", monday, ""}, {"Ines", monday, "only Aya may use it"}, {"Bo", night, ""},
		{"Aya", night, "Mon-Fri 09:00-18:00"}, {"Aya", monday.AddDate(0, 0, -1), "Mon-Fri"}} {
		r, ok := bos.Admits(c.who, c.at)
		require.Equal(t, c.why == "", ok, "%s at %s", c.who, c.at)
		require.Contains(t, r.Why, c.why)
	}
	overNight := Use{Hours: "Fri-Sun 22:00-06:00"}
	require.True(t, overNight.Open(time.Date(2026, 11, 23, 5, 0, 0, 0, time.UTC)),
		"Monday's small hours are Sunday's night")
	require.False(t, overNight.Open(time.Date(2026, 11, 24, 5, 0, 0, 0, time.UTC)))
	for _, wrong := range []Use{{Hours: "sometimes"}, {Hours: "Mon-Fri 9-18"}, {Hours: "Mon 09:00-18:00",
		Zone: "Sora/Quay"}} {
		require.Error(t, wrong.Check(), "%v", wrong)
		require.False(t, wrong.Open(monday))
	}
}

func TestABootThatWouldNotFitSaysWhatTakesTheRoom(t *testing.T) {
	running := []Running{{"kaede-7-1", 4096, 2, true}, {"kaede-7-2", 4096, 2, false}, {"minato-tab-10-1", 2048, 2,
		false}}
	fold := Device{Name: "minato-fold-1", TakesMB: 3072, TakesCPUs: 2}
	_, ok := Room(Capacity{MemoryMB: 16384, CPUs: 8}, running, fold)
	require.True(t, ok)
	r, ok := Room(Capacity{MemoryMB: 12288, CPUs: 8}, running, fold)
	require.False(t, ok)
	require.Equal(t, "minato-fold-1 needs 3.0 GB and 2.0 GB is free (12.0 GB in all): kaede-7-1 takes 4.0 GB, "+
		"kaede-7-2 takes 4.0 GB, minato-tab-10-1 takes 2.0 GB", r.Why)
	require.Contains(t, r.Remedy.String(), "yamato device halt minato-tab-10-1", "the smallest that is enough")
	r, _ = Room(Capacity{MemoryMB: 10240, CPUs: 8}, running, Device{Name: "x", TakesMB: 6144})
	require.Contains(t, r.Remedy.String(), "kaede-7-2 minato-tab-10-1", "two together")
	r, _ = Room(Capacity{MemoryMB: 8192, CPUs: 6}, running[:1], Device{Name: "x", TakesMB: 6144})
	require.Contains(t, r.Remedy.String(), "wait until")
	r, ok = Room(Capacity{MemoryMB: 0, CPUs: 6}, running, fold)
	require.False(t, ok)
	require.Contains(t, r.Why, "needs 2 processors and 0 of 6 are free")
}

func TestImagesAndNamesHaveGoodDefaults(t *testing.T) {
	images := []Image{{Platform: "android", OS: "9", State: ImagePresent}, {Platform: "android", OS: "14",
		State: ImagePresent}, {Platform: "android", OS: "15", State: ImageAbsent}, {Platform: "ios", OS: "18",
		State: ImagePresent}}
	newest, ok := NewestImage(images, "android")
	require.True(t, ok)
	require.Equal(t, "Android 14", newest.Name())
	require.True(t, newest.Names("android  14"))
	_, ok = NewestImage(images, "web")
	require.False(t, ok)
	require.Equal(t, "kaede-7-lite-2", ProposeName("Kaede 7 Lite", []string{"kaede-7-lite-1", "kaede-7-lite-3"}))
}

func ExampleFit() {
	_, reasons := Fit([]appfile.Package{ipa(monday, "another")}, ios18, nil, monday)
	fmt.Println(reasons[0].Why + "; " + reasons[0].Remedy.String())
	// Output: an .ipa runs on real devices only; add the simulator zip of the same version for Aster 12
}
