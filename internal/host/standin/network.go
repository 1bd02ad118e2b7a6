package standin

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"yamato/internal/core/device"
	"yamato/internal/core/plain"
	"yamato/internal/host/standin/sandbox"
)

// maxCalls bounds the calls that are kept until somebody asks for them.
const (
	maxCalls   = 5000
	maxCallsIn = 16 << 20 // bytes
)

// pending is a request that is under way.
type pending struct {
	sandbox.Call
	began time.Duration
}

// SetNetwork makes the network worse, or normal again. What is under way feels it when its answer
// would come.
func (d *Device) SetNetwork(ctx context.Context, n device.Network) error {
	if err := n.Check(); err != nil {
		return err
	}
	d.network = n
	return d.felt(ctx)
}

// slower is how much later an answer comes for the network: its delay, what is lost and sent
// again, and what its rates leave.
func (d *Device) slower(c sandbox.Call) time.Duration {
	n := d.network
	delay := time.Duration(float64(n.Delay) * (1 + 2*n.Loss))
	if n.Download > 0 {
		delay += time.Duration(c.Bytes) * time.Second / time.Duration(n.Download)
	}
	if n.Upload > 0 {
		delay += time.Duration(c.Sent) * time.Second / time.Duration(n.Upload)
	}
	return min(delay, time.Hour)
}

// failsAfter is how soon an app learns that there is no network.
const failsAfter = 150 * time.Millisecond

// requested notes a request of the app's, and gives when its answer comes.
func (d *Device) requested(t sandbox.Timer) timer {
	p := &pending{Call: t.Call, began: d.now}
	if p.Address == "" { // the app's own service, wherever that is
		labels := strings.Split(d.appID(), ".")
		for i, j := 0, len(labels)-1; i < j; i, j = i+1, j-1 {
			labels[i], labels[j] = labels[j], labels[i]
		}
		p.Address = "https://" + strings.Join(labels, ".") + "/"
	}
	in := time.Duration(max(4, t.InMS)) * time.Millisecond
	if d.network.None || d.network.Loss == 1 {
		in = min(in, failsAfter)
	} else {
		in += d.slower(t.Call)
	}
	return timer{at: d.now + in, call: p}
}

// returned notes that a request has ended, and gives why it got no answer, "" where it got one.
func (d *Device) returned(p *pending) (failed string) {
	c := device.Call{AtMS: p.began.Milliseconds(), TookMS: (d.now - p.began).Milliseconds(),
		Method: plain.Text(strings.ToUpper(p.Method), 20), Address: plain.Text(p.Address, 2000),
		MediaType: plain.Text(p.MediaType, 100), Status: p.Status, Bytes: max(0, p.Bytes)}
	c.Asked, c.Answered = carried(p.Headers, p.Body), carried(p.AnswerHeaders, p.Answer)
	c.Sent, c.WaitMS, c.Protocol = max(p.Sent, int64(len(p.Body))), c.TookMS, "HTTP/1.1"
	c.Asked.MediaType = mediaType(p.Headers)
	if c.Bytes == 0 {
		c.Bytes = int64(len(p.Answer))
	}
	if d.network.None || d.network.Loss == 1 {
		c.Answered, c.Protocol, c.WaitMS = device.Carried{}, "", 0
		failed = "there is no network"
		c.Status, c.Bytes, c.MediaType, c.Trouble = 0, 0, "", failed
	}
	d.bytes += c.Bytes
	if size := c.Weight(); len(d.calls) < maxCalls && d.callsIn+size <= maxCallsIn {
		d.calls, d.callsIn = append(d.calls, c), d.callsIn+size
	}
	return failed
}

// carried is what a request or an answer carries, bounded.
func carried(headers map[string]string, body string) device.Carried {
	out := device.Carried{Body: plain.Text(body, device.MaxBody)}
	out.Cut = len(body) > device.MaxBody
	for _, name := range slices.Sorted(maps.Keys(headers)) {
		out.Headers = append(out.Headers, device.Header{Name: plain.Text(name, 200), Value: plain.Text(headers[name],
			2000)})
	}
	return out
}

func mediaType(headers map[string]string) string {
	for name, value := range headers {
		if strings.EqualFold(name, "content-type") {
			return plain.Text(value, 100)
		}
	}
	return "application/json" // as what is answered, where nothing is said
}

// Calls gives the requests that have ended since the last time.
func (d *Device) Calls(context.Context) ([]device.Call, error) {
	calls := d.calls
	d.calls, d.callsIn = nil, 0
	return calls, d.alive()
}

// Readings tells what the app in front takes: of this machine, as its program runs for real.
func (d *Device) Readings(context.Context) ([]device.Reading, error) {
	if err := d.alive(); err != nil || d.running == nil {
		return nil, err
	}
	return []device.Reading{{Name: "memory", Value: float64(d.sandbox.MemoryKB() << 10)},
		{Name: "cpu", Value: d.sandbox.CPU().Seconds()}, {Name: "network", Value: float64(d.bytes)},
		{Name: "frames", Value: float64(d.revision)}, {Name: "battery", Value: float64(d.percent())}}, nil
}

// Leaps tells that waiting takes no time, where the clock is not tied to the wall's.
func (d *Device) Leaps() bool { return !d.realTime }
