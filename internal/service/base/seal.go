package base

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
)

// errNoKey tells that this service has no key to seal with.
var errNoKey = Invalid("this service has no key to keep secrets with",
	"start it with --dir, where it keeps one, or give all services the same by --key-file")

// Seal encrypts a value for the records (AES-256 in Galois/Counter Mode, NIST SP 800-38D); for
// says what it is for, and is needed to open it.
func (b *Base) Seal(value []byte, for_ string) ([]byte, error) {
	gcm, err := b.sealer()
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, gcm.NonceSize())
	_, _ = rand.Read(nonce) // never fails (crypto/rand)
	return gcm.Seal(nonce, nonce, value, []byte(for_)), nil
}

// Open decrypts what Seal gave.
func (b *Base) Open(sealed []byte, for_ string) ([]byte, error) {
	gcm, err := b.sealer()
	if err != nil {
		return nil, err
	}
	if len(sealed) < gcm.NonceSize() {
		return nil, errors.New("a sealed value is too short")
	}
	value, err := gcm.Open(nil, sealed[:gcm.NonceSize()], sealed[gcm.NonceSize():], []byte(for_))
	if err != nil {
		return nil, errors.New("a sealed value cannot be opened: it was sealed with another key")
	}
	return value, nil
}

func (b *Base) sealer() (cipher.AEAD, error) {
	if len(b.Config.Key) != 32 {
		return nil, errNoKey
	}
	block, err := aes.NewCipher(b.Config.Key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}
