package pack

import (
	"bytes"
	"embed"
	"encoding/json"
	"strconv"
	"text/template"

	"yamato/internal/core/appfile"
	"yamato/internal/host/standin/draw"
)

//go:embed web
var webFiles embed.FS

var webTemplates = template.Must(template.ParseFS(webFiles, "web/index.html", "web/sw.js"))

// Web makes a web bundle: a zip with a W3C web app manifest.
func Web(a App) ([]byte, error) {
	picture, err := a.icon(192)
	if err != nil {
		return nil, err
	}
	m, err := json.MarshalIndent(map[string]any{
		"id": "/" + a.ID, "name": a.Name, "start_url": "/", "scope": "/", "display": "standalone",
		"orientation": "any", "theme_color": "#14536b", "background_color": "#ffffff", "lang": "en-GB",
		"version": a.Version.Name + "+" + strconv.Itoa(a.Version.Code),
		"icons":   []any{map[string]any{"src": "icon-192.png", "sizes": "192x192", "type": "image/png"}},
	}, "", "  ")
	if err != nil {
		return nil, err
	}
	runtime, err := webFiles.ReadFile("web/runtime.js")
	if err != nil {
		return nil, err
	}
	icons, err := json.Marshal(draw.Shapes())
	if err != nil {
		return nil, err
	}
	program := a.Program
	if program == nil {
		program = []byte("os.show(() => ui.text({text: 'There is nothing here yet.'}));\n")
	}
	kept, err := json.Marshal([]string{"/", "icons.js", "runtime.js", appfile.ProgramIOS, "icon-192.png",
		"manifest.webmanifest"})
	if err != nil {
		return nil, err
	}
	fill := map[string]string{"Name": template.HTMLEscapeString(a.Name), "Said": template.JSEscapeString(a.Name),
		"Program": appfile.ProgramIOS,
		"Version": template.JSEscapeString(a.Version.Name + "+" + strconv.Itoa(a.Version.Code)), "Files": string(kept)}
	var page, worker bytes.Buffer
	if err := webTemplates.ExecuteTemplate(&page, "index.html", fill); err != nil {
		return nil, err
	}
	if err := webTemplates.ExecuteTemplate(&worker, "sw.js", fill); err != nil {
		return nil, err
	}
	more := extra(a)
	for _, language := range append([]string{""}, languages(a)...) {
		table, err := json.Marshal(a.in(language))
		if err != nil {
			return nil, err
		}
		if language == "" {
			language = "default"
		}
		if len(table) > len("{}") {
			more = append(more, entry{"locales/" + language + ".json", table})
		}
	}
	return zipped(append([]entry{{"manifest.webmanifest", m}, {"index.html", page.Bytes()}, {"icon-192.png", picture},
		{"icons.js", append(append([]byte("const yamatoIcons = "), icons...), ";\n"...)}, {"runtime.js", runtime},
		{"sw.js", worker.Bytes()}, {appfile.ProgramIOS, program}}, more...))
}
