package base

import (
	"crypto/sha256"
	"encoding/json"
	"errors"

	"yamato/internal/store/pg"
)

// Wished makes the wish of a call: asked is all that it asks for. A key is of its caller.
func Wished(c Caller, kind, key string, asked any) (pg.Wish, error) {
	if key == "" {
		return pg.Wish{}, nil
	}
	if len(key) > 200 {
		return pg.Wish{}, Invalid("an idempotency key has at most 200 characters", "")
	}
	body, err := json.Marshal(asked)
	if err != nil {
		return pg.Wish{}, err
	}
	digest := sha256.Sum256(append([]byte(c.Name+"\x00"), body...))
	return pg.Wish{Project: c.ProjectID, Key: key, Kind: kind, Digest: digest[:]}, nil
}

// Granted turns the records' word that a key is another call's into a problem.
func Granted(err error) error {
	if errors.Is(err, pg.ErrOtherCall) {
		return Refuse(OtherCall, "this Idempotency-Key was given to another call", "make a new key for each thing that is to "+
			"be made, and give the same one only where the very same call is made again")
	}
	return err
}
