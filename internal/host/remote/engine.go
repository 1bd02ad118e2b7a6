package remote

import (
	"context"
	"errors"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/host/inpage"
	"yamato/internal/webdriver"
)

// engine is a browser that shows one page at a time, as a device needs it. It is used by one goroutine at a time.
type engine interface {
	inpage.Page

	// boot starts the browser, whose network is a proxy at an address, and tells its version.
	boot(ctx context.Context, proxy string) (version string, err error)
	// halt ends it, with all that it holds.
	halt()
	// lost tells why the browser is no more, nil while it is there.
	lost() error
	// alive tells why the page in front is no more, nil while it is.
	alive() error
	// keeper is the process that keeps the browser, 0 where that is elsewhere.
	keeper() int

	// open has an empty page of an app in front that feels what f says. fresh has nothing be left of what the app has
	// stored before.
	open(ctx context.Context, app appPage, fresh bool, f *feels) error
	// shut closes what is in front. What apps have stored stays.
	shut(ctx context.Context)
	// forget takes away what an app has stored.
	forget(ctx context.Context, app string) error
	// feel has the page in front feel what f says. It gives errAgain where the app has to be opened anew for that.
	feel(ctx context.Context, f *feels) error
	// permit gives or refuses an app a permission.
	permit(ctx context.Context, app appPage, permission, answer string) error

	// visit goes to an address, until there is a document. A *device.Trouble says why nothing is shown.
	visit(ctx context.Context, address string) error
	// back goes back by one, and tells whether there was something to go back to.
	back(ctx context.Context) (bool, error)
	// evaluate evaluates an expression among the page's own scripts, and gives its value as text.
	evaluate(ctx context.Context, expression string) (string, error)
	// perform does what sources of input do.
	perform(ctx context.Context, sources ...webdriver.Source) error
	// picture is the page as it is drawn: a PNG.
	picture(ctx context.Context) ([]byte, error)
	// await waits until something may have changed, or until then.
	await(ctx context.Context, until time.Time) error
	// asked is the dialog in front, nil for none; answer answers it.
	asked() *dialog
	answer(ctx context.Context, yes bool, text string) error
	// question is what the page asks a person for, "" for nothing.
	question() string
	// window names the window in front: another where one was opened or closed. It brings the newest to the front.
	window(ctx context.Context) (string, error)
	// windows is how many there are; leave closes the one in front.
	windows() int
	leave(ctx context.Context) error
	// waits tells what the page waits for, and what is open and nobody waits for.
	waits(overlook []string) (awaits, open []string)
	// hide has the page in front be hidden, or seen again.
	hide(ctx context.Context, yes bool) error
	// copied is what was copied in the page since the last time, nil for nothing.
	copied() *string
	// choose has files be chosen when the page asks next.
	choose(paths []string)
}

// appPage is what an engine knows of an app whose page it opens.
type appPage struct {
	id     string
	origin string
	script string // that its documents find before their own
	clip   string // what was copied on the device
}

// dialog is one that a page has opened (HTML 8.8.1).
type dialog struct {
	kind, message, entry string
	answered             bool
}

// feels are what the device is made to feel.
type feels struct {
	language string // BCP 47
	across   bool
	dark     bool
	zone     string
	text     int // percent
	place    *device.Place
	network  device.Network
	answers  map[[2]string]string // to what apps ask, by app and permission: told beforehand
	given    map[[2]string]bool   // what a person has answered on the screen

	width, height int // dp, as it is held
	density       float64
}

var (
	// errAgain tells that an engine takes something only when an app is opened.
	errAgain = errors.New("the app has to be opened anew for it")
	// errDialog tells that a dialog keeps the page from answering.
	errDialog = errors.New("a dialog is in front of the page")
)

// sizeOfText is the size of text that nobody has changed, in CSS pixels.
const sizeOfText = 16
