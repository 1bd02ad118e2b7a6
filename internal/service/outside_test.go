package service

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yamato/internal/contain"
	"yamato/internal/link"
	"yamato/internal/service/base"
)

// FuzzHostWords: whatever a linked host says, the service serves the next one that links, and meets no fault of its
// own.
func FuzzHostWords(f *testing.F) {
	for _, said := range []string{`{"events":[{"lease":1,"seq":-9,"case":{"case":-1,"verdict":"sunk"}}]}`,
		`{"renew":[-1,9223372036854775807],"ask":-5}`,
		`{"done":{"id":-7,"own":-3,"device":"x","broken":{"diagnosis":"\u0000"}}}`,
		`{"fleet":{"devices":[{"name":"../x","site":"bench"}],"gone":["kaede-7-1","kaede-7-1"]}}`,
		`{"seen":{"id":-1,"picture":"../x","tree":""}}`, `{"adopted":true}`, `{"hello":{"version":1}}`,
		`{"fleet":{"offer":{"models":null},"load":{"used_mb":-1,"cpu":1e308}}}`,
		`{"events":[{"lease":1,"seq":1,"began":{}},{"lease":1,"seq":2,"case":{"case":0,"verdict":"pass","evidence":[{"digest":"..","size":-1,"kind":"x"}]}},{"lease":1,"seq":3,"finished":{}},{"lease":1,"seq":4,"clean":{}}]}`} {
		f.Add([]byte(said))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		var m link.FromHost
		if json.Unmarshal(text, &m) != nil {
			return
		}
		w := newWorld(t, base.Config{})
		before := contain.Met()
		h, _, welcome := w.comes(w.host, "bench", kaede("kaede-7-1"))
		require.NotNil(t, welcome)
		require.NoError(t, h.conn.Send(context.Background(), m))
		h.hangUp()
		// It comes again with its own token: the shared one is of no more use if what it said was "adopted".
		next, _, welcome := w.comes(w.known(welcome.Token), "bench", kaede("kaede-7-1"))
		require.NotNil(t, welcome)
		ctx, stop := context.WithTimeout(context.Background(), time.Minute)
		defer stop()
		require.NoError(t, next.conn.Send(ctx, link.FromHost{Renew: []int64{1}, Ask: 77}))
		next.expect(func(m link.ToHost) bool { return m.Renewed != nil && m.Renewed.Ask == 77 })
		require.Equal(t, before, contain.Met(), "%s", text)
	})
}
