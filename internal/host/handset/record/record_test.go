package record

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/go-json-experiment/json/jsontext"
	"github.com/stretchr/testify/require"
)

// event is one of the network's, of a request.
func event(id int, rest string) jsontext.Value {
	return jsontext.Value(fmt.Sprintf(`{"requestId":"%d",%s}`, id, rest))
}

func TestCallsAreToldOnceTheyHaveEnded(t *testing.T) {
	var c Calls
	c.Heard(time.Second, "Network.requestWillBeSent", event(1,
		`"request":{"url":"https://sorane.example/a","method":"POST"}`))
	require.Empty(t, c.Take())
	c.Heard(2*time.Second, "Network.responseReceived", event(1,
		`"response":{"status":201,"mimeType":"application/json"}`))
	c.Heard(3*time.Second, "Network.loadingFinished", event(1, `"encodedDataLength":1234`))
	c.Heard(3*time.Second, "Network.requestWillBeSent",
		event(2, `"request":{"url":"https://sorane.example/b","method":"GET"}`))
	// sent elsewhere
	c.Heard(4*time.Second, "Network.requestWillBeSent",
		event(2, `"request":{"url":"https://sorane.example/c","method":"GET"}`))
	c.Heard(5*time.Second, "Network.loadingFailed", event(2, `"errorText":"net::ERR_INTERNET_DISCONNECTED"`))
	c.Heard(5*time.Second, "Network.loadingFinished", event(9, `"encodedDataLength":7`)) // of before anybody listened
	c.Heard(5*time.Second, "Network.loadingFinished", jsontext.Value("no JSON"))
	calls := c.Take()
	require.Len(t, calls, 3)
	require.Equal(t, []any{"POST", 201, int64(1234), int64(1000), int64(2000), "application/json"},
		[]any{calls[0].Method, calls[0].Status, calls[0].Bytes, calls[0].AtMS, calls[0].TookMS, calls[0].MediaType})
	require.Equal(t, "https://sorane.example/b", calls[1].Address)
	require.Equal(t, "net::ERR_INTERNET_DISCONNECTED", calls[2].Trouble)
	require.EqualValues(t, 1234, c.Total())
	c.Begin()
	require.Zero(t, c.Total())
	for i := range maxCalls + 100 { // what never ends is bounded too
		c.Heard(0, "Network.requestWillBeSent", event(100+i, `"request":{"url":"`+strings.Repeat("x", 5000)+`"}`))
	}
	require.Len(t, c.open, maxCalls)
	require.LessOrEqual(t, len(c.open["100"].Address), 2000+3)
	c.Forget()
	require.Empty(t, c.Take())
}

func TestASocketStandsInTheRecordWithWhatWentOverIt(t *testing.T) {
	var c Calls
	hear := func(ms int, method, params string) {
		c.Heard(time.Duration(ms)*time.Millisecond, "Network."+method, jsontext.Value(params))
	}
	hear(10, "webSocketCreated", `{"requestId":"1","url":"wss://board.sorane.example/tide"}`)
	hear(30, "webSocketHandshakeResponseReceived", `{"requestId":"1","response":{"status":101,"headers":{}}}`)
	hear(40, "webSocketFrameSent", `{"requestId":"1","response":{"payloadData":"hello"}}`)
	hear(50, "webSocketFrameReceived", `{"requestId":"1","response":{"payloadData":"quay 3"}}`)
	hear(55, "webSocketFrameReceived", `{"requestId":"unknown","response":{"payloadData":"x"}}`)
	require.Empty(t, c.Take())
	hear(90, "webSocketClosed", `{"requestId":"1"}`)
	list := c.Take()
	require.Len(t, list, 1)
	require.Equal(t, []int64{10, 80, 20, 5, 6, 101}, []int64{list[0].AtMS, list[0].TookMS, list[0].WaitMS, list[0].Sent,
		list[0].Bytes, int64(list[0].Status)})
	require.Equal(t, "websocket", list[0].Protocol)
}
