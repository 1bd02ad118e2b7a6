package service

import (
	"context"
	"errors"
	"strings"
	"time"

	"yamato/internal/blob"
	"yamato/internal/contain"
)

// healthTime is how long a part may take to say that it is well.
const healthTime = 3 * time.Second

// Health tells how the parts are that this instance rests on, in words: "well", or what is wrong without what only
// its log may say.
func (s *Service) Health(ctx context.Context) (parts map[string]string, well bool) {
	ctx, stop := context.WithTimeout(ctx, healthTime)
	defer stop()
	parts = map[string]string{"database": "well", "store of packages and evidence": "well", "program": "well"}
	well = true
	if err := s.Store.Ping(ctx); err != nil {
		parts["database"], well = "it does not answer", false
	}
	if f, err := s.Blobs.Open(ctx, strings.Repeat("0", 64)); err == nil {
		_ = f.Close()
	} else if !errors.Is(err, blob.ErrNone) {
		parts["store of packages and evidence"], well = "it does not answer", false
	}
	if contain.Met() > 0 {
		parts["program"] = "it has contained a fault of its own since it began; its log has where"
	}
	return parts, well
}
