// Package evidence lists what is kept of what happened: what each kind is called, what its
// content is, and how it may be shown. Hosts, the interface and reports all go by it; a
// further kind is added here.
package evidence

// Kind is one kind of evidence.
type Kind struct {
	Name      string // in records and on the link
	Rule      string // what rules of keeping call it; the same for kinds that are kept together
	Usual     string // the rule where nobody has said otherwise
	MediaType string // of its content, "" where it is a part of another
	Extension string // of a file of it
	Passive   bool   // a browser may show it: nothing in it runs
}

// The kinds. What is usual is enough to see what a case did, and all of one that did not pass.
var (
	// a zip of pictures, one at each change of the screen
	Film = Kind{"film", "film", Always, "application/zip", ".zip", false}
	// those that a script names, and that of a failure
	Picture = Kind{"picture", "pictures", Always, "image/png", ".png", true}
	Video   = Kind{"video", "video", UnlessPassed, "video/webm", ".webm", true}
	Log     = Kind{"log", "log", Always, "text/plain; charset=utf-8", ".txt", true}

	// Network are the calls of the app (HTTP Archive 1.2); Bodies is what they carried, in the record of them.
	Network = Kind{"network", "network", UnlessPassed, "application/json; profile=har", ".har", true}
	Bodies  = Kind{"bodies", "bodies", UnlessPassed, "", "", false}

	// CPU, memory and frames as CSV, packed
	Readings = Kind{"readings", "readings", Always, "application/gzip", ".csv.gz", false}
	// of elements, with each picture
	Tree  = Kind{"tree", "trees", Always, "application/json", ".json", true}
	Crash = Kind{"crash", "crashes", Always, "text/plain; charset=utf-8; format=fixed", ".txt", true}
)

// Kinds are all of them, in the order in which they are told.
var Kinds = []Kind{Film, Picture, Video, Log, Network, Bodies, Readings, Tree, Crash}

// RuleOf gives what rules call a kind.
func RuleOf(kind string) string {
	k, _ := Named(kind)
	return k.Rule
}

// ByMediaType gives the kind whose content is of a media type.
func ByMediaType(mediaType string) (Kind, bool) {
	for _, k := range Kinds {
		if k.MediaType == mediaType && k.MediaType != "" {
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
