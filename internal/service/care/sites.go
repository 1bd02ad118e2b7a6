package care

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yamato/internal/core/fleet"
	"yamato/internal/core/remedy"
	"yamato/internal/service/base"
	"yamato/internal/store"
)

// siteFor finds the host that makes virtual devices or fetches images at a site, or
// the only one that does.
func (s *Part) siteFor(ctx context.Context, c base.Caller, site string, offers func(store.HostRow) bool,
	what string) (store.HostRow, error) {
	hosts, err := s.Store.Hosts(ctx, c.ProjectID)
	if err != nil {
		return store.HostRow{}, err
	}
	fit := slices.DeleteFunc(slices.Clone(hosts), func(h store.HostRow) bool {
		return site != "" && h.Site != site || !offers(h)
	})
	switch {
	case len(fit) == 0 && site != "":
		return store.HostRow{}, base.NotFound(fmt.Sprintf("the site %s does not offer %s", site, what),
			remedy.Say("%s lists what the sites offer", remedy.SiteList))
	case len(fit) == 0:
		return store.HostRow{}, base.NotFound("no site offers "+what, remedy.Say("%s lists what the sites offer", remedy.SiteList))
	case len(fit) > 1:
		names := make([]string, len(fit))
		for i, h := range fit {
			names[i] = h.Site
		}
		return store.HostRow{}, base.Invalid("several sites offer "+what+": "+strings.Join(names, ", "),
			remedy.Say("say which with %s", remedy.Option("site")))
	case !fit[0].Linked:
		return store.HostRow{}, base.Invalid("the host of the site "+fit[0].Site+" is not connected",
			remedy.Say("start it: %s", remedy.HostStart))
	}
	return fit[0], nil
}

// AcceptLicence keeps that the caller has accepted a licence, as it reads now.
func (s *Part) AcceptLicence(ctx context.Context, c base.Caller, name string) error {
	hosts, err := s.Store.Hosts(ctx, c.ProjectID)
	if err != nil {
		return err
	}
	for _, h := range hosts {
		for _, l := range h.Offer.V.Licences {
			if !strings.EqualFold(l.Name, name) {
				continue
			}
			return s.Store.AcceptLicence(ctx, c.ProjectID, l.Name, fleet.LicenceDigest(h.Offer.V.Licences, l.Name),
				c.Name)
		}
	}
	return base.NotFound(fmt.Sprintf("no site has a licence %q", name),
		remedy.Say("%s lists the images and their licences", remedy.SiteList))
}
