package remedy

import "fmt"

// What there is of a kind.
var (
	AccountList   = Doing{"yamato account ls", "GET …/accounts"}
	BuildList     = Doing{"yamato build ls", "GET …/builds"}
	ChecklistList = Doing{"yamato checklist ls", "GET …/checklists"}
	CrashList     = Doing{"yamato crash ls", "GET …/crashes"}
	DeviceList    = Doing{"yamato device ls", "GET …/devices"}
	FindingList   = Doing{"yamato finding ls", "GET …/findings"}
	HostTokenList = Doing{"yamato host token ls", "GET …/host-tokens"}
	LineupList    = Doing{"yamato lineup ls", "GET …/lineups"}
	PlanList      = Doing{"yamato plan ls", "GET …/plans"}
	RunList       = Doing{"yamato run ls", "GET …/runs"}
	SecretList    = Doing{"yamato secret ls", "GET …/secrets"}
	SessionList   = Doing{"yamato session ls", "GET …/sessions"}
	SiteList      = Doing{"yamato site ls", "GET …/sites"}
	SuiteList     = Doing{"yamato suite ls", "GET …/suites"}
)

// What is done with something that the reader names.
var (
	AccountRemove  = Doing{"yamato account remove ID", "DELETE …/accounts/{account}"}
	BuildHand      = Doing{"yamato build hand BUILD", "POST …/builds/{build}/handovers"}
	BuildPush      = Doing{"yamato build push FILE…", "POST …/packages, then POST …/builds"}
	BuildRetention = Doing{"yamato build retention", "PUT …/retention"}
	Console        = Doing{"yamato console", "POST /api/v1/sign-ins"}
	DeviceMake     = Doing{"yamato device make MODEL", "POST …/errands with what: make"}
	DeviceShow     = Doing{"yamato device show", "GET …/devices/{device}"}
	HostStart      = Doing{Command: "yamato host --site FILE"}
	LineupSave     = Doing{"yamato lineup save FILE", "PUT …/lineups"}
	PlanCalendar   = Doing{"yamato plan calendar", "GET …/calendar"}
	PlanRemove     = Doing{"yamato plan remove", "DELETE …/plans/{plan}"}
	PlanSave       = Doing{"yamato plan save FILE", "PUT …/plans"}
	PlanStart      = Doing{"yamato plan start", "POST …/plans/{plan}/runs"}
	PlanTry        = Doing{"yamato plan try", "POST …/plans/trial"}
	RunPin         = Doing{"yamato run pin", "PUT …/runs/{run}/pin"}
	RunRetention   = Doing{"yamato run retention", "GET …/evidence-retention"}
	SecretRemove   = Doing{"yamato secret remove NAME", "DELETE …/secrets/{name}"}
	SessionOpen    = Doing{"yamato session open", "POST …/sessions"}
	SessionShow    = Doing{"yamato session show", "GET …/sessions/{session}/entries"}
	SuiteCheck     = Doing{"yamato suite check FILE", "POST …/suites/check"}
	SuitePush      = Doing{"yamato suite push DIR", "POST …/suites"}
	SuiteShow      = Doing{"yamato suite show", "GET …/suites/{suite}"}
)

// DeviceCheck has a device checked, so that it says what it lacks.
func DeviceCheck(device string) Doing { return errand("check", device) }

// DeviceLook shows the screen of a device.
func DeviceLook(device string) Doing {
	return Doing{"yamato device look " + device, "POST …/devices/" + device + "/screens"}
}

// DeviceRestore gives a sidelined device back.
func DeviceRestore(device string) Doing {
	return Doing{"yamato device restore " + device, "DELETE …/devices/" + device + "/sideline"}
}

// DevicesHalt switches virtual devices off: one, or several with spaces between them.
func DevicesHalt(names string) Doing { return errand("halt", names) }

// DeviceFacts shows what is known of a device.
func DeviceFacts(device string) Doing {
	return Doing{"yamato device show " + device, "GET …/devices/" + device}
}

func errand(what, device string) Doing {
	return Doing{"yamato device " + what + " " + device, "POST …/errands with what: " + what + ", device: " + device}
}

// HostTokenMake makes a token for a host.
func HostTokenMake(name string) Doing {
	return Doing{"yamato host token make " + name, "POST …/host-tokens with name: " + name}
}

// ImageFetch brings an image to a site.
func ImageFetch(image, site string) Doing {
	return Doing{fmt.Sprintf("yamato site fetch %q --site %s", image, site),
		fmt.Sprintf("POST …/errands with what: fetch, image: %s, site: %s", image, site)}
}

// LicenceAccept accepts the licence of images.
func LicenceAccept(licence string) Doing {
	return Doing{fmt.Sprintf("yamato site licence %q --accept", licence), "PUT …/licences/" + licence + "/acceptance"}
}

// LineupTry says which devices a lineup chooses, and why it passes others over.
func LineupTry(lineup string) Doing {
	command := "yamato lineup try"
	if lineup != "" {
		command += fmt.Sprintf(" %q", lineup)
	}
	return Doing{command, "POST …/lineups/choice"}
}

// Anyway removes what something else still needs.
var Anyway = Doing{"--yes", "anyway=true"}
