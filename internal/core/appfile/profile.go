package appfile

import (
	"archive/zip"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"slices"
	"strings"
	"time"

	"howett.net/plist"
)

// Profile is an iOS provisioning profile: on which devices an app may run, until
// when, and what it may do there.
type Profile struct {
	Name         string    `json:"name"`
	Team         string    `json:"team"`    // its name
	TeamID       string    `json:"team_id"` // ten letters and digits
	Expires      time.Time `json:"expires"`
	Devices      []string  `json:"devices"`     // ids of the devices that it lists
	AllDevices   bool      `json:"all_devices"` // an enterprise's profile lists none and means all
	Entitlements []string  `json:"entitlements"`
}

const (
	maxProfile  = 2 << 20
	maxListed   = 10_000
	profileName = "embedded.mobileprovision"
)

var (
	errNoCertificate = errors.New("it holds no certificate")
	errMalformed     = errors.New("it is malformed")
)

type profilePlist struct {
	Name         string         `plist:"Name"`
	TeamName     string         `plist:"TeamName"`
	Team         []string       `plist:"TeamIdentifier"`
	Expires      time.Time      `plist:"ExpirationDate"`
	Devices      []string       `plist:"ProvisionedDevices"`
	All          bool           `plist:"ProvisionsAllDevices"`
	Certificates [][]byte       `plist:"DeveloperCertificates"`
	Entitlements map[string]any `plist:"Entitlements"`
}

// readProfile reads a provisioning profile: a property list in a PKCS #7 message.
func readProfile(f *zip.File) (*Profile, *Signing, error) {
	data, err := readEntry(f, maxProfile)
	if err != nil {
		return nil, nil, err
	}
	message, err := parseCMS(data)
	if err != nil {
		return nil, nil, refuse(hintDamaged, "%s is no signed message: %w", show(f.Name), err)
	}
	var in profilePlist
	if err := decodeList(message.Content, &in); err != nil {
		return nil, nil, refuse(hintDamaged, "the property list in %s cannot be read: %w", show(f.Name), err)
	}
	if len(in.Devices) > maxListed {
		return nil, nil, refuse("", "%s lists %d devices; at most %d are read", show(f.Name), len(in.Devices),
			maxListed)
	}
	p := &Profile{Expires: in.Expires.UTC(), AllDevices: in.All, Devices: []string{}, Entitlements: []string{}}
	for _, one := range []struct {
		what, value string
		into        *string
	}{{"profile's name", in.Name, &p.Name}, {"team's name", in.TeamName, &p.Team},
		{"team's id", strings.Join(in.Team, " "), &p.TeamID}} {
		if *one.into, err = text(one.what, one.value, 255); err != nil {
			return nil, nil, err
		}
	}
	for _, d := range in.Devices {
		id, err := text("id of a device", d, 100)
		if err != nil {
			return nil, nil, err
		}
		p.Devices = append(p.Devices, id)
	}
	for name := range in.Entitlements {
		if len(name) < 200 && len(p.Entitlements) < 200 {
			p.Entitlements = append(p.Entitlements, strings.ToValidUTF8(name, "?"))
		}
	}
	slices.Sort(p.Entitlements)
	return p, developer(in.Certificates), nil
}

// developer tells whose certificate the profile lets sign, nil where that cannot
// be read: it decides nothing.
func developer(certificates [][]byte) *Signing {
	for _, raw := range certificates {
		c, err := x509.ParseCertificate(raw)
		if err != nil {
			continue
		}
		sum := sha256.Sum256(c.Raw)
		return &Signing{Schemes: []string{"profile"}, Subject: strings.ToValidUTF8(c.Subject.String(), "?"),
			Fingerprint: hex.EncodeToString(sum[:]), Expires: c.NotAfter.UTC()}
	}
	return nil
}

// decodeList reads an XML or binary property list into a struct. The decoder's
// panics on malformed input count as refusals too.
func decodeList(data []byte, into any) (err error) {
	defer func() {
		if recover() != nil {
			err = errMalformed
		}
	}()
	if err := plausibleList(data); err != nil {
		return err
	}
	_, err = plist.Unmarshal(data, into)
	return err
}
