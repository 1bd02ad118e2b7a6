package sessions

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/link"
)

// FuzzViewers: whatever people, hosts and frames say on a stage, it stands, and whoever has the hand is heard after it.
func FuzzViewers(f *testing.F) {
	for _, said := range []string{`{"shown":9223372036854775807}`, `{"shown":-1}`, `{"size":{"width":-1,"height":1e9}}`,
		`{"hand":"give","to":"\u0000"}`,
		`{"hand":"take"}`, `{"hand":"keep"}`, `{"keep":true}`, `{"order":{"id":-1,"do":"tap","aimed":-1}}`,
		`{"order":{"do":"card"}}`,
		`{"order":{"do":"feel","name":"files","args":{"digests":["../../x"]}}}`,
		`{"order":{"do":"install","blob":"x"}}`, `{"order":null}`, `[]`} {
		f.Add([]byte(said), []byte(`{"answer":{"id":-1}}`), []byte{})
	}
	f.Add([]byte(`{}`), []byte(`{"status":{"width":-1}}`), []byte{1, 2, 3})
	f.Add([]byte(`{}`), []byte(`{"log":[{"text":"x"}]}`), make([]byte, 64))
	f.Fuzz(func(t *testing.T, words, answer, frame []byte) {
		g, host := onStage(t)
		heard := make(chan struct{})
		go func() { // ends with the socket
			defer close(heard)
			for {
				if _, err := host.Receive(context.Background(), &link.Asked{}); err != nil {
					return
				}
			}
		}()
		ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
		defer stop()
		mira, jonas := come(t, g, "mira"), come(t, g, "jonas")
		for _, v := range []*viewer{jonas, mira} {
			var m Said
			if json.Unmarshal(words, &m) == nil && (m.Order == nil || !asksRecords(*m.Order)) {
				g.hear(ctx, v, m)
			}
		}
		g.show(frame)
		var told link.Told
		if json.Unmarshal(answer, &told) == nil {
			g.heard(told)
		}
		require.LessOrEqual(t, len(g.orders), 200)
		_, _, err := mira.take()
		require.NoError(t, err)
		g.leave(jonas)
		g.leave(mira)
		_ = g.conn.Socket.CloseNow()
		<-heard
	})
}

// asksRecords tells orders for which the stage reads records; this one has none.
func asksRecords(o link.Order) bool { return o.Do == "install" || o.Do == "feel" || o.Do == "line" }
