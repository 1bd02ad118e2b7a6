package api

import (
	"bytes"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"howett.net/plist"

	"yamato/internal/api/wire"
	"yamato/internal/contract"
	"yamato/internal/core/appfile"
	"yamato/internal/core/fleet"
	"yamato/internal/service/base"
)

// baseOf gives the address by which a caller came, if it is one that this service
// goes by.
func (h *handlers) baseOf(g *gin.Context) string {
	scheme := "http"
	if g.Request.TLS != nil || g.GetHeader("X-Forwarded-Proto") == "https" {
		scheme = "https"
	}
	return scheme + "://" + g.Request.Host
}

// install serves the page from which a phone installs a build, and what it leads
// to. Whoever has the address may: the code in it is the key, for a time.
func (h *handlers) install(g *gin.Context) {
	if !h.knownHost(g.Request.Host) {
		h.fail(g, base.Forbidden(fmt.Sprintf("this service does not go by the name %q", g.Request.Host),
			"open it by its address, or start it with --name "+g.Request.Host))
		return
	}
	switch rest := strings.Trim(g.Param("rest"), "/"); rest {
	case "":
		h.installPage(g)
	case "icon":
		data, media, err := h.service.Builds.HandedIcon(g.Request.Context(), g.Param("code"))
		if err != nil {
			h.fail(g, err)
			return
		}
		g.Data(http.StatusOK, media, data)
	case "manifest.plist":
		h.installManifest(g)
	default:
		h.installPackage(g, rest)
	}
}

// installed media types: what makes a phone offer to install (Android's package
// archive; RFC 2046 for the rest).
var installMedia = map[string]string{"android_package": "application/vnd.android.package-archive",
	"ios_device": "application/octet-stream"}

func (h *handlers) installPackage(g *gin.Context, kind string) {
	media, ok := installMedia[kind]
	if !ok {
		h.fail(g, base.NotFound("there is nothing at "+g.Request.URL.Path, ""))
		return
	}
	f, p, err := h.service.Builds.HandedPackage(g.Request.Context(), g.Param("code"), kind)
	if err != nil {
		h.fail(g, err)
		return
	}
	defer f.Close()
	g.Header("Content-Type", media)
	g.Header("Content-Disposition", "attachment; filename*=UTF-8''"+url.PathEscape(p.FileName))
	http.ServeContent(g.Writer, g.Request, "", time.Time{}, f)
}

// installManifest tells an iOS device where an app is to be had, in the property
// list that its system reads for that.
func (h *handlers) installManifest(g *gin.Context) {
	made, _, err := h.service.Builds.Handed(g.Request.Context(), g.Param("code"))
	if err != nil {
		h.fail(g, err)
		return
	}
	b := wire.Build(made)
	for _, p := range b.Packages {
		if p.Kind != string(appfile.IOSDevice) {
			continue
		}
		list, err := plist.MarshalIndent(map[string]any{"items": []any{map[string]any{
			"assets": []any{map[string]any{"kind": "software-package",
				"url": h.baseOf(g) + "/install/" + g.Param("code") + "/ios_device"}},
			"metadata": map[string]any{"kind": "software", "bundle-identifier": p.ApplicationId,
				"bundle-version": p.VersionName, "title": b.App},
		}}}, plist.XMLFormat, "  ")
		if err != nil {
			h.fail(g, err)
			return
		}
		g.Data(http.StatusOK, "text/xml; charset=utf-8", list)
		return
	}
	h.fail(g, base.NotFound("the build has no iOS device package", ""))
}

type installOffer struct {
	Title, Needs, Size string
	Link               template.URL
	Note               string
}

