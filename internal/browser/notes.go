package browser

import (
	"sync"

	"github.com/chromedp/cdproto/runtime"
)

// notes remembers what a page complains of.
type notes struct {
	mu  sync.Mutex
	all []string
}

func (n *notes) hear(event any) {
	n.mu.Lock()
	defer n.mu.Unlock()
	switch e := event.(type) {
	case *runtime.EventConsoleAPICalled:
		if e.Type == runtime.APITypeError {
			n.all = append(n.all, join(e.Args))
		}
	case *runtime.EventExceptionThrown:
		n.all = append(n.all, e.ExceptionDetails.Error())
	}
}

func (n *notes) list() []string {
	n.mu.Lock()
	defer n.mu.Unlock()
	return append([]string{}, n.all...)
}
