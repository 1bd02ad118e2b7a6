// Package evidence lists what is kept of what happened: what each kind is called, what its
// content is, and how it may be shown. Hosts, the interface and reports all go by it; a
// further kind is added here.
package evidence

// Kind is one kind of evidence.
type Kind struct {
	Name      string // in records and on the link
	MediaType string // of its content
	Extension string // of a file of it
	Passive   bool   // a browser may show it: nothing in it runs
}

// The kinds.
var (
	Picture = Kind{"picture", "image/png", ".png", true}
	Tree    = Kind{"tree", "application/json", ".json", true}
	Log     = Kind{"log", "text/plain; charset=utf-8", ".txt", true}
	Film    = Kind{"film", "application/zip", ".zip", false} // a zip of pictures, with a list
	Video   = Kind{"video", "video/webm", ".webm", true}

	Network  = Kind{"network", "application/json; profile=har", ".har", true} // HTTP Archive 1.2
	Readings = Kind{"readings", "application/gzip", ".csv.gz", false}         // CSV, compressed
	Crash    = Kind{"crash", "text/plain; charset=utf-8; format=fixed", ".txt", true}
)

// Kinds are all of them.
var Kinds = []Kind{Picture, Tree, Log, Film, Video, Network, Readings, Crash}

// SortOf gives the sort that a kind is of, as rules name it.
func SortOf(kind string) string {
	sorts := map[string]string{Picture.Name: Pictures, Tree.Name: Trees, Log.Name: Logs, Film.Name: Films, Video.Name: Videos,
		Network.Name: Networks, Readings.Name: Figures, Crash.Name: Crashes}
	return sorts[kind]
}

// ByMediaType gives the kind whose content is of a media type.
func ByMediaType(mediaType string) (Kind, bool) {
	for _, k := range Kinds {
		if k.MediaType == mediaType {
			return k, true
		}
	}
	return Kind{}, false
}

// Named gives the kind of a name.
func Named(name string) (Kind, bool) {
	for _, k := range Kinds {
		if k.Name == name {
			return k, true
		}
	}
	return Kind{}, false
}