func (h *handlers) installPage(g *gin.Context) {
	made, until, err := h.service.Builds.Handed(g.Request.Context(), g.Param("code"))
	b := wire.Build(made)
	p := struct {
		Nonce  string
		Build  contract.Build
		Until  string
		Icon   bool
		Code   string
		Offers []installOffer
		Gone   string
	}{Build: b, Code: g.Param("code"), Until: until.UTC().Format("2 January 2006, 15:04 UTC")}
	status := http.StatusOK
	if err != nil {
		problem := base.AsProblem(err)
		p.Gone, status = problem.Title, statusOf(problem.Kind)
	}
	base := h.baseOf(g)
	for _, one := range b.Packages {
		p.Icon = p.Icon || one.Icon != nil
		o := installOffer{Size: sizeOf(one.Size), Needs: "For any " + fleet.PlatformName(one.Platform)}
		if one.MinimumOs != "" {
			o.Needs = "Needs " + fleet.PlatformName(one.Platform) + " " + one.MinimumOs + " or newer"
		}
		switch appfile.Kind(one.Kind) {
		case appfile.Android:
			o.Title, o.Link = "Install on Android", template.URL("/install/"+p.Code+"/android_package")
			o.Note = "The browser asks whether it may install apps: say yes this once."
		case appfile.IOSDevice:
			o.Title, o.Link = "Install on iOS",
				template.URL("itms-services://?action=download-manifest&url="+url.QueryEscape(
					base+"/install/"+p.Code+"/manifest.plist"))
			if !strings.HasPrefix(base, "https:") {
				o.Link, o.Note = "", "iOS installs over HTTPS only, and this page was reached without."
			}
			if one.Profile != nil && !one.Profile.AllDevices {
				only := fmt.Sprintf(" Its profile lists %d devices; others cannot open it.", len(one.Profile.Devices))
				if len(one.Profile.Devices) == 1 {
					only = " Its profile lists one device; no other can open it."
				}
				o.Note = strings.TrimSpace(o.Note + only)
			}
		default:
			continue
		}
		p.Offers = append(p.Offers, o)
	}
	p.Nonce = newNonce()
	var out bytes.Buffer
	if err := installTemplate.Execute(&out, p); err != nil {
		h.fail(g, err)
		return
	}
	g.Header("Content-Security-Policy", "default-src 'none'; style-src 'nonce-"+p.Nonce+
		"'; img-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'")
	g.Header("Referrer-Policy", "no-referrer")
	g.Data(status, "text/html; charset=utf-8", out.Bytes())
}

var installTemplate = template.Must(template.New("install").Parse(`<!doctype html>
<html lang="en-GB">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta name="robots" content="noindex">
<title>{{if .Gone}}Nothing to install{{else}}Install {{.Build.App}} {{.Build.VersionName}}{{end}}</title>
<style nonce="{{.Nonce}}">
:root { --paper: #faf7f0; --ink: #1b2330; --soft: #5a6474; --rule: #ddd6c8; }
@media (prefers-color-scheme: dark) { :root { --paper: #14181f; --ink: #ece7db; --soft: #a3abb8; --rule: #333b47; } }
* { box-sizing: border-box; }
body { margin: 0; background: var(--paper); color: var(--ink); font: 17px/1.45 system-ui, sans-serif; }
main { max-width: 430px; margin: 0 auto; padding: 36px 22px; }
header { display: flex; gap: 16px; align-items: center; padding-bottom: 20px; border-bottom: 1px solid var(--ink); }
header img { width: 68px; height: 68px; border-radius: 15px; }
h1 { font-size: 24px; line-height: 1.2; margin: 0; }
p { margin: 4px 0; }
.soft { color: var(--soft); font-size: 15px; }
section { padding: 20px 0; border-bottom: 1px solid var(--rule); }
a.go { display: block; text-align: center; background: var(--ink); color: var(--paper); text-decoration: none; font-weight: 600; padding: 15px; border-radius: 10px; margin-bottom: 10px; }
a.go:focus-visible { outline: 3px solid var(--soft); outline-offset: 2px; }
</style>
</head>
<body>
<main>
{{if .Gone}}
<h1>Nothing to install</h1>
<p>{{.Gone}}.</p>
<p class="soft">Whoever sent you here can make a new page from the build, in Yamato.</p>
{{else}}
<header>
{{if .Icon}}<img src="/install/{{.Code}}/icon" alt="">{{end}}
<div><h1>{{.Build.App}}</h1><p>{{.Build.VersionName}} ({{.Build.VersionCode}})</p></div>
</header>
{{range .Offers}}<section>
{{if .Link}}<a class="go" href="{{.Link}}">{{.Title}}</a>{{else}}<p><strong>{{.Title}}</strong></p>{{end}}
<p class="soft">{{.Needs}}. {{.Size}}.</p>
{{if .Note}}<p class="soft">{{.Note}}</p>{{end}}
</section>
{{end}}
<p class="soft">This page is there until {{.Until}}.{{if .Build.Note}} {{.Build.Note}}{{end}}</p>
{{end}}
</main>
</body>
</html>
`))

// sizeOf words a number of bytes.
func sizeOf(n int64) string {
	if n < 1<<20 {
		return fmt.Sprintf("%d kB", (n+1023)>>10)
	}
	return fmt.Sprintf("%.1f MB", float64(n)/(1<<20))
}
